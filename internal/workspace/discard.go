package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
)

// Discarded is what a discard did.
type Discarded struct {
	PutAway  []placing.PutAway `json:"put_away"`
	Restored []model.Asset     `json:"brought"`
	Refusals []model.Refusal   `json:"refusals"`
}

// Discard puts the local changes at or below the paths away, outside the folder, and brings back what was there: the newest version
// where that is known, for a new file nothing. A file that was only moved goes back to its place.
func (w *Workspace) Discard(ctx context.Context, paths []string) (*Discarded, error) {
	s, err := w.Status(ctx, Question{All: true})
	if err != nil {
		return nil, err
	}
	w.folder.Expire()
	out := &Discarded{PutAway: []placing.PutAway{}, Restored: []model.Asset{}, Refusals: []model.Refusal{}}
	assets, missing := Within(s.Assets, paths)
	for _, p := range missing {
		out.Refusals = append(out.Refusals, model.Refusal{Path: p, Reason: "unknown", Message: p + ": there is nothing of that name",
			Remedy: "check the spelling"})
	}
	if out.Refusals = append(out.Refusals, w.notSending(assets)...); len(out.Refusals) > len(missing) {
		return out, &model.Refused{Refusals: out.Refusals}
	}
	// What was there is brought first: where the service is away, nothing is put away either.
	var bring []placing.Wanted
	for _, a := range assets {
		if o := s.origin(a.Path); Changed(a) && !w.onlyMoved(a) && o != nil && o.Known && !o.Theirs.Gone {
			theirs := s.theirsOf(a)
			bring = append(bring, placing.Wanted{Asset: theirs, Place: theirs.Path})
		}
	}
	bring, bad := w.admitOver(bring, assets)
	list, damaged, err := w.way().Fetch(ctx, bring)
	if err != nil {
		_ = w.folder.Disk.Remove(placing.Incoming)
		return out, err
	}
	out.Refusals = append(append(out.Refusals, bad...), damaged...)
	built := map[string]placing.Built{}
	for _, b := range list {
		built[b.Asset.Path] = b
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
			kept, err := w.folder.PutAway(a.Path, a.Version, file.Executable)
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
	refusals, err := w.folder.Install(ctx, list, nil, func(f placing.Wanted) { out.Restored = append(out.Restored, f.Asset) })
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
func (w *Workspace) admitOver(files []placing.Wanted, assets []model.Asset) ([]placing.Wanted, []model.Refusal) {
	going := make([]placing.Wanted, 0, len(assets))
	for _, a := range assets {
		going = append(going, placing.Wanted{Place: a.Path})
	}
	return w.folder.Admit(files, going)
}

func cantPutAway(path string, err error) model.Refusal {
	return model.Refusal{Path: path, Reason: "in-the-way", Message: fmt.Sprintf("%s: it can't be put away: %s", path, disk.Cause(err)),
		Remedy: "close the program that holds it, then run the command again"}
}

// free reports whether nothing stands at a path.
func (w *Workspace) free(path string) bool {
	_, err := w.folder.Disk.Lstat(filepath.FromSlash(path))
	return errors.Is(err, fs.ErrNotExist)
}

// moveBack takes a move back.
func (w *Workspace) moveBack(a model.Asset) error {
	if err := w.folder.Rename(a.Path, a.MovedFrom); err != nil {
		return err
	}
	return w.update(func(t index.Tx) error { return t.DropMove(a.Path) })
}

// Restore brings put-away files back, named by path (the latest of that name) or id, over what is there now, which is put away in
// its turn where it has changes.
func (w *Workspace) Restore(ctx context.Context, names []string) ([]placing.PutAway, error) {
	list, err := w.folder.Kept()
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
	restored := []placing.PutAway{}
	for _, name := range names {
		var hit *placing.PutAway
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
func (w *Workspace) restoreOne(ctx context.Context, s *Status, a model.Asset, hit *placing.PutAway) error {
	if bad := placing.BadPlace(hit.Path); bad != nil {
		return &model.Refused{Refusals: []model.Refusal{*bad}}
	}
	kept, part := filepath.Join(w.folder.PutAwayFolder(), hit.ID, "file"), filepath.Join(placing.Incoming, hit.ID+"-restored")
	if err := w.folder.Disk.MkdirAll(placing.Incoming, 0o755); err != nil {
		return err
	}
	defer func() { _ = w.folder.Disk.Remove(placing.Incoming) }()
	_ = w.folder.Disk.Remove(part)
	if err := disk.CopyFile(kept, w.folder.Full(part)); err != nil {
		_ = w.folder.Disk.Remove(part)
		return placing.NoRoom(err)
	}
	if hit.Exec {
		_ = w.folder.Disk.Chmod(part, 0o755)
	}
	if err := w.moveIn(ctx, s, a, part, hit.Path); err != nil {
		return err
	}
	return os.RemoveAll(filepath.Join(w.folder.PutAwayFolder(), hit.ID))
}

// KeepDays is how long what was put away is kept.
const KeepDays = placing.KeepDays

// PutAway is a file that was put away.
type PutAway = placing.PutAway

// Kept lists what was put away, the newest first.
func (w *Workspace) Kept() ([]PutAway, error) { return w.folder.Kept() }
