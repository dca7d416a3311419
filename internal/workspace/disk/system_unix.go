//go:build unix

package disk

import (
	"errors"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// RenameNew is the system's rename that replaces nothing, in folders that were opened below the root.
func (d rootDisk) RenameNew(from, to string) error {
	a, err := d.Open(filepath.Dir(from))
	if err != nil {
		return err
	}
	defer a.Close()
	b, err := d.Open(filepath.Dir(to))
	if err != nil {
		return err
	}
	defer b.Close()
	err = newName(renameNew(int(a.Fd()), filepath.Base(from), int(b.Fd()), filepath.Base(to)))
	if err != nil && err != errors.ErrUnsupported {
		err = &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	}
	return err
}

// newName tells a system that has no such rename from one that refuses it.
func newName(err error) error {
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOTSUP) {
		return errors.ErrUnsupported
	}
	return err
}
