package media

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"io"
)

// Picture formats without a package that is kept: each read as far as a texture's needs go.

// readTGA reads Truevision TGA (specification 2.0, 1991): true colour, grey and palettes, plain and run-length coded.
func readTGA(s Subject) (*picture, error) {
	r := bufio.NewReaderSize(s.reader(), 1<<16)
	var h [18]byte
	if _, err := io.ReadFull(r, h[:]); err != nil {
		return nil, unreadable("it is too short for a TGA file")
	}
	kind, depth := h[2], int(h[16])
	w, ht := int(binary.LittleEndian.Uint16(h[12:])), int(binary.LittleEndian.Uint16(h[14:]))
	if err := bounded(w, ht); err != nil {
		return nil, err
	}
	if h[1] > 1 || kind&7 < 1 || kind&7 > 3 || kind > 11 || depth != 8 && depth != 15 && depth != 16 && depth != 24 && depth != 32 {
		return nil, unreadable("it is no TGA file of a kind that is known here (type %d, %d bits)", kind, depth)
	}
	if _, err := r.Discard(int(h[0])); err != nil {
		return nil, unreadable("it ends early")
	}
	palette, err := tgaPalette(r, h)
	if err != nil {
		return nil, err
	}
	size := (depth + 7) / 8
	p := &picture{format: "TGA", full: image.Pt(w, ht), depth: 8, space: "not said"}
	switch {
	case kind&7 == 1 && palette != nil && size == 1:
		p.channels = fmt.Sprintf("a palette of %d", len(palette))
	case kind&7 == 3 && size == 1:
		p.channels = "grey"
	case kind&7 == 3 && size == 2:
		p.channels = "grey, alpha"
	case kind&7 == 2 && (depth == 32 || depth == 16 && h[17]&15 > 0):
		p.channels = "red, green, blue, alpha"
	case kind&7 == 2 && depth != 8:
		p.channels = "red, green, blue"
	default:
		return nil, unreadable("it is no TGA file of a kind that is known here (type %d, %d bits)", kind, depth)
	}
	colour := func(v []byte) color.NRGBA {
		switch {
		case palette != nil && kind&7 == 1:
			if int(v[0]) < len(palette) {
				return palette[v[0]]
			}
			return color.NRGBA{A: 255}
		case kind&7 == 3 && size == 2:
			return color.NRGBA{v[0], v[0], v[0], v[1]}
		case kind&7 == 3:
			return color.NRGBA{v[0], v[0], v[0], 255}
		}
		return tgaColour(v, depth, h[17]&15 > 0)
	}
	m := image.NewNRGBA(image.Rect(0, 0, w, ht))
	var one [4]byte
	for i, left, run := 0, 0, false; i < w*ht; i++ {
		if kind > 8 && left == 0 {
			head, err := r.ReadByte()
			if err != nil {
				return nil, unreadable("it ends early")
			}
			left, run = int(head&127)+1, head&128 != 0
			if run {
				if _, err := io.ReadFull(r, one[:size]); err != nil {
					return nil, unreadable("it ends early")
				}
			}
		}
		if !run {
			if _, err := io.ReadFull(r, one[:size]); err != nil {
				return nil, unreadable("it ends early")
			}
		}
		left--
		x, y := i%w, i/w
		if h[17]&0x20 == 0 {
			y = ht - 1 - y
		}
		if h[17]&0x10 != 0 {
			x = w - 1 - x
		}
		m.SetNRGBA(x, y, colour(one[:size]))
	}
	p.take(m)
	return p, nil
}

func tgaPalette(r io.Reader, h [18]byte) ([]color.NRGBA, error) {
	if h[1] == 0 {
		return nil, nil
	}
	first, n, depth := int(binary.LittleEndian.Uint16(h[3:])), int(binary.LittleEndian.Uint16(h[5:])), int(h[7])
	if depth != 15 && depth != 16 && depth != 24 && depth != 32 || first+n > 1<<16 {
		return nil, unreadable("its palette is of no kind that is known here")
	}
	list := make([]color.NRGBA, first+n)
	var one [4]byte
	for i := range n {
		if _, err := io.ReadFull(r, one[:(depth+7)/8]); err != nil {
			return nil, unreadable("it ends early")
		}
		list[first+i] = tgaColour(one[:], depth, depth == 32)
	}
	return list, nil
}

func tgaColour(v []byte, depth int, alpha bool) color.NRGBA {
	switch depth {
	case 15, 16:
		n := binary.LittleEndian.Uint16(v)
		five := func(x uint16) uint8 { return uint8((x&31)*255/31 + 0) }
		c := color.NRGBA{five(n >> 10), five(n >> 5), five(n), 255}
		if alpha && depth == 16 && n&0x8000 == 0 {
			c.A = 0
		}
		return c
	case 32:
		if alpha {
			return color.NRGBA{v[2], v[1], v[0], v[3]}
		}
	}
	return color.NRGBA{v[2], v[1], v[0], 255}
}

// readPSD reads the flattened picture of a layered file (Adobe Photoshop File Formats Specification, 2019: header, then "image data"
// behind three sections): grey, RGB and CMYK with 8 or 16 bits, plain or PackBits.
func readPSD(s Subject) (*picture, error) {
	r := bufio.NewReaderSize(s.reader(), 1<<16)
	var h [26]byte
	if _, err := io.ReadFull(r, h[:]); err != nil || string(h[:4]) != "8BPS" {
		return nil, unreadable("it does not start like a PSD file")
	}
	version, channels := binary.BigEndian.Uint16(h[4:]), int(binary.BigEndian.Uint16(h[12:]))
	ht, w := int(binary.BigEndian.Uint32(h[14:])), int(binary.BigEndian.Uint32(h[18:]))
	depth, mode := int(binary.BigEndian.Uint16(h[22:])), binary.BigEndian.Uint16(h[24:])
	if version != 1 || depth != 8 && depth != 16 {
		return nil, unreadable("PSD files of version 1 with 8 or 16 bits are looked into; this has version %d and %d bits", version, depth)
	}
	if err := bounded(w, ht); err != nil {
		return nil, err
	}
	base, ok := map[uint16]int{1: 1, 3: 3, 4: 4}[mode]
	if !ok || channels < base || channels > 56 {
		return nil, unreadable("its colours are of a kind that is not looked into (mode %d, %d channels)", mode, channels)
	}
	for range 3 { // colour mode data, image resources, layers and masks
		var n [4]byte
		if _, err := io.ReadFull(r, n[:]); err != nil {
			return nil, unreadable("it ends early")
		}
		if _, err := io.CopyN(io.Discard, r, int64(binary.BigEndian.Uint32(n[:]))); err != nil {
			return nil, unreadable("it ends early")
		}
	}
	var coding [2]byte
	if _, err := io.ReadFull(r, coding[:]); err != nil {
		return nil, unreadable("it has no flattened picture")
	}
	used := min(channels, base+1)
	planes, err := psdPlanes(r, binary.BigEndian.Uint16(coding[:]), channels, used, w, ht, depth/8)
	if err != nil {
		return nil, err
	}
	p := &picture{format: "PSD", full: image.Pt(w, ht), depth: depth, space: "not said"}
	p.channels = map[uint16]string{1: "grey", 3: "red, green, blue", 4: "cyan, magenta, yellow, black"}[mode]
	if used > base {
		p.channels += ", alpha"
	}
	m := image.NewNRGBA64(image.Rect(0, 0, w, ht))
	at := func(c, i int) uint16 {
		if depth == 8 {
			return uint16(planes[c][i]) * 257
		}
		return binary.BigEndian.Uint16(planes[c][2*i:])
	}
	for i := range w * ht {
		v := color.NRGBA64{A: 0xffff}
		switch mode {
		case 1:
			v.R, v.G, v.B = at(0, i), at(0, i), at(0, i)
		case 3:
			v.R, v.G, v.B = at(0, i), at(1, i), at(2, i)
		case 4: // stored turned round: 0 is full ink
			k := uint32(at(3, i))
			v.R, v.G, v.B = uint16(uint32(at(0, i))*k/0xffff), uint16(uint32(at(1, i))*k/0xffff), uint16(uint32(at(2, i))*k/0xffff)
		}
		if used > base {
			v.A = at(base, i)
		}
		m.SetNRGBA64(i%w, i/w, v)
	}
	p.take(m)
	return p, nil
}

func psdPlanes(r *bufio.Reader, coding uint16, channels, used, w, h, bytes int) ([][]byte, error) {
	planes := make([][]byte, used)
	if coding > 1 {
		return nil, unreadable("its flattened picture is packed in a way that is not looked into (%d)", coding)
	}
	if coding == 1 {
		if _, err := io.CopyN(io.Discard, r, int64(2*channels*h)); err != nil { // lengths of rows
			return nil, unreadable("it ends early")
		}
	}
	for c := range planes {
		planes[c] = make([]byte, w*h*bytes)
		if coding == 0 {
			if _, err := io.ReadFull(r, planes[c]); err != nil {
				return nil, unreadable("it ends early")
			}
			continue
		}
		for y := range h {
			if err := unpackBits(r, planes[c][y*w*bytes:(y+1)*w*bytes]); err != nil {
				return nil, err
			}
		}
	}
	return planes, nil
}

// unpackBits fills a row (PackBits, TIFF 6.0 section 9).
func unpackBits(r *bufio.Reader, row []byte) error {
	for len(row) > 0 {
		head, err := r.ReadByte()
		if err != nil {
			return unreadable("it ends early")
		}
		switch n := int(int8(head)); {
		case n >= 0:
			if n+1 > len(row) {
				return unreadable("a row of it is longer than the picture is wide")
			}
			if _, err := io.ReadFull(r, row[:n+1]); err != nil {
				return unreadable("it ends early")
			}
			row = row[n+1:]
		case n > -128:
			v, err := r.ReadByte()
			if err != nil || 1-n > len(row) {
				return unreadable("a row of it is longer than the picture is wide, or it ends early")
			}
			for i := range 1 - n {
				row[i] = v
			}
			row = row[1-n:]
		}
	}
	return nil
}

// readDDS reads the largest level of a DirectDraw Surface: BC1, BC2, BC3, BC4 and BC5 blocks (Khronos Data Format 1.3, chapter 18), and
// plain 32-bit pixels.
func readDDS(s Subject) (*picture, error) {
	r := s.reader()
	var h [148]byte
	n, _ := io.ReadFull(r, h[:])
	if n < 128 || string(h[:4]) != "DDS " {
		return nil, unreadable("it does not start like a DDS file")
	}
	ht, w := int(binary.LittleEndian.Uint32(h[12:])), int(binary.LittleEndian.Uint32(h[16:]))
	if err := bounded(w, ht); err != nil {
		return nil, err
	}
	p := &picture{full: image.Pt(w, ht), depth: 8, space: "not said", mips: max(1, int(min(binary.LittleEndian.Uint32(h[28:]), 32)))}
	code, at := string(h[84:88]), int64(128)
	if code == "DX10" {
		at = 148
		names := map[uint32]string{28: "RGBA", 29: "RGBA", 71: "DXT1", 72: "DXT1", 74: "DXT3", 75: "DXT3", 77: "DXT5", 78: "DXT5", 80: "ATI1",
			83: "ATI2", 87: "BGRA", 91: "BGRA"}
		number := binary.LittleEndian.Uint32(h[128:])
		if code = names[number]; code == "" {
			return nil, unreadable("its pixels are packed in a way that is not looked into (DXGI format %d)", number)
		}
		if number == 29 || number == 72 || number == 75 || number == 78 || number == 91 {
			p.space = "sRGB"
		}
	} else if binary.LittleEndian.Uint32(h[80:])&4 == 0 {
		if binary.LittleEndian.Uint32(h[88:]) != 32 {
			return nil, unreadable("its pixels have %d bits, and 32 are looked into", binary.LittleEndian.Uint32(h[88:]))
		}
		if code = "BGRA"; binary.LittleEndian.Uint32(h[92:]) == 0xff {
			code = "RGBA"
		}
	}
	names := map[string]string{"DXT1": "BC1", "DXT3": "BC2", "DXT5": "BC3", "ATI1": "BC4", "BC4U": "BC4", "ATI2": "BC5", "BC5U": "BC5",
		"RGBA": "plain", "BGRA": "plain"}
	if names[code] == "" {
		return nil, unreadable("its pixels are packed in a way that is not looked into (%s)", clean(code))
	}
	p.format = "DDS, " + names[code]
	p.channels = "red, green, blue, alpha"
	m := image.NewNRGBA(image.Rect(0, 0, w, ht))
	if names[code] == "plain" {
		if _, err := io.ReadFull(io.NewSectionReader(s.Content, at, s.Size-at), m.Pix); err != nil {
			return nil, unreadable("it ends early")
		}
		if code == "BGRA" {
			for i := 0; i < len(m.Pix); i += 4 {
				m.Pix[i], m.Pix[i+2] = m.Pix[i+2], m.Pix[i]
			}
		}
		p.take(m)
		return p, nil
	}
	size := 16
	if names[code] == "BC1" || names[code] == "BC4" {
		size = 8
	}
	switch names[code] {
	case "BC4":
		p.channels = "grey"
	case "BC5":
		p.channels = "red, green"
	}
	blocks := make([]byte, (w+3)/4*((ht+3)/4)*size)
	if _, err := io.ReadFull(io.NewSectionReader(s.Content, at, s.Size-at), blocks); err != nil {
		return nil, unreadable("it ends early")
	}
	for i := 0; i*size < len(blocks); i++ {
		var block [16]color.NRGBA
		unpackBlock(names[code], blocks[i*size:][:size], &block)
		x0, y0 := i%((w+3)/4)*4, i/((w+3)/4)*4
		for k, v := range block {
			if x, y := x0+k%4, y0+k/4; x < w && y < ht {
				m.SetNRGBA(x, y, v)
			}
		}
	}
	p.take(m)
	return p, nil
}

func unpackBlock(kind string, b []byte, out *[16]color.NRGBA) {
	switch kind {
	case "BC1":
		unpackColours(b, true, out)
	case "BC2":
		unpackColours(b[8:], false, out)
		for i := range out {
			out[i].A = b[i/2] >> (i % 2 * 4) & 15 * 17
		}
	case "BC3":
		unpackColours(b[8:], false, out)
		for i, v := range unpackRamp(b) {
			out[i].A = v
		}
	case "BC4":
		for i, v := range unpackRamp(b) {
			out[i] = color.NRGBA{v, v, v, 255}
		}
	case "BC5":
		green := unpackRamp(b[8:])
		for i, v := range unpackRamp(b) {
			out[i] = color.NRGBA{v, green[i], 0, 255}
		}
	}
}

func unpackColours(b []byte, cut bool, out *[16]color.NRGBA) {
	c0, c1 := binary.LittleEndian.Uint16(b), binary.LittleEndian.Uint16(b[2:])
	wide := func(c uint16) [3]int {
		return [3]int{int(c>>11) * 255 / 31, int(c>>5&63) * 255 / 63, int(c&31) * 255 / 31}
	}
	var list [4]color.NRGBA
	a, z := wide(c0), wide(c1)
	mix := func(m, n int) color.NRGBA {
		return color.NRGBA{uint8((m*a[0] + n*z[0]) / (m + n)), uint8((m*a[1] + n*z[1]) / (m + n)), uint8((m*a[2] + n*z[2]) / (m + n)), 255}
	}
	list[0], list[1] = mix(1, 0), mix(0, 1)
	if c0 > c1 || !cut {
		list[2], list[3] = mix(2, 1), mix(1, 2)
	} else {
		list[2], list[3] = mix(1, 1), color.NRGBA{}
	}
	bits := binary.LittleEndian.Uint32(b[4:])
	for i := range out {
		out[i] = list[bits>>(2*i)&3]
	}
}

func unpackRamp(b []byte) (out [16]uint8) {
	a, z := int(b[0]), int(b[1])
	list := [8]uint8{b[0], b[1], 0, 0, 0, 0, 0, 255}
	if a > z {
		for i := 1; i < 7; i++ {
			list[i+1] = uint8(((7-i)*a + i*z) / 7)
		}
	} else {
		for i := 1; i < 5; i++ {
			list[i+1] = uint8(((5-i)*a + i*z) / 5)
		}
	}
	bits := uint64(b[2]) | uint64(b[3])<<8 | uint64(b[4])<<16 | uint64(b[5])<<24 | uint64(b[6])<<32 | uint64(b[7])<<40
	for i := range out {
		out[i] = list[bits>>(3*i)&7]
	}
	return out
}

// readEXR says what an OpenEXR file is. No package that is kept reads its pixels.
func readEXR(s Subject) (*picture, error) {
	var h [4]byte
	if _, err := io.ReadFull(s.reader(), h[:]); err != nil || binary.LittleEndian.Uint32(h[:]) != 20000630 {
		return nil, unreadable("it does not start like an OpenEXR file")
	}
	return nil, unreadable("the pixels of OpenEXR files are not read yet")
}
