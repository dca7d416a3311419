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
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
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

func (w *Workspace) putAwayFolder() string { return filepath.Join(w.state, "put-away") }

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
		out.Refusals = append(out.Refusals, model.Refusal{Path: p, Reason: "unknown", Message: p + ": there is nothing of that name",
			Remedy: "check the spelling"})
	}
	if out.Refusals = append(out.Refusals, w.notSending(assets)...); len(out.Refusals) > len(missing) {
		return out, &model.Refused{Refusals: out.Refusals}
	}
	// What was there is brought first: where the service is away, nothing is put away either.
	var bring []wanted
	for _, a := range assets {
		if o := s.origin(a.Path); Changed(a) && !w.onlyMoved(a) && o != nil && o.Known && !o.Theirs.Gone {
			theirs := s.theirsOf(a)
			bring = append(bring, wanted{asset: theirs, place: theirs.Path})
		}
	}
	bring, bad := w.admitOver(bring, assets)
	list, damaged, err := w.fetch(ctx, bring)
	if err != nil {
		_ = w.root.Remove(incoming)
		return out, err
	}
	out.Refusals = append(append(out.Refusals, bad...), damaged...)
	built := map[string]built{}
	for _, b := range list {
		built[b.asset.Path] = b
	}
	list = list[:0]
	for _, a := range assets {
		if !Changed(a) {
			continue
		}
		theirs := s.theirsOf(a)
		if w.onlyMoved(a) {
			if err := w.moveBack(a); err != nil {
				out.Refusals = append(out.Refusals, cantPutAway(a.Path, err))
				continue
			}
			out.Restored = append(out.Restored, theirs)
			continue
		}
		o := s.origin(a.Path)
		b, whole := built[theirs.Path]
		if o != nil && o.Known && !o.Theirs.Gone && !whole {
			continue // it can't come back, and so nothing goes; the reason is among the refusals
		}
		if file, there := s.file(a.Path); there {
			kept, err := w.putAway(a.Path, a.Version, file.Executable)
			if err != nil {
				out.Refusals = append(out.Refusals, cantPutAway(a.Path, err))
				continue
			}
			out.PutAway = append(out.PutAway, kept)
		}
		if err := w.update(func(t index.Tx) error {
			if err := t.DropCut(a.Path); err != nil {
				return err
			}
			if err := t.DropMove(a.Path); err != nil {
				return err
			}
			return t.DropBase(theirs.Path)
		}); err != nil {
			return out, err
		}
		if whole {
			list = append(list, b)
		}
	}
	refusals, err := w.install(ctx, list, nil, func(f wanted) { out.Restored = append(out.Restored, f.asset) })
	out.Refusals = append(out.Refusals, refusals...)
	if err != nil {
		return out, err
	}
	return out, w.guardAll(out.Restored)
}

// onlyMoved reports whether a move is all that was changed, and can be taken back.
func (w *Workspace) onlyMoved(a model.Asset) bool {
	return a.MovedFrom != "" && (a.State == model.Same || a.State == model.Behind) && w.free(a.MovedFrom)
}

// admitOver is admit for files that come where those of assets go.
func (w *Workspace) admitOver(files []wanted, assets []model.Asset) ([]wanted, []model.Refusal) {
	going := make([]wanted, 0, len(assets))
	for _, a := range assets {
		going = append(going, wanted{place: a.Path})
	}
	return w.admit(files, going)
}

func cantPutAway(path string, err error) model.Refusal {
	return model.Refusal{Path: path, Reason: "in-the-way", Message: fmt.Sprintf("%s: it can't be put away: %s", path, disk.Cause(err)),
		Remedy: "close the program that holds it, then run the command again"}
}

// free reports whether nothing stands at a path.
func (w *Workspace) free(path string) bool {
	_, err := w.root.Lstat(filepath.FromSlash(path))
	return errors.Is(err, fs.ErrNotExist)
}

// moveBack takes a move back.
func (w *Workspace) moveBack(a model.Asset) error {
	if err := w.rename(a.Path, a.MovedFrom); err != nil {
		return err
	}
	return w.update(func(t index.Tx) error { return t.DropMove(a.Path) })
}

// putAway takes the file at a path away, by its name first: a program that saves meanwhile makes a new one.
func (w *Workspace) putAway(path string, version int, exec bool) (PutAway, error) {
	return w.takeAway(filepath.FromSlash(path), path, version, exec)
}

// takeAway puts a file below the root away as that of path. What is killed in between, finishPutAways ends.
func (w *Workspace) takeAway(from, path string, version int, exec bool) (PutAway, error) {
	p, err := w.putAwayPlace(w.full(from), path, version, exec)
	if err != nil {
		return p, err
	}
	folder, aside := filepath.Join(w.putAwayFolder(), p.ID), filepath.Join(incoming, p.ID+putAwaySuffix)
	if err := w.root.MkdirAll(incoming, 0o755); err != nil {
		return p, errors.Join(err, os.RemoveAll(folder))
	}
	defer func() { _ = w.root.Remove(incoming) }()
	if err := w.root.Rename(from, aside); err != nil {
		return p, errors.Join(err, os.RemoveAll(folder))
	}
	if err := move(w.full(aside), filepath.Join(folder, "file")); err != nil {
		if back := disk.MoveNew(w.root, aside, from); back != nil {
			return p, err // it stays aside, and the next command puts it away
		}
		return p, errors.Join(err, os.RemoveAll(folder))
	}
	return p, nil
}

// putAwayPlace makes the place among the put-away files for one that lies at full.
func (w *Workspace) putAwayPlace(full, path string, version int, exec bool) (PutAway, error) {
	at := now()
	p := PutAway{Path: path, At: at, Version: version, Exec: exec}
	if err := os.MkdirAll(w.putAwayFolder(), 0o700); err != nil {
		return p, err
	}
	folder, err := os.MkdirTemp(w.putAwayFolder(), at.Format("20060102-150405-"))
	if err != nil {
		return p, err
	}
	p.ID = filepath.Base(folder)
	info, err := os.Lstat(full)
	if err == nil {
		p.Size = info.Size()
		var about []byte
		if about, err = json.Marshal(p); err == nil {
			err = writeSynced(filepath.Join(folder, "about.json"), about)
		}
	}
	if err != nil {
		return p, errors.Join(err, os.RemoveAll(folder))
	}
	return p, nil
}

// writeSynced writes a small file of the state folder, whole and durable before it has its name.
func writeSynced(name string, text []byte) error {
	f, err := os.OpenFile(name+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if _, err = f.Write(text); err == nil {
		err = f.Sync()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(name+".new", name)
	}
	return err
}

// finishPutAways puts away what a killed command had only taken aside for that.
func (w *Workspace) finishPutAways() {
	entries, err := fs.ReadDir(w.root.FS(), incoming)
	if err != nil {
		return
	}
	for _, e := range entries {
		id, mine := strings.CutSuffix(e.Name(), putAwaySuffix)
		if !mine {
			continue
		}
		folder := filepath.Join(w.putAwayFolder(), id)
		if _, err := os.Lstat(filepath.Join(folder, "about.json")); err != nil {
			continue // of another workspace
		}
		_ = os.Remove(filepath.Join(folder, "file")) // half a copy: the whole one is still here
		_ = move(w.full(filepath.Join(incoming, e.Name())), filepath.Join(folder, "file"))
	}
	_ = w.root.Remove(incoming)
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
	entries, err := os.ReadDir(w.putAwayFolder())
	if errors.Is(err, fs.ErrNotExist) {
		return []PutAway{}, nil
	}
	list := []PutAway{}
	for _, e := range entries {
		var p PutAway
		about, err := os.ReadFile(filepath.Join(w.putAwayFolder(), e.Name(), "about.json"))
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
		if err := w.restoreOne(ctx, s, state[hit.Path], hit); err != nil {
			return restored, err
		}
		restored = append(restored, *hit)
	}
	return restored, nil
}

// restoreOne puts one put-away file in its place: what stands there goes first, put away in its turn where it has changes.
func (w *Workspace) restoreOne(ctx context.Context, s *Status, a model.Asset, hit *PutAway) error {
	if bad := badPlace(hit.Path); bad != nil {
		return &model.Refused{Refusals: []model.Refusal{*bad}}
	}
	if err := w.safeFolder(hit.Path); err != nil {
		return err
	}
	if file, there := s.file(hit.Path); there {
		f := wanted{asset: s.theirsOf(a), place: hit.Path, was: s.standing(hit.Path)}
		if a.State == model.Same || a.State == model.Behind {
			if refusal := w.removeFile(ctx, f); refusal != nil {
				return &model.Refused{Refusals: []model.Refusal{*refusal}}
			}
		} else if _, err := w.putAway(hit.Path, a.Version, file.Executable); err != nil {
			return err
		}
		if err := w.safeFolder(hit.Path); err != nil {
			return err
		}
	}
	kept, part := filepath.Join(w.putAwayFolder(), hit.ID, "file"), filepath.Join(incoming, hit.ID+"-restored")
	if err := w.root.MkdirAll(incoming, 0o755); err != nil {
		return err
	}
	defer func() { _ = w.root.Remove(incoming) }()
	_ = w.root.Remove(part)
	if err := copyFile(kept, w.full(part)); err != nil {
		return noRoom(err)
	}
	if hit.Exec {
		_ = w.root.Chmod(part, 0o755)
	}
	if err := disk.MoveNew(w.root, part, filepath.FromSlash(hit.Path)); err != nil {
		_ = w.root.Remove(part)
		if errors.Is(err, fs.ErrExist) {
			return &model.Refused{Refusals: []model.Refusal{*changedMeanwhile(hit.Path)}}
		}
		return err
	}
	return os.RemoveAll(filepath.Join(w.putAwayFolder(), hit.ID))
}

// expire removes what has been put away long enough.
func (w *Workspace) expire() {
	list, err := w.Kept()
	if err != nil {
		return
	}
	for _, p := range list {
		if now().Sub(p.At) > KeepDays*24*time.Hour {
			_ = os.RemoveAll(filepath.Join(w.putAwayFolder(), p.ID))
		}
	}
}
