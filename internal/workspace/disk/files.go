package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// WriteSynced writes a small file of the state folder, whole and durable before it has its name.
func WriteSynced(name string, text []byte) error {
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

// Move renames, or copies where the two are on different file systems. The copy is whole before the first is removed.
func Move(from, to string) error {
	if err := os.Rename(from, to); err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return err
	}
	if err := CopyFile(from, to); err != nil {
		_ = os.Remove(to)
		return err
	}
	return os.Remove(from)
}

func CopyFile(from, to string) (err error) {
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
