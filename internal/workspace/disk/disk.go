// Package disk is all that a workspace does to its folder. It leaves the folder by no link, and it has one way to put a file where nothing
// stands. What differs by system is in files with its name.
//
// It is not for deciding whether a file may come to its place: that is placing.go of package workspace.
package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
)

// Disk is all that a workspace does to its folder: os.Root, which leaves the folder by no link, and one thing that it lacks. Names are
// relative to the root, with the system's separator. Tests put themselves between, and see or do something before every call.
type Disk interface {
	Lstat(name string) (fs.FileInfo, error)
	Open(name string) (*os.File, error)
	OpenFile(name string, flag int, perm fs.FileMode) (*os.File, error)
	Mkdir(name string, perm fs.FileMode) error
	MkdirAll(name string, perm fs.FileMode) error
	Chmod(name string, mode fs.FileMode) error
	// Rename replaces what stands at to: only for names of the client's own, and for taking a file away from its place.
	Rename(from, to string) error
	// Link fails with fs.ErrExist where something stands at to.
	Link(from, to string) error
	// RenameNew is Rename that fails with fs.ErrExist where something stands at to, and with errors.ErrUnsupported where the system or the
	// file system has no such thing.
	RenameNew(from, to string) error
	Remove(name string) error
	// Keep is the same disk for many files at once: it may keep folders open, until the second value is called.
	Keep() (Disk, func())
	FS() fs.FS
	Close() error
}

// rootDisk is the folder itself.
type rootDisk struct{ *os.Root }

// Open opens a folder.
func Open(root string) (Disk, error) {
	r, err := os.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	return rootDisk{r}, nil
}

// MoveNew moves a file to a place where nothing stands; where something does, also something that came in this moment, it fails with
// fs.ErrExist and changes nothing. from is a name of the client's own: nobody else saves there. Network disks that have no such rename have
// links; memory sticks have neither.
func MoveNew(d Disk, from, to string) error {
	err := d.RenameNew(from, to)
	if !errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	err = d.Link(from, to)
	if err == nil {
		_ = d.Remove(from) // where that can't be done, the file has two names; nothing is ever written into the first
		return nil
	}
	if errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return copyNew(d, from, to)
}

// copyNew is MoveNew for file systems that have neither links nor such a rename: the place is made anew, which fails where something is,
// and filled. Until it is whole, from stays, and recovery tells by it what stands half at to.
func copyNew(d Disk, from, to string) error {
	in, err := d.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	out, err := d.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, info.Mode().Perm())
	if err != nil {
		return err
	}
	if _, err = io.Copy(out, in); err == nil {
		err = out.Sync()
	}
	if closed := out.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return errors.Join(err, d.Remove(to))
	}
	_ = in.Close()
	return d.Remove(from)
}

// HalfCopied reports whether what stands at to is the beginning of from and no more: what a killed copyNew leaves.
func HalfCopied(d Disk, from, to string) bool {
	a, err := d.Open(from)
	if err != nil {
		return false
	}
	defer a.Close()
	b, err := d.Open(to)
	if err != nil {
		return false
	}
	defer b.Close()
	whole, err := a.Stat()
	if err != nil {
		return false
	}
	part, err := b.Stat()
	if err != nil || !part.Mode().IsRegular() || part.Size() >= whole.Size() || os.SameFile(whole, part) {
		return false
	}
	one, two := make([]byte, 64<<10), make([]byte, 64<<10)
	for left := part.Size(); left > 0; {
		n := min(left, int64(len(one)))
		if _, err := io.ReadFull(a, one[:n]); err != nil {
			return false
		}
		if _, err := io.ReadFull(b, two[:n]); err != nil || string(one[:n]) != string(two[:n]) {
			return false
		}
		left -= n
	}
	return true
}
