package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"

	"kettletarn/internal/apart"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/scan"
)

// What is done with a file as it is here.

// Openable tells whether a file is of a kind that is looked at and edited: those that the readers know. Anything else might be a program,
// here or on some other system, and files come from others.
func (w *Workspace) Openable(path string) bool {
	if kind := media.KindOf(path); kind == media.Other {
		return false
	}
	info, err := os.Stat(filepath.Join(w.Root, filepath.FromSlash(path)))
	return err == nil && (runtime.GOOS == "windows" || info.Mode()&0o111 == 0)
}

// StampOf is a text that is another one as soon as a file here looks other.
func (w *Workspace) StampOf(path string) (string, error) {
	info, err := w.folder.Disk.Lstat(filepath.FromSlash(path))
	if err != nil || !info.Mode().IsRegular() {
		return "", model.NewProblem(model.NotFound, "bring it down first", "%s is not here", path)
	}
	text, err := json.Marshal(scan.StampOf(info))
	return string(text), err
}

// LookHere looks at a file here in the process of a reader, and gives back what lists show of it, by name; nothing where it can't be read.
func (w *Workspace) LookHere(ctx context.Context, path string, reader *apart.Reader) (map[string][]byte, error) {
	drawn := map[string][]byte{}
	info, err := w.folder.Disk.Lstat(filepath.FromSlash(path))
	if err != nil {
		return nil, fmt.Errorf("%s can't be read: %s", path, disk.Cause(err))
	}
	if !info.Mode().IsRegular() || info.Size() > media.Limit(path) {
		return drawn, nil
	}
	file := apart.Content{Name: path, File: w.folder.Full(filepath.FromSlash(path))}
	err = reader.Look(ctx, file, false, func(name string, content io.Reader) error {
		data, err := io.ReadAll(content)
		if err == nil && name != apart.Report {
			drawn[name] = data
		}
		return err
	})
	if errors.Is(err, apart.ErrFailed) {
		err = nil
	}
	return drawn, err
}
