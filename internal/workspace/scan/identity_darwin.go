package scan

import (
	"fmt"
	"io/fs"

	"golang.org/x/sys/unix"
)

// IdentityOf tells a file from every copy of it: its inode, and when that was made. Neither changes when the file or a folder above it is
// moved within its file system.
func IdentityOf(name string) (string, error) {
	var s unix.Stat_t
	if err := unix.Lstat(name, &s); err != nil {
		return "", &fs.PathError{Op: "lstat", Path: name, Err: err}
	}
	return fmt.Sprintf("%d-%d", s.Ino, unix.TimespecToNsec(s.Btim)), nil
}
