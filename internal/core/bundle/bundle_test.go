package bundle

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"io"
	"strings"
	"testing"
	"time"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func write(t *testing.T, form string) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := New(form, &out)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range []File{{"levels/harbour.json", 5, false, noon}, {"tools/bäke.sh", 3, true, noon}} {
		if err := w.Add(f, strings.NewReader("brine"[:f.Size])); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func TestTar(t *testing.T) {
	data := write(t, Tar)
	if !bytes.Equal(data, write(t, Tar)) {
		t.Error("the same files gave other bytes")
	}
	r := tar.NewReader(bytes.NewReader(data))
	h, err := r.Next()
	if err != nil || h.Name != "levels/harbour.json" || !h.ModTime.Equal(noon) || h.Mode != 0o644 {
		t.Error(h, err)
	}
	if got, _ := io.ReadAll(r); string(got) != "brine" {
		t.Errorf("%q", got)
	}
	if h, err = r.Next(); err != nil || h.Name != "tools/bäke.sh" || h.Mode != 0o755 {
		t.Error(h, err)
	}
}

func TestZip(t *testing.T) {
	data := write(t, Zip)
	if !bytes.Equal(data, write(t, Zip)) {
		t.Error("the same files gave other bytes")
	}
	r, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil || len(r.File) != 2 || r.File[1].Mode().Perm() != 0o755 || !r.File[0].Modified.Equal(noon) {
		t.Fatal(r, err)
	}
	f, _ := r.File[0].Open()
	if got, _ := io.ReadAll(f); string(got) != "brine" {
		t.Errorf("%q", got)
	}
}

func TestWhatIsRefused(t *testing.T) {
	for _, form := range []string{Tar, Zip} {
		w, _ := New(form, io.Discard)
		if err := w.Add(File{Path: "../up", Size: 1}, strings.NewReader("x")); err == nil {
			t.Error(form, "takes a path that leads out")
		}
		if err := w.Add(File{Path: "short", Size: 5}, strings.NewReader("x")); err == nil {
			t.Error(form, "takes a file that is cut off")
		}
	}
	if _, err := New("rar", io.Discard); err == nil {
		t.Error("an unknown form")
	}
}
