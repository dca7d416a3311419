//go:build unix

package workspace

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
	err = renameNew(int(a.Fd()), filepath.Base(from), int(b.Fd()), filepath.Base(to))
	switch {
	case err == nil:
		return nil
	case errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOTSUP):
		return errors.ErrUnsupported
	}
	return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
}
