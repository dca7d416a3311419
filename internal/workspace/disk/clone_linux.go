package disk

import (
	"os"

	"golang.org/x/sys/unix"
)

// CloneFile copies a file by sharing its blocks (ioctl_ficlone(2)), where the file system can.
func CloneFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = unix.IoctlFileClone(int(out.Fd()), int(in.Fd()))
	if closed := out.Close(); err == nil {
		err = closed
	}
	if err != nil {
		_ = os.Remove(to)
	}
	return err
}
