//go:build linux

package workspace

import (
	"errors"
	"strings"
	"testing"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
)

func TestPatternsNameWhatTheyMatch(t *testing.T) {
	assets := []model.Asset{{Path: "textures/rust-albedo.png"}, {Path: "textures/Rust-Normal.png"}, {Path: "levels/a[1].glb"},
		{Path: "levels/deep/b.glb"}}
	for p, want := range map[string]string{
		"textures":           "textures",
		"textures/rust-*":    "textures/rust-albedo.png textures/Rust-Normal.png",
		"**/*.glb":           "levels/a[1].glb levels/deep/b.glb",
		"levels/*.glb":       "levels/a[1].glb",
		"{levels,textures}":  "{levels,textures}",
		"levels/a[1].glb":    "levels/a[1].glb",
		"nothing/*":          "nothing/*",
		"[":                  "[",
		"textures/*-?lbedo*": "textures/rust-albedo.png",
	} {
		if got := strings.Join(matching(assets, []string{p}), " "); got != want {
			t.Errorf("%s names %q, want %q", p, got, want)
		}
	}
}

func TestWhoWaitsIsKnownWithoutTheService(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	write(t, p.odile, "b", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	locked(t, p.odile, "a")
	if out, err := p.rurik.Lock(t.Context(), []string{"a", "b"}, LockOptions{Wait: true, Note: "a rail"}); err != nil ||
		len(out.Waiting) != 1 || len(out.Locks) != 1 {
		t.Fatalf("%+v, %v", out, err)
	}
	card := func(w *Workspace, path string) model.Asset {
		t.Helper()
		s, err := w.Status(t.Context(), Question{Paths: []string{path}})
		if err != nil || len(s.Assets) != 1 {
			t.Fatalf("%+v, %v", s, err)
		}
		return s.Assets[0]
	}
	if a := card(p.rurik, "a"); a.Lock == nil || len(a.Waiting) != 1 || a.Waiting[0].WorkspaceID != p.rurik.Marker.Workspace ||
		a.Waiting[0].Note != "a rail" {
		t.Errorf("right after: %+v", a)
	}
	// Given back, it is nobody's, and offered; the holder sees that too.
	if _, err := p.odile.Unlock(t.Context(), []string{"a"}, false, ""); err != nil {
		t.Fatal(err)
	}
	for _, w := range []*Workspace{p.odile, p.rurik} {
		if err := w.Refresh(t.Context()); err != nil {
			t.Fatal(err)
		}
		if a := card(w, "a"); a.Lock != nil || a.Holder != "" || len(a.Waiting) != 1 || a.Waiting[0].OfferedUntil == nil {
			t.Errorf("offered: %+v", a)
		}
	}
	if out, err := p.rurik.Unlock(t.Context(), []string{"a", "b"}, false, ""); err != nil || len(out.Left) != 1 || len(out.Freed) != 1 ||
		len(out.Next) != 0 {
		t.Fatalf("%+v, %v", out, err)
	}
	if a := card(p.rurik, "a"); a.Lock != nil || len(a.Waiting) != 0 {
		t.Errorf("after leaving: %+v", a)
	}
	_, err := p.rurik.Unlock(t.Context(), []string{"a"}, false, "")
	var refused *model.Refused
	if !errors.As(err, &refused) || refused.Refusals[0].Reason != "not-locked" {
		t.Errorf("%v", err)
	}
}

func TestAReservedNameIsUsedByItsHolder(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	if out, err := p.odile.Lock(t.Context(), []string{"levels/new.glb"}, LockOptions{Reserve: true}); err != nil || len(out.Locks) != 1 {
		t.Fatalf("%+v, %v", out, err)
	}
	write(t, p.odile, "levels/new.glb", "odile's")
	s, err := p.odile.Status(t.Context(), Question{Paths: []string{"levels/new.glb"}})
	if err != nil || len(s.Assets) != 1 || s.Assets[0].State != model.New || s.Assets[0].Lock == nil {
		t.Errorf("%+v, %v", s, err)
	}
	send(t, p.odile, SendOptions{About: model.About{Note: "the new level"}})
	update(t, p.rurik)
	has(t, p.rurik, "levels/new.glb", "odile's")
	if held, err := p.rurik.Client.Locks(t.Context(), key); err != nil || len(held.Locks) != 0 {
		t.Errorf("%+v, %v", held, err)
	}
}

// Whatever goes wrong while theirs is brought, mine stands where it was.
func TestACopyIsMadeWholeOrNotAtAll(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "sounds/creak.wav", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	write(t, p.rurik, "sounds/creak.wav", "mine")
	whole := p.rurik.Client
	p.rurik.Client = client.New("http://127.0.0.1:1", "", nil)
	if _, err := p.rurik.Settle(t.Context(), "sounds/creak.wav", UseCopy); err == nil {
		t.Error("theirs is brought from nowhere")
	}
	has(t, p.rurik, "sounds/creak.wav", "mine")
	if got := states(t, p.rurik); got != "sounds/creak.wav edited" {
		t.Errorf("states are %q", got)
	}
	p.rurik.Client = whole
	p.rurik.Handle = "rurik"
	out, err := p.rurik.Settle(t.Context(), "sounds/creak.wav", UseCopy)
	if err != nil || out.Beside != "sounds/creak-rurik.wav" {
		t.Fatalf("%+v, %v", out, err)
	}
	has(t, p.rurik, "sounds/creak.wav", "one")
	has(t, p.rurik, "sounds/creak-rurik.wav", "mine")
	if got := states(t, p.rurik); got != "sounds/creak-rurik.wav new" {
		t.Errorf("states are %q", got)
	}
	if _, err := p.rurik.Settle(t.Context(), "sounds/creak.wav", UseCopy); err == nil {
		t.Error("a copy is made of what was not changed")
	}
}
