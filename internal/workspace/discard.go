package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"kettletarn/internal/core/model"
)

// KeepDays is how long what was put away is kept.
const KeepDays = 14

// PutAway is a file that discard put away.
type PutAway struct {
	ID      string    `json:"id"`
	Path    string    `json:"path"`
	Size    int64     `json:"size"`
	At      time.Time `json:"at"`
	Version int       `json:"version"`
	Exec    bool      `json:"executable,omitempty"`
}

func (w *Workspace) keepFolder() string { return filepath.Join(w.state, "put-away") }

// Discarded is what a discard did.
type Discarded struct {
	PutAway  []PutAway       `json:"put_away"`
	Restored []model.Asset   `json:"brought"`
	Refusals []model.Refusal `json:"refusals"`
}

// Discard puts the local changes at or below the paths away, outside the folder, and brings back what was there: the newest version
// where that is known, for a new file nothing.
func (w *Workspace) Discard(ctx context.Context, paths []string) (*Discarded, error) {
	s, err := w.Status(ctx)
	if err != nil {
		return nil, err
	}
	w.expire()
	out := &Discarded{PutAway: []PutAway{}, Restored: []model.Asset{}, Refusals: []model.Refusal{}}
	assets, missing := Within(s.Assets, paths)
	for _, p := range missing {
		out.Refusals = append(out.Refusals, model.Refusal{Path: p, Reason: "unknown", Message: p + ": there is nothing of that name", Remedy: "check the spelling"})
	}
	var bring []wanted
	for _, a := range assets {
		if a.State == model.Same || a.State == model.Behind {
			continue
		}
		theirs, known := s.newest[a.Path]
		if _, there := s.found.Files[a.Path]; there {
			kept, err := w.putAway(a.Path, a.Version, s.found.Files[a.Path].Executable)
			if err != nil {
				out.Refusals = append(out.Refusals, model.Refusal{Path: a.Path, Reason: "in-the-way", Message: fmt.Sprintf("%s: it can't be put away: %s", a.Path, rootCause(err)), Remedy: "close the program that holds it, then run the command again"})
				continue
			}
			out.PutAway = append(out.PutAway, kept)
		}
		if err := w.update(func(t indexTx) error {
			if err := t.dropCut(a.Path); err != nil {
				return err
			}
			return t.dropBase(a.Path)
		}); err != nil {
			return out, err
		}
		if known && !theirs.Gone {
			bring = append(bring, wanted{asset: theirs})
		}
	}
	refusals, err := w.bring(ctx, bring, func(a model.Asset) { out.Restored = append(out.Restored, a) })
	out.Refusals = append(out.Refusals, refusals...)
	return out, err
}

func (w *Workspace) putAway(path string, version int, exec bool) (PutAway, error) {
	at := now()
	p := PutAway{Path: path, At: at, Version: version, Exec: exec}
	if err := os.MkdirAll(w.keepFolder(), 0o700); err != nil {
		return p, err
	}
	folder, err := os.MkdirTemp(w.keepFolder(), at.Format("20060102-150405-"))
	if err != nil {
		return p, err
	}
	p.ID = filepath.Base(folder)
	from := filepath.Join(w.Root, filepath.FromSlash(path))
	info, err := os.Lstat(from)
	if err != nil {
		return p, err
	}
	p.Size = info.Size()
	about, err := json.Marshal(p)
	if err != nil {
		return p, err
	}
	if err := os.WriteFile(filepath.Join(folder, "about.json"), about, 0o600); err != nil {
		return p, err
	}
	if err := move(from, filepath.Join(folder, "file")); err != nil {
		_ = os.RemoveAll(folder)
		return p, err
	}
	return p, nil
}

// move renames, or copies where the two are on different file systems. The copy is whole before the first is removed.
func move(from, to string) error {
	if err := os.Rename(from, to); err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return err
	}
	if err := copyFile(from, to); err != nil {
		_ = os.Remove(to)
		return err
	}
	return os.Remove(from)
}

func copyFile(from, to string) (err error) {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	if _, err = io.Copy(out, in); err == nil {
		err = out.Sync()
	}
	if closed := out.Close(); err == nil {
		err = closed
	}
	return err
}

// Kept lists what was put away, the newest first.
func (w *Workspace) Kept() ([]PutAway, error) {
	entries, err := os.ReadDir(w.keepFolder())
	if errors.Is(err, fs.ErrNotExist) {
		return []PutAway{}, nil
	}
	list := []PutAway{}
	for _, e := range entries {
		var p PutAway
		about, err := os.ReadFile(filepath.Join(w.keepFolder(), e.Name(), "about.json"))
		if err != nil || json.Unmarshal(about, &p) != nil || p.ID != e.Name() {
			continue
		}
		list = append(list, p)
	}
	sort.Slice(list, func(i, j int) bool { return list[i].At.After(list[j].At) })
	return list, err
}

// Restore brings put-away files back, named by path (the latest of that name) or id, over what is there now, which is put away in
// its turn where it has changes.
func (w *Workspace) Restore(ctx context.Context, names []string) ([]PutAway, error) {
	list, err := w.Kept()
	if err != nil {
		return nil, err
	}
	s, err := w.Status(ctx)
	if err != nil {
		return nil, err
	}
	state := map[string]model.Asset{}
	for _, a := range s.Assets {
		state[a.Path] = a
	}
	restored := []PutAway{}
	for _, name := range names {
		var hit *PutAway
		for i := range list {
			if list[i].Path == name || list[i].ID == strings.TrimSuffix(name, "/") || strings.HasSuffix(name, "/"+list[i].ID) {
				hit = &list[i]
				break
			}
		}
		if hit == nil {
			return restored, model.NewProblem(model.NotFound, "see tarn discard --list", "nothing named %s was put away", name)
		}
		target := filepath.Join(w.Root, filepath.FromSlash(hit.Path))
		if a, ok := state[hit.Path]; ok && here(s, hit.Path) {
			if a.State == model.Same || a.State == model.Behind {
				err = os.Remove(target)
			} else {
				_, err = w.putAway(hit.Path, a.Version, s.found.Files[hit.Path].Executable)
			}
			if err != nil {
				return restored, err
			}
		}
		if err := w.safeFolder(hit.Path); err != nil {
			return restored, err
		}
		if err := move(filepath.Join(w.keepFolder(), hit.ID, "file"), target); err != nil {
			return restored, err
		}
		if hit.Exec {
			_ = os.Chmod(target, 0o755)
		}
		if err := os.RemoveAll(filepath.Join(w.keepFolder(), hit.ID)); err != nil {
			return restored, err
		}
		restored = append(restored, *hit)
	}
	return restored, nil
}

// expire removes what has been put away long enough.
func (w *Workspace) expire() {
	list, err := w.Kept()
	if err != nil {
		return
	}
	for _, p := range list {
		if now().Sub(p.At) > KeepDays*24*time.Hour {
			_ = os.RemoveAll(filepath.Join(w.keepFolder(), p.ID))
		}
	}
}
