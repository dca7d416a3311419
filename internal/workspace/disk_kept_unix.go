//go:build unix

package workspace

import (
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"golang.org/x/sys/unix"
)

// maxKept is how many folders are kept open at once.
const maxKept = 64

// Keep opens each folder once, by way of the root, and goes on from there: what stands in one is reached in one step, however deep it lies.
// A folder that is moved away meanwhile takes with it what is put there.
func (d rootDisk) Keep() (disk, func()) {
	k := &keptDisk{rootDisk: d, folders: map[string]*os.File{}}
	return k, k.end
}

type keptDisk struct {
	rootDisk
	mu      sync.Mutex
	folders map[string]*os.File
}

func (d *keptDisk) end() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for name, f := range d.folders {
		_ = f.Close()
		delete(d.folders, name)
	}
}

// within runs do with the folder that a name is in, open, and the name there.
func (d *keptDisk) within(op, name string, do func(folder int, base string) error) error {
	folder, base := filepath.Dir(name), filepath.Base(name)
	d.mu.Lock()
	defer d.mu.Unlock()
	f := d.folders[folder]
	if f == nil {
		var err error
		if f, err = d.rootDisk.Open(folder); err != nil {
			return err
		}
		if len(d.folders) >= maxKept {
			for other, old := range d.folders {
				_ = old.Close()
				delete(d.folders, other)
				break
			}
		}
		d.folders[folder] = f
	}
	for {
		err := do(int(f.Fd()), base)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return &fs.PathError{Op: op, Path: name, Err: err}
		}
		return nil
	}
}

func (d *keptDisk) Lstat(name string) (fs.FileInfo, error) {
	info := &statInfo{name: filepath.Base(name)}
	err := d.within("lstat", name, func(folder int, base string) error {
		return unix.Fstatat(folder, base, &info.stat, unix.AT_SYMLINK_NOFOLLOW)
	})
	return info, err
}

func (d *keptDisk) OpenFile(name string, flag int, perm fs.FileMode) (*os.File, error) {
	if flag&os.O_EXCL == 0 {
		return d.rootDisk.OpenFile(name, flag, perm)
	}
	var fd int
	err := d.within("open", name, func(folder int, base string) (err error) {
		fd, err = unix.Openat(folder, base, flag|unix.O_CLOEXEC|unix.O_NOFOLLOW, uint32(perm.Perm()))
		return err
	})
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), d.fullName(name)), nil
}

func (d *keptDisk) Remove(name string) error {
	err := d.within("unlink", name, func(folder int, base string) error { return unix.Unlinkat(folder, base, 0) })
	if err != nil && !os.IsNotExist(err) {
		return d.rootDisk.Remove(name) // a folder
	}
	return err
}

func (d *keptDisk) RenameNew(from, to string) error {
	err := d.within("open", from, func(a int, old string) error {
		a, err := unix.FcntlInt(uintptr(a), unix.F_DUPFD_CLOEXEC, 0) // the other folder may take its place
		if err != nil {
			return err
		}
		defer unix.Close(a)
		return nil
	})
	_ = err
	return d.rootDisk.RenameNew(from, to)
}
