package scan

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
)

// ErrMoving says that a file did not hold still while it was read.
var ErrMoving = errors.New("it changed while it was read")

// Files is a folder that files are read from.
type Files interface {
	Open(name string) (*os.File, error)
	Lstat(name string) (fs.FileInfo, error)
}

// Read cuts and hashes one file, again from the start where it changed meanwhile, at most three times. The chunks of its base are tried
// first. each, where not nil, gets every chunk, again where it starts again.
func Read(ctx context.Context, root Files, name string, base index.Refs, each func(chunk.Piece, []byte) error) (index.Cut, File, error) {
	hints := chunk.NewHints(base.List())
	for try := 0; ; try++ {
		c, file, err := readOnce(ctx, root, name, hints, each)
		if !errors.Is(err, ErrMoving) || try == 2 {
			return c, file, err
		}
	}
}

func readOnce(ctx context.Context, root Files, name string, hints *chunk.Hints, each func(chunk.Piece, []byte) error) (index.Cut, File,
	error) {
	f, err := root.Open(filepath.FromSlash(name))
	if err != nil {
		return index.Cut{}, File{}, err
	}
	defer f.Close()
	before, err := f.Stat()
	if err != nil {
		return index.Cut{}, File{}, err
	}
	if !before.Mode().IsRegular() {
		return index.Cut{}, File{}, errors.New("it is not a regular file")
	}
	c := index.Cut{Stamp: StampOf(before), Size: before.Size()}
	var refs []chunk.Ref
	err = chunk.Scan(ctx, f, c.Size, hints, runtime.NumCPU(), func(p chunk.Piece, data []byte) error {
		refs, c.Refs = append(refs, p.Ref), c.Refs.Add(p.Ref)
		if each == nil {
			return nil
		}
		return each(p, data)
	})
	if err == io.ErrUnexpectedEOF {
		err = ErrMoving
	}
	if err != nil {
		return index.Cut{}, File{}, err
	}
	c.Content = manifest.Root(refs)
	after, err := root.Lstat(filepath.FromSlash(name))
	if err != nil {
		return index.Cut{}, File{}, err
	}
	if !c.Stamp.Is(StampOf(after)) {
		return index.Cut{}, File{}, ErrMoving
	}
	return c, File{Stamp: c.Stamp, Executable: Executable(before)}, nil
}

// Unreadable is the refusal for a file that can't be read.
func Unreadable(name string, err error) model.Refusal {
	switch {
	case errors.Is(err, ErrMoving):
		return model.Refusal{Path: name, Reason: "changing", Message: name + ": it changed while it was read",
			Remedy: "let the program finish saving, then run the command again"}
	case errors.Is(err, fs.ErrNotExist):
		return model.Refusal{Path: name, Reason: "vanished", Message: name + ": it vanished while the command ran",
			Remedy: "run the command again"}
	}
	return model.Refusal{Path: name, Reason: "unreadable", Message: fmt.Sprintf("%s: it can't be read: %s", name, disk.Cause(err)),
		Remedy: "see that it is yours to read, and that no program holds it"}
}
