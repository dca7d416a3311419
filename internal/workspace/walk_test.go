//go:build linux

// These tests run against a PostgreSQL of Debian's packages.

package workspace

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"kettletarn/internal/core/model"
)

// walker is one workspace of the walk, with what the model knows of its folder: the text of every file, as its owner left it or as a
// command that was allowed to change it did.
type walker struct {
	*Workspace
	name  string
	files map[string]string
}

// walk is three workspaces of one project, and a model of what the service has: all texts that each path has had, "" for gone.
type walk struct {
	t       *testing.T
	r       *rand.Rand
	walkers []*walker
	had     map[string][]string
	steps   []string
}

// A random walk of edits, deletions, sends, updates, locks and discards in three workspaces. Whatever happens: a file with an unsent
// change stays as its owner left it (invariant 5), a send appears whole or not at all (1), no version is ever changed (3).
func TestRandomWalk(t *testing.T) {
	p := newPair(t)
	third := p.join("rurik")
	seed := uint64(20260302)
	w := &walk{t: t, r: rand.New(rand.NewPCG(seed, 1)), had: map[string][]string{},
		walkers: []*walker{{p.odile, "odile", map[string]string{}}, {p.rurik, "rurik", map[string]string{}}, {third, "rurik-laptop", map[string]string{}}}}
	for i := range 350 {
		w.step()
		if t.Failed() {
			t.Fatalf("after step %d, seed %d: %s", i, seed, strings.Join(w.steps[max(0, len(w.steps)-12):], "; "))
		}
	}
	arrived := 0
	for _, texts := range w.had {
		arrived += len(texts)
	}
	if arrived < 40 {
		t.Errorf("only %d versions came about: the walk shows little", arrived)
	}
	w.versionsStand()
	for _, k := range w.walkers {
		w.settle(k)
	}
}

func (w *walk) path() string {
	return []string{"a.png", "b.png", "levels/c.glb", "levels/d.glb", "levels/deep/e.wav"}[w.r.IntN(5)]
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

func (w *walk) step() {
	k, path, ctx := w.walkers[w.r.IntN(3)], w.path(), w.t.Context()
	switch w.r.IntN(13) {
	case 0, 1:
		text := fmt.Sprintf("%s of %s %d", path, k.name, w.r.Uint32())
		w.note(k, "edits %s", path)
		write(w.t, k.Workspace, path, text)
		k.files[path] = text
	case 2:
		w.note(k, "deletes %s", path)
		_ = os.Remove(filepath.Join(k.Root, filepath.FromSlash(path)))
		delete(k.files, path)
	case 3, 4:
		_, _, err := k.Lock(ctx, []string{path}, "", false, false)
		w.note(k, "locks %s: %v", path, err)
		w.refused(err)
	case 5:
		_, err := k.Unlock(ctx, []string{path}, false, "")
		w.note(k, "unlocks %s: %v", path, err)
		w.refused(err)
	case 6:
		w.send(k, path)
	case 7:
		w.update(k)
	case 8:
		if w.r.IntN(3) == 0 {
			w.discard(k, path)
		}
	default: // what a person means to do
		w.update(k)
		_, _, err := k.Lock(ctx, []string{path}, "", false, false)
		w.note(k, "locks %s: %v", path, err)
		if !w.refused(err) || len(w.had[path]) == 0 {
			text := fmt.Sprintf("%s of %s %d", path, k.name, w.r.Uint32())
			write(w.t, k.Workspace, path, text)
			k.files[path] = text
			w.send(k, path)
		}
	}
	w.asLeft(k)
}

// asLeft compares the folder with the model.
func (w *walk) asLeft(k *walker) {
	for _, path := range []string{"a.png", "b.png", "levels/c.glb", "levels/d.glb", "levels/deep/e.wav"} {
		data, err := os.ReadFile(filepath.Join(k.Root, filepath.FromSlash(path)))
		want, there := k.files[path]
		if there != (err == nil) || string(data) != want {
			w.t.Errorf("%s: %s has %q, %v; its owner left %q", k.name, path, data, err, want)
		}
	}
}

func (w *walk) send(k *walker, path string) {
	sent, err := k.Send(w.t.Context(), SendOptions{Note: "walk", Paths: []string{path}, WithGone: true, KeepLocks: w.r.IntN(2) == 0})
	w.note(k, "sends %s: %v", path, err)
	if w.refused(err) || sent.Handoff == nil {
		return
	}
	for _, a := range sent.Handoff.Assets {
		w.had[a.Path] = append(w.had[a.Path], k.files[a.Path])
		if a.Version != len(w.had[a.Path]) {
			w.t.Errorf("%s is version %d, and the model has %d", a.Path, a.Version, len(w.had[a.Path]))
		}
	}
}

func (w *walk) update(k *walker) {
	u, err := k.Update(w.t.Context(), UpdateOptions{})
	w.note(k, "updates: %v", err)
	if w.refused(err) {
		return
	}
	for _, a := range append(u.Brought, u.Removed...) {
		texts := w.had[a.Path]
		if text := texts[len(texts)-1]; a.Gone {
			delete(k.files, a.Path)
		} else {
			// What the update brought is the newest; over an unsent change it would show as a difference to the model before.
			if mine, there := k.files[a.Path]; there && mine != text && !contains(texts, mine) {
				w.t.Errorf("%s: the update replaced an unsent change of %s", k.name, a.Path)
			}
			k.files[a.Path] = text
		}
	}
}

func contains(list []string, s string) bool {
	for _, one := range list {
		if one == s {
			return true
		}
	}
	return false
}

func (w *walk) discard(k *walker, path string) {
	mine, there := k.files[path]
	d, err := k.Discard(w.t.Context(), []string{path})
	w.note(k, "discards %s: %v", path, err)
	if w.refused(err) {
		return
	}
	if len(d.PutAway) > 0 {
		kept, err := os.ReadFile(filepath.Join(k.keepFolder(), d.PutAway[0].ID, "file"))
		if err != nil || !there || string(kept) != mine {
			w.t.Errorf("%s: put away is %q, %v; want %q", k.name, kept, err, mine)
		}
		delete(k.files, path)
	}
	for _, a := range d.Restored {
		// What the service last said to this workspace, which may not be the newest.
		k.files[a.Path] = w.had[a.Path][a.Newest-1]
	}
}

// versionsStand reads every version back.
func (w *walk) versionsStand() {
	for path, texts := range w.had {
		h, err := w.walkers[0].Client.Asset(w.t.Context(), key, path)
		if err != nil || len(h.Versions) != len(texts) {
			w.t.Errorf("%s has %d versions, %v; the model has %d", path, len(h.Versions), err, len(texts))
			continue
		}
		for _, v := range h.Versions {
			if want := texts[v.Version-1]; v.Gone != (want == "") || !v.Gone && v.Size != int64(len(want)) {
				w.t.Errorf("%s@v%d is not what was sent: %+v", path, v.Version, v)
			}
		}
	}
}

// settle puts every local change away and brings the newest: the folder is then what the service has.
func (w *walk) settle(k *walker) {
	if _, err := k.Discard(w.t.Context(), []string{""}); err != nil {
		w.t.Error(err)
	}
	if u, err := k.Update(w.t.Context(), UpdateOptions{}); err != nil || len(u.Clashes)+len(u.Refusals) > 0 {
		w.t.Errorf("%s: %+v, %v", k.name, u, err)
	}
	for path, texts := range w.had {
		data, err := os.ReadFile(filepath.Join(k.Root, filepath.FromSlash(path)))
		if want := texts[len(texts)-1]; string(data) != want || (err == nil) != (want != "") {
			w.t.Errorf("%s: %s is %q in the end, want %q", k.name, path, data, want)
		}
	}
}
