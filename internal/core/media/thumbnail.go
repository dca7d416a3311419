package media

import (
	"image"

	"golang.org/x/image/draw"
)

// smaller is a picture that fits into edge x edge pixels, or itself where it does already. It is halved as often as that goes: bilinear
// takes no more than four pixels into account, whose mean it is in the middle between them.
func smaller(src image.Image, edge int) image.Image {
	full := src.Bounds()
	scale := min(float64(edge)/float64(full.Dx()), float64(edge)/float64(full.Dy()))
	for at := 1.0; at > scale; {
		at = max(at/2, scale)
		dst := image.NewRGBA(image.Rect(0, 0, max(1, int(float64(full.Dx())*at)), max(1, int(float64(full.Dy())*at))))
		draw.ApproxBiLinear.Scale(dst, dst.Bounds(), src, src.Bounds(), draw.Src, nil)
		src = dst
	}
	return src
}
