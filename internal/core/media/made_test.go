package media

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// made runs another program in a folder of its own. make test installs those that are needed.
func made(t testing.TB, dir string, args ...string) string {
	t.Helper()
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

func subject(t testing.TB, path string) Subject {
	t.Helper()
	return of(filepath.Base(path), read(t, path))
}

func read(t testing.TB, path string) []byte {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

func of(name string, data []byte) Subject {
	return Subject{Name: name, Size: int64(len(data)), Content: bytes.NewReader(data)}
}

func fact(list []Fact, name string) string {
	for _, f := range list {
		if f.Name == name {
			return f.Value
		}
	}
	return ""
}

func look(t testing.TB, s Subject) (Report, map[string][]byte) {
	t.Helper()
	r, d, err := Look(s)
	if err != nil {
		t.Fatalf("%s: %v", s.Name, err)
	}
	return r, files(t, d)
}

func files(t testing.TB, d Drawn) map[string][]byte {
	t.Helper()
	list := map[string][]byte{}
	for name, drawing := range d {
		data, err := drawing.Bytes()
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		list[name] = data
	}
	return list
}

func compared(t testing.TB, a, b Subject) (Comparison, map[string][]byte) {
	t.Helper()
	c, d, err := Compare(a, b)
	if err != nil {
		t.Fatalf("%s and %s: %v", a.Name, b.Name, err)
	}
	return c, files(t, d)
}

// facts checks several facts at once: "name=value".
func facts(t testing.TB, s Subject, want ...string) {
	t.Helper()
	r, _ := look(t, s)
	if r.Trouble != "" {
		t.Errorf("%s: %s", s.Name, r.Trouble)
		return
	}
	for _, w := range want {
		name, value, _ := strings.Cut(w, "=")
		if got := fact(r.Facts, name); got != value {
			t.Errorf("%s: %s is %q, want %q", s.Name, name, got, value)
		}
	}
}

func decoded(t testing.TB, data []byte) *image.NRGBA {
	t.Helper()
	m, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	out := image.NewNRGBA(m.Bounds())
	for y := range m.Bounds().Dy() {
		for x := range m.Bounds().Dx() {
			out.Set(x, y, m.At(x, y))
		}
	}
	return out
}

// scene is a picture in which all places are different.
func scene(w, h int) *image.NRGBA {
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			m.SetNRGBA(x, y, color.NRGBA{uint8(40 + 150*x/w), uint8(30 + 200*y/h), uint8(128 + 100*math.Sin(float64(x*y)/60)), 255})
		}
	}
	return m
}

func asPNG(t testing.TB, m image.Image) []byte {
	t.Helper()
	var out bytes.Buffer
	if err := png.Encode(&out, m); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func number0(t testing.TB, text string) (v float64) {
	t.Helper()
	if _, err := fmt.Sscanf(strings.ReplaceAll(strings.TrimSpace(text), ",", ""), "%g", &v); err != nil {
		t.Fatalf("%q is no number", text)
	}
	return v
}
