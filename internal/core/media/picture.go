package media

import (
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/gif"  // registers its reader
	_ "image/jpeg" // registers its reader
	_ "image/png"  // registers its reader
	"io"
	"math"
	"strings"

	_ "golang.org/x/image/bmp" // registers its reader
	"golang.org/x/image/draw"
	_ "golang.org/x/image/tiff" // registers its reader
	_ "golang.org/x/image/webp" // registers its reader
)

// picture is a decoded texture. What is worked with has MaxPixels at most.
type picture struct {
	format   string
	full     image.Point
	channels string
	depth    int
	space    string
	mips     int
	work     *image.NRGBA64
}

func readPicture(s Subject) (seen, error) { return decodePicture(s) }

func decodePicture(s Subject) (p *picture, err error) {
	switch s.ext() {
	case ".tga":
		p, err = readTGA(s)
	case ".psd":
		p, err = readPSD(s)
	case ".dds":
		p, err = readDDS(s)
	case ".exr":
		return readEXR(s)
	default:
		p, err = readKnown(s)
	}
	if err != nil && !errors.Is(err, ErrUnreadable) && !isIO(err) {
		err = unreadable("%v", err)
	}
	return p, err
}

// isIO tells an error of reading from one of understanding.
func isIO(err error) bool { return errors.Is(err, errSource) }

// errSource marks the errors of a content's own reader.
var errSource = errors.New("the content could not be read from where it is kept")

// bounded checks the size of a picture before anything of it is decoded.
func bounded(width, height int) error {
	if width < 1 || height < 1 || width > MaxDecoded/height {
		return unreadable("%d x %d pixels are more than are looked into", width, height)
	}
	return nil
}

// readKnown reads what Go's own image packages read.
func readKnown(s Subject) (*picture, error) {
	config, format, err := image.DecodeConfig(s.reader())
	if err != nil {
		return nil, unreadable("it is no picture that is known here, or its start is damaged (%v)", err)
	}
	if err := bounded(config.Width, config.Height); err != nil {
		return nil, err
	}
	m, _, err := image.Decode(s.reader())
	if err != nil {
		return nil, unreadable("it is damaged: %v", err)
	}
	p := &picture{format: strings.ToUpper(format), full: image.Pt(config.Width, config.Height), space: "not said"}
	p.channels, p.depth = channelsOf(config.ColorModel)
	p.take(m)
	switch format {
	case "png":
		p.space = pngSpace(s)
	case "jpeg":
		p.space = "YCbCr, as JPEG has it"
	case "webp":
		p.format = "WebP"
	}
	return p, nil
}

func channelsOf(m color.Model) (string, int) {
	switch m {
	case color.GrayModel:
		return "grey", 8
	case color.Gray16Model:
		return "grey", 16
	case color.RGBA64Model, color.NRGBA64Model:
		return "red, green, blue, alpha", 16
	case color.YCbCrModel:
		return "red, green, blue", 8
	case color.CMYKModel:
		return "cyan, magenta, yellow, black", 8
	}
	if palette, ok := m.(color.Palette); ok {
		return fmt.Sprintf("a palette of %d", len(palette)), 8
	}
	return "red, green, blue, alpha", 8
}

// take makes the pixels that are worked with.
func (p *picture) take(m image.Image) {
	b := m.Bounds()
	scale := 1
	for b.Dx()/scale*(b.Dy()/scale) > MaxPixels {
		scale++
	}
	p.work = image.NewNRGBA64(image.Rect(0, 0, max(1, b.Dx()/scale), max(1, b.Dy()/scale)))
	if scale > 1 {
		draw.ApproxBiLinear.Scale(p.work, p.work.Bounds(), m, b, draw.Src, nil)
		return
	}
	switch from := m.(type) { // without a colour for each pixel, and without those that alpha has made paler
	case *image.NRGBA:
		p.widen(from.Pix, from.Stride)
		return
	case *image.NRGBA64:
		for y := range b.Dy() {
			copy(p.work.Pix[y*p.work.Stride:(y+1)*p.work.Stride], from.Pix[y*from.Stride:y*from.Stride+8*b.Dx()])
		}
		return
	case *image.RGBA:
		if from.Opaque() {
			p.widen(from.Pix, from.Stride)
			return
		}
	case *image.YCbCr, *image.Gray:
		opaque := image.NewRGBA(image.Rect(0, 0, b.Dx(), b.Dy()))
		draw.Draw(opaque, opaque.Bounds(), m, b.Min, draw.Src)
		p.widen(opaque.Pix, opaque.Stride)
		return
	case *image.Paletted:
		var inks [256]color.NRGBA64
		for i, c := range from.Palette {
			inks[i] = color.NRGBA64Model.Convert(c).(color.NRGBA64)
		}
		for y := range b.Dy() {
			for x, i := range from.Pix[y*from.Stride : y*from.Stride+b.Dx()] {
				p.work.SetNRGBA64(x, y, inks[i])
			}
		}
		return
	}
	for y := range b.Dy() {
		for x := range b.Dx() {
			p.work.SetNRGBA64(x, y, color.NRGBA64Model.Convert(m.At(b.Min.X+x, b.Min.Y+y)).(color.NRGBA64))
		}
	}
}

// widen takes pixels of four channels of 8 bits.
func (p *picture) widen(pixels []uint8, stride int) {
	w, h := p.size()
	for y := range h {
		to := p.work.Pix[y*p.work.Stride:]
		for i, v := range pixels[y*stride : y*stride+4*w] {
			to[2*i], to[2*i+1] = v, v
		}
	}
}

// pngSpace reads what a PNG says of its colours (PNG, third edition, 11.3.2).
func pngSpace(s Subject) string {
	r := s.reader()
	if _, err := r.Seek(8, io.SeekStart); err != nil {
		return "not said"
	}
	var head [8]byte
	for range 100 {
		if _, err := io.ReadFull(r, head[:]); err != nil {
			break
		}
		n := int64(binary.BigEndian.Uint32(head[:]))
		switch string(head[4:]) {
		case "sRGB":
			return "sRGB"
		case "iCCP":
			name := make([]byte, min(n, 80))
			if _, err := io.ReadFull(r, name); err != nil {
				return "a profile"
			}
			text, _, _ := strings.Cut(string(name), "\x00")
			return "the profile " + clean(text)
		case "gAMA":
			var gamma [4]byte
			if _, err := io.ReadFull(r, gamma[:]); err != nil {
				return "not said"
			}
			return "gamma " + rounded(float64(binary.BigEndian.Uint32(gamma[:]))/100000)
		case "IDAT", "IEND":
			return "not said"
		}
		if _, err := r.Seek(n+4, io.SeekCurrent); err != nil {
			break
		}
	}
	return "not said"
}

// clean is a text from a file, fit to be shown.
func clean(text string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f || c == 0xfffd || c >= 0x80 && c < 0xa0 {
			return -1
		}
		return c
	}, strings.ToValidUTF8(text[:min(len(text), 200)], ""))
}

func (p *picture) at(x, y, c int) uint32 {
	i := y*p.work.Stride + 8*x + 2*c
	return uint32(p.work.Pix[i])<<8 | uint32(p.work.Pix[i+1])
}

func (p *picture) size() (int, int) { return p.work.Bounds().Dx(), p.work.Bounds().Dy() }

// alpha says how alpha is used: the share of pixels that are not opaque.
func (p *picture) alpha() float64 {
	w, h := p.size()
	n := 0
	for y := range h {
		for x := range w {
			if p.at(x, y, 3) != 0xffff {
				n++
			}
		}
	}
	return float64(n) / float64(w*h)
}

// Tiling: across an edge that fits, the picture changes no more than it does inside. maxSeam is by how much more it may.
const maxSeam = 1.6

// tiles tells along which edges a picture fits to itself.
func (p *picture) tiles() string {
	w, h := p.size()
	if w < 8 || h < 8 {
		return "too small to tell"
	}
	step := func(across, along int, at func(i, j, c int) uint32) (seam, inside float64) {
		for j := range along {
			for c := range 3 {
				seam += math.Abs(float64(at(0, j, c)) - float64(at(across-1, j, c)))
				for k := range 4 {
					i := 1 + (across-3)*k/3
					inside += math.Abs(float64(at(i, j, c))-float64(at(i+1, j, c))) / 4
				}
			}
		}
		return seam / float64(3*along), inside / float64(3*along)
	}
	seam1, inside1 := step(w, h, func(i, j, c int) uint32 { return p.at(i, j, c) })
	seam2, inside2 := step(h, w, func(i, j, c int) uint32 { return p.at(j, i, c) })
	across, down := seam1 <= maxSeam*inside1+200, seam2 <= maxSeam*inside2+200
	switch {
	case across && down:
		return "both ways"
	case across:
		return "side to side"
	case down:
		return "top to bottom"
	}
	return "no"
}

// normal tells whether it is a normal map: vectors of length 1 that point out of the picture, most of them.
func (p *picture) normal() bool {
	w, h := p.size()
	n, good := 0, 0
	for k := range 4096 {
		x, y := k*7919%w, k*104729/7%h
		v := [3]float64{}
		for c := range v {
			v[c] = float64(p.at(x, y, c))/32767.5 - 1
		}
		length := math.Sqrt(v[0]*v[0] + v[1]*v[1] + v[2]*v[2])
		n++
		if math.Abs(length-1) < 0.06 && v[2] > -0.01 {
			good++
		}
	}
	return float64(good) > 0.92*float64(n)
}

// lit is a normal map under a light from the upper left.
func (p *picture) lit() image.Image {
	w, h := p.size()
	m := image.NewGray(image.Rect(0, 0, w, h))
	l := [3]float64{-0.48, 0.48, 0.73}
	for y := range h {
		for x := range w {
			v := 0.0
			for c := range l {
				v += l[c] * (float64(p.at(x, y, c))/32767.5 - 1)
			}
			m.Pix[y*m.Stride+x] = uint8(255 * (0.08 + 0.92*math.Max(0, min(1, v))))
		}
	}
	return m
}

// shown is the picture in 8 bits a channel.
func (p *picture) shown() *image.NRGBA {
	w, h := p.size()
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := range m.Pix {
		m.Pix[i] = p.work.Pix[2*i]
	}
	return m
}

func (p *picture) report(d Drawn) (Report, error) {
	w, h := p.size()
	r := Report{Kind: Texture, Format: p.format, Width: w, Height: h, Print: picturePrint(p.work)}
	alpha := "not there"
	if strings.Contains(p.channels, "alpha") || strings.Contains(p.channels, "palette") {
		if share := p.alpha(); share == 0 {
			alpha = "all opaque"
		} else {
			alpha = percent(share) + " not opaque"
		}
	}
	r.Facts = []Fact{{"format", p.format}, {"pixels", fmt.Sprintf("%s x %s", number(p.full.X), number(p.full.Y))}, {"channels", p.channels},
		{"depth", fmt.Sprintf("%d bits a channel", p.depth)},
		{"colour space", p.space}, {"alpha", alpha}, {"tiles", p.tiles()}}
	if p.mips > 0 {
		r.Facts = append(r.Facts, Fact{"mip levels", number(p.mips)})
	}
	if r.Normal = p.normal(); r.Normal {
		r.Facts = append(r.Facts, Fact{"looks like", "a normal map"})
		d.png("lit.png", p.lit())
	}
	d.png("whole.png", p.shown())
	return r, nil
}

// likeness is what is measured of two pictures. Differences are in 255ths of the whole range.
type likeness struct {
	Changed       float64 // share of pixels
	Largest, Mean float64
	PSNR          float64 // dB; +Inf where nothing differs
	SSIM          float64
}

func (p *picture) compare(after seen, c *Comparison, d Drawn) error {
	a, b := p, after.(*picture)
	scaled := ""
	if a.work.Bounds() != b.work.Bounds() {
		w, h := min(a.work.Bounds().Dx(), b.work.Bounds().Dx()), min(a.work.Bounds().Dy(), b.work.Bounds().Dy())
		a, b = a.scaled(w, h), b.scaled(w, h)
		scaled = fmt.Sprintf("measured at %d x %d pixels", w, h)
	}
	l, heat := a.like(b)
	c.Same = l.Changed == 0 && scaled == ""
	psnr := "nothing differs"
	if !math.IsInf(l.PSNR, 1) {
		psnr = fmt.Sprintf("%.2f dB", l.PSNR)
	}
	c.Measures = []Fact{{"pixels changed", percent(l.Changed)}, {"largest difference", fmt.Sprintf("%s of 255", rounded(l.Largest))},
		{"mean difference", fmt.Sprintf("%s of 255", rounded(l.Mean))}, {"PSNR", psnr}, {"SSIM", fmt.Sprintf("%.4f", l.SSIM)}}
	if scaled != "" {
		c.Measures = append(c.Measures, Fact{"scale", scaled})
	}
	d.png("difference.png", heat)
	return nil
}

func (p *picture) scaled(w, h int) *picture {
	if p.work.Bounds().Dx() == w && p.work.Bounds().Dy() == h {
		return p
	}
	q := *p
	q.work = image.NewNRGBA64(image.Rect(0, 0, w, h))
	draw.CatmullRom.Scale(q.work, q.work.Bounds(), p.work, p.work.Bounds(), draw.Src, nil)
	return &q
}

// like measures two pictures of one size. PSNR is over the red, green, blue and alpha of all pixels, with alpha where either uses it; SSIM
// is that of Wang, Bovik, Sheikh and Simoncelli, "Image Quality Assessment: From Error Visibility to Structural Similarity" (IEEE
// Transactions on Image Processing 13, 2004), of the luma, with their window (Gaussian, 11 x 11, sigma 1.5) and constants. What changed is
// drawn in copper, the more the brighter, over the later picture made dark.
func (p *picture) like(q *picture) (l likeness, heat *image.NRGBA) {
	w, h := p.size()
	heat = image.NewNRGBA(image.Rect(0, 0, w, h))
	channels := 3
	if p.alpha() > 0 || q.alpha() > 0 {
		channels = 4
	}
	changed, sum, squares := 0, 0.0, 0.0
	one, two := make([]float32, w*h), make([]float32, w*h)
	for y := range h {
		for x := range w {
			most := 0.0
			var u, v [4]float64
			for c := range 4 {
				u[c], v[c] = float64(p.at(x, y, c))/257, float64(q.at(x, y, c))/257
			}
			for c := range channels {
				diff := math.Abs(u[c] - v[c])
				most = max(most, diff)
				sum += diff
				squares += diff * diff
			}
			if most > 0 {
				changed++
			}
			l.Largest = max(l.Largest, most)
			one[y*w+x], two[y*w+x] = luma(u), luma(v)
			i := y*heat.Stride + 4*x
			dim := uint8(two[y*w+x] * 0.28)
			heat.Pix[i], heat.Pix[i+1], heat.Pix[i+2], heat.Pix[i+3] = dim, dim, dim, 255
			if most > 0 {
				t := 0.35 + 0.65*math.Min(1, math.Sqrt(most/96))
				for c, full := range [3]float64{255, 168, 92} {
					heat.Pix[i+c] = uint8(float64(dim)*(1-t) + full*t)
				}
			}
		}
	}
	n := float64(w * h * channels)
	l.Changed, l.Mean = float64(changed)/float64(w*h), sum/n
	l.PSNR = 10 * math.Log10(255*255/(squares/n))
	l.SSIM = ssim(one, two, w, h)
	return l, heat
}

// luma is that of Rec. 709.
func luma(v [4]float64) float32 { return float32(0.2126*v[0] + 0.7152*v[1] + 0.0722*v[2]) }

// ssim is the mean over all places where the whole window fits; pictures smaller than the window are one place.
func ssim(a, b []float32, w, h int) float64 {
	const radius = 5
	kernel := make([]float32, 2*radius+1)
	total := float32(0)
	for i := range kernel {
		kernel[i] = float32(math.Exp(-float64((i-radius)*(i-radius)) / (2 * 1.5 * 1.5)))
		total += kernel[i]
	}
	for i := range kernel {
		kernel[i] /= total
	}
	const c1, c2 = (0.01 * 255) * (0.01 * 255), (0.03 * 255) * (0.03 * 255)
	index := func(ma, mb, aa, bb, ab float64) float64 {
		va, vb, cov := aa-ma*ma, bb-mb*mb, ab-ma*mb
		return (2*ma*mb + c1) * (2*cov + c2) / ((ma*ma + mb*mb + c1) * (va + vb + c2))
	}
	if w < len(kernel) || h < len(kernel) {
		var ma, mb, aa, bb, ab float64
		n := float64(len(a))
		for i := range a {
			x, y := float64(a[i]), float64(b[i])
			ma, mb, aa, bb, ab = ma+x/n, mb+y/n, aa+x*x/n, bb+y*y/n, ab+x*y/n
		}
		return index(ma, mb, aa, bb, ab)
	}
	// One row of five smoothed maps at a time, held for as many rows as the window is high.
	type smooth [5][]float32
	rows := make([]smooth, len(kernel))
	for i := range rows {
		for j := range rows[i] {
			rows[i][j] = make([]float32, w)
		}
	}
	sum, places := 0.0, 0
	for y := range h {
		row := rows[y%len(kernel)]
		for x := radius; x < w-radius; x++ {
			var m [5]float32
			for k, f := range kernel {
				u, v := a[y*w+x+k-radius], b[y*w+x+k-radius]
				m[0] += f * u
				m[1] += f * v
				m[2] += f * u * u
				m[3] += f * v * v
				m[4] += f * u * v
			}
			for j := range m {
				row[j][x] = m[j]
			}
		}
		if y < 2*radius {
			continue
		}
		for x := radius; x < w-radius; x++ {
			var m [5]float64
			for k, f := range kernel {
				r := rows[(y-2*radius+k)%len(kernel)]
				for j := range m {
					m[j] += float64(f) * float64(r[j][x])
				}
			}
			sum += index(m[0], m[1], m[2], m[3], m[4])
			places++
		}
	}
	return sum / float64(places)
}
