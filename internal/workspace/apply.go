package workspace

import (
	"context"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/scan"
)

// An update is done in three steps: what comes is built whole beside the files; what is about to be done is written into the journal; it is
// done. Killed in the third, the next command that opens the workspace finishes it. A step of the third may be done twice.

// standing is a file that was looked at: how it looked, and what was in it. A file is replaced or removed only while it still is that.
type standing struct {
	Stamp   index.Stamp
	Content chunk.Digest
}

func stepOf(f wanted, remove bool) index.Step {
	s := index.Step{Asset: f.asset, Remove: remove}
	if f.was != nil {
		s.Stamp, s.Was = &f.was.Stamp, &f.was.Content
	}
	return s
}

// toDo is what an entry of the journal says.
func toDo(s index.Step, place string) wanted {
	f := wanted{asset: s.Asset, place: place}
	if s.Stamp != nil {
		f.was = &standing{Stamp: *s.Stamp}
		if s.Was != nil {
			f.was.Content = *s.Was
		}
	}
	return f
}

// applied is a file in its place.
type applied struct {
	wanted
	stamp index.Stamp
	refs  index.Refs
}

// bring fetches files, takes those to be removed away, and puts the fetched ones in their places. What is in the way comes back as
// refusals; the rest goes on. each is told of every file that is done.
func (w *Workspace) bring(ctx context.Context, files, remove []wanted, each func(wanted)) ([]model.Refusal, error) {
	files, refusals := w.admit(files, remove)
	remove, more := w.admit(remove, remove)
	refusals = append(refusals, more...)
	list, damaged, err := w.fetch(ctx, files)
	refusals = append(refusals, damaged...)
	if err != nil {
		_ = w.root.Remove(incoming)
		return refusals, err
	}
	applied, err := w.install(ctx, list, remove, each)
	return append(refusals, applied...), err
}

// install is the second and the third step: the journal, and what stands in it. What is in the way comes back as refusals.
func (w *Workspace) install(ctx context.Context, list []built, remove []wanted, each func(wanted)) ([]model.Refusal, error) {
	if len(list)+len(remove) == 0 {
		_ = w.root.Remove(incoming)
		return nil, nil
	}
	if err := w.root.MkdirAll(incoming, 0o755); err != nil {
		return nil, noRoom(err)
	}
	if err := w.update(func(t index.Tx) error {
		for _, b := range list {
			if err := t.AddStep(b.place, stepOf(b.wanted, false)); err != nil {
				return err
			}
		}
		for _, f := range remove {
			if err := t.AddStep(f.place, stepOf(f, true)); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return nil, err
	}
	refusals, err := w.apply(ctx, list, remove, each)
	_ = w.root.Remove(incoming)
	return refusals, err
}

// apply is the third step. Names go first, so that a file may come where another one or a folder goes. What can't be done stays undone and
// comes back as a refusal: no file holds up another.
func (w *Workspace) apply(ctx context.Context, list []built, remove []wanted, each func(wanted)) (refusals []model.Refusal, err error) {
	var done []applied
	var gone []wanted
	for _, f := range remove {
		if refusal := w.removeFile(ctx, f); refusal != nil {
			refusals = append(refusals, *refusal)
			continue
		}
		gone = append(gone, f)
	}
	around := w.spellings()
	kept, end := w.root.Keep()
	around.disk = kept
	defer end()
	for _, b := range list {
		stamp, refusal := w.place(ctx, b.wanted, around)
		if refusal != nil {
			refusals = append(refusals, *refusal)
			_ = w.root.Remove(partName(b.wanted))
			continue
		}
		done = append(done, applied{b.wanted, stamp, b.refs})
	}
	if err := w.update(func(t index.Tx) error {
		for _, f := range gone {
			if err := t.DropBase(f.asset.Path); err != nil {
				return err
			}
		}
		for _, a := range done {
			if err := t.SetBase(a.asset.Path, baseOf(a.asset, a.stamp), a.refs.OrNone()); err != nil {
				return err
			}
			if err := t.DropCut(a.place); err != nil {
				return err
			}
		}
		return t.EndJournal()
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

// recover finishes what an interrupted command had begun. It is called by whoever has the workspace for themselves. What can't be finished
// (somebody holds a file, the disk does not let go) hinders no command: the files are as they are, and a look at the folder tells.
func (w *Workspace) recover(ctx context.Context) error {
	w.finishPutAways()
	var steps map[string]index.Step
	if err := w.look(func(t index.Tx) (err error) {
		if steps, err = t.Journal(); err != nil {
			return err
		}
		for place, s := range steps {
			// A journal of an earlier version does not say what was in the file; the base does.
			if b, had, err := t.Base(s.Asset.Path); err != nil {
				return err
			} else if had && s.Was == nil && s.Stamp != nil && b.Stamp.Is(*s.Stamp) {
				s.Was = &b.Content
				steps[place] = s
			}
		}
		return nil
	}); err != nil || len(steps) == 0 {
		return err
	}
	var list []built
	var remove []wanted
	for place, s := range steps {
		f := toDo(s, place)
		w.putBack(ctx, f)
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
	_, err := w.apply(ctx, list, remove, func(wanted) {})
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
		if !strings.HasSuffix(e.Name(), asideSuffix) && !strings.HasSuffix(e.Name(), putAwaySuffix) {
			_ = w.root.Remove(filepath.Join(incoming, e.Name()))
		}
	}
	_ = w.root.Remove(incoming)
}

// putBack ends a move aside that was interrupted. What was moved aside and is not what it was taken for is an unsent change: it goes back
// to its place, or, where something stands there, to the put-away files.
func (w *Workspace) putBack(ctx context.Context, f wanted) {
	aside, name := asideName(f), filepath.FromSlash(f.place)
	info, err := w.root.Lstat(aside)
	if err != nil {
		return
	}
	if disk.HalfCopied(w.root, aside, name) || disk.HalfCopied(w.root, partName(f), name) {
		_ = w.root.Remove(name)
	}
	if disk.MoveNew(w.root, aside, name) == nil {
		return
	}
	if w.still(ctx, f) {
		_ = w.root.Remove(aside)
		return
	}
	_, _ = w.takeAway(aside, f.place, 0, scan.Executable(info))
}

// builtBefore finds what an interrupted command had built: still beside its place, or in it already.
func (w *Workspace) builtBefore(ctx context.Context, f wanted) (b built, ok bool, err error) {
	b = built{wanted: f}
	name := filepath.FromSlash(f.place)
	if disk.HalfCopied(w.root, partName(f), name) {
		_ = w.root.Remove(name)
	}
	for _, at := range []string{name, partName(f)} {
		info, err := w.root.Lstat(at)
		if err != nil || !info.Mode().IsRegular() || info.Size() != f.asset.Size {
			continue
		}
		cut, _, err := w.read(ctx, filepath.ToSlash(at), nil, nil)
		if err != nil || cut.Content.String() != f.asset.Content {
			continue
		}
		b.refs = cut.Refs
		if at == name {
			// In its place: it is what stands there now, and it is noted as it is. A second name of it goes.
			_ = w.root.Remove(partName(f))
			return b, false, w.update(func(t index.Tx) error {
				return t.SetBase(f.asset.Path, baseOf(f.asset, cut.Stamp), cut.Refs.OrNone())
			})
		}
		return b, true, nil
	}
	return b, false, nil
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
