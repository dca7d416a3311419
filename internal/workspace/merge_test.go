//go:build linux

package workspace

import (
	"os"
	"path/filepath"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// TestAMergeFromAWorkspace: seen first, written beside to try it, refused over what is unsent here, then done, and brought here.
func TestAMergeFromAWorkspace(t *testing.T) {
	p := newPair(t)
	for _, name := range []string{"a.png", "b.png", "c.png"} {
		write(t, p.odile, name, "one")
	}
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	p.apart("second/chapter")
	goTo(t, p.odile, "second/chapter")
	locked(t, p.odile, "a.png", "b.png")
	write(t, p.odile, "a.png", "two on the branch")
	write(t, p.odile, "b.png", "two on the branch")
	write(t, p.odile, "new.png", "new on the branch")
	write(t, p.odile, "b (second-chapter).png", "was called so before")
	send(t, p.odile, SendOptions{})
	if _, err := p.rurik.Lock(t.Context(), []string{"b.png"}, LockOptions{Diverge: true}); err != nil {
		t.Fatal(err)
	}
	write(t, p.rurik, "b.png", "three on main")
	send(t, p.rurik, SendOptions{})

	plan, _, err := p.rurik.Merge(t.Context(), MergeOptions{From: "second/chapter", Preview: true})
	if err != nil || plan.Count != 3 || plan.Open != 1 || plan.Undecided[0].Path != "b.png" || plan.Handoff != nil {
		t.Fatalf("%+v, %v", plan, err)
	}
	dir := filepath.Join(t.TempDir(), "trial")
	to, err := NewFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := p.rurik.Merge(t.Context(), MergeOptions{From: "second/chapter", To: to}); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"a.png": "two on the branch", "new.png": "new on the branch", "b.png": "three on main",
		"b (second-chapter 2).png": "two on the branch", "b (second-chapter).png": "was called so before"} {
		if text, err := os.ReadFile(filepath.Join(dir, name)); err != nil || string(text) != want {
			t.Errorf("%s has %q, %v", name, text, err)
		}
	}
	has(t, p.rurik, "a.png", "one")
	o := MergeOptions{From: "second/chapter", Decide: []model.Decision{{Pattern: "b.png", Way: model.WayBoth}}, Note: "the bell"}
	write(t, p.rurik, "a.png", "edited here")
	_, _, err = p.rurik.Merge(t.Context(), o)
	if r := testbed.Refused(t, err); len(r) != 1 || r[0].Path != "a.png" || r[0].Reason != "edited" {
		t.Errorf("%+v", r)
	}
	if _, err := p.rurik.Discard(t.Context(), []string{"a.png"}); err != nil {
		t.Fatal(err)
	}
	_, _, err = p.rurik.Merge(t.Context(), MergeOptions{From: "second/chapter"})
	if r := testbed.Refused(t, err); len(r) != 1 || r[0].Reason != "undecided" {
		t.Errorf("%+v", r)
	}
	done, u, err := p.rurik.Merge(t.Context(), o)
	if err != nil || done.Handoff == nil || len(u.Brought) != 5 || done.Handoff.Note != "the bell" {
		t.Fatalf("%+v, %+v, %v", done, u, err)
	}
	for name, want := range map[string]string{"a.png": "two on the branch", "new.png": "new on the branch", "b.png": "three on main",
		"b (second-chapter 2).png": "two on the branch", "b (second-chapter).png": "was called so before", "c.png": "one"} {
		has(t, p.rurik, name, want)
	}
	if got := states(t, p.rurik); got != "" {
		t.Errorf("states are %q", got)
	}
	// The other one, on another branch, got nothing.
	if u := update(t, p.odile); len(u.Brought) != 0 {
		t.Errorf("%+v", u)
	}
	// From there, into the branch that one is not on: nothing comes here.
	done, u, err = p.rurik.Merge(t.Context(), MergeOptions{From: "main", Into: "second/chapter"})
	if err != nil || done.Into != "second/chapter" || len(u.Brought) != 0 {
		t.Errorf("%+v, %+v, %v", done, u, err)
	}
	if u := update(t, p.odile); len(u.Brought) != 2 {
		t.Errorf("%+v", u)
	}
	has(t, p.odile, "b.png", "three on main")
}
