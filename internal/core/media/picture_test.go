package media

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Pictures that ImageMagick wrote are read as it reads them back.
func TestTexturesOfAnotherProgram(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "scene.png"), asPNG(t, scene(61, 47)), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name  string
		how   []string
		loose float64 // how far a channel may be off, where the format loses something
		want  []string
	}{
		{"a.png", nil, 0, []string{"format=PNG", "pixels=61 x 47", "depth=8 bits a channel"}},
		{"deep.png", []string{"-depth", "16", "-define", "png:bit-depth=16"}, 0, []string{"depth=16 bits a channel"}},
		{"grey.png", []string{"-colorspace", "gray"}, 0, []string{"channels=grey", "alpha=not there"}},
		{"palette.png", []string{"-dither", "none", "-colors", "16", "-define", "png:color-type=3"}, 1, []string{"depth=8 bits a channel"}},
		{"a.jpg", []string{"-quality", "98"}, 40, []string{"format=JPEG", "channels=red, green, blue"}},
		{"a.gif", []string{"-dither", "none", "-colors", "64"}, 1, []string{"format=GIF"}},
		{"a.bmp", nil, 0, []string{"format=BMP"}},
		{"a.tif", nil, 0, []string{"format=TIFF"}},
		{"lzw.tiff", []string{"-compress", "lzw"}, 0, []string{"format=TIFF"}},
		{"a.webp", []string{"-define", "webp:lossless=true"}, 1, []string{"format=WebP"}},
		{"a.tga", []string{"-compress", "none"}, 0, []string{"format=TGA", "channels=red, green, blue"}},
		{"rle.tga", []string{"-compress", "RLE"}, 0, []string{"format=TGA"}},
		{"alpha.tga", []string{"-alpha", "set", "-channel", "A", "-evaluate", "set", "50%"}, 0,
			[]string{"alpha=100 % not opaque", "channels=red, green, blue, alpha"}},
		{"grey.tga", []string{"-colorspace", "gray"}, 1, []string{"channels=grey"}},
		{"a.psd", nil, 0, []string{"format=PSD", "depth=8 bits a channel"}},
		{"deep.psd", []string{"-depth", "16"}, 0, []string{"depth=16 bits a channel"}},
		{"plain.psd", []string{"-compress", "none"}, 0, []string{"format=PSD"}},
		{"one.dds", []string{"-define", "dds:compression=dxt1", "-define", "dds:mipmaps=0"}, 40, []string{"format=DDS, BC1", "mip levels=1"}},
		{"five.dds", []string{"-define", "dds:compression=dxt5", "-alpha", "set"}, 40, []string{"format=DDS, BC3"}},
		{"plain.dds", []string{"-define", "dds:compression=none", "-alpha", "set"}, 0, []string{"format=DDS, plain"}},
	} {
		written := append(append([]string{"convert", "scene.png"}, c.how...), c.name)
		if strings.HasSuffix(c.name, ".tga") {
			// This program says of a TGA file that it starts at the bottom, and writes it from the top.
			written = append(append([]string{"convert", "scene.png", "-flip"}, c.how...), c.name)
		}
		made(t, dir, written...)
		facts(t, subject(t, filepath.Join(dir, c.name)), c.want...)
		made(t, dir, append(append([]string{"convert", "scene.png"}, c.how...), "-depth", "8", "PNG32:back.png")...)
		back, err := os.ReadFile(filepath.Join(dir, "back.png"))
		if err != nil {
			t.Fatal(err)
		}
		_, d := look(t, subject(t, filepath.Join(dir, c.name)))
		if d["whole.png"] == nil {
			continue
		}
		theirs, ours := decoded(t, back), decoded(t, d["whole.png"])
		if theirs.Bounds() != ours.Bounds() {
			t.Errorf("%s is %v, want %v", c.name, ours.Bounds(), theirs.Bounds())
			continue
		}
		worst := 0.0
		for i := range ours.Pix {
			if i%4 == 3 && !strings.Contains(c.name, "alpha") {
				continue
			}
			worst = max(worst, math.Abs(float64(ours.Pix[i])-float64(theirs.Pix[i])))
		}
		if worst > max(c.loose, 1) {
			t.Errorf("%s: a channel is off by %g", c.name, worst)
		}
	}
}

// What is measured of two pictures is what ImageMagick measures.
func TestLikenessAgreesWithAnotherProgram(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "a.png"), asPNG(t, scene(160, 120)), 0o644); err != nil {
		t.Fatal(err)
	}
	for name, how := range map[string][]string{"blur.png": {"-blur", "0x1.2"},
		"noise.png": {"-seed", "7", "-attenuate", "0.3", "+noise", "Gaussian"},
		"patch.png": {"-fill", "#e09a60", "-draw", "rectangle 20,30 60,70"}} {
		made(t, dir, append(append([]string{"convert", "a.png"}, how...), "PNG24:"+name)...)
		c, d := compared(t, subject(t, filepath.Join(dir, "a.png")), subject(t, filepath.Join(dir, name)))
		measure := func(metric string) string {
			// compare ends with 1 where pictures differ.
			out := made(t, dir, "sh", "-c", "compare -metric "+metric+" a.png "+name+" null: 2>&1 || [ $? = 1 ]")
			first, _, _ := strings.Cut(strings.TrimSpace(out), " ")
			return first
		}
		if got, want := number0(t, fact(c.Measures, "PSNR")), number0(t, measure("PSNR")); math.Abs(got-want) > 0.05 {
			t.Errorf("%s: PSNR %g, want %g", name, got, want)
		}
		if got, want := number0(t, fact(c.Measures, "pixels changed")), number0(t, measure("AE"))/160/120*100; math.Abs(got-want) > 0.02 {
			t.Errorf("%s: %g %% changed, want %g", name, got, want)
		}
		if got, want := number0(t, fact(c.Measures, "largest difference")), number0(t, measure("PAE"))/257; math.Abs(got-want) > 0.6 {
			t.Errorf("%s: largest %g, want %g", name, got, want)
		}
		if got, want := number0(t, fact(c.Measures, "mean difference")), number0(t, measure("MAE"))/257; math.Abs(got-want) > 0.01+want/50 {
			t.Errorf("%s: mean %g, want %g", name, got, want)
		}
		if d["difference.png"] == nil || len(c.Before.Files) == 0 {
			t.Errorf("%s: %v", name, c.Files)
		}
	}
}

// SSIM by its definition, window by window, without any shortcut.
func TestSSIMByItsDefinition(t *testing.T) {
	const w, h = 24, 19
	a, b := make([]float32, w*h), make([]float32, w*h)
	for i := range a {
		a[i], b[i] = float32(128+100*math.Sin(float64(i)/3)), float32(120+90*math.Sin(float64(i)/3+0.4)+float64(i%7))
	}
	sum, n := 0.0, 0
	for y := 5; y < h-5; y++ {
		for x := 5; x < w-5; x++ {
			var weight, ma, mb float64
			each := func(do func(g, u, v float64)) {
				for dy := -5; dy <= 5; dy++ {
					for dx := -5; dx <= 5; dx++ {
						do(math.Exp(-float64(dx*dx+dy*dy)/4.5), float64(a[(y+dy)*w+x+dx]), float64(b[(y+dy)*w+x+dx]))
					}
				}
			}
			each(func(g, _, _ float64) { weight += g })
			each(func(g, u, v float64) { ma, mb = ma+g*u/weight, mb+g*v/weight })
			var va, vb, cov float64
			each(func(g, u, v float64) {
				va, vb, cov = va+g*(u-ma)*(u-ma)/weight, vb+g*(v-mb)*(v-mb)/weight, cov+g*(u-ma)*(v-mb)/weight
			})
			c1, c2 := 6.5025, 58.5225
			sum += (2*ma*mb + c1) * (2*cov + c2) / ((ma*ma + mb*mb + c1) * (va + vb + c2))
			n++
		}
	}
	if got, want := ssim(a, b, w, h), sum/float64(n); math.Abs(got-want) > 2e-3 {
		t.Errorf("%.6f, want %.6f", got, want)
	}
	if got := ssim(a, a, w, h); math.Abs(got-1) > 1e-4 {
		t.Errorf("a picture is like itself by %.6f", got)
	}
}

func TestWhatTiles(t *testing.T) {
	wave := func(fx, fy float64) []byte {
		m := image.NewNRGBA(image.Rect(0, 0, 64, 64))
		for y := range 64 {
			for x := range 64 {
				v := uint8(128 + 60*math.Sin(2*math.Pi*fx*float64(x)/64) + 60*math.Sin(2*math.Pi*fy*float64(y)/64))
				m.SetNRGBA(x, y, color.NRGBA{v, v / 2, v, 255})
			}
		}
		return asPNG(t, m)
	}
	facts(t, of("a.png", wave(2, 3)), "tiles=both ways")
	facts(t, of("a.png", wave(2, 2.5)), "tiles=both ways") // a sine is near zero at both ends
	facts(t, of("a.png", wave(2, 2.25)), "tiles=side to side")
	facts(t, of("a.png", wave(2.25, 1)), "tiles=top to bottom")
	facts(t, of("a.png", wave(2.25, 1.25)), "tiles=no")
}

func TestNormalMapsAreKnown(t *testing.T) {
	m := image.NewNRGBA(image.Rect(0, 0, 64, 64))
	for y := range 64 {
		for x := range 64 {
			nx, ny := 0.5*math.Sin(float64(x)/5), 0.4*math.Cos(float64(y)/7)
			nz := math.Sqrt(1 - nx*nx - ny*ny)
			m.SetNRGBA(x, y, color.NRGBA{uint8(127.5 + 127.5*nx), uint8(127.5 + 127.5*ny), uint8(127.5 + 127.5*nz), 255})
		}
	}
	r, d := look(t, of("rust-normal.png", asPNG(t, m)))
	if !r.Normal || d["lit.png"] == nil {
		t.Errorf("%+v", r)
	}
	if r, _ = look(t, of("scene.png", asPNG(t, scene(64, 64)))); r.Normal {
		t.Error("a picture is taken for a normal map")
	}
}

func TestTheDifferenceIsDrawnWhereItIs(t *testing.T) {
	a, b := scene(50, 40), scene(50, 40)
	b.SetNRGBA(10, 20, color.NRGBA{255, 0, 0, 255})
	c, d := compared(t, of("a.png", asPNG(t, a)), of("b.png", asPNG(t, b)))
	heat := decoded(t, d["difference.png"])
	if p := heat.NRGBAAt(10, 20); p.R < 150 || p.B > p.R/2 {
		t.Errorf("what changed is %v", p)
	}
	if p := heat.NRGBAAt(11, 20); p.R != p.G || p.R > 80 {
		t.Errorf("what did not change is %v", p)
	}
	if c.Same || fact(c.Measures, "pixels changed") != "0.05 %" {
		t.Errorf("%+v", c.Measures)
	}
	if c, _ = compared(t, of("a.png", asPNG(t, a)), of("b.png", asPNG(t, a))); !c.Same || fact(c.Measures, "PSNR") != "nothing differs" {
		t.Errorf("%+v", c.Measures)
	}
	if c, _ = compared(t, of("a.png", asPNG(t, a)), of("b.png", asPNG(t, scene(25, 20)))); fact(c.Measures,
		"scale") != "measured at 25 x 20 pixels" || c.Same {
		t.Errorf("%+v", c.Measures)
	}
}

func TestSmall(t *testing.T) {
	for _, c := range []struct{ w, h, edge, ww, wh int }{{400, 200, 96, 96, 48}, {40, 20, 96, 40, 20}, {5, 900, 320, 1, 320}} {
		list, err := Drawing{picture: scene(c.w, c.h)}.Small(1000, c.edge)
		if err != nil {
			t.Fatal(err)
		}
		if b := decoded(t, list[0]).Bounds(); b.Dx() != c.w || b.Dy() != c.h {
			t.Errorf("%+v became %v where it fits", c, b)
		}
		if b := decoded(t, list[1]).Bounds(); b.Dx() != c.ww || b.Dy() != c.wh {
			t.Errorf("%+v became %v", c, b)
		}
	}
}

// However far it is made smaller, nothing is left out of what is seen.
func TestSmallIsTheMean(t *testing.T) {
	squares := image.NewNRGBA(image.Rect(0, 0, 1500, 1100))
	for i := range squares.Pix {
		if x, y := i/4%1500, i/4/1500; i%4 == 3 || (x+y)%2 == 0 {
			squares.Pix[i] = 255
		}
	}
	list, err := Drawing{picture: squares}.Small(1280, 320, 96, 5)
	if err != nil {
		t.Fatal(err)
	}
	for _, data := range list[1:] {
		m := decoded(t, data)
		for i, v := range m.Pix {
			if i%4 < 3 && (v < 120 || v > 136) {
				t.Fatalf("the one of %v says %d at %d", m.Bounds(), v, i)
			}
		}
	}
}

// hidden is a picture of a type that nothing knows.
type hidden struct{ image.Image }

// What is taken of a picture in one piece is what is taken of it pixel by pixel.
func TestPicturesAreTakenAsTheyAre(t *testing.T) {
	const w, h = 61, 47
	from := scene(w, h)
	at := image.Rect(3, 5, 3+w, 5+h)
	opaque, see, grey, tones := image.NewRGBA(at), image.NewRGBA(at), image.NewGray(at), image.NewYCbCr(at, image.YCbCrSubsampleRatio420)
	few := image.NewPaletted(at, color.Palette{color.NRGBA{200, 100, 50, 255}, color.NRGBA{200, 100, 50, 90}, color.Gray16{0x1234}})
	for y := range h {
		for x := range w {
			c := color.NRGBAModel.Convert(from.At(x, y)).(color.NRGBA)
			see.Set(3+x, 5+y, color.NRGBA{c.R, c.G, c.B, uint8(7 * x)})
			c.A = 255
			opaque.Set(3+x, 5+y, c)
			grey.Set(3+x, 5+y, c)
			few.SetColorIndex(3+x, 5+y, uint8((x+y)%3))
			tones.Y[tones.YOffset(3+x, 5+y)], tones.Cb[tones.COffset(3+x, 5+y)], tones.Cr[tones.COffset(3+x, 5+y)] = c.R, c.G, c.B
		}
	}
	for name, m := range map[string]image.Image{"RGBA": opaque, "RGBA with alpha": see, "grey": grey, "YCbCr": tones, "a palette": few} {
		var quick, slow picture
		quick.take(m)
		slow.take(hidden{m})
		for i := range slow.work.Pix {
			a, b := quick.work.Pix[i], slow.work.Pix[i]
			if a != b && (name != "YCbCr" || i%2 == 0) { // whose colours have eight bits here, and some more in between
				t.Fatalf("%s: %d, not %d, at %d", name, a, b, i)
			}
		}
	}
}

// bomb is a PNG of a few bytes that says that it has so many pixels.
func bomb(w, h uint32) []byte {
	out := []byte("\x89PNG\r\n\x1a\n")
	chunk := func(kind string, data []byte) {
		out = binary.BigEndian.AppendUint32(out, uint32(len(data)))
		body := append([]byte(kind), data...)
		out = binary.BigEndian.AppendUint32(append(out, body...), crc32.ChecksumIEEE(body))
	}
	head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, w), h)
	chunk("IHDR", append(head, 8, 6, 0, 0, 0))
	var packed bytes.Buffer
	z := zlib.NewWriter(&packed)
	_, _ = z.Write(make([]byte, 1<<20))
	_ = z.Close()
	chunk("IDAT", packed.Bytes())
	chunk("IEND", nil)
	return out
}

func TestWhatCantBeReadSaysWhy(t *testing.T) {
	good := asPNG(t, scene(30, 30))
	tga := make([]byte, 18)
	tga[2], tga[16] = 2, 24
	binary.LittleEndian.PutUint16(tga[12:], 65535)
	binary.LittleEndian.PutUint16(tga[14:], 65535)
	psd := append([]byte("8BPS\x00\x01\x00\x00\x00\x00\x00\x00\x00\x03\x00\x00\xff\xff\x00\x00\xff\xff\x00\x08\x00\x03"), make([]byte, 20)...)
	dds := append([]byte("DDS "), make([]byte, 144)...)
	binary.LittleEndian.PutUint32(dds[12:], 1<<20)
	binary.LittleEndian.PutUint32(dds[16:], 1<<20)
	for name, data := range map[string][]byte{"text.png": []byte("this is no picture"), "empty.png": nil, "cut.png": good[:len(good)/2],
		"bomb.png": bomb(60000, 60000), "flat.png": bomb(4000, 4000), "bomb.tga": tga, "bomb.psd": psd, "bomb.dds": dds,
		"a.exr": []byte("v/1\x01 and more"), "no.exr": nil} {
		r, d, err := Look(of(name, data))
		if err != nil || r.Trouble == "" || len(d) > 0 || r.Kind != Texture {
			t.Errorf("%s: %+v, %v", name, r, err)
		}
	}
	c, _ := compared(t, of("good.png", good), of("cut.png", good[:len(good)/2]))
	if c.Before.Trouble != "" || c.After.Trouble == "" || len(c.Facts) == 0 {
		t.Errorf("%+v", c)
	}
}

func FuzzPictures(f *testing.F) {
	var small bytes.Buffer
	_ = png.Encode(&small, scene(9, 7))
	f.Add(uint8(0), small.Bytes())
	f.Add(uint8(1), append([]byte{0, 0, 10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 4, 0, 4, 0, 24, 0}, 0x8f, 1, 2, 3))
	f.Add(uint8(2), append([]byte("8BPS\x00\x01\x00\x00\x00\x00\x00\x00\x00\x03\x00\x00\x00\x04\x00\x00\x00\x04\x00\x08\x00\x03"),
		make([]byte, 80)...))
	dds := append([]byte("DDS "), make([]byte, 200)...)
	dds[12], dds[16], dds[80] = 4, 4, 4
	copy(dds[84:], "DXT5")
	f.Add(uint8(3), dds)
	names := []string{"a.png", "a.tga", "a.psd", "a.dds", "a.bmp", "a.tif", "a.webp", "a.gif", "a.jpg", "a.exr"}
	f.Fuzz(func(t *testing.T, kind uint8, data []byte) {
		s := of(names[int(kind)%len(names)], data)
		r, d := look(t, s)
		if r.Trouble == "" && d["whole.png"] == nil {
			t.Errorf("%+v has no picture", r)
		}
		if r.Trouble == "" {
			c, _ := compared(t, s, s)
			if !c.Same {
				t.Errorf("it is not the same as itself: %+v", c.Measures)
			}
		}
	})
}

// What is not there has no part in a colour, and half of a picture is the same whatever it is kept as.
func TestHalfIsTheMean(t *testing.T) {
	m := image.NewNRGBA(image.Rect(0, 0, 5, 3))
	for i, c := range []color.NRGBA{{200, 100, 50, 255}, {0, 0, 0, 0}, {10, 20, 30, 100}, {30, 40, 50, 100}} {
		for y := range 3 {
			m.SetNRGBA(i, y, c)
		}
	}
	got := half(m).(*image.NRGBA)
	if got.Rect != image.Rect(0, 0, 2, 1) || got.NRGBAAt(0, 0) != (color.NRGBA{200, 100, 50, 128}) ||
		got.NRGBAAt(1, 0) != (color.NRGBA{20, 30, 40, 100}) {
		t.Errorf("%v %v", got.Rect, got.Pix)
	}
	from := scene(80, 60)
	known := image.NewNRGBA(from.Bounds())
	draw.Draw(known, known.Rect, from, from.Bounds().Min, draw.Src)
	other := image.NewRGBA(from.Bounds())
	draw.Draw(other, other.Rect, from, from.Bounds().Min, draw.Src)
	one, two := half(known).(*image.NRGBA), half(other).(*image.NRGBA)
	for i := range one.Pix {
		if d := int(one.Pix[i]) - int(two.Pix[i]); (d < -2 || d > 2) && (i%4 == 3 || one.Pix[i|3] == 255) {
			t.Fatalf("%d at %d, not %d", one.Pix[i], i, two.Pix[i])
		}
	}
}
