package media

import (
	"bytes"
	"errors"
	"image"
	"image/color"
	"image/png"
	"testing"
)

func picture(t testing.TB, w, h int) []byte {
	img := image.NewGray16(image.Rect(0, 0, w, h))
	for x := range w {
		for y := range h {
			img.SetGray16(x, y, color.Gray16{uint16(x * 65535 / w)})
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestThumbnailFitsAndKeepsItsShape(t *testing.T) {
	for _, c := range []struct{ w, h, edge, wantW, wantH int }{{400, 200, 96, 96, 48}, {10, 20, 96, 10, 20}, {1, 900, 96, 1, 96}} {
		data, full, err := Thumbnail(bytes.NewReader(picture(t, c.w, c.h)), c.edge)
		if err != nil {
			t.Fatal(err)
		}
		got, err := png.DecodeConfig(bytes.NewReader(data))
		if err != nil || got.Width != c.wantW || got.Height != c.wantH || full != image.Pt(c.w, c.h) {
			t.Errorf("%d x %d becomes %d x %d (full %v), %v", c.w, c.h, got.Width, got.Height, full, err)
		}
	}
}

func TestThumbnailRefusesWhatItCantShow(t *testing.T) {
	huge := picture(t, 10, 10)
	copy(huge[16:], []byte{0, 1, 0, 0, 0, 1, 0, 0}) // the header claims 65536 x 65536
	for name, data := range map[string][]byte{"text": []byte("no picture"), "empty": nil, "cut off": picture(t, 100, 100)[:60], "huge": huge} {
		if _, _, err := Thumbnail(bytes.NewReader(data), 96); !errors.Is(err, ErrNoPicture) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzThumbnail(f *testing.F) {
	f.Add(picture(f, 8, 8))
	f.Add([]byte("GIF89a\x01\x00\x01\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) > 1<<16 {
			return
		}
		if c, _, err := image.DecodeConfig(bytes.NewReader(data)); err == nil && c.Width*c.Height > 1<<20 {
			return // decoding it is slow, not wrong
		}
		_, _, _ = Thumbnail(bytes.NewReader(data), 32)
	})
}
