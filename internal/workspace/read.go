package workspace

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/scan"
)

// errMoving says that a file did not hold still while it was read.
var errMoving = errors.New("it changed while it was read")

// read cuts and hashes one file of the workspace, again from the start where it changed meanwhile, at most three times. The chunks of
// its base are tried first. each, where not nil, gets every chunk, again where it starts again; it is what sends them.
func (w *Workspace) read(ctx context.Context, name string, base index.Refs, each func(chunk.Piece, []byte) error) (index.Cut, scan.File,
	error) {
	return w.readIn(ctx, w.root, name, base, each)
}

// reads is a folder that files are read from.
type reads interface {
	Open(name string) (*os.File, error)
	Lstat(name string) (fs.FileInfo, error)
}

// readIn is read for a file below another root.
func (w *Workspace) readIn(ctx context.Context, root reads, name string, base index.Refs,
	each func(chunk.Piece, []byte) error) (index.Cut, scan.File, error) {
	hints := chunk.NewHints(base.List())
	for try := 0; ; try++ {
		c, file, err := w.readOnce(ctx, root, name, hints, each)
		if !errors.Is(err, errMoving) || try == 2 {
			return c, file, err
		}
	}
}

func (w *Workspace) readOnce(ctx context.Context, root reads, name string, hints *chunk.Hints,
	each func(chunk.Piece, []byte) error) (index.Cut, scan.File, error) {
	f, err := root.Open(filepath.FromSlash(name))
	if err != nil {
		return index.Cut{}, scan.File{}, err
	}
	defer f.Close()
	before, err := f.Stat()
	if err != nil {
		return index.Cut{}, scan.File{}, err
	}
	if !before.Mode().IsRegular() {
		return index.Cut{}, scan.File{}, errors.New("it is not a regular file")
	}
	c := index.Cut{Stamp: scan.StampOf(before), Size: before.Size()}
	var refs []chunk.Ref
	err = chunk.Scan(ctx, f, c.Size, hints, runtime.NumCPU(), func(p chunk.Piece, data []byte) error {
		refs, c.Refs = append(refs, p.Ref), c.Refs.Add(p.Ref)
		if each == nil {
			w.Progress.Add(int64(p.Size))
			return nil
		}
		return each(p, data)
	})
	if err == io.ErrUnexpectedEOF {
		err = errMoving
	}
	if err != nil {
		return index.Cut{}, scan.File{}, err
	}
	c.Content = manifest.Root(refs)
	after, err := root.Lstat(filepath.FromSlash(name))
	if err != nil {
		return index.Cut{}, scan.File{}, err
	}
	if !c.Stamp.Is(scan.StampOf(after)) {
		return index.Cut{}, scan.File{}, errMoving
	}
	return c, scan.File{Stamp: c.Stamp, Executable: scan.Executable(before)}, nil
}

// unreadable is the refusal for a file that can't be read.
func unreadable(name string, err error) model.Refusal {
	switch {
	case errors.Is(err, errMoving):
		return model.Refusal{Path: name, Reason: "changing", Message: name + ": it changed while it was read",
			Remedy: "let the program finish saving, then run the command again"}
	case errors.Is(err, fs.ErrNotExist):
		return model.Refusal{Path: name, Reason: "vanished", Message: name + ": it vanished while the command ran",
			Remedy: "run the command again"}
	}
	return model.Refusal{Path: name, Reason: "unreadable", Message: fmt.Sprintf("%s: it can't be read: %s", name, disk.Cause(err)),
		Remedy: "see that it is yours to read, and that no program holds it"}
}
