package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/scan"
)

// One way leads into the folder for whatever is not written there by a program of the person's own: place. It replaces nothing that it did
// not look at and hash; it puts a file where nothing stands, in one step of the file system; and it trusts no path, whoever named it. The
// ways out (removing, moving, putting away) take a file aside by its name first, in one step, too, so that a program that saves meanwhile
// makes a new file and loses none.

const (
	asideSuffix   = "-aside"
	putAwaySuffix = "-putaway"
)

// badPlace says why nothing may be put at a path, whoever wants it there; nil where it may.
func badPlace(place string) *model.Refusal {
	bad := assetpath.Check(place)
	if bad == nil {
		return nil
	}
	shown := assetpath.Printable(place)
	return &model.Refusal{Path: shown, Reason: bad.Reason, Message: shown + ": it was not put here: " + bad.Message,
		Remedy: "no client sends such a name; tell whoever runs the service"}
}

func collides(place, with string) *model.Refusal {
	return &model.Refusal{Path: place, Reason: "path-collides",
		Message: fmt.Sprintf("%s: %s is here, and would be the same on some systems", place, with),
		Remedy:  "rename one of them"}
}

// admit takes out, before a byte is fetched, what can't be put in its place: illegal paths, paths that collide with one another, and with
// what is here and does not go.
func (w *Workspace) admit(files, remove []wanted) (good []wanted, refusals []model.Refusal) {
	going := map[string]bool{}
	for _, f := range remove {
		for _, p := range scan.Places(f.place) {
			going[p] = true
		}
	}
	around, claimed := w.spellings(), map[string]string{}
	for _, f := range files {
		refusal := badPlace(f.place)
		if refusal == nil && !f.asset.Gone {
			if twin := around.twin(f.place); twin != "" && !going[twin] {
				refusal = collides(f.place, twin)
			}
			for _, p := range scan.Places(f.place) {
				alias := assetpath.Alias(p)
				if other, taken := claimed[alias]; taken && (other != p || p == f.place) && refusal == nil {
					refusal = collides(f.place, other)
				}
			}
		}
		if refusal != nil {
			refusals = append(refusals, *refusal)
			continue
		}
		if !f.asset.Gone {
			for _, p := range scan.Places(f.place) {
				claimed[assetpath.Alias(p)] = p
			}
		}
		good = append(good, f)
	}
	return good, refusals
}

// spellings knows how the names in folders are spelled, and which folders are there and no links: each is looked at once. disk is what
// files
// are put in their places with.
type spellings struct {
	w       *Workspace
	disk    disk.Disk
	folders map[string]map[string]string
	safe    map[string]bool
}

func (w *Workspace) spellings() *spellings {
	return &spellings{w, w.root, map[string]map[string]string{}, map[string]bool{}}
}

// safeFolder is that of the workspace, once for each folder.
func (s *spellings) safeFolder(place string) error {
	folder := path.Dir(place)
	if s.safe[folder] {
		return nil
	}
	err := s.w.safeFolder(place)
	s.safe[folder] = err == nil
	return err
}

// twin is what is here under a name that is one with a path, or with a folder above it, on some systems, and is spelled otherwise; "" for
// none.
func (s *spellings) twin(place string) string {
	for _, p := range scan.Places(place) {
		folder, base := path.Dir(p), path.Base(p)
		names, listed := s.folders[folder]
		if !listed {
			names = map[string]string{}
			s.folders[folder] = names
			if entries, err := fs.ReadDir(s.w.root.FS(), folder); err == nil {
				for _, e := range entries {
					alias := assetpath.Alias(e.Name())
					if _, double := names[alias]; !double {
						names[alias] = e.Name()
					}
				}
			}
		}
		other, there := names[assetpath.Alias(base)]
		if !there {
			return ""
		}
		if other != base {
			if _, err := s.w.root.Lstat(filepath.FromSlash(p)); err == nil {
				continue // both are here, and nobody but the person put them there
			}
			return path.Join(folder, other)
		}
	}
	return ""
}

// note adds what was just put in place.
func (s *spellings) note(place string) {
	for _, p := range scan.Places(place) {
		if names, listed := s.folders[path.Dir(p)]; listed {
			names[assetpath.Alias(path.Base(p))] = path.Base(p)
		}
	}
}

// still reports whether a file that was taken aside is what it was taken for: by its looks, and by its content, read anew.
func (w *Workspace) still(ctx context.Context, f wanted) bool {
	aside := asideName(f)
	info, err := w.root.Lstat(aside)
	if err != nil || f.was == nil || !f.was.Stamp.Is(scan.StampOf(info)) {
		return false
	}
	var refs index.Refs
	_ = w.look(func(t index.Tx) error {
		refs = t.Refs(f.asset.Path)
		return nil
	})
	cut, _, err := w.read(ctx, filepath.ToSlash(aside), refs, func(chunk.Piece, []byte) error { return nil })
	return err == nil && cut.Content == f.was.Content && f.was.Stamp.Is(cut.Stamp)
}

// modeOf is that of a file in its place.
func modeOf(f wanted) fs.FileMode {
	if f.asset.Executable {
		return 0o755
	}
	return 0o644
}

// place moves a built file to its place. around knows the spellings of what is here.
func (w *Workspace) place(ctx context.Context, f wanted, around *spellings) (index.Stamp, *model.Refusal) {
	if bad := badPlace(f.place); bad != nil {
		return index.Stamp{}, bad
	}
	if twin := around.twin(f.place); twin != "" {
		return index.Stamp{}, collides(f.place, twin)
	}
	part, name := partName(f), filepath.FromSlash(f.place)
	inTheWay := func(err error) *model.Refusal {
		return &model.Refusal{Path: f.place, Reason: "in-the-way",
			Message: fmt.Sprintf("%s: it can't be put in its place: %s", f.place, disk.Cause(err)),
			Remedy:  "close the program that holds it or clear the way, then run tarn update"}
	}
	if err := around.safeFolder(f.place); err != nil {
		return index.Stamp{}, inTheWay(err)
	}
	info, err := around.disk.Lstat(part)
	if err == nil && info.Mode().Perm() != modeOf(f) {
		err = w.root.Chmod(part, modeOf(f))
	}
	if err != nil {
		return index.Stamp{}, inTheWay(err)
	}
	moved := false
	if f.was != nil { // where nothing is expected, what stands there is found when the file is moved in
		var refusal *model.Refusal
		if refusal, moved = w.takeAside(ctx, f); refusal != nil {
			return index.Stamp{}, refusal
		}
	}
	same := true // the file that comes is the one that was built
	if err = around.disk.RenameNew(part, name); errors.Is(err, errors.ErrUnsupported) {
		same, err = false, disk.MoveNew(w.root, part, name)
	}
	if err != nil {
		if errors.Is(err, fs.ErrExist) {
			// Somebody saved there in this moment. What was taken aside is the version that is known, and that the service has.
			if moved {
				_ = w.root.Remove(asideName(f))
			}
			return index.Stamp{}, changedMeanwhile(f.place)
		}
		if moved {
			w.putBack(ctx, f)
		}
		return index.Stamp{}, inTheWay(err)
	}
	if moved {
		_ = w.root.Remove(asideName(f))
	}
	around.note(f.place)
	if !same {
		if info, err = w.root.Lstat(name); err != nil {
			return index.Stamp{}, changedMeanwhile(f.place)
		}
	}
	return scan.StampOf(info), nil
}

func changedMeanwhile(path string) *model.Refusal {
	return &model.Refusal{Path: path, Reason: "changing", Message: path + ": it was changed here while the command ran",
		Remedy: "look at it with tarn status, then run the command again"}
}

// takeAside takes what stands at the place of f out of the way, if it is what f expects there and no program writes to it. What it is not
// taken for is put back.
func (w *Workspace) takeAside(ctx context.Context, f wanted) (refusal *model.Refusal, moved bool) {
	name, aside := filepath.FromSlash(f.place), asideName(f)
	held := func(cause string) *model.Refusal {
		return &model.Refusal{Path: f.place, Reason: "in-the-way", Message: fmt.Sprintf("%s: it can't be replaced: %s", f.place, cause),
			Remedy: "close the program that holds it, then run tarn update"}
	}
	info, err := w.root.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, false
	case err != nil:
		return held(disk.Cause(err)), false
	case f.was == nil || !info.Mode().IsRegular():
		return changedMeanwhile(f.place), false
	}
	if err := w.root.MkdirAll(incoming, 0o755); err != nil {
		return held(disk.Cause(err)), false
	}
	if _, err := w.root.Lstat(aside); err == nil {
		w.putBack(ctx, f) // of an earlier run
	}
	if err := w.root.Rename(name, aside); errors.Is(err, fs.ErrNotExist) {
		return changedMeanwhile(f.place), false
	} else if err != nil {
		return held(disk.Cause(err)), false
	}
	switch {
	case beingWritten(w.full(aside)):
		refusal = held("a program has it open for writing")
	case !w.still(ctx, f):
		refusal = changedMeanwhile(f.place)
	default:
		return nil, true
	}
	if err := disk.MoveNew(w.root, aside, name); err != nil {
		// Something stands there by now, or the disk fails: what was taken aside may be an unsent change, and is kept.
		_, _ = w.takeAway(aside, f.place, 0, scan.Executable(info))
		if !errors.Is(err, fs.ErrExist) {
			refusal = &model.Refusal{Path: f.place, Reason: "in-the-way",
				Message: fmt.Sprintf("%s: it could neither be read nor put back in its place (%s), and is put away", f.place, disk.Cause(err)),
				Remedy:  "see to the disk; tarn discard --restore " + f.place + " brings it back"}
		}
	}
	return refusal, false
}

// removeFile takes an unchanged file away, with the folders that it leaves empty.
func (w *Workspace) removeFile(ctx context.Context, f wanted) *model.Refusal {
	refusal, moved := w.takeAside(ctx, f)
	if refusal != nil {
		return refusal
	}
	if moved {
		_ = w.root.Remove(asideName(f))
	}
	w.prune(f.place)
	return nil
}

// rename moves a file of the workspace to a place where nothing stands, and removes the folders that it leaves empty.
func (w *Workspace) rename(from, to string) error {
	if bad := assetpath.Check(to); bad != nil {
		return bad
	}
	if err := w.safeFolder(to); err != nil {
		return err
	}
	a, b := filepath.FromSlash(from), filepath.FromSlash(to)
	if w.respelled(from, to) {
		return w.respell(from, to)
	}
	err := w.root.RenameNew(a, b)
	if errors.Is(err, errors.ErrUnsupported) {
		err = w.renameAside(a, b, from)
	}
	if err == nil {
		w.prune(from)
	}
	return err
}

// respelled reports whether two paths are spellings of one file that is here: the disk takes them for the same, and has it under one of
// them.
func (w *Workspace) respelled(from, to string) bool {
	if from == to || assetpath.Alias(from) != assetpath.Alias(to) {
		return false
	}
	a, errA := w.root.Lstat(filepath.FromSlash(from))
	b, errB := w.root.Lstat(filepath.FromSlash(to))
	return errA == nil && errB == nil && os.SameFile(a, b) && slices.ContainsFunc(scan.Places(to), func(p string) bool {
		return !w.spelled(p)
	})
}

// spelled reports whether a folder has an entry of exactly this name.
func (w *Workspace) spelled(name string) bool {
	entries, err := fs.ReadDir(w.root.FS(), path.Dir(name))
	return err != nil || slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return e.Name() == path.Base(name) })
}

// respell gives a file, and the folders above it, the spelling of another path that the disk takes for the same.
func (w *Workspace) respell(from, to string) error {
	old := scan.Places(from)
	for i, p := range scan.Places(to) {
		if w.spelled(p) {
			continue
		}
		is, to := filepath.FromSlash(path.Join(path.Dir(p), path.Base(old[i]))), filepath.FromSlash(p)
		if err := w.root.Rename(is, to); err != nil {
			return err
		}
		if w.spelled(p) {
			continue
		}
		// A system that does not know that its disk folds case takes both for the same, and does nothing.
		if i == len(old)-1 {
			return w.renameAside(is, to, from)
		}
		// Nothing replaces a folder that has something in it. Killed in between, it has a name that everybody sees.
		between := to + " (respelled)"
		if err := w.root.Rename(is, between); err != nil {
			return err
		}
		if err := w.root.Rename(between, to); err != nil {
			return err
		}
	}
	return nil
}

// renameAside is rename in two steps: aside, then to its place. Killed in between, the file is put away by the next command.
func (w *Workspace) renameAside(a, b, path string) error {
	p, err := w.putAwayPlace(w.full(a), path, 0, false)
	if err != nil {
		return err
	}
	aside := filepath.Join(incoming, p.ID+putAwaySuffix)
	if err = w.root.MkdirAll(incoming, 0o755); err == nil {
		err = w.root.Rename(a, aside)
	}
	if err == nil {
		if err = disk.MoveNew(w.root, aside, b); err != nil && disk.MoveNew(w.root, aside, a) != nil {
			w.finishPutAways()
			return err
		}
	}
	_ = w.root.Remove(incoming)
	return errors.Join(err, os.RemoveAll(filepath.Join(w.putAwayFolder(), p.ID)))
}

// full is the whole name of one below the root.
func (w *Workspace) full(name string) string { return filepath.Join(w.Root, name) }
