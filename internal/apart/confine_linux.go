package apart

import (
	"time"

	"golang.org/x/sys/unix"
)

// confine bounds this process: its memory (setrlimit(2), RLIMIT_DATA counts what is mapped to be written), its time on a processor, no
// file of its own; and lets others go first.
func confine(memory uint64, time time.Duration) {
	for kind, limit := range map[int]uint64{unix.RLIMIT_DATA: memory, unix.RLIMIT_CPU: uint64(time.Seconds()), unix.RLIMIT_FSIZE: 0,
		unix.RLIMIT_CORE: 0} {
		_ = unix.Setrlimit(kind, &unix.Rlimit{Cur: limit, Max: limit})
	}
	_ = unix.Setpriority(unix.PRIO_PROCESS, 0, 10)
}
