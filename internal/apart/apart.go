// Package apart reads assets in a process of its own: this program, started once more for one content or two, or, as a [Reader], for one
// content after another, with little memory and little time. What somebody sent may make a reader fail in any way; it takes that process
// with it and nothing else.
//
// A program that has this package in it becomes such a process where its environment says so, before anything else of it runs.
package apart

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime/debug"
	"strings"
	"time"

	"kettletarn/internal/core/media"
)

const mark = "KETTLE_TARN_READS_APART"

// Limits of one process: memory in bytes, and time. MaxDrawn is how many bytes it may give back.
const (
	maxMemory = 2 << 30
	maxTime   = slowness * 90 * time.Second
	MaxDrawn  = 1 << 30
)

// Content is one to be read: its name, and the file that has it.
type Content struct {
	Name string `json:"name"`
	File string `json:"file"`
}

// job is what a process is to do: look at After, or compare it with Before.
type job struct {
	// All says that all that can be drawn is wanted: of one content, not just what lists show of it; of two, also what is drawn of each.
	All    bool     `json:"all,omitempty"`
	Before *Content `json:"before,omitempty"`
	After  Content  `json:"after"`
	// Beside are pictures to be put beside each other, in place of the two.
	Beside []string `json:"beside,omitempty"`
	Edge   int      `json:"edge,omitempty"`
}

func init() {
	if os.Getenv(mark) == "" {
		return
	}
	confine(maxMemory, maxTime)
	debug.SetMemoryLimit(maxMemory * 3 / 4)
	in := json.NewDecoder(os.Stdin)
	for {
		err := serve(in, os.Stdout)
		if err == io.EOF {
			os.Exit(0)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

// ThumbEdges are the sizes, in pixels, that a picture called whole.png comes in besides, as thumb-96.png and so on; the largest is first.
var ThumbEdges = []int{1280, 320, 96}

// listEdges are those of them that lists show.
var listEdges = ThumbEdges[1:]

// serve does the next job; io.EOF says that there is none.
func serve(in *json.Decoder, out io.Writer) error {
	var j job
	if err := in.Decode(&j); err != nil {
		return err
	}
	if len(j.Beside) > 0 {
		return beside(j, out)
	}
	after, close1, err := open(j.After)
	if err != nil {
		return err
	}
	defer close1()
	var report any
	var drawn media.Drawn
	if j.Before == nil {
		var r media.Report
		r, drawn, err = media.Look(after)
		report = r
	} else {
		var before media.Subject
		var close2 func() error
		if before, close2, err = open(*j.Before); err != nil {
			return err
		}
		defer close2()
		report, drawn, err = media.Compare(before, after)
	}
	if err != nil {
		return err
	}
	text, err := json.Marshal(report)
	if err != nil {
		return err
	}
	w := tar.NewWriter(out)
	if err := put(w, Report, text); err != nil {
		return err
	}
	for name, drawing := range drawn {
		if !j.All && (j.Before == nil || strings.HasPrefix(name, media.Before) || strings.HasPrefix(name, media.After)) {
			continue
		}
		data, err := drawing.Bytes()
		if err != nil {
			return err
		}
		if err := put(w, name, data); err != nil {
			return err
		}
	}
	if whole, ok := drawn["whole.png"]; ok && j.Before == nil {
		edges := listEdges
		if j.All {
			edges = ThumbEdges
		}
		list, err := whole.Small(edges...)
		if err != nil {
			return err
		}
		for i, edge := range edges {
			if err := put(w, fmt.Sprintf("thumb-%d.png", edge), list[i]); err != nil {
				return err
			}
		}
	}
	return w.Close()
}

// beside puts pictures beside each other.
func beside(j job, out io.Writer) error {
	var pictures [][]byte
	for _, name := range j.Beside {
		data, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		pictures = append(pictures, data)
	}
	data, err := media.Beside(j.Edge, pictures...)
	if err != nil {
		return err
	}
	w := tar.NewWriter(out)
	if err := put(w, "beside.png", data); err != nil {
		return err
	}
	return w.Close()
}

// Report is the file that says what was found out.
const Report = "report.json"

func put(w *tar.Writer, name string, data []byte) error {
	if err := w.WriteHeader(&tar.Header{Name: name, Size: int64(len(data)), Mode: 0o600}); err != nil {
		return err
	}
	_, err := w.Write(data)
	return err
}

func open(c Content) (media.Subject, func() error, error) {
	f, err := os.Open(c.File)
	if err != nil {
		return media.Subject{}, nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return media.Subject{}, nil, err
	}
	return media.Subject{Name: c.Name, Size: info.Size(), Content: f}, f.Close, nil
}

// ErrFailed is wrapped where the process did not bring its job to an end: it ran out of memory or of time, or broke.
var ErrFailed = errors.New("reading it failed")

// Look looks at a content and calls each with the report and with what lists show of it, small pictures, and with all with every other file
// that can be drawn, too: that takes a multiple of the time.
func Look(ctx context.Context, c Content, all bool, each func(name string, content io.Reader) error) error {
	return run(ctx, job{After: c, All: all}, each)
}

// Compare compares two contents and calls each with the report and with every file that was drawn: of both, and with sides of each of them,
// too.
func Compare(ctx context.Context, before, after Content, sides bool, each func(name string, content io.Reader) error) error {
	return run(ctx, job{Before: &before, After: after, All: sides}, each)
}

// Beside puts pictures (PNG, by their files) beside each other, edge pixels high at most, and calls each with the one that comes of it.
func Beside(ctx context.Context, edge int, files []string, each func(name string, content io.Reader) error) error {
	return run(ctx, job{Beside: files, Edge: edge}, each)
}

func run(ctx context.Context, j job, each func(string, io.Reader) error) error {
	var r Reader
	defer r.Close()
	return r.do(ctx, j, each)
}

// maxJobs is how many contents one process reads, so that what it keeps of them does not add up.
const maxJobs = 200

// A Reader looks at one content after another in one process: for small ones, starting it takes longer than looking. The zero value is
// ready; the process is started when it is first needed, and again where it failed. Not safe for concurrent use.
type Reader struct {
	cmd  *exec.Cmd
	in   io.WriteCloser
	out  io.ReadCloser
	said bytes.Buffer
	jobs int
}

// Fresh reports whether the next content is the first that its process reads: what failed in another process may have failed because of
// what that one had read before.
func (r *Reader) Fresh() bool { return r.cmd == nil }

// Look is Look, in the process of this Reader.
func (r *Reader) Look(ctx context.Context, c Content, all bool, each func(name string, content io.Reader) error) error {
	return r.do(ctx, job{After: c, All: all}, each)
}

// Close ends the process.
func (r *Reader) Close() {
	if r.cmd == nil {
		return
	}
	_ = r.in.Close()
	_, _ = io.Copy(io.Discard, r.out)
	_ = r.cmd.Wait()
	r.cmd = nil
}

func (r *Reader) start() (err error) {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(self)
	cmd.Env = append(systemEnv(), mark+"=1")
	r.said.Reset()
	cmd.Stderr = &limited{to: &r.said, left: 4 << 10}
	if r.in, err = cmd.StdinPipe(); err != nil {
		return err
	}
	if r.out, err = cmd.StdoutPipe(); err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	r.cmd, r.jobs = cmd, 0
	return nil
}

func (r *Reader) do(ctx context.Context, j job, each func(string, io.Reader) error) error {
	text, err := json.Marshal(j)
	if err != nil {
		return err
	}
	if r.cmd == nil {
		if err := r.start(); err != nil {
			return err
		}
	}
	timed, cancel := context.WithTimeout(ctx, maxTime)
	defer cancel()
	process := r.cmd.Process
	stop := context.AfterFunc(timed, func() { _ = process.Kill() })
	_, failed := r.in.Write(append(text, '\n'))
	if failed == nil {
		failed = receive(io.LimitReader(r.out, MaxDrawn), each)
	} else {
		failed = &unfinished{failed}
	}
	if stop() && failed == nil {
		if r.jobs++; r.jobs == maxJobs {
			r.Close()
		}
		return nil
	}
	_ = process.Kill()
	_, _ = io.Copy(io.Discard, r.out)
	_ = r.in.Close()
	err = r.cmd.Wait()
	r.cmd = nil
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case timed.Err() == context.DeadlineExceeded:
		return fmt.Errorf("%w: it took more than %s", ErrFailed, maxTime)
	case failed != nil && !errors.As(failed, new(*unfinished)):
		return failed // of each
	}
	return fmt.Errorf("%w: %v: %s", ErrFailed, err, firstLine(r.said.Bytes()))
}

// systemEnv is what a program of the system can't do without.
func systemEnv() (env []string) {
	for _, name := range []string{"SYSTEMROOT", "TMP", "TEMP", "TMPDIR", "WINEPREFIX"} {
		if value, ok := os.LookupEnv(name); ok {
			env = append(env, name+"="+value)
		}
	}
	return env
}

// unfinished is the error of an answer that was cut off.
type unfinished struct{ error }

func receive(in io.Reader, each func(string, io.Reader) error) error {
	r := tar.NewReader(in)
	for n := 0; ; n++ {
		h, err := r.Next()
		if err == io.EOF && n > 0 {
			return nil
		}
		if err != nil {
			return &unfinished{err}
		}
		if err := each(h.Name, r); err != nil {
			return err
		}
	}
}

func firstLine(text []byte) string {
	line, _, _ := bytes.Cut(text, []byte("\n"))
	return string(line)
}

// limited writes the start of what it gets.
type limited struct {
	to   *bytes.Buffer
	left int
}

func (l *limited) Write(p []byte) (int, error) {
	n := min(len(p), l.left)
	l.left -= n
	l.to.Write(p[:n])
	return len(p), nil
}
