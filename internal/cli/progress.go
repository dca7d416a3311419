package cli

import (
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"golang.org/x/term"

	"kettletarn/internal/workspace"
)

// meter shows how far long work is: on a terminal one line that is written again and again, elsewhere a line now and then.
type meter struct {
	out      io.Writer
	terminal bool
	every    time.Duration
	now      func() time.Time

	mu    sync.Mutex
	timer *time.Timer
	what  string
	total int64
	done  int64
	start time.Time
	last  time.Time
	shown bool
	// marks are how much was done when, over the last seconds: what is said of speed is of those.
	marks []mark
}

type mark struct {
	at   time.Time
	done int64
}

const (
	linesEvery = 3 * time.Second
	barEvery   = 150 * time.Millisecond
	speedOver  = 5 * time.Second
	// soon is after which time work that counts nothing says that it is going on.
	soon = time.Second
)

func newProgress(errs io.Writer) workspace.Progress {
	f, ok := errs.(*os.File)
	m := &meter{out: errs, terminal: ok && term.IsTerminal(int(f.Fd())), every: linesEvery, now: time.Now}
	if m.terminal {
		m.every = barEvery
	}
	return m
}

func (m *meter) Start(what string, total int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	at := m.now()
	m.what, m.total, m.done, m.start, m.last, m.shown, m.marks = what, total, 0, at, at, false, []mark{{at, 0}}
	if m.timer != nil {
		m.timer.Stop()
	}
	m.timer = time.AfterFunc(soon, func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		if m.what != "" && !m.shown {
			m.show()
		}
	})
}

func (m *meter) Add(n int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.done += n
	if m.what == "" || m.now().Sub(m.last) < m.every {
		return
	}
	m.show()
}

// show writes the line. It is called with the mutex.
func (m *meter) show() {
	at := m.now()
	m.last, m.shown = at, true
	m.marks = append(m.marks, mark{at, m.done})
	for len(m.marks) > 2 && at.Sub(m.marks[0].at) > speedOver {
		m.marks = m.marks[1:]
	}
	if m.terminal {
		fmt.Fprintf(m.out, "\r\x1b[K%s", m.line(at))
		return
	}
	fmt.Fprintln(m.out, m.line(at))
}

// fastest is the most that a line, a disk or a processor moves in a second. What looks faster was not moved, but found to be there.
const fastest = 10 << 30

func (m *meter) line(at time.Time) string {
	switch {
	case m.done == 0:
		return m.what + " …"
	case m.total <= 0:
		return fmt.Sprintf("%s: %s", m.what, size(m.done))
	}
	line := fmt.Sprintf("%s: %d%%, %s of %s", m.what, min(100, m.done*100/m.total), size(min(m.done, m.total)), size(m.total))
	passed := at.Sub(m.marks[0].at).Seconds()
	if at.Sub(m.start) < soon || passed < 0.5 {
		return line
	}
	speed := float64(m.done-m.marks[0].done) / passed
	if speed < 1 || speed > fastest {
		return line
	}
	line += fmt.Sprintf(", %s/s", size(int64(speed)))
	if left := time.Duration(float64(max(m.total-m.done, 0)) / speed * float64(time.Second)); left > 0 {
		line += ", " + leftWord(left) + " left"
	}
	return line
}

// leftWord is how long something takes, as exactly as that can be known.
func leftWord(d time.Duration) string {
	switch {
	case d < time.Second:
		return "a second"
	case d < 100*time.Second:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 24*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return "more than a day"
}

func (m *meter) Done() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.timer != nil {
		m.timer.Stop()
	}
	if m.terminal && m.shown {
		fmt.Fprint(m.out, "\r\x1b[K")
	}
	m.what = ""
}
