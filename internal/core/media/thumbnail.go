// Package media reads assets as people see them. At this stage: pictures, made small.
package media

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	_ "image/gif"  // registers its reader
	_ "image/jpeg" // registers its reader
	"image/png"
	"io"
	"path"
	"strings"

	"golang.org/x/image/draw"
)

// ErrNoPicture is wrapped where a content is not a picture that can be shown.
var ErrNoPicture = errors.New("no picture")

// MaxPixels is the largest picture that is decoded: 8 bytes a pixel have to fit into the service's memory beside everything else.
const MaxPixels = 17 << 20

// Picture reports whether the name is that of a picture that Thumbnail may be able to read.
func Picture(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".png", ".jpg", ".jpeg", ".gif":
		return true
	}
	return false
}

// Thumbnail decodes a picture and makes a PNG of it that fits into edge x edge pixels, and its full size in pixels. A picture that
// is smaller stays as large as it is. The error wraps ErrNoPicture where the content is at fault.
func Thumbnail(r io.ReadSeeker, edge int) (data []byte, full image.Point, err error) {
	config, _, err := image.DecodeConfig(r)
	if err != nil {
		return nil, full, fmt.Errorf("%w: %v", ErrNoPicture, err)
	}
	full = image.Pt(config.Width, config.Height)
	if full.X < 1 || full.Y < 1 || full.X > MaxPixels/full.Y {
		return nil, full, fmt.Errorf("%w: %d x %d pixels are more than are shown", ErrNoPicture, full.X, full.Y)
	}
	if _, err := r.Seek(0, io.SeekStart); err != nil {
		return nil, full, err
	}
	src, _, err := image.Decode(r)
	if err != nil {
		return nil, full, fmt.Errorf("%w: %v", ErrNoPicture, err)
	}
	scale := min(1, float64(edge)/float64(full.X), float64(edge)/float64(full.Y))
	dst := image.NewNRGBA(image.Rect(0, 0, max(1, int(float64(full.X)*scale)), max(1, int(float64(full.Y)*scale))))
	draw.CatmullRom.Scale(dst, dst.Bounds(), src, src.Bounds(), draw.Src, nil)
	var out bytes.Buffer
	encoder := png.Encoder{CompressionLevel: png.BestSpeed}
	if err := encoder.Encode(&out, dst); err != nil {
		return nil, full, err
	}
	return out.Bytes(), full, nil
}
