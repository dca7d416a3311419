//go:build linux

// These tests run against a PostgreSQL of Debian's packages.

package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// walker is one workspace of the walk, with what the model knows of its folder: the text of every file, as its owner left it or as a
// command that was allowed to change it did.
type walker struct {
	*Workspace
	name  string
	files map[string]string
}

// lineage is all texts that one asset has had, "" for gone.
type lineage struct{ texts []string }

func (l *lineage) newest() string { return l.texts[len(l.texts)-1] }

// walk is three workspaces of one project, and a model of what the service has: which asset is at each path, also where it is gone.
type walk struct {
	t       *testing.T
	r       *rand.Rand
	walkers []*walker
	at      map[string]*lineage
	all     []*lineage
	steps   []string
	moves   int
}

// A random walk of edits, moves, deletions, sends, updates, locks, discards and settlings in three workspaces. Whatever happens: a file
// with an unsent change stays as its owner left it (invariant 5 of the architecture), a send appears whole or not at all (1), no version is
// ever changed (3), and nothing gets out of the workspaces or into what is not an asset (6).
func TestRandomWalk(t *testing.T) {
	p := newPair(t)
	third := p.join("rurik")
	seed := uint64(20261123)
	w := &walk{t: t, r: rand.New(rand.NewPCG(seed, 1)), at: map[string]*lineage{},
		walkers: []*walker{{p.odile, "odile", map[string]string{}}, {p.rurik, "rurik", map[string]string{}},
			{third, "rurik-laptop", map[string]string{}}}}
	for i := range testbed.Steps(350, 1500) {
		w.step()
		for _, k := range w.walkers {
			w.compare(k)
		}
		if t.Failed() {
			t.Fatalf("after step %d, seed %d: %s", i, seed, strings.Join(w.steps[max(0, len(w.steps)-25):], "; "))
		}
	}
	arrived := 0
	for _, l := range w.all {
		arrived += len(l.texts)
	}
	if arrived < testbed.Steps(20, 80) || w.moves < testbed.Steps(2, 4) {
		t.Errorf("only %d versions and %d moves came about: the walk shows little", arrived, w.moves)
	}
	w.versionsStand()
	for _, k := range w.walkers {
		w.tidy(k)
	}
	fresh := &walker{p.join("odile"), "fresh", map[string]string{}}
	w.tidy(fresh)
}

func (w *walk) path() string {
	if w.r.IntN(3) == 0 {
		return fmt.Sprintf("moved/%d.bin", w.r.IntN(9))
	}
	return []string{"a.png", "b.png", "levels/c.glb", "levels/d.glb", "levels/deep/e.wav", "sounds/f.wav"}[w.r.IntN(6)]
}

func (w *walk) note(k *walker, format string, args ...any) {
	w.steps = append(w.steps, k.name+" "+fmt.Sprintf(format, args...))
}

// refused tells a refusal, which is a legal answer, from a fault, which is not.
func (w *walk) refused(err error) bool {
	var refused *model.Refused
	var problem *model.Problem
	if err == nil {
		return false
	}
	if !errors.As(err, &refused) && !errors.As(err, &problem) {
		w.t.Errorf("a fault: %v", err)
	}
	return true
}

// compare holds the folder to the model: every file is there as it should be, and no other.
func (w *walk) compare(k *walker) {
	got := map[string]string{}
	_ = filepath.WalkDir(k.Root, func(full string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasPrefix(d.Name(), ".tarn-") {
			return nil
		}
		rel, _ := filepath.Rel(k.Root, full)
		text, _ := os.ReadFile(full)
		got[filepath.ToSlash(rel)] = string(text)
		return nil
	})
	for path, text := range k.files {
		if mine, there := got[path]; !there || mine != text {
			w.t.Errorf("%s: %s is %q, and should be %q", k.name, path, mine, text)
		}
	}
	for path := range got {
		if _, known := k.files[path]; !known {
			w.t.Errorf("%s: there is a file %s that nobody put there", k.name, path)
		}
	}
}

func (w *walk) step() {
	k, path, ctx := w.walkers[w.r.IntN(3)], w.path(), w.t.Context()
	switch w.r.IntN(26) {
	case 0, 1, 2:
		text := fmt.Sprintf("%s of %s %d", path, k.name, w.r.Uint32())
		w.note(k, "edits %s", path)
		write(w.t, k.Workspace, path, text)
		k.files[path] = text
	case 3:
		w.note(k, "deletes %s", path)
		_ = os.Remove(filepath.Join(k.Root, filepath.FromSlash(path)))
		delete(k.files, path)
	case 4:
		w.move(k, path, w.path(), false)
	case 5:
		w.move(k, path, w.path(), true)
	case 6, 7:
		_, err := k.Lock(ctx, []string{path}, LockOptions{})
		w.note(k, "locks %s: %v", path, err)
		w.refused(err)
	case 8:
		_, err := k.Unlock(ctx, []string{path}, false, "")
		w.note(k, "unlocks %s: %v", path, err)
		w.refused(err)
	case 9, 10:
		w.send(k, path)
	case 11, 12:
		w.update(k)
	case 13:
		if w.r.IntN(3) == 0 {
			w.discard(k, path)
		}
	case 14:
		w.settle(k, path)
	case 15:
		err := k.Refresh(ctx)
		w.note(k, "asks: %v", err)
		w.refused(err)
	case 16:
		locked, err := k.Client.Locks(ctx, key)
		if w.refused(err) || len(locked.Locks) == 0 {
			return
		}
		// A lead's override, now and then, so that locks do not end the walk.
		_, err = w.walkers[0].Unlock(ctx, []string{locked.Locks[0].Path}, true, "the walk goes on")
		w.note(w.walkers[0], "overrides %s: %v", locked.Locks[0].Path, err)
		w.refused(err)
	default: // what a person means to do
		if w.r.IntN(3) == 0 {
			w.discard(k, "")
		}
		w.update(k)
		to := path
		if live := w.live(k); w.r.IntN(2) == 0 && len(live) > 0 {
			path = live[w.r.IntN(len(live))]
			for try := 0; try < 5 && (to == path || w.at[to] != nil && w.at[to].newest() != ""); try++ {
				to = w.path()
			}
		}
		_, err := k.Lock(ctx, []string{path}, LockOptions{})
		w.note(k, "locks %s: %v", path, err)
		w.refused(err)
		if to != path {
			w.move(k, path, to, w.r.IntN(2) == 0)
			path = to
		}
		if w.r.IntN(3) > 0 {
			text := fmt.Sprintf("%s of %s %d", path, k.name, w.r.Uint32())
			write(w.t, k.Workspace, path, text)
			k.files[path] = text
		}
		w.send(k, path)
	}
}

// live are the files here that are assets.
func (w *walk) live(k *walker) (out []string) {
	for p := range k.files {
		if l := w.at[p]; l != nil && l.newest() != "" {
			out = append(out, p)
		}
	}
	sort.Strings(out)
	return out
}

// move moves a file, by the command or behind its back.
func (w *walk) move(k *walker, from, to string, command bool) {
	text, there := k.files[from]
	if _, taken := k.files[to]; !there || taken {
		return
	}
	var err error
	if command {
		_, err = k.Move(w.t.Context(), from, to)
	} else if err = os.MkdirAll(filepath.Dir(filepath.Join(k.Root, to)), 0o755); err == nil {
		err = os.Rename(filepath.Join(k.Root, from), filepath.Join(k.Root, to))
	}
	w.note(k, "moves %s to %s (%v): %v", from, to, command, err)
	if w.refused(err) {
		return
	}
	delete(k.files, from)
	k.files[to] = text
}

func (w *walk) send(k *walker, path string) {
	o := SendOptions{About: model.About{Note: "walked"}, WithGone: w.r.IntN(2) == 0, KeepLocks: w.r.IntN(3) == 0}
	if w.r.IntN(3) > 0 {
		o.Paths = []string{path}
	}
	sent, err := k.Send(w.t.Context(), o)
	w.note(k, "sends %v: %v", o.Paths, err)
	if w.refused(err) || sent.Handoff == nil {
		return
	}
	before := map[string]*lineage{}
	for path, l := range w.at {
		before[path] = l
	}
	for _, a := range sent.Handoff.Assets {
		if a.MovedFrom != "" && w.at[a.MovedFrom] == before[a.MovedFrom] {
			delete(w.at, a.MovedFrom)
		}
	}
	for _, a := range sent.Handoff.Assets {
		l := before[a.Path]
		if a.MovedFrom != "" {
			l = before[a.MovedFrom]
			w.moves++
		}
		if l == nil || a.MovedFrom == "" && l != nil && w.at[a.Path] == nil {
			l = &lineage{}
			w.all = append(w.all, l)
		}
		l.texts = append(l.texts, k.files[a.Path])
		w.at[a.Path] = l
		if a.Version != len(l.texts) {
			w.t.Errorf("%s is version %d, and the model has %d", a.Path, a.Version, len(l.texts))
		}
		if (a.Change == model.Gone) != (l.newest() == "") {
			w.t.Errorf("%s is %s, and the model has %q", a.Path, a.Change, l.newest())
		}
	}
}

// known tells whether a text was sent at some time.
func (w *walk) known(text string) bool {
	for _, l := range w.all {
		for _, t := range l.texts {
			if t == text {
				return true
			}
		}
	}
	return false
}

func (w *walk) update(k *walker) {
	u, err := k.Update(w.t.Context(), UpdateOptions{})
	w.note(k, "updates: %v", err)
	if w.refused(err) {
		return
	}
	for _, a := range u.Moved {
		k.files[a.Path] = k.files[a.MovedFrom]
		delete(k.files, a.MovedFrom)
	}
	w.came(k, append(append([]model.Asset{}, u.Removed...), u.Brought...))
}

// came notes what a command brought or took away. A file that was moved here and not sent yet gets the newest at its new place.
func (w *walk) came(k *walker, assets []model.Asset) {
	for _, a := range assets {
		path := a.Path
		s, err := k.Status(w.t.Context(), Question{All: true})
		if err != nil {
			w.t.Fatal(err)
		}
		if to := s.places[path]; to != "" {
			path = to
		}
		if a.Gone {
			if mine, there := k.files[path]; there && !w.known(mine) {
				w.t.Errorf("%s: an unsent change of %s was removed", k.name, path)
			}
			delete(k.files, path)
			continue
		}
		text, err := os.ReadFile(filepath.Join(k.Root, filepath.FromSlash(path)))
		if err != nil || !w.known(string(text)) {
			w.t.Errorf("%s: what came for %s is %q, %v", k.name, path, text, err)
		}
		if mine, there := k.files[path]; there && mine != string(text) && !w.known(mine) {
			w.t.Errorf("%s: an unsent change of %s was replaced", k.name, path)
		}
		k.files[path] = string(text)
	}
}

func (w *walk) discard(k *walker, path string) {
	d, err := k.Discard(w.t.Context(), []string{path})
	w.note(k, "discards %s: %v", path, err)
	if w.refused(err) {
		return
	}
	for _, kept := range d.PutAway {
		text, err := os.ReadFile(filepath.Join(k.folder.PutAwayFolder(), kept.ID, "file"))
		if mine, there := k.files[kept.Path]; err != nil || !there || string(text) != mine {
			w.t.Errorf("%s: put away is %q, %v; want %q", k.name, text, err, mine)
		}
		delete(k.files, kept.Path)
	}
	for _, a := range d.Restored {
		text, err := os.ReadFile(filepath.Join(k.Root, filepath.FromSlash(a.Path)))
		if err != nil || !w.known(string(text)) {
			w.t.Errorf("%s: %s came back as %q, %v", k.name, a.Path, text, err)
		}
		for other, mine := range k.files { // a mere move went back
			if _, err := os.Lstat(filepath.Join(k.Root, filepath.FromSlash(other))); err != nil && mine == string(text) {
				delete(k.files, other)
			}
		}
		k.files[a.Path] = string(text)
	}
}

func (w *walk) settle(k *walker, path string) {
	use := []string{UseMine, UseTheirs, UseBoth}[w.r.IntN(3)]
	s, err := k.Settle(w.t.Context(), path, use)
	w.note(k, "settles %s with %s: %v", path, use, err)
	if w.refused(err) {
		return
	}
	if s.Beside != "" {
		text, _ := os.ReadFile(filepath.Join(k.Root, filepath.FromSlash(s.Beside)))
		if !w.known(string(text)) {
			w.t.Errorf("%s: beside %s is %q", k.name, path, text)
		}
		// It is looked at and thrown away, so that the walk keeps to its paths.
		_ = os.Remove(filepath.Join(k.Root, filepath.FromSlash(s.Beside)))
	}
	if use == UseTheirs {
		if s.PutAway != nil {
			delete(k.files, s.PutAway.Path)
		}
		if !s.Theirs.Gone {
			w.came(k, []model.Asset{s.Theirs})
		}
	}
}

// versionsStand reads every version back.
func (w *walk) versionsStand() {
	for path, l := range w.at {
		h, err := w.walkers[0].Client.Asset(w.t.Context(), key, "", path)
		if err != nil || len(h.Versions) != len(l.texts) {
			w.t.Errorf("%s has %d versions, %v; the model has %d", path, len(h.Versions), err, len(l.texts))
			continue
		}
		for _, v := range h.Versions {
			if want := l.texts[v.Version-1]; v.Gone != (want == "") || !v.Gone && v.Size != int64(len(want)) {
				w.t.Errorf("%s@v%d is not what was sent: %+v", path, v.Version, v)
			}
		}
	}
}

// tidy puts every local change away and brings the newest: the folder is then what the service has.
func (w *walk) tidy(k *walker) {
	for range 2 { // what is discarded goes back to what this workspace knew, and a file may stand where another one belongs
		if _, err := k.Discard(w.t.Context(), []string{""}); err != nil {
			w.t.Error(err)
		}
		if u, err := k.Update(w.t.Context(), UpdateOptions{}); err != nil || len(u.Refusals) > 0 {
			w.t.Errorf("%s: %+v, %v", k.name, u, err)
		}
	}
	k.files = map[string]string{}
	for path, l := range w.at {
		if text := l.newest(); text != "" {
			k.files[path] = text
		}
	}
	w.compare(k)
	if got := states(w.t, k.Workspace); got != "" {
		paths := make([]string, 0, len(k.files))
		for p := range k.files {
			paths = append(paths, p)
		}
		sort.Strings(paths)
		w.t.Errorf("%s is %s in the end; the service has %v", k.name, got, paths)
	}
}
