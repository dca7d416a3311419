package disk

import (
	"os"

	"golang.org/x/sys/unix"
)

// Soon has the system begin to write out n bytes of a file from start on, or all behind start where n is 0, and does not wait for it. It
// promises nothing: what it saves is waiting in [SyncFiles].
func Soon(f *os.File, start, n int64) {
	_ = unix.SyncFileRange(int(f.Fd()), start, n, unix.SYNC_FILE_RANGE_WRITE)
}
