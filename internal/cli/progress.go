package cli

import (
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"kettletarn/internal/workspace"
)

// newProgress shows a bar on a terminal, and elsewhere plain lines, for work that takes longer than a moment.
func newProgress(errs io.Writer) workspace.Progress {
	if f, ok := errs.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return &bar{out: errs}
	}
	return &lines{out: errs}
}

// bar is a bar with percent, speed and time left.
type bar struct {
	out io.Writer
	mu  sync.Mutex
	bar *progressbar.ProgressBar
}

func (b *bar) Start(what string, total int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.bar = progressbar.NewOptions64(total, progressbar.OptionSetWriter(b.out), progressbar.OptionSetDescription(what),
		progressbar.OptionShowBytes(true), progressbar.OptionShowTotalBytes(true), progressbar.OptionUseIECUnits(true), progressbar.OptionSetPredictTime(true),
		progressbar.OptionSetWidth(24), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionClearOnFinish(), progressbar.OptionSetRenderBlankState(false))
}

func (b *bar) Add(n int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.bar != nil {
		_ = b.bar.Add64(n)
	}
}

func (b *bar) Done() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.bar != nil {
		_ = b.bar.Clear()
		b.bar = nil
	}
}

// lines prints a line every few seconds.
type lines struct {
	out   io.Writer
	mu    sync.Mutex
	what  string
	total int64
	done  int64
	start time.Time
	last  time.Time
}

const linesEvery = 3 * time.Second

func (l *lines) Start(what string, total int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.what, l.total, l.done, l.start, l.last = what, total, 0, time.Now(), time.Now()
}

func (l *lines) Add(n int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.done += n
	if l.what == "" || time.Since(l.last) < linesEvery {
		return
	}
	l.last = time.Now()
	passed := time.Since(l.start).Seconds()
	speed := float64(l.done) / passed
	if l.total <= 0 || speed <= 0 {
		fmt.Fprintf(l.out, "%s: %s\n", l.what, size(l.done))
		return
	}
	left := time.Duration(float64(l.total-l.done) / speed * float64(time.Second)).Round(time.Second)
	fmt.Fprintf(l.out, "%s: %d%%, %s of %s, %s/s, %s left\n", l.what, min(100, l.done*100/l.total), size(l.done), size(l.total), size(int64(speed)), max(left, 0))
}

func (l *lines) Done() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.what = ""
}
