//go:build !windows

package scan

import (
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"

	"kettletarn/internal/workspace/index"
)

func inode(info fs.FileInfo) uint64 {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return s.Ino
	}
	return 0
}

// Executable is the owner's bit: the one that a program is run by.
func Executable(info fs.FileInfo) bool { return info.Mode()&0o100 != 0 }

// KeepsExecutable says that the system keeps such a bit.
const KeepsExecutable = true

// glance looks at one entry of an open folder, without following links. It is what a look at a hundred thousand files consists of: no path
// is put together, and nothing is allocated.
func glance(folder *os.File, entry fs.DirEntry) (f File, regular bool, err error) {
	var s unix.Stat_t
	if err := unix.Fstatat(int(folder.Fd()), entry.Name(), &s, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return f, false, &fs.PathError{Op: "stat", Path: entry.Name(), Err: err}
	}
	f.Stamp = index.Stamp{Size: s.Size, Time: unix.TimespecToNsec(s.Mtim), Inode: s.Ino}
	f.Executable = s.Mode&0o100 != 0
	return f, s.Mode&unix.S_IFMT == unix.S_IFREG, nil
}
