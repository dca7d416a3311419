package placing

import (
	"context"
	"io/fs"
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

func stepOf(f Wanted, remove bool) index.Step {
	s := index.Step{Asset: f.Asset, Remove: remove}
	if f.Was != nil {
		s.Stamp, s.Was = &f.Was.Stamp, &f.Was.Content
	}
	return s
}

// toDo is what an entry of the journal says.
func toDo(s index.Step, place string) Wanted {
	f := Wanted{Asset: s.Asset, Place: place}
	if s.Stamp != nil {
		f.Was = &Standing{Stamp: *s.Stamp}
		if s.Was != nil {
			f.Was.Content = *s.Was
		}
	}
	return f
}

// applied is a file in its place.
type applied struct {
	Wanted
	stamp index.Stamp
	refs  index.Refs
}

// Install is the second and the third step: the journal, and what stands in it. What is in the way comes back as refusals.
func (d *Folder) Install(ctx context.Context, list []Built, remove []Wanted, each func(Wanted)) ([]model.Refusal, error) {
	if len(list)+len(remove) == 0 {
		_ = d.Disk.Remove(Incoming)
		return nil, nil
	}
	if err := d.Disk.MkdirAll(Incoming, 0o755); err != nil {
		return nil, NoRoom(err)
	}
	if err := d.Note(list, remove); err != nil {
		return nil, err
	}
	refusals, err := d.apply(ctx, list, remove, each)
	_ = d.Disk.Remove(Incoming)
	return refusals, err
}

// Note writes down what is about to be done.
func (d *Folder) Note(list []Built, remove []Wanted) error {
	return d.Index.Update(func(t index.Tx) error {
		for _, b := range list {
			if err := t.AddStep(b.Place, stepOf(b.Wanted, false)); err != nil {
				return err
			}
		}
		for _, f := range remove {
			if err := t.AddStep(f.Place, stepOf(f, true)); err != nil {
				return err
			}
		}
		return nil
	})
}

// apply is the third step. Names go first, so that a file may come where another one or a folder goes. What can't be done stays undone and
// comes back as a refusal: no file holds up another.
func (d *Folder) apply(ctx context.Context, list []Built, remove []Wanted, each func(Wanted)) (refusals []model.Refusal, err error) {
	var done []applied
	var gone []Wanted
	for _, f := range remove {
		if refusal := d.Remove(ctx, f); refusal != nil {
			refusals = append(refusals, *refusal)
			continue
		}
		gone = append(gone, f)
	}
	around := d.Spellings()
	kept, end := d.Disk.Keep()
	around.disk = kept
	defer end()
	for _, b := range list {
		stamp, refusal := d.Place(ctx, b.Wanted, around)
		if refusal != nil {
			refusals = append(refusals, *refusal)
			_ = d.Disk.Remove(PartName(b.Wanted))
			continue
		}
		done = append(done, applied{b.Wanted, stamp, b.Refs})
	}
	if err := d.Index.Update(func(t index.Tx) error {
		for _, f := range gone {
			if err := t.DropBase(f.Asset.Path); err != nil {
				return err
			}
		}
		for _, a := range done {
			if err := t.SetBase(a.Asset.Path, BaseOf(a.Asset, a.stamp), a.refs.OrNone()); err != nil {
				return err
			}
			if err := t.DropCut(a.Place); err != nil {
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
		each(a.Wanted)
	}
	return refusals, nil
}

// Recover finishes what an interrupted command had begun. It is called by whoever has the workspace for themselves. What can't be finished
// (somebody holds a file, the disk does not let go) hinders no command: the files are as they are, and a look at the folder tells.
func (d *Folder) Recover(ctx context.Context) error {
	d.finishPutAways()
	var steps map[string]index.Step
	if err := d.Index.Look(func(t index.Tx) (err error) {
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
	var list []Built
	var remove []Wanted
	for place, s := range steps {
		f := toDo(s, place)
		d.putBack(ctx, f)
		if s.Remove {
			remove = append(remove, f)
			continue
		}
		b, ok, err := d.builtBefore(ctx, f)
		if err != nil {
			return err
		}
		if ok {
			list = append(list, b)
		}
	}
	_, err := d.apply(ctx, list, remove, func(Wanted) {})
	_ = d.Disk.Remove(Incoming)
	return err
}

// Sweep removes what interrupted updates had built of versions that nobody wants any more. It is called when everything is in its place.
func (d *Folder) Sweep() {
	entries, err := fs.ReadDir(d.Disk.FS(), Incoming)
	if err != nil {
		return
	}
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), asideSuffix) && !strings.HasSuffix(e.Name(), PutAwaySuffix) {
			_ = d.Disk.Remove(filepath.Join(Incoming, e.Name()))
		}
	}
	_ = d.Disk.Remove(Incoming)
}

// putBack ends a move aside that was interrupted. What was moved aside and is not what it was taken for is an unsent change: it goes back
// to its place, or, where something stands there, to the put-away files.
func (d *Folder) putBack(ctx context.Context, f Wanted) {
	aside, name := AsideName(f), filepath.FromSlash(f.Place)
	info, err := d.Disk.Lstat(aside)
	if err != nil {
		return
	}
	if disk.HalfCopied(d.Disk, aside, name) || disk.HalfCopied(d.Disk, PartName(f), name) {
		_ = d.Disk.Remove(name)
	}
	if disk.MoveNew(d.Disk, aside, name) == nil {
		return
	}
	if d.still(ctx, f) {
		_ = d.Disk.Remove(aside)
		return
	}
	_, _ = d.takeAway(aside, f.Place, 0, scan.Executable(info))
}

// builtBefore finds what an interrupted command had built: still beside its place, or in it already.
func (d *Folder) builtBefore(ctx context.Context, f Wanted) (b Built, ok bool, err error) {
	b = Built{Wanted: f}
	name := filepath.FromSlash(f.Place)
	if disk.HalfCopied(d.Disk, PartName(f), name) {
		_ = d.Disk.Remove(name)
	}
	for _, at := range []string{name, PartName(f)} {
		info, err := d.Disk.Lstat(at)
		if err != nil || !info.Mode().IsRegular() || info.Size() != f.Asset.Size {
			continue
		}
		cut, _, err := scan.Read(ctx, d.Disk, filepath.ToSlash(at), nil, nil)
		if err != nil || cut.Content.String() != f.Asset.Content {
			continue
		}
		b.Refs = cut.Refs
		if at == name {
			// In its place: it is what stands there now, and it is noted as it is. A second name of it goes.
			_ = d.Disk.Remove(PartName(f))
			return b, false, d.Index.Update(func(t index.Tx) error {
				return t.SetBase(f.Asset.Path, BaseOf(f.Asset, cut.Stamp), cut.Refs.OrNone())
			})
		}
		return b, true, nil
	}
	return b, false, nil
}

func BaseOf(a model.Asset, stamp index.Stamp) index.Base {
	content, _ := chunk.ParseDigest(a.Content)
	return index.Base{Version: a.Newest, Content: content, Size: a.Size, Executable: a.Executable, Stamp: stamp}
}
