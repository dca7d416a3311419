package scan

import (
	"fmt"
	"io/fs"

	"golang.org/x/sys/unix"
)

// IdentityOf tells a file from every copy of it: its inode, and when that was made (statx(2)), where the file system keeps that. Neither
// changes when the file or a folder above it is moved within its file system.
func IdentityOf(name string) (string, error) {
	var s unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, name, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_INO|unix.STATX_BTIME, &s); err != nil {
		return "", &fs.PathError{Op: "statx", Path: name, Err: err}
	}
	made := int64(0)
	if s.Mask&unix.STATX_BTIME != 0 {
		made = s.Btime.Sec*1e9 + int64(s.Btime.Nsec)
	}
	return fmt.Sprintf("%d-%d", s.Ino, made), nil
}
