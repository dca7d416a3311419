// Package desk is the console of one's own machine: one process a person that watches all their workspaces, serves the console on
// loopback joined to them, and speaks one local interface with its page and with editors (docs/editor-interface.md). It prints nothing.
package desk

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/adrg/xdg"
	"github.com/gofrs/flock"

	"kettletarn/internal/core/model"
)

// Options say with what a desk works.
type Options struct {
	// Console holds the console's built files, index.html among them.
	Console fs.FS
	// Version is that of the program.
	Version string
	// Open opens a file in its program, and a page in the browser.
	Open func(what string) error
	// Notice shows a notice of a watch on the desktop; nil shows none.
	Notice func(ctx context.Context, s Shown)
	Log    *slog.Logger
}

// Desk is that process. Safe for concurrent use.
type Desk struct {
	o Options
	// host is the name under which browsers reach it, with the port: see door.
	host  string
	key   string
	doors doors

	group   sync.WaitGroup
	mu      sync.Mutex
	watched map[string]*watched
	looks   looks
	changed chan struct{}
}

// lookTime is how often it is looked whether there are other workspaces on this machine now.
const lookTime = 5 * time.Second

func folder() string { return filepath.Join(xdg.StateHome, "kettle-tarn", "desk") }

// Run is the desk of the person who runs it, until ctx ends or it is told to end. started is called once it can be reached.
func Run(ctx context.Context, o Options, started func()) error {
	if err := os.MkdirAll(folder(), 0o700); err != nil {
		return err
	}
	lock := flock.New(filepath.Join(folder(), "running"))
	if ok, err := lock.TryLock(); err != nil {
		return err
	} else if !ok {
		return model.NewProblem(model.Taken, "tarn desk opens it", "your desk runs on this machine already")
	}
	defer func() { _ = lock.Unlock() }()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	_, port, err := net.SplitHostPort(listener.Addr().String())
	if err != nil {
		return err
	}
	d := &Desk{o: o, key: rand.Text(), host: "desk-" + strings.ToLower(rand.Text()) + ".localhost:" + port,
		watched: map[string]*watched{}, changed: make(chan struct{}, 1), doors: doors{tickets: map[string]ticket{}, sessions: map[string]bool{}}}
	defer d.looks.close()
	server := &http.Server{Handler: d.handler(ctx, stop), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10, ErrorLog: slog.NewLogLogger(o.Log.Handler(), slog.LevelWarn), BaseContext: func(net.Listener) context.Context {
			return ctx
		}}
	at := Address{At: "http://" + listener.Addr().String(), Key: d.key, Version: o.Version, Process: os.Getpid()}
	at.Program, at.Built = program()
	if err := at.write(); err != nil {
		_ = listener.Close()
		return err
	}
	defer forgetAddress(d.key)
	d.group.Go(func() {
		<-ctx.Done()
		last, stop := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer stop()
		if server.Shutdown(last) != nil {
			_ = server.Close()
		}
	})
	d.group.Go(func() { d.gather(ctx) })
	if started != nil {
		started()
	}
	err = server.Serve(listener)
	stop()
	d.group.Wait()
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return err
}
