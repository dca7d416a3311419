//go:build linux

package workspace

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/placing"
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
func planned(t *testing.T, p *pair) (list []placing.Built, remove []placing.Wanted) {
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
	if list, _, err = w.way().Fetch(t.Context(), bring); err != nil {
		t.Fatal(err)
	}
	if err := w.folder.Note(list, remove); err != nil {
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
				steps = append(steps, func() error { return w.folder.Disk.Rename(f.Place, placing.AsideName(f)) },
					func() error { return w.folder.Disk.Remove(placing.AsideName(f)) })
			}
			for _, b := range list {
				if b.Wanted.Was != nil {
					steps = append(steps, func() error { return w.folder.Disk.Rename(b.Place, placing.AsideName(b.Wanted)) })
				}
				steps = append(steps, func() error {
					if err := w.folder.SafeFolder(b.Place); err != nil {
						return err
					}
					return w.folder.Disk.Rename(placing.PartName(b.Wanted), b.Place)
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
			if _, err := os.Stat(filepath.Join(w.Root, placing.Incoming)); err == nil {
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
	if err := p.rurik.folder.Disk.Rename("a", placing.AsideName(list[0].Wanted)); err != nil {
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
	if err := p2.rurik.folder.Disk.Rename("a", placing.AsideName(list[0].Wanted)); err != nil {
		t.Fatal(err)
	}
	write(t, p2.rurik, "a", "and saved once more")
	if err := p2.rurik.FinishInterrupted(); err != nil {
		t.Fatal(err)
	}
	has(t, p2.rurik, "a", "and saved once more")
	kept, err := p2.rurik.folder.Kept()
	if err != nil || len(kept) != 1 {
		t.Fatalf("%+v, %v", kept, err)
	}
	if text, _ := os.ReadFile(filepath.Join(p2.rurik.folder.PutAwayFolder(), kept[0].ID, "file")); string(text) != "changed in that moment" {
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
	if _, _, err := p.rurik.way().Fetch(t.Context(), bring); err != nil {
		t.Fatal(err)
	}
	// What was built is not built again.
	before := map[string]os.FileInfo{}
	for _, f := range bring {
		if before[f.Place], err = os.Lstat(filepath.Join(p.rurik.Root, placing.PartName(f))); err != nil {
			t.Fatal(err)
		}
	}
	if list, _, err := p.rurik.way().Fetch(t.Context(), bring); err != nil || len(list) != 20 {
		t.Fatal(len(list), err)
	}
	for _, f := range bring {
		if now, err := os.Lstat(filepath.Join(p.rurik.Root, placing.PartName(f))); err != nil || !os.SameFile(before[f.Place], now) ||
			!now.ModTime().Equal(before[f.Place].ModTime()) {
			t.Errorf("%s was fetched again", f.Place)
		}
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
	if _, err := os.Stat(filepath.Join(p.rurik.Root, placing.Incoming)); err == nil {
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
