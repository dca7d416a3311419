package media

import (
	"image"

	"golang.org/x/image/draw"
)

// smaller is a picture that fits into edge x edge pixels, or itself where it does already. Bilinear takes no more than four pixels into
// account: where more are left out, it is halved first.
func smaller(src image.Image, edge int) image.Image {
	full := src.Bounds()
	scale := min(float64(edge)/float64(full.Dx()), float64(edge)/float64(full.Dy()))
	if scale >= 1 {
		return src
	}
	dst := image.NewRGBA(image.Rect(0, 0, max(1, int(float64(full.Dx())*scale)), max(1, int(float64(full.Dy())*scale))))
	for src.Bounds().Dx() >= 2*max(2, dst.Rect.Dx()) && src.Bounds().Dy() >= 2*max(2, dst.Rect.Dy()) {
		src = half(src)
	}
	draw.ApproxBiLinear.Scale(dst, dst.Rect, src, src.Bounds(), draw.Src, nil)
	return dst
}

// half is a picture of half the width and height: each of its pixels is the mean of four.
func half(src image.Image) image.Image {
	b := src.Bounds()
	dst := image.NewNRGBA(image.Rect(0, 0, b.Dx()/2, b.Dy()/2))
	m, ok := src.(*image.NRGBA)
	if o, is := src.(*image.RGBA); is && o.Opaque() { // the same then
		m, ok = &image.NRGBA{Pix: o.Pix, Stride: o.Stride, Rect: o.Rect}, true
	}
	if !ok {
		draw.ApproxBiLinear.Scale(dst, dst.Rect, src, b, draw.Src, nil) // the means, in ten times the time
		return dst
	}
	for y := range dst.Rect.Dy() {
		above, below := m.Pix[2*y*m.Stride:], m.Pix[(2*y+1)*m.Stride:]
		to := dst.Pix[y*dst.Stride:]
		for x := range dst.Rect.Dx() {
			a, c := (*[8]uint8)(above[8*x:]), (*[8]uint8)(below[8*x:])
			weights := [4]uint32{uint32(a[3]), uint32(a[7]), uint32(c[3]), uint32(c[7])}
			all := weights[0] + weights[1] + weights[2] + weights[3]
			switch all {
			case 0:
				continue
			case 4 * 255:
				for i := range 3 {
					to[4*x+i] = uint8((uint32(a[i]) + uint32(a[4+i]) + uint32(c[i]) + uint32(c[4+i]) + 2) / 4)
				}
				to[4*x+3] = 255
				continue
			}
			for i := range 3 { // what is not there has no colour
				to[4*x+i] = uint8((uint32(a[i])*weights[0] + uint32(a[4+i])*weights[1] + uint32(c[i])*weights[2] +
					uint32(c[4+i])*weights[3] + all/2) / all)
			}
			to[4*x+3] = uint8((all + 2) / 4)
		}
	}
	return dst
}
