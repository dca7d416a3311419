//go:build linux

package workspace

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/index"
)

// newerThere is a pair in which rurik has "one" of each path, and odile has sent "two" since.
func newerThere(t *testing.T, paths ...string) *pair {
	t.Helper()
	p := newPair(t)
	for _, text := range []string{"one", "two"} {
		for _, name := range paths {
			write(t, p.odile, name, text)
		}
		send(t, p.odile, SendOptions{})
		if text == "one" {
			update(t, p.rurik)
			locked(t, p.odile, paths...)
		}
	}
	return p
}

// planned brings an update of rurik's to the point right behind its journal, and gives back its steps.
func planned(t *testing.T, p *pair) (list []built, remove []wanted) {
	t.Helper()
	w := p.rurik
	if err := w.Refresh(t.Context()); err != nil {
		t.Fatal(err)
	}
	s, err := w.Status(t.Context(), Question{})
	if err != nil {
		t.Fatal(err)
	}
	bring, remove := s.plan(s.Assets, newUpdated(), false)
	if list, _, err = w.fetch(t.Context(), bring); err != nil {
		t.Fatal(err)
	}
	if err := w.update(func(tx index.Tx) error {
		for _, b := range list {
			if err := tx.AddStep(b.place, stepOf(b.wanted, false)); err != nil {
				return err
			}
		}
		for _, f := range remove {
			if err := tx.AddStep(f.place, stepOf(f, true)); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return list, remove
}

// TestAnInterruptedApplyIsFinished kills an update after each of its steps on disk in turn.
func TestAnInterruptedApplyIsFinished(t *testing.T) {
	for stop := range 7 {
		t.Run(fmt.Sprintf("after step %d", stop), func(t *testing.T) {
			p := newPair(t)
			write(t, p.odile, "edited", "one")
			write(t, p.odile, "goes", "one")
			send(t, p.odile, SendOptions{})
			update(t, p.rurik)
			locked(t, p.odile, "edited", "goes")
			write(t, p.odile, "edited", "two, and longer")
			write(t, p.odile, "deep/fresh", "fresh")
			if err := os.Remove(filepath.Join(p.odile.Root, "goes")); err != nil {
				t.Fatal(err)
			}
			send(t, p.odile, SendOptions{WithGone: true})
			list, remove := planned(t, p)
			w := p.rurik
			steps := []func() error{}
			for _, f := range remove {
				steps = append(steps, func() error { return w.root.Rename(f.place, asideName(f)) }, func() error { return w.root.Remove(asideName(f)) })
			}
			for _, b := range list {
				if b.wanted.was != nil {
					steps = append(steps, func() error { return w.root.Rename(b.place, asideName(b.wanted)) })
				}
				steps = append(steps, func() error {
					if err := w.safeFolder(b.place); err != nil {
						return err
					}
					return w.root.Rename(partName(b.wanted), b.place)
				})
			}
			if len(steps) != 5 {
				t.Fatalf("there are %d steps", len(steps))
			}
			for _, do := range steps[:min(stop, len(steps))] {
				if err := do(); err != nil {
					t.Fatal(err)
				}
			}
			if stop == 6 {
				// Somebody saved into the place of a file that was moved aside.
				write(t, w, "edited", "rurik was faster")
			}
			if err := w.FinishInterrupted(); err != nil {
				t.Fatal(err)
			}
			if stop == 6 {
				has(t, w, "edited", "rurik was faster")
				if got := states(t, w); got != "edited edited" && got != "edited clash" {
					t.Errorf("states are %q", got)
				}
				return
			}
			if got := states(t, w); got != "" {
				t.Errorf("states are %q", got)
			}
			has(t, w, "edited", "two, and longer")
			has(t, w, "deep/fresh", "fresh")
			if _, err := os.Stat(filepath.Join(w.Root, incoming)); err == nil {
				t.Error("the folder of what comes in is left behind")
			}
			if u := update(t, w); len(u.Brought)+len(u.Removed)+len(u.Refusals) != 0 {
				t.Errorf("not all was done: %+v", u)
			}
		})
	}
}

// TestAnEditMovedAsideComesBack: the kill hit between moving a file aside and looking at it, and the file had been changed.
func TestAnEditMovedAsideComesBack(t *testing.T) {
	p := newerThere(t, "a")
	list, _ := planned(t, p)
	write(t, p.rurik, "a", "changed in that moment")
	if err := p.rurik.root.Rename("a", asideName(list[0].wanted)); err != nil {
		t.Fatal(err)
	}
	if err := p.rurik.FinishInterrupted(); err != nil {
		t.Fatal(err)
	}
	has(t, p.rurik, "a", "changed in that moment")
	// And where something stands in its place by now, it is put away.
	p2 := newerThere(t, "a")
	list, _ = planned(t, p2)
	write(t, p2.rurik, "a", "changed in that moment")
	if err := p2.rurik.root.Rename("a", asideName(list[0].wanted)); err != nil {
		t.Fatal(err)
	}
	write(t, p2.rurik, "a", "and saved once more")
	if err := p2.rurik.FinishInterrupted(); err != nil {
		t.Fatal(err)
	}
	has(t, p2.rurik, "a", "and saved once more")
	kept, err := p2.rurik.Kept()
	if err != nil || len(kept) != 1 {
		t.Fatalf("%+v, %v", kept, err)
	}
	if text, _ := os.ReadFile(filepath.Join(p2.rurik.putAwayFolder(), kept[0].ID, "file")); string(text) != "changed in that moment" {
		t.Errorf("put away is %q", text)
	}
}

func TestAnInterruptedFetchIsTakenUpAgain(t *testing.T) {
	p := newPair(t)
	for i := range 20 {
		write(t, p.odile, fmt.Sprintf("f%d", i), fmt.Sprintf("content %d", i))
	}
	send(t, p.odile, SendOptions{})
	if err := p.rurik.Refresh(t.Context()); err != nil {
		t.Fatal(err)
	}
	s, err := p.rurik.Status(t.Context(), Question{})
	if err != nil {
		t.Fatal(err)
	}
	bring, _ := s.plan(s.Assets, newUpdated(), false)
	if _, _, err := p.rurik.fetch(t.Context(), bring); err != nil {
		t.Fatal(err)
	}
	// What was built is not fetched again: the chunks are asked of nobody.
	run := &fetching{w: p.rurik}
	list, err := p.rurik.manifests(t.Context(), bring)
	if err != nil {
		t.Fatal(err)
	}
	if rest := run.anew(list); len(rest) != 0 || len(run.built) != 20 {
		t.Errorf("%d are fetched again", len(rest))
	}
	// What was built of a version that is old by now goes.
	locked(t, p.odile, "f0")
	write(t, p.odile, "f0", "newer than what was built")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	has(t, p.rurik, "f0", "newer than what was built")
	if got := states(t, p.rurik); got != "" {
		t.Errorf("states are %q", got)
	}
	if _, err := os.Stat(filepath.Join(p.rurik.Root, incoming)); err == nil {
		t.Error("the folder of what comes in is left behind")
	}
}

func TestHeadsUps(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	write(t, p.rurik, "a", "two")
	write(t, p.rurik, "new", "nobody's yet")
	update(t, p.rurik) // tells on the way
	locked(t, p.odile, "a")
	heads, err := p.odile.HeadsUps([]string{"a"})
	if err != nil || len(heads) != 1 || heads[0].Handle != "rurik" || heads[0].State != model.Edited {
		t.Fatalf("%+v, %v", heads, err)
	}
	s, err := p.odile.Status(t.Context(), Question{})
	if err != nil || len(s.Assets) != 1 || len(s.Assets[0].HeadsUp) != 1 {
		t.Errorf("%+v, %v", s.Assets, err)
	}
	if _, err := p.rurik.Discard(t.Context(), []string{"a"}); err != nil {
		t.Fatal(err)
	}
	update(t, p.rurik)
	update(t, p.odile)
	if heads, _ := p.odile.HeadsUps([]string{"a"}); len(heads) != 0 {
		t.Errorf("still: %+v", heads)
	}
	unsent, err := p.odile.Unsent(t.Context(), []string{"a"})
	if err != nil || len(unsent) != 0 {
		t.Errorf("%+v, %v", unsent, err)
	}
	write(t, p.odile, "a", "three")
	if unsent, _ = p.odile.Unsent(t.Context(), []string{""}); len(unsent) != 1 {
		t.Errorf("%+v", unsent)
	}
}
