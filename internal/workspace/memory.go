package workspace

import (
	"math"
	"runtime/debug"
	"sync"
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

// looks are the looks at whole folders that are under way, and percent is what the collector was set to before the first of them.
var looks struct {
	sync.Mutex
	n, percent int
}

// quiet keeps the collector from beginning until end is called, within the limit on memory: nearly all that a look makes stays until it is
// over, and going through it meanwhile takes a fifth of its time.
func quiet() (end func()) {
	looks.Lock()
	defer looks.Unlock()
	if looks.n++; looks.n == 1 {
		looks.percent = debug.SetGCPercent(-1)
	}
	return func() {
		looks.Lock()
		defer looks.Unlock()
		if looks.n--; looks.n == 0 {
			debug.SetGCPercent(looks.percent)
		}
	}
}
