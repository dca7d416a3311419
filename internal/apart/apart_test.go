package apart

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"image"
	"image/png"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/media"
)

func file(t *testing.T, name string, data []byte) Content {
	t.Helper()
	path := filepath.Join(t.TempDir(), "content")
	if err := os.WriteFile(path, data, 0o600); err != nil {
		t.Fatal(err)
	}
	return Content{Name: name, File: path}
}

func picture(t *testing.T, w, h int) []byte {
	t.Helper()
	var out bytes.Buffer
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := range m.Pix {
		m.Pix[i] = uint8(i*7) | 3
	}
	if err := png.Encode(&out, m); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func TestLookingAndComparingApart(t *testing.T) {
	files := map[string][]byte{}
	keep := func(name string, r io.Reader) error {
		data, err := io.ReadAll(r)
		files[name] = data
		return err
	}
	a := file(t, "a.png", picture(t, 400, 300))
	if err := Look(t.Context(), a, true, keep); err != nil {
		t.Fatal(err)
	}
	var r media.Report
	if err := json.Unmarshal(files[Report], &r); err != nil || r.Kind != media.Texture || r.Trouble != "" || r.Width != 400 {
		t.Errorf("%+v, %v", r, err)
	}
	small, err := png.DecodeConfig(bytes.NewReader(files["thumb-96.png"]))
	if err != nil || small.Width != 96 || small.Height != 72 || files["whole.png"] == nil || files["thumb-1280.png"] == nil {
		t.Errorf("%+v, %v", small, err)
	}
	clear(files)
	if err := Look(t.Context(), a, false, keep); err != nil || len(files) != 3 || files["thumb-320.png"] == nil {
		t.Errorf("lists show %d files, %v", len(files), err)
	}
	b := file(t, "b.png", picture(t, 400, 301))
	for _, sides := range []bool{false, true} {
		clear(files)
		if err := Compare(t.Context(), a, b, sides, keep); err != nil {
			t.Fatal(err)
		}
		var c media.Comparison
		if err := json.Unmarshal(files[Report], &c); err != nil || c.Same || files["difference.png"] == nil ||
			!slices.Contains(c.Files, "after-whole.png") || (files["after-whole.png"] != nil) != sides {
			t.Errorf("with the sides %v: %+v, %v", sides, c, err)
		}
	}
}

// A process that breaks, is cut off, or is stopped takes nothing with it, and is told of.
func TestAReaderThatBreaksHurtsNobody(t *testing.T) {
	none := func(string, io.Reader) error { return nil }
	if err := Look(t.Context(), Content{Name: "a.png", File: "/nowhere"}, false, none); !errors.Is(err, ErrFailed) ||
		!strings.Contains(err.Error(), "nowhere") {
		t.Error(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Millisecond)
	defer cancel()
	if err := Look(ctx, file(t, "a.png", picture(t, 3000, 3000)), false, none); !errors.Is(err, context.DeadlineExceeded) {
		t.Error(err)
	}
	full := errors.New("no room")
	refuse := func(string, io.Reader) error { return full }
	if err := Look(t.Context(), file(t, "a.png", picture(t, 2000, 2000)), false, refuse); !errors.Is(err, full) {
		t.Error(err)
	}
	// What was sent may say what it likes: it is a report with a reason.
	var r media.Report
	if err := Look(t.Context(), file(t, "a.png", []byte("\x89PNG\r\n\x1a\nnot really")), false, func(name string, in io.Reader) error {
		if name == Report {
			return json.NewDecoder(in).Decode(&r)
		}
		return nil
	}); err != nil || r.Trouble == "" {
		t.Errorf("%+v, %v", r, err)
	}
}

// One process reads one content after another; one that breaks it costs that process and is told of, and the next one is read all the same.
func TestAReaderReadsOneAfterAnother(t *testing.T) {
	var r Reader
	defer r.Close()
	var got []string
	look := func(c Content) error {
		got = nil
		return r.Look(t.Context(), c, false, func(name string, in io.Reader) error {
			got = append(got, name)
			_, err := io.Copy(io.Discard, in)
			return err
		})
	}
	small := file(t, "a.png", picture(t, 40, 30))
	if !r.Fresh() {
		t.Error("a reader that has read nothing is not fresh")
	}
	if err := look(small); err != nil || !slices.Contains(got, Report) || r.Fresh() {
		t.Fatal(got, err)
	}
	first := r.cmd.Process.Pid
	for n := range 10 {
		if err := look(file(t, "b.png", picture(t, 30+n, 30))); err != nil || !slices.Contains(got, "thumb-96.png") {
			t.Fatal(got, err)
		}
	}
	if r.cmd.Process.Pid != first {
		t.Error("each content had a process of its own")
	}
	if err := look(Content{Name: "a.png", File: "/nowhere"}); !errors.Is(err, ErrFailed) || !r.Fresh() {
		t.Errorf("%v, fresh: %v", err, r.Fresh())
	}
	full := errors.New("no room")
	if err := r.Look(t.Context(), small, false, func(string, io.Reader) error { return full }); !errors.Is(err, full) {
		t.Error(err)
	}
	for range maxJobs {
		if err := look(small); err != nil {
			t.Fatal(err)
		}
	}
	if !r.Fresh() {
		t.Error("a process reads more than its share")
	}
}
