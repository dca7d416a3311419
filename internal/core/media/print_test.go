package media

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"testing"

	"golang.org/x/image/draw"

	studio "kettletarn/demo/scene"
)

func printed(t *testing.T, name string, data []byte) uint64 {
	t.Helper()
	r, _ := look(t, Subject{Name: name, Size: int64(len(data)), Content: bytes.NewReader(data)})
	print, ok := PrintOf(r.Print)
	if !ok {
		t.Fatalf("%s has the print %q: %s", name, r.Print, r.Trouble)
	}
	return print
}

// TestPrintsOfPictures: smaller, in another format and worse, one still looks like itself, and not like another.
func TestPrintsOfPictures(t *testing.T) {
	prints := map[string]uint64{}
	for _, name := range []string{"rust", "kelp", "plank"} {
		data := studio.Albedo(name, 128, 0)
		prints[name] = printed(t, name+".png", data)
		m, err := png.Decode(bytes.NewReader(data))
		if err != nil {
			t.Fatal(err)
		}
		small := image.NewNRGBA(image.Rect(0, 0, 75, 75))
		draw.CatmullRom.Scale(small, small.Bounds(), m, m.Bounds(), draw.Src, nil)
		var worse bytes.Buffer
		if err := jpeg.Encode(&worse, small, &jpeg.Options{Quality: 40}); err != nil {
			t.Fatal(err)
		}
		if n := Apart(prints[name], printed(t, "small.jpg", worse.Bytes())); n > PrintAlike {
			t.Errorf("%s, smaller and worse, is %d bits apart from itself", name, n)
		}
	}
	for a, x := range prints {
		for b, y := range prints {
			if n := Apart(x, y); a < b && n <= PrintAlike {
				t.Errorf("%s and %s are %d bits apart", a, b, n)
			}
		}
	}
	flat := image.NewNRGBA(image.Rect(0, 0, 64, 64))
	draw.Draw(flat, flat.Bounds(), image.NewUniform(color.NRGBA{90, 90, 90, 255}), image.Point{}, draw.Src)
	var out bytes.Buffer
	if err := png.Encode(&out, flat); err != nil {
		t.Fatal(err)
	}
	if r, _ := look(t, Subject{Name: "flat.png", Size: int64(out.Len()), Content: bytes.NewReader(out.Bytes())}); r.Print != "" {
		t.Errorf("a picture of one colour has the print %s", r.Print)
	}
}

// TestPrintsOfSounds: quieter, and with a little noise, one still sounds like itself, and not like another.
func TestPrintsOfSounds(t *testing.T) {
	prints := map[string]uint64{}
	for _, name := range []string{"fog-horn", "oar-stroke"} {
		data := studio.Sound(name, 0)
		prints[name] = printed(t, name+".wav", data)
		quieter := bytes.Clone(data)
		start := bytes.Index(quieter, []byte("data")) + 8
		for i := start; i+1 < len(quieter); i += 2 {
			v := int16(binary.LittleEndian.Uint16(quieter[i:]))/2 + int16(i/2*7919%13) - 6
			binary.LittleEndian.PutUint16(quieter[i:], uint16(v))
		}
		if n := Apart(prints[name], printed(t, "quieter.wav", quieter)); n > PrintAlike {
			t.Errorf("%s, quieter, is %d bits apart from itself", name, n)
		}
	}
	for a, x := range prints {
		for b, y := range prints {
			if n := Apart(x, y); a < b && n <= PrintAlike {
				t.Errorf("%s and %s are %d bits apart", a, b, n)
			}
		}
	}
	silence := make([]byte, 44+88200)
	copy(silence, studio.Sound("fog-horn", 0)[:44])
	if r, _ := look(t, Subject{Name: "s.wav", Size: int64(len(silence)), Content: bytes.NewReader(silence)}); r.Print != "" {
		t.Errorf("silence has the print %s", r.Print)
	}
}
