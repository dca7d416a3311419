package placing

import (
	"os"

	"golang.org/x/sys/unix"
)

// beingWritten reports whether a program has a file open for writing. The system grants a read lease (fcntl(2), F_SETLEASE) only where none
// has; where leases are not known (some network file systems), nothing can be said, and the answer is no.
func beingWritten(name string) bool {
	f, err := os.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	_, err = unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_RDLCK)
	if err == nil {
		_, _ = unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_UNLCK)
	}
	return err == unix.EAGAIN
}
