package workspace

import (
	"math"
	"runtime/debug"
)

// perFile is what a look at the folder, and a send or update of all of it, may take for one file, in bytes.
const perFile = 3 << 10

// spare raises the soft limit on memory that a program has set for itself, so that the number of files does not fill it: a collector that
// has no room is never done. However large the files are, it stays as it is.
func spare(files int) {
	if files < 10_000 {
		return
	}
	if limit := debug.SetMemoryLimit(-1); limit < math.MaxInt64 && limit < int64(files)*perFile {
		debug.SetMemoryLimit(limit + int64(files)*perFile)
	}
}
