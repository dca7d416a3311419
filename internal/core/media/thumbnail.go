package media

import (
	"bytes"
	"image"
	"image/png"

	"golang.org/x/image/draw"
)

// Small makes a PNG of a PNG that fits into edge x edge pixels. One that is smaller stays as large as it is.
func Small(data []byte, edge int) ([]byte, error) {
	src, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	full := src.Bounds()
	scale := min(1, float64(edge)/float64(full.Dx()), float64(edge)/float64(full.Dy()))
	dst := image.NewNRGBA(image.Rect(0, 0, max(1, int(float64(full.Dx())*scale)), max(1, int(float64(full.Dy())*scale))))
	if scale == 1 {
		draw.Copy(dst, image.Point{}, src, full, draw.Src, nil)
	} else {
		draw.CatmullRom.Scale(dst, dst.Bounds(), src, full, draw.Src, nil)
	}
	var out bytes.Buffer
	encoder := png.Encoder{CompressionLevel: png.BestSpeed}
	err = encoder.Encode(&out, dst)
	return out.Bytes(), err
}
