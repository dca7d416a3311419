//go:build unix

package disk

import (
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// maxKept is how many folders are kept open at once.
const maxKept = 64

// Keep opens each folder once, by way of the root, and goes on from there: what stands in one is reached in one step, however deep it lies.
// A folder that is moved away meanwhile takes with it what is put there.
func (d rootDisk) Keep() (Disk, func()) {
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
	d.close()
}

func (d *keptDisk) close() {
	for name, f := range d.folders {
		_ = f.Close()
		delete(d.folders, name)
	}
}

// folder is the one that a name is in. Whoever asks has the lock as long as it uses it.
func (d *keptDisk) folder(name string) (int, error) {
	name = filepath.Dir(name)
	f := d.folders[name]
	if f == nil {
		var err error
		if f, err = d.rootDisk.Open(name); err != nil {
			return 0, err
		}
		d.folders[name] = f
	}
	return int(f.Fd()), nil
}

// within runs do with the folder that a name is in, and the name there.
func (d *keptDisk) within(op, name string, do func(folder int, base string) error) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.folders) >= maxKept {
		d.close()
	}
	folder, err := d.folder(name)
	if err != nil {
		return err
	}
	for {
		if err := do(folder, filepath.Base(name)); err == nil {
			return nil
		} else if err != unix.EINTR {
			return &fs.PathError{Op: op, Path: name, Err: err}
		}
	}
}

func (d *keptDisk) Lstat(name string) (fs.FileInfo, error) {
	info := &statInfo{name: filepath.Base(name)}
	if err := d.within("lstat", name, func(folder int, base string) error {
		return unix.Fstatat(folder, base, &info.stat, unix.AT_SYMLINK_NOFOLLOW)
	}); err != nil {
		return nil, err
	}
	return info, nil
}

// OpenFile makes new files so; others are opened by way of the root.
func (d *keptDisk) OpenFile(name string, flag int, perm fs.FileMode) (*os.File, error) {
	if flag&os.O_EXCL == 0 {
		return d.rootDisk.OpenFile(name, flag, perm)
	}
	var fd int
	if err := d.within("open", name, func(folder int, base string) (err error) {
		fd, err = unix.Openat(folder, base, flag|unix.O_CLOEXEC|unix.O_NOFOLLOW, uint32(perm.Perm()))
		return err
	}); err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), name), nil
}

// RenameNew is that of rootDisk, in folders that are open.
func (d *keptDisk) RenameNew(from, to string) error {
	return d.within("rename", from, func(a int, old string) error {
		b, err := d.folder(to)
		if err != nil {
			return err
		}
		return newName(renameNew(a, old, b, filepath.Base(to)))
	})
}

// statInfo is what is known of a file.
type statInfo struct {
	name string
	stat unix.Stat_t
}

func (s *statInfo) Name() string       { return s.name }
func (s *statInfo) Size() int64        { return s.stat.Size }
func (s *statInfo) ModTime() time.Time { return time.Unix(0, unix.TimespecToNsec(s.stat.Mtim)) }
func (s *statInfo) IsDir() bool        { return s.Mode().IsDir() }
func (s *statInfo) Sys() any           { return &syscall.Stat_t{Ino: s.stat.Ino} }

func (s *statInfo) Mode() fs.FileMode {
	mode := fs.FileMode(s.stat.Mode & 0o777)
	switch s.stat.Mode & unix.S_IFMT {
	case unix.S_IFREG:
	case unix.S_IFDIR:
		mode |= fs.ModeDir
	case unix.S_IFLNK:
		mode |= fs.ModeSymlink
	default:
		mode |= fs.ModeIrregular
	}
	return mode
}
