package apart

import (
	"os"
	"syscall"
	"testing"
)

// largestChild is how much memory, in bytes, the process that took most of those that ended took (getrusage(2); Linux counts in KiB).
func largestChild(t *testing.T) int64 {
	t.Helper()
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_CHILDREN, &u); err != nil {
		t.Fatal(err)
	}
	return u.Maxrss << 10
}

func read(t *testing.T, path string) []byte {
	t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return data
}
