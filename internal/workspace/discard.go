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
// where that is known, for a new file nothing. A file that was only moved goes back to its place.
func (w *Workspace) Discard(ctx context.Context, paths []string) (*Discarded, error) {
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return nil, err
	}
	w.expire()
	out := &Discarded{PutAway: []PutAway{}, Restored: []model.Asset{}, Refusals: []model.Refusal{}}
	assets, missing := Within(s.Assets, paths)
	for _, p := range missing {
		out.Refusals = append(out.Refusals, model.Refusal{Path: p, Reason: "unknown", Message: p + ": there is nothing of that name", Remedy: "check the spelling"})
	}
	if out.Refusals = append(out.Refusals, w.notSending(assets)...); len(out.Refusals) > len(missing) {
		return out, &model.Refused{Refusals: out.Refusals}
	}
	var bring []wanted
	for _, a := range assets {
		if !Changed(a) {
			continue
		}
		theirs := s.theirsOf(a)
		o := s.origin(a.Path)
		if a.MovedFrom != "" && (a.State == model.Same || a.State == model.Behind) && w.free(a.MovedFrom) {
			if err := w.moveBack(a); err != nil {
				out.Refusals = append(out.Refusals, cantPutAway(a.Path, err))
				continue
			}
			out.Restored = append(out.Restored, theirs)
			continue
		}
		if file, there := s.file(a.Path); there {
			kept, err := w.putAway(a.Path, a.Version, file.Executable)
			if err != nil {
				out.Refusals = append(out.Refusals, cantPutAway(a.Path, err))
				continue
			}
			out.PutAway = append(out.PutAway, kept)
		}
		if err := w.update(func(t indexTx) error {
			if err := t.dropCut(a.Path); err != nil {
				return err
			}
			if err := t.dropMove(a.Path); err != nil {
				return err
			}
			return t.dropBase(theirs.Path)
		}); err != nil {
			return out, err
		}
		if o != nil && o.known && !o.theirs.gone {
			bring = append(bring, wanted{asset: theirs, place: theirs.Path})
		}
	}
	refusals, err := w.bring(ctx, bring, nil, func(f wanted) { out.Restored = append(out.Restored, f.asset) })
	out.Refusals = append(out.Refusals, refusals...)
	if err != nil {
		return out, err
	}
	return out, w.guardAll(out.Restored)
}

func cantPutAway(path string, err error) model.Refusal {
	return model.Refusal{Path: path, Reason: "in-the-way", Message: fmt.Sprintf("%s: it can't be put away: %s", path, rootCause(err)), Remedy: "close the program that holds it, then run the command again"}
}

// free reports whether nothing stands at a path.
func (w *Workspace) free(path string) bool {
	_, err := w.root.Lstat(filepath.FromSlash(path))
	return errors.Is(err, fs.ErrNotExist)
}

// moveBack takes a move back.
func (w *Workspace) moveBack(a model.Asset) error {
	if err := w.safeFolder(a.MovedFrom); err != nil {
		return err
	}
	if err := w.rename(a.Path, a.MovedFrom); err != nil {
		return err
	}
	return w.update(func(t indexTx) error { return t.dropMove(a.Path) })
}

func (w *Workspace) putAway(path string, version int, exec bool) (PutAway, error) {
	return w.putAwayFrom(filepath.FromSlash(path), path, version, exec)
}

// putAwayFrom puts the file from, below the root, away as that of path.
func (w *Workspace) putAwayFrom(from, path string, version int, exec bool) (PutAway, error) {
	return w.keep(filepath.Join(w.Root, from), path, version, exec)
}

// keep puts any file away as that of path.
func (w *Workspace) keep(from, path string, version int, exec bool) (PutAway, error) {
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
	s, err := w.Status(ctx, Question{All: true})
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
		if file, there := s.file(hit.Path); there {
			if a := state[hit.Path]; a.State == model.Same || a.State == model.Behind {
				err = os.Remove(target)
			} else {
				_, err = w.putAway(hit.Path, a.Version, file.Executable)
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
