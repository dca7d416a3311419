package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/dustin/go-humanize"
)

// How long a desk is left alone before it is looked at, and how long it is watched doing nothing.
const (
	deskRest = 20 * time.Second
	deskIdle = time.Minute
)

// desk is S15: the desk's first page over very many files, how soon an edit shows there, and what a desk with nothing to do takes.
func (b *bench) desk(files int) error {
	key := b.freshKey()
	work := filepath.Join(b.folder, key)
	fmt.Println("desk: sending the files first …")
	if err := manyFiles(work, files); err != nil {
		return err
	}
	if _, err := b.tarn(work, "", "start", key, "--yes", "--json"); err != nil {
		return err
	}
	pid, tab, stop, err := b.atDesk()
	if err != nil {
		return err
	}
	defer stop()
	var paint, status series
	for range b.runs {
		took, err := b.firstPaint(tab)
		if err != nil {
			return err
		}
		paint = append(paint, took)
		start := time.Now()
		r, err := b.tarn(work, "", "status")
		if err != nil {
			return err
		}
		status = append(status, sample{time: time.Since(start), cpu: r.CPU})
	}
	of := humanize.Comma(int64(files)) + " files in the workspace"
	b.row("S15", "My work is there, "+of, fmt.Sprintf("%.0f ms", 1000*paint.median()), "`tarn status` beside it "+status.String(), "", "1 s",
		paint.median() <= 1)
	var seen series
	for i := range 10 {
		took, err := b.editShows(tab, work, i)
		if err != nil {
			return err
		}
		seen = append(seen, took)
	}
	b.row("S15", "an edit shows there, "+of, fmt.Sprintf("%.0f ms", 1000*seen.median()), "none",
		fmt.Sprintf("%.0f ms at most", 1000*slices.Max(seen.times())), "300 ms", seen.median() <= 0.3)
	if err := os.RemoveAll(work); err != nil {
		return err
	}
	return b.idleDesk(pid)
}

// atDesk starts a desk, and opens it in a browser.
func (b *bench) atDesk() (pid int, tab context.Context, stop func(), err error) {
	r, err := b.tarn(b.folder, "", "desk", "--no-open", "--json")
	if err != nil {
		return 0, nil, nil, err
	}
	var at struct {
		Link    string
		Process int
	}
	if err := json.Unmarshal([]byte(r.Out), &at); err != nil {
		return 0, nil, nil, err
	}
	tab, close, err := b.chromium()
	stop = func() {
		close()
		_ = syscall.Kill(at.Process, syscall.SIGTERM)
	}
	if err == nil {
		ctx, cancel := context.WithTimeout(tab, 5*time.Minute) // it looks through all files first
		defer cancel()
		err = chromedp.Do(ctx, chromedp.Navigate(at.Link), chromedp.WaitVisible(`//p[contains(., "Nothing has changed here")]`))
	}
	if err != nil {
		stop()
	}
	return at.Process, tab, stop, err
}

// firstPaint loads the page anew, and says when what it says of the workspace is there.
func (b *bench) firstPaint(tab context.Context) (sample, error) {
	ctx, cancel := context.WithTimeout(tab, time.Minute)
	defer cancel()
	if err := chromedp.Do(ctx, chromedp.Reload()); err != nil {
		return sample{}, err
	}
	ms, err := chromedp.Run(ctx, chromedp.Evaluate[float64](`(async () => {
		while (!document.body.innerText.includes("Nothing has changed here")) await new Promise(requestAnimationFrame);
		return performance.now();
	})()`, chromedp.EvalAwaitPromise))
	return sample{time: time.Duration(ms * float64(time.Millisecond))}, err
}

// editShows changes a file, and says how long it took until the page had it.
func (b *bench) editShows(tab context.Context, work string, i int) (sample, error) {
	ctx, cancel := context.WithTimeout(tab, time.Minute)
	defer cancel()
	name := fmt.Sprintf("d%03d/f%06d.bin", i, i)
	start := time.Now()
	if err := os.WriteFile(filepath.Join(work, filepath.FromSlash(name)), []byte("edited "+strconv.Itoa(i)), 0o644); err != nil {
		return sample{}, err
	}
	at, err := chromedp.Run(ctx, chromedp.Evaluate[float64](fmt.Sprintf(`(async () => {
		while (!document.body.innerText.includes(%q)) await new Promise(requestAnimationFrame);
		return Date.now();
	})()`, name), chromedp.EvalAwaitPromise))
	return sample{time: time.UnixMilli(int64(at)).Sub(start)}, err
}

// idleDesk is what a desk takes that has ten workspaces and nothing to do.
func (b *bench) idleDesk(pid int) error {
	const workspaces, files = 10, 10_000
	key := b.freshKey()
	first := filepath.Join(b.folder, key)
	if err := manyFiles(first, files); err != nil {
		return err
	}
	if _, err := b.tarn(first, "", "start", key, "--yes", "--json"); err != nil {
		return err
	}
	for i := 1; i < workspaces; i++ {
		if _, err := b.tarn(b.folder, "", "join", key, filepath.Join(b.folder, fmt.Sprint(key, "-", i)), "--json"); err != nil {
			return err
		}
	}
	time.Sleep(deskRest)
	before := treeCPU(pid)
	time.Sleep(deskIdle)
	part := (treeCPU(pid) - before).Seconds() / deskIdle.Seconds()
	resident, err := residentBytes(pid)
	if err != nil {
		return err
	}
	b.row("S15", fmt.Sprintf("a desk with nothing to do, %d workspaces of %s files", workspaces, humanize.Comma(files)),
		fmt.Sprintf("%.2f %% of a core, %d MiB", 100*part, resident>>20), "none", "", "1 %, 300 MiB (ours)", part <= 0.01 && resident <= 300<<20)
	for i := range workspaces {
		name := first
		if i > 0 {
			name = fmt.Sprint(first, "-", i)
		}
		if err := os.RemoveAll(name); err != nil {
			return err
		}
	}
	return nil
}

// residentBytes is what a process has in memory.
func residentBytes(pid int) (int64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			n, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			return n << 10, err
		}
	}
	return 0, fmt.Errorf("nothing is said of the memory of process %d", pid)
}
