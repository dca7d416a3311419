//go:build linux

package workspace

import (
	"os"
	"path/filepath"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// apart makes a branch at the service, from the newest of main.
func (p *pair) apart(name string) {
	p.t.Helper()
	if _, err := p.odile.Client.AddBranch(p.t.Context(), p.odile.Marker.Project, model.BranchRequest{Name: name}); err != nil {
		p.t.Fatal(err)
	}
}

func goTo(t *testing.T, w *Workspace, branch string) *Updated {
	t.Helper()
	u, err := w.Switch(t.Context(), branch)
	if err != nil {
		t.Fatal(err)
	}
	if on, err := w.Branch(); err != nil || on != branch {
		t.Fatalf("it is on %s, %v", on, err)
	}
	return u
}

func TestSwitchingBetweenBranches(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a.png", "one")
	write(t, p.odile, "b.png", "one")
	write(t, p.odile, "deep/c.png", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	p.apart("second/chapter")
	if u := goTo(t, p.odile, "second/chapter"); len(u.Brought)+len(u.Removed) != 0 {
		t.Errorf("a branch that has nothing of its own brought %+v", u)
	}
	locked(t, p.odile, "a.png", "deep/c.png")
	write(t, p.odile, "a.png", "two on the branch")
	write(t, p.odile, "new.png", "new on the branch")
	if err := os.Remove(filepath.Join(p.odile.Root, "deep", "c.png")); err != nil {
		t.Fatal(err)
	}
	if out := send(t, p.odile, SendOptions{WithGone: true}); out.Handoff.Branch != "second/chapter" {
		t.Errorf("it was handed off on %s", out.Handoff.Branch)
	}
	// main has nothing of it.
	if u := update(t, p.rurik); len(u.Brought)+len(u.Removed) != 0 {
		t.Errorf("main got %+v", u)
	}
	has(t, p.rurik, "a.png", "one")
	// Unsent changes to what is the same on both go along; a switch that others stand in the way of does nothing.
	write(t, p.odile, "b.png", "edited, not sent")
	if u := goTo(t, p.odile, "main"); len(u.Refusals)+len(u.Clashes) != 0 {
		t.Errorf("%+v", u)
	}
	has(t, p.odile, "a.png", "one")
	has(t, p.odile, "b.png", "edited, not sent")
	has(t, p.odile, "deep/c.png", "one")
	if _, err := os.Stat(filepath.Join(p.odile.Root, "new.png")); err == nil {
		t.Error("what the branch has is on main")
	}
	if got := states(t, p.odile); got != "b.png edited" {
		t.Errorf("states are %q", got)
	}
	write(t, p.odile, "a.png", "edited on main")
	write(t, p.odile, "new.png", "another new one")
	_, err := p.odile.Switch(t.Context(), "second/chapter")
	refusals := testbed.Refused(t, err)
	if len(refusals) != 2 || refusals[0].Path != "a.png" || refusals[1].Path != "new.png" || refusals[0].Remedy == "" {
		t.Errorf("%+v", refusals)
	}
	if on, _ := p.odile.Branch(); on != "main" {
		t.Errorf("it is on %s", on)
	}
	has(t, p.odile, "a.png", "edited on main")
	for _, path := range []string{"a.png", "new.png"} {
		if _, err := p.odile.Discard(t.Context(), []string{path}); err != nil {
			t.Fatal(err)
		}
	}
	goTo(t, p.odile, "second/chapter")
	has(t, p.odile, "a.png", "two on the branch")
	has(t, p.odile, "b.png", "edited, not sent")
	if got := states(t, p.odile); got != "b.png edited" {
		t.Errorf("states are %q", got)
	}
	// A teammate joins them there.
	if u := goTo(t, p.rurik, "second/chapter"); len(u.Brought) != 2 || len(u.Removed) != 1 {
		t.Errorf("%+v", u)
	}
	has(t, p.rurik, "new.png", "new on the branch")
	if _, err := p.rurik.Switch(t.Context(), "nowhere"); err == nil {
		t.Error("a branch that is not there is switched to")
	}
}

// TestASendIsForTheBranchThatTheWorkspaceIsOn: whatever the service was told last.
func TestASendIsForTheBranchThatTheWorkspaceIsOn(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a.png", "one")
	send(t, p.odile, SendOptions{})
	p.apart("apart")
	view, err := p.odile.view()
	if err != nil {
		t.Fatal(err)
	}
	// As if a switch had been killed right after it told the service.
	view.Branch = "apart"
	if err := p.odile.Client.DescribeWorkspace(t.Context(), p.odile.Marker.Project, p.odile.Marker.Workspace, p.odile.told(view)); err != nil {
		t.Fatal(err)
	}
	write(t, p.odile, "b.png", "meant for main")
	if out := send(t, p.odile, SendOptions{}); out.Handoff.Branch != model.FirstBranch {
		t.Errorf("it was handed off on %s", out.Handoff.Branch)
	}
}

// What comes lies in folders: what stands in the way is found there, also where it was moved out of them, spelled otherwise, or is new;
// what lies elsewhere goes along.
func TestWhatStandsInTheWayOfASwitchIsFoundInFolders(t *testing.T) {
	for name, c := range map[string]struct {
		do   func(t *testing.T, w *Workspace)
		want string
	}{
		"edited": {func(t *testing.T, w *Workspace) { write(t, w, "levels/quay.glb", "edited") }, "levels/quay.glb"},
		"deleted": {func(t *testing.T, w *Workspace) {
			if err := os.Remove(filepath.Join(w.Root, "levels", "quay.glb")); err != nil {
				t.Fatal(err)
			}
		}, "levels/quay.glb"},
		"moved out": {func(t *testing.T, w *Workspace) {
			write(t, w, "other/here.glb", "x")
			if err := os.Rename(filepath.Join(w.Root, "levels", "quay.glb"), filepath.Join(w.Root, "other", "here.glb")); err != nil {
				t.Fatal(err)
			}
		}, "levels/quay.glb"},
		"moved out, as said": {func(t *testing.T, w *Workspace) {
			if _, err := w.Move(t.Context(), "levels/quay.glb", "other/here.glb"); err != nil {
				t.Fatal(err)
			}
		}, "other/here.glb"},
		"new there, too":   {func(t *testing.T, w *Workspace) { write(t, w, "levels/new.glb", "mine") }, "levels/new.glb"},
		"in other letters": {func(t *testing.T, w *Workspace) { write(t, w, "levels/NEW.glb", "mine") }, "levels/NEW.glb"},
		"elsewhere":        {func(t *testing.T, w *Workspace) { write(t, w, "textures/rust.png", "edited") }, ""},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPair(t)
			write(t, p.odile, "levels/quay.glb", "a quay that is long enough to be known again")
			write(t, p.odile, "textures/rust.png", "rust")
			send(t, p.odile, SendOptions{})
			p.apart("storm")
			update(t, p.rurik)
			goTo(t, p.odile, "storm")
			locked(t, p.odile, "levels/quay.glb")
			write(t, p.odile, "levels/quay.glb", "the quay after the storm")
			write(t, p.odile, "levels/new.glb", "new")
			send(t, p.odile, SendOptions{})
			c.do(t, p.rurik)
			_, err := p.rurik.Switch(t.Context(), "storm")
			if c.want == "" {
				if err != nil {
					t.Fatal(err)
				}
				has(t, p.rurik, "textures/rust.png", "edited")
				has(t, p.rurik, "levels/quay.glb", "the quay after the storm")
				return
			}
			if refusals := testbed.Refused(t, err); len(refusals) != 1 || refusals[0].Path != c.want {
				t.Errorf("%+v", refusals)
			}
			if on, _ := p.rurik.Branch(); on != "main" {
				t.Errorf("it is on %s", on)
			}
		})
	}
}

// A switch looks only where something comes: what is known to be newer elsewhere comes, too, what has changes elsewhere stays as it is, and
// the count of what is the same is of the whole.
func TestASwitchLooksOnlyWhereSomethingComes(t *testing.T) {
	p := newPair(t)
	for _, name := range []string{"a/1.png", "a/2.png", "b/1.png", "c/1.png", "c/2.png"} {
		write(t, p.odile, name, "one")
	}
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	p.apart("level")
	if u := goTo(t, p.rurik, "level"); len(u.Brought)+len(u.Removed) != 0 || u.Same != 5 {
		t.Errorf("a branch that has nothing of its own: %+v", u)
	}
	goTo(t, p.rurik, model.FirstBranch)
	locked(t, p.odile, "b/1.png")
	write(t, p.odile, "b/1.png", "two")
	send(t, p.odile, SendOptions{})
	if err := p.rurik.Refresh(t.Context()); err != nil {
		t.Fatal(err)
	}
	p.apart("storm")
	goTo(t, p.odile, "storm")
	locked(t, p.odile, "a/1.png")
	write(t, p.odile, "a/1.png", "three")
	send(t, p.odile, SendOptions{})
	write(t, p.rurik, "c/1.png", "not sent")
	u := goTo(t, p.rurik, "storm")
	if len(u.Brought) != 2 || u.Same != 3 {
		t.Errorf("it brought %+v, and %d are the same", u.Brought, u.Same)
	}
	has(t, p.rurik, "a/1.png", "three")
	has(t, p.rurik, "b/1.png", "two")
	has(t, p.rurik, "c/1.png", "not sent")
}
