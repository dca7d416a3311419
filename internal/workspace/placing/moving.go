package placing

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
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/scan"
)

const (
	asideSuffix   = "-aside"
	PutAwaySuffix = "-putaway"
)

// Place moves a built file to its place. around knows the spellings of what is here.
func (d *Folder) Place(ctx context.Context, f Wanted, around *spellings) (index.Stamp, *model.Refusal) {
	if bad := BadPlace(f.Place); bad != nil {
		return index.Stamp{}, bad
	}
	if twin := around.twin(f.Place); twin != "" {
		return index.Stamp{}, collides(f.Place, twin)
	}
	part, name := PartName(f), filepath.FromSlash(f.Place)
	inTheWay := func(err error) *model.Refusal {
		return &model.Refusal{Path: f.Place, Reason: "in-the-way",
			Message: fmt.Sprintf("%s: it can't be put in its place: %s", f.Place, disk.Cause(err)),
			Remedy:  "close the program that holds it or clear the way, then run tarn update"}
	}
	if err := around.safeFolder(f.Place); err != nil {
		return index.Stamp{}, inTheWay(err)
	}
	info, err := around.disk.Lstat(part)
	if err == nil && info.Mode().Perm() != ModeOf(f) {
		err = d.Disk.Chmod(part, ModeOf(f))
	}
	if err != nil {
		return index.Stamp{}, inTheWay(err)
	}
	moved := false
	if f.Was != nil { // where nothing is expected, what stands there is found when the file is moved in
		var refusal *model.Refusal
		if refusal, moved = d.TakeAside(ctx, f); refusal != nil {
			return index.Stamp{}, refusal
		}
	}
	same := true // the file that comes is the one that was built
	if err = around.disk.RenameNew(part, name); errors.Is(err, errors.ErrUnsupported) {
		same, err = false, disk.MoveNew(d.Disk, part, name)
	}
	if err != nil {
		if errors.Is(err, fs.ErrExist) {
			// Somebody saved there in this moment. What was taken aside is the version that is known, and that the service has.
			if moved {
				_ = d.Disk.Remove(AsideName(f))
			}
			return index.Stamp{}, ChangedMeanwhile(f.Place)
		}
		if moved {
			d.putBack(ctx, f)
		}
		return index.Stamp{}, inTheWay(err)
	}
	if moved {
		_ = d.Disk.Remove(AsideName(f))
	}
	around.note(f.Place)
	if !same {
		if info, err = d.Disk.Lstat(name); err != nil {
			return index.Stamp{}, ChangedMeanwhile(f.Place)
		}
	}
	return scan.StampOf(info), nil
}

// TakeAside takes what stands at the place of f out of the way, if it is what f expects there and no program writes to it. What it is not
// taken for is put back.
func (d *Folder) TakeAside(ctx context.Context, f Wanted) (refusal *model.Refusal, moved bool) {
	name, aside := filepath.FromSlash(f.Place), AsideName(f)
	held := func(cause string) *model.Refusal {
		return &model.Refusal{Path: f.Place, Reason: "in-the-way", Message: fmt.Sprintf("%s: it can't be replaced: %s", f.Place, cause),
			Remedy: "close the program that holds it, then run tarn update"}
	}
	info, err := d.Disk.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, false
	case err != nil:
		return held(disk.Cause(err)), false
	case f.Was == nil || !info.Mode().IsRegular():
		return ChangedMeanwhile(f.Place), false
	}
	if err := d.Disk.MkdirAll(Incoming, 0o755); err != nil {
		return held(disk.Cause(err)), false
	}
	if _, err := d.Disk.Lstat(aside); err == nil {
		d.putBack(ctx, f) // of an earlier run
	}
	if err := d.Disk.Rename(name, aside); errors.Is(err, fs.ErrNotExist) {
		return ChangedMeanwhile(f.Place), false
	} else if err != nil {
		return held(disk.Cause(err)), false
	}
	switch {
	case beingWritten(d.Full(aside)):
		refusal = held("a program has it open for writing")
	case !d.still(ctx, f):
		refusal = ChangedMeanwhile(f.Place)
	default:
		return nil, true
	}
	if err := disk.MoveNew(d.Disk, aside, name); err != nil {
		// Something stands there by now, or the disk fails: what was taken aside may be an unsent change, and is kept.
		_, _ = d.takeAway(aside, f.Place, 0, scan.Executable(info))
		if !errors.Is(err, fs.ErrExist) {
			refusal = &model.Refusal{Path: f.Place, Reason: "in-the-way",
				Message: fmt.Sprintf("%s: it could neither be read nor put back in its place (%s), and is put away", f.Place, disk.Cause(err)),
				Remedy:  "see to the disk; tarn discard --restore " + f.Place + " brings it back"}
		}
	}
	return refusal, false
}

// still reports whether a file that was taken aside is what it was taken for: by its looks, and by its content, read anew.
func (d *Folder) still(ctx context.Context, f Wanted) bool {
	aside := AsideName(f)
	info, err := d.Disk.Lstat(aside)
	if err != nil || f.Was == nil || !f.Was.Stamp.Is(scan.StampOf(info)) {
		return false
	}
	var refs index.Refs
	_ = d.Index.Look(func(t index.Tx) error {
		refs = t.Refs(f.Asset.Path)
		return nil
	})
	cut, _, err := scan.Read(ctx, d.Disk, filepath.ToSlash(aside), refs, nil)
	return err == nil && cut.Content == f.Was.Content && f.Was.Stamp.Is(cut.Stamp)
}

// Remove takes an unchanged file away, with the folders that it leaves empty.
func (d *Folder) Remove(ctx context.Context, f Wanted) *model.Refusal {
	refusal, moved := d.TakeAside(ctx, f)
	if refusal != nil {
		return refusal
	}
	if moved {
		_ = d.Disk.Remove(AsideName(f))
	}
	d.prune(f.Place)
	return nil
}

// Rename moves a file of the workspace to a place where nothing stands, and removes the folders that it leaves empty.
func (d *Folder) Rename(from, to string) error {
	if bad := assetpath.Check(to); bad != nil {
		return bad
	}
	if err := d.SafeFolder(to); err != nil {
		return err
	}
	a, b := filepath.FromSlash(from), filepath.FromSlash(to)
	if d.Respelled(from, to) {
		return d.respell(from, to)
	}
	err := d.Disk.RenameNew(a, b)
	if errors.Is(err, errors.ErrUnsupported) {
		err = d.renameAside(a, b, from)
	}
	if err == nil {
		d.prune(from)
	}
	return err
}

// Respelled reports whether two paths are spellings of one file that is here: the disk takes them for the same, and has it under one of
// them.
func (d *Folder) Respelled(from, to string) bool {
	if from == to || assetpath.Alias(from) != assetpath.Alias(to) {
		return false
	}
	a, errA := d.Disk.Lstat(filepath.FromSlash(from))
	b, errB := d.Disk.Lstat(filepath.FromSlash(to))
	return errA == nil && errB == nil && os.SameFile(a, b) && slices.ContainsFunc(scan.Places(to), func(p string) bool {
		return !d.spelled(p)
	})
}

// spelled reports whether a folder has an entry of exactly this name.
func (d *Folder) spelled(name string) bool {
	entries, err := fs.ReadDir(d.Disk.FS(), path.Dir(name))
	return err != nil || slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return e.Name() == path.Base(name) })
}

// respell gives a file, and the folders above it, the spelling of another path that the disk takes for the same.
func (d *Folder) respell(from, to string) error {
	old := scan.Places(from)
	for i, p := range scan.Places(to) {
		if d.spelled(p) {
			continue
		}
		is, to := filepath.FromSlash(path.Join(path.Dir(p), path.Base(old[i]))), filepath.FromSlash(p)
		if err := d.Disk.Rename(is, to); err != nil {
			return err
		}
		if d.spelled(p) {
			continue
		}
		// A system that does not know that its disk folds case takes both for the same, and does nothing.
		if i == len(old)-1 {
			return d.renameAside(is, to, from)
		}
		// Nothing replaces a folder that has something in it. Killed in between, it has a name that everybody sees.
		between := to + " (respelled)"
		if err := d.Disk.Rename(is, between); err != nil {
			return err
		}
		if err := d.Disk.Rename(between, to); err != nil {
			return err
		}
	}
	return nil
}

// renameAside is rename in two steps: aside, then to its place. Killed in between, the file is put away by the next command.
func (d *Folder) renameAside(a, b, path string) error {
	p, err := d.PutAwayPlace(d.Full(a), path, 0, false)
	if err != nil {
		return err
	}
	aside := filepath.Join(Incoming, p.ID+PutAwaySuffix)
	if err = d.Disk.MkdirAll(Incoming, 0o755); err == nil {
		err = d.Disk.Rename(a, aside)
	}
	if err == nil {
		if err = disk.MoveNew(d.Disk, aside, b); err != nil && disk.MoveNew(d.Disk, aside, a) != nil {
			d.finishPutAways()
			return err
		}
	}
	_ = d.Disk.Remove(Incoming)
	return errors.Join(err, os.RemoveAll(filepath.Join(d.PutAwayFolder(), p.ID)))
}
