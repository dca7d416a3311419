package service_test

import (
	"bytes"
	"context"
	"image/png"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kettletarn/demo/scene"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/service/looking"
	"kettletarn/internal/store"
	"kettletarn/internal/testbed"
)

func factOf(list []media.Fact, name string) string {
	for _, f := range list {
		if f.Name == name {
			return f.Value
		}
	}
	return ""
}

func TestVersionsAreLookedAtAndCompared(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	blob := make([]byte, 2<<20)
	r := rand.New(rand.NewPCG(3, 4))
	for i := range blob {
		blob[i] = byte(r.Uint32())
	}
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "rust.png", 0, 0, string(scene.Albedo("rust", 96, 0))),
		m.change(m.tamsin, "fog.png", 0, 0, string(scene.Albedo("fog", 96, 0))), m.change(m.tamsin, "mix.bin", 0, 0, string(blob)),
		m.change(m.tamsin, "huge.json", 0, 0, `{"a":"`+strings.Repeat(" ", 17<<20)+`"}`)))
	copy(blob[1<<20:], "something else entirely")
	fence1, fence2 := m.lock(m.tamsin, "rust.png", 1), m.lock(m.tamsin, "mix.bin", 1)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "rust.png", 1, fence1, string(scene.Albedo("rust", 96, 1))),
		m.change(m.tamsin, "mix.bin", 1, fence2, string(blob))))

	look, err := m.Look(ctx, m.viewer, key, "rust.png", 0)
	if err != nil || look.Kind != media.Texture || factOf(look.Facts, "pixels") != "96 x 96" {
		t.Errorf("%+v, %v", look, err)
	}
	// Everybody who asks at once gets the same, and it is made once.
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			out, err := m.Compare(ctx, m.viewer, key, looking.Sides{Path: "rust.png", Before: 1, After: 2})
			if err != nil || out.Before.Version != 1 || out.After.Version != 2 || factOf(out.Compare.Measures, "SSIM") == "" ||
				out.Compare.Strip == nil {
				t.Errorf("%+v, %v", out, err)
			}
		})
	}
	wait.Wait()
	heat, err := m.ComparedDrawing(ctx, m.viewer, key, looking.Sides{Path: "rust.png", Before: 1, After: 2}, "difference.png")
	if err != nil {
		t.Fatal(err)
	}
	if c, err := png.DecodeConfig(bytes.NewReader(heat)); err != nil || c.Width != 96 {
		t.Errorf("%+v, %v", c, err)
	}
	// Two assets can be compared, too.
	if out, err := m.Compare(ctx, m.viewer, key, looking.Sides{Path: "fog.png", With: "rust.png", Before: 1, After: 1}); err != nil ||
		out.Compare.Same {
		t.Errorf("%+v, %v", out, err)
	}
	// Of what is no picture the bytes are compared: the pieces that changed are about those that hold the change.
	out, err := m.Compare(ctx, m.viewer, key, looking.Sides{Path: "mix.bin", Before: 1, After: 2})
	if err != nil || out.Compare.Kind != media.Other || out.Compare.Strip == nil || out.Compare.Strip.Changed == 0 ||
		out.Compare.Strip.Changed > 1<<20 || out.Compare.Strip.After != 2<<20 {
		t.Errorf("%+v, %v", out.Compare.Strip, err)
	}
	// What is too large to be looked into says so, and is a report all the same.
	if look, err := m.Look(ctx, m.viewer, key, "huge.json", 0); err != nil ||
		!strings.Contains(look.Trouble, "larger than what is looked into") {
		t.Errorf("%+v, %v", look, err)
	}

	outsider, _ := m.Person(t, "stranger")
	for _, name := range []string{"../report.json", "report.json", "", ".png", "content", "whole.png/../../x.png"} {
		_, err := m.Drawing(ctx, m.viewer, key, "rust.png", 1, name)
		testbed.Problem(t, err, model.NotFound)
	}
	_, err = m.Look(ctx, outsider, key, "rust.png", 1)
	testbed.Problem(t, err, model.NotFound)
	_, err = m.Compare(ctx, m.viewer, key, looking.Sides{Path: "rust.png", Before: 1, After: 9})
	testbed.Problem(t, err, model.NotFound)
}

// What is looked at before anybody asks is kept as lists show it: all that can be drawn of it is a hundred times as much, and is drawn when
// somebody looks at the version itself. What an earlier release kept of it is shown as it is.
func TestWhatNobodyAskedForIsNotDrawn(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "rust.png", 0, 0, string(scene.Albedo("rust", 400, 0)))))
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { m.LookingAhead(ctx); close(done) }()
	kept := func() (names []string) {
		list, err := filepath.Glob(filepath.Join(m.Looks, "*", "*", "*", "*"))
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range list {
			names = append(names, filepath.Base(name))
		}
		slices.Sort(names)
		return names
	}
	for len(kept()) == 0 && t.Context().Err() == nil {
		time.Sleep(10 * time.Millisecond)
	}
	stop()
	<-done
	small, err := m.Thumbnail(t.Context(), m.viewer, key, "rust.png", 1, 320)
	if c, bad := png.DecodeConfig(bytes.NewReader(small)); err != nil || bad != nil || c.Width != 320 {
		t.Errorf("%+v, %v, %v", c, err, bad)
	}
	look, err := m.Look(t.Context(), m.viewer, key, "rust.png", 1)
	if err != nil || !slices.Contains(look.Files, "whole.png") {
		t.Errorf("%+v, %v", look, err)
	}
	_, err = m.Drawing(t.Context(), m.viewer, key, "rust.png", 1, "thumb-7.png")
	testbed.Problem(t, err, model.NotFound)
	if got := strings.Join(kept(), " "); got != "report.json thumb-320.png thumb-96.png" {
		t.Errorf("kept are %s", got)
	}
	for name, width := range map[string]int{"whole.png": 400, "thumb-1280.png": 400} {
		data, err := m.Drawing(t.Context(), m.viewer, key, "rust.png", 1, name)
		if c, bad := png.DecodeConfig(bytes.NewReader(data)); err != nil || bad != nil || c.Width != width {
			t.Errorf("%s: %+v, %v, %v", name, c, err, bad)
		}
	}
	_, err = m.Drawing(t.Context(), m.viewer, key, "rust.png", 1, "mesh.bin")
	testbed.Problem(t, err, model.NotFound)

	wrote := 0
	small320, _ := filepath.Glob(filepath.Join(m.Looks, "*", "*", "*", "thumb-320.png"))
	for _, name := range small320 {
		if _, err := os.Stat(filepath.Join(filepath.Dir(name), "whole.png")); err != nil {
			wrote++
			if err := os.WriteFile(filepath.Join(filepath.Dir(name), "whole.png"), []byte("drawn before"), 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	if wrote != 1 {
		t.Errorf("%d folders have what lists show alone, of %d", wrote, len(small320))
	}
	if data, err := m.Drawing(t.Context(), m.viewer, key, "rust.png", 1, "whole.png"); err != nil || string(data) != "drawn before" {
		t.Errorf("%d bytes, %v", len(data), err)
	}
}

// smallDisk has so many bytes free.
type smallDisk struct {
	store.Store
	free atomic.Int64
}

func (d *smallDisk) Free(context.Context) (int64, error) { return d.free.Load(), nil }

// The last room is for what people send, not for pictures: old ones go, new ones are refused, and everything else goes on.
func TestPicturesLeaveRoom(t *testing.T) {
	directory, err := store.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	disk := &smallDisk{Store: directory}
	disk.free.Store(1 << 40)
	m := newTeam(t, disk)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "rust.png", 0, 0, string(scene.Albedo("rust", 96, 0))),
		m.change(m.tamsin, "fog.png", 0, 0, string(scene.Albedo("fog", 96, 0)))))
	if _, err := m.Look(t.Context(), m.viewer, key, "rust.png", 1); err != nil {
		t.Fatal(err)
	}
	disk.free.Store(20 << 20)
	_, err = m.Look(t.Context(), m.viewer, key, "fog.png", 1)
	testbed.Problem(t, err, model.DiskFull)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "brine.png", 0, 0, string(scene.Albedo("brine", 96, 0)))))
	disk.free.Store(1 << 40)
	for _, path := range []string{"rust.png", "fog.png", "brine.png"} {
		if look, err := m.Look(t.Context(), m.viewer, key, path, 1); err != nil || look.Trouble != "" {
			t.Errorf("%s: %+v, %v", path, look, err)
		}
	}
}
