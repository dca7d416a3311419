package disk

import (
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/windows"
)

// Keep is nothing here: each call names the file as a whole.
func (d rootDisk) Keep() (Disk, func()) { return d, func() {} }

// RenameNew is MoveFileEx without the flag that replaces.
func (d rootDisk) RenameNew(from, to string) error {
	a, err := windows.UTF16PtrFromString(d.fullName(from))
	if err != nil {
		return err
	}
	b, err := windows.UTF16PtrFromString(d.fullName(to))
	if err != nil {
		return err
	}
	if err := windows.MoveFileEx(a, b, windows.MOVEFILE_WRITE_THROUGH); err != nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	}
	return nil
}

// Remove falls back to the plain call: the one below os.Root asks for semantics that file systems other than NTFS (and older ones of it) do
// not have.
func (d rootDisk) Remove(name string) error {
	err := d.Root.Remove(name)
	if err == nil || os.IsNotExist(err) {
		return err
	}
	info, lookErr := d.Lstat(name)
	if lookErr != nil || info.Mode()&fs.ModeSymlink != 0 {
		return err
	}
	return os.Remove(d.fullName(name))
}

// Rename falls back in the same way.
func (d rootDisk) Rename(from, to string) error {
	err := d.Root.Rename(from, to)
	if err == nil || os.IsNotExist(err) {
		return err
	}
	if _, lookErr := d.Lstat(from); lookErr != nil {
		return err
	}
	return os.Rename(d.fullName(from), d.fullName(to))
}

// fullName is a name below the root for what only knows full ones.
func (d rootDisk) fullName(name string) string { return filepath.Join(d.Name(), name) }
