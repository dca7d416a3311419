package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"kettletarn/internal/core/model"
)

// An update is done in three steps: what comes is built whole beside the files; what is about to be done is written into the journal; it is
// done. Killed in the third, the next command that opens the workspace finishes it. A step of the third may be done twice.

// step is one entry of the journal, under the place that it is about.
type step struct {
	Asset  model.Asset
	Stamp  *Stamp
	Remove bool
}

func (s step) wanted(place string) wanted {
	return wanted{asset: s.Asset, place: place, stamp: s.Stamp}
}

// applied is a file in its place.
type applied struct {
	wanted
	stamp Stamp
	refs  Refs
}

// bring fetches files, takes those to be removed away, and puts the fetched ones in their places. What is in the way comes back as
// refusals; the rest goes on. each is told of every file that is done.
func (w *Workspace) bring(ctx context.Context, files, remove []wanted, each func(wanted)) ([]model.Refusal, error) {
	list, err := w.fetch(ctx, files)
	if err != nil || len(list)+len(remove) == 0 {
		return nil, err
	}
	if err := w.root.MkdirAll(incoming, 0o755); err != nil {
		return nil, err
	}
	if err := w.update(func(t indexTx) error {
		for _, b := range list {
			if err := put(t.tx.Bucket(bucketJournal), b.place, step{b.asset, b.wanted.stamp, false}); err != nil {
				return err
			}
		}
		for _, f := range remove {
			if err := put(t.tx.Bucket(bucketJournal), f.place, step{f.asset, f.stamp, true}); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return nil, err
	}
	refusals, err := w.apply(list, remove, each)
	_ = w.root.Remove(incoming)
	return refusals, err
}

// apply is the third step. Names go first, so that a file may come where another one or a folder goes.
func (w *Workspace) apply(list []built, remove []wanted, each func(wanted)) (refusals []model.Refusal, err error) {
	var done []applied
	var gone []wanted
	for _, f := range remove {
		refusal, err := w.removeFile(f)
		if err != nil {
			return nil, err
		}
		if refusal != nil {
			refusals = append(refusals, *refusal)
			continue
		}
		gone = append(gone, f)
	}
	for _, b := range list {
		stamp, refusal, err := w.place(b.wanted)
		if err != nil {
			return nil, err
		}
		if refusal != nil {
			refusals = append(refusals, *refusal)
			if err := w.root.Remove(partName(b.wanted)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
			continue
		}
		done = append(done, applied{b.wanted, stamp, b.refs})
	}
	if err := w.update(func(t indexTx) error {
		for _, f := range gone {
			if err := t.dropBase(f.asset.Path); err != nil {
				return err
			}
		}
		for _, a := range done {
			if err := t.setBase(a.asset.Path, baseOf(a.asset, a.stamp), a.refs.orNone()); err != nil {
				return err
			}
			if err := t.dropCut(a.place); err != nil {
				return err
			}
		}
		return t.replace(bucketJournal)
	}); err != nil {
		return nil, err
	}
	for _, f := range gone {
		each(f)
	}
	for _, a := range done {
		each(a.wanted)
	}
	return refusals, nil
}

// recover finishes what an interrupted command had begun. It is called by whoever has the workspace for themselves.
func (w *Workspace) recover(ctx context.Context) error {
	var steps map[string]step
	if err := w.look(func(t indexTx) (err error) {
		steps, err = all[step](t.tx.Bucket(bucketJournal))
		return err
	}); err != nil || len(steps) == 0 {
		return err
	}
	var list []built
	var remove []wanted
	for place, s := range steps {
		f := s.wanted(place)
		if err := w.putBack(f); err != nil {
			return err
		}
		if s.Remove {
			remove = append(remove, f)
			continue
		}
		b, ok, err := w.builtBefore(ctx, f)
		if err != nil {
			return err
		}
		if ok {
			list = append(list, b)
		}
	}
	_, err := w.apply(list, remove, func(wanted) {})
	_ = w.root.Remove(incoming)
	return err
}

// sweep removes what interrupted updates had built of versions that nobody wants any more. It is called when everything is in its place.
func (w *Workspace) sweep() {
	entries, err := fs.ReadDir(w.root.FS(), incoming)
	if err != nil {
		return
	}
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), "-aside") {
			_ = w.root.Remove(filepath.Join(incoming, e.Name()))
		}
	}
	_ = w.root.Remove(incoming)
}

// putBack ends a move aside that was interrupted. What was moved aside and is not what it was taken for is an unsent change: it goes back to
// its place, or, where something stands there, to the put-away files.
func (w *Workspace) putBack(f wanted) error {
	info, err := w.root.Lstat(asideName(f))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	name := filepath.FromSlash(f.place)
	if _, err := w.root.Lstat(name); errors.Is(err, fs.ErrNotExist) {
		return w.root.Rename(asideName(f), name)
	} else if err != nil {
		return err
	}
	if f.stamp != nil && f.stamp.is(stampOf(info)) {
		return w.root.Remove(asideName(f))
	}
	_, err = w.putAwayFrom(asideName(f), f.place, 0, executable(info))
	return err
}

// builtBefore finds what an interrupted command had built: still beside its place, or in it already.
func (w *Workspace) builtBefore(ctx context.Context, f wanted) (b built, ok bool, err error) {
	b = built{wanted: f}
	for _, name := range []string{partName(f), filepath.FromSlash(f.place)} {
		info, err := w.root.Lstat(name)
		if errors.Is(err, fs.ErrNotExist) || err == nil && (!info.Mode().IsRegular() || info.Size() != f.asset.Size) {
			continue
		}
		if err != nil {
			return b, false, err
		}
		cut, _, err := w.read(ctx, filepath.ToSlash(name), nil, nil)
		if err != nil || cut.Content.String() != f.asset.Content {
			continue
		}
		b.refs = cut.Refs
		if name != partName(f) {
			// In its place: it is what stands there now, and it is noted as it is.
			return b, false, w.update(func(t indexTx) error {
				return t.setBase(f.asset.Path, baseOf(f.asset, cut.Stamp), cut.Refs.orNone())
			})
		}
		return b, true, nil
	}
	return b, false, nil
}

// place moves a built file to its place. What stands there is moved aside first, looked at again where nobody else can change it by
// name any more, and put back if it is not what it was taken for.
func (w *Workspace) place(f wanted) (Stamp, *model.Refusal, error) {
	part, aside, name := partName(f), asideName(f), filepath.FromSlash(f.place)
	inTheWay := func(err error) *model.Refusal {
		return &model.Refusal{Path: f.place, Reason: "in-the-way", Message: fmt.Sprintf("%s: it can't be put in its place: %s", f.place, rootCause(err)), Remedy: "close the program that holds it or clear the way, then run tarn update"}
	}
	if err := w.safeFolder(f.place); err != nil {
		return Stamp{}, inTheWay(err), nil
	}
	mode := fs.FileMode(0o644)
	if f.asset.Executable {
		mode = 0o755
	}
	if err := w.root.Chmod(part, mode); err != nil {
		return Stamp{}, nil, err
	}
	refusal, moved, err := w.moveAside(f, name, aside)
	if err != nil || refusal != nil {
		return Stamp{}, refusal, err
	}
	if !moved {
		// Nothing stands there: a link fails where something appeared meanwhile, and a rename would not.
		if err := w.root.Link(part, name); err == nil {
			_ = w.root.Remove(part)
			info, err := w.root.Lstat(name)
			if err != nil {
				return Stamp{}, nil, err
			}
			return stampOf(info), nil, nil
		} else if errors.Is(err, fs.ErrExist) {
			return Stamp{}, changedMeanwhile(f.place), nil
		}
	}
	if err := w.root.Rename(part, name); err != nil {
		if moved {
			_ = w.root.Rename(aside, name)
		}
		return Stamp{}, inTheWay(err), nil
	}
	if moved {
		_ = w.root.Remove(aside)
	}
	info, err := w.root.Lstat(name)
	if err != nil {
		return Stamp{}, nil, err
	}
	return stampOf(info), nil, nil
}

func changedMeanwhile(path string) *model.Refusal {
	return &model.Refusal{Path: path, Reason: "changing", Message: path + ": it was changed here while the command ran", Remedy: "look at it with tarn status, then run the command again"}
}

// moveAside takes what stands at name out of the way, if it is what f expects there and no program writes to it.
func (w *Workspace) moveAside(f wanted, name, aside string) (refusal *model.Refusal, moved bool, err error) {
	info, err := w.root.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	if f.stamp == nil || !info.Mode().IsRegular() {
		return changedMeanwhile(f.place), false, nil
	}
	held := func(cause string) *model.Refusal {
		return &model.Refusal{Path: f.place, Reason: "in-the-way", Message: fmt.Sprintf("%s: it can't be replaced: %s", f.place, cause), Remedy: "close the program that holds it, then run tarn update"}
	}
	if err := w.root.Rename(name, aside); err != nil {
		return held(rootCause(err)), false, nil
	}
	back := func(refusal *model.Refusal) (*model.Refusal, bool, error) {
		if err := w.root.Rename(aside, name); err != nil {
			return nil, true, err
		}
		return refusal, false, nil
	}
	if beingWritten(filepath.Join(w.Root, aside)) {
		return back(held("a program has it open for writing"))
	}
	info, err = w.root.Lstat(aside)
	if err != nil {
		return nil, true, err
	}
	if !f.stamp.is(stampOf(info)) {
		return back(changedMeanwhile(f.place))
	}
	return nil, true, nil
}

// removeFile takes an unchanged file away, with the folders that it leaves empty.
func (w *Workspace) removeFile(f wanted) (*model.Refusal, error) {
	refusal, moved, err := w.moveAside(f, filepath.FromSlash(f.place), asideName(f))
	if err != nil || refusal != nil {
		return refusal, err
	}
	if moved {
		if err := w.root.Remove(asideName(f)); err != nil {
			return nil, err
		}
	}
	w.prune(f.place)
	return nil, nil
}

// prune removes the folders above a path that are empty.
func (w *Workspace) prune(name string) {
	for folder := path.Dir(name); folder != "."; folder = path.Dir(folder) {
		if w.root.Remove(filepath.FromSlash(folder)) != nil {
			return
		}
	}
}

// syncEach makes files below root durable, one by one.
func syncEach(root string, names []string) error {
	for _, name := range names {
		f, err := os.OpenFile(filepath.Join(root, name), os.O_RDWR, 0)
		if err != nil {
			return err
		}
		err = f.Sync()
		if closed := f.Close(); err == nil {
			err = closed
		}
		if err != nil {
			return err
		}
	}
	return nil
}
