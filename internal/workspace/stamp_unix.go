//go:build !windows

package workspace

import (
	"io/fs"
	"syscall"
)

func inode(info fs.FileInfo) uint64 {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return s.Ino
	}
	return 0
}

// executable is the owner's bit: the one that a program is run by.
func executable(info fs.FileInfo) bool { return info.Mode()&0o100 != 0 }

// keepsExecutable says that the system keeps such a bit.
const keepsExecutable = true
