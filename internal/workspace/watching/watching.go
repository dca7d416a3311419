// Package watching stays in a workspace: it sees what changes there as it does, hears what happens at the service, and does what follows
// from both. Locks are taken on the first edit, others are told of unsent changes, what was put into the outbox is sent, and news is said.
package watching

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/gofrs/flock"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace"
	"kettletarn/internal/workspace/scan"
)

// Options say how to watch. Poll, where it is not 0, is how often the folder is looked at, in place of being told by the system.
type Options struct {
	AutoUpdate bool
	Poll       time.Duration
	// Seen, where not nil, is told how the workspace stands, each time that this is looked at anew, and whether the service is there. What it
	// gets is not to be changed.
	Seen func(s *workspace.Status, online bool)
}

// Notice is one thing that a watch has to say. Kind is a stable word; News is the kind of news that it is, and Yours that it concerns one
// oneself.
type Notice struct {
	At      time.Time `json:"at"`
	Kind    string    `json:"kind"`
	Message string    `json:"message"`
	Paths   []string  `json:"paths,omitempty"`
	Person  string    `json:"person,omitempty"`
	Handoff int       `json:"handoff,omitempty"`
	News    string    `json:"news,omitempty"`
	Yours   bool      `json:"yours,omitempty"`
}

// How long a watch waits for a flurry of changes to end, how often it looks at the whole folder where the system can't tell of changes,
// and how long it waits before it tries the service again.
const (
	settleTime = 100 * time.Millisecond
	pollTime   = 5 * time.Second
	retryTime  = 3 * time.Second
	fewPaths   = 500
	// manyPaths is the same for paths that the service tells of: a folder is not looked through for what happens elsewhere.
	manyPaths = 20_000
	// togetherTime is how long it is waited before the service is asked again.
	togetherTime = 300 * time.Millisecond
	echoLimit    = 2 * time.Second
)

// watcher is one run of Run. It looks at the folder again where something changed, and does what follows from that; a saving program
// never waits for it, and it never waits for the network before it looks again.
type watcher struct {
	w     *workspace.Workspace // looks at the folder
	hand  *workspace.Workspace // acts at the service
	ear   *workspace.Workspace // hears the news
	o     Options
	say   func(Notice)
	watch *fsnotify.Watcher // nil where it polls

	mu     sync.Mutex
	dirty  map[string]bool
	told   map[string]bool // paths of which something else is known by the service
	all    bool            // look at everything
	echoes map[string]chan struct{}
	status *workspace.Status
	seen   int // the counter of the index as it was looked at

	work     chan struct{} // something is to be looked at
	act      chan struct{} // something may be to be done at the service
	online   bool
	retry    bool              // what was refused before may be granted now
	tried    map[string]string // why each lock on edit was not got
	said     map[string]string // what was said of each path
	kits     map[string]bool   // what was said of assets that come from kits
	cut      bool              // the service was looked for, and is away
	away     map[string]bool   // what was edited without its lock meanwhile
	outgoing chan struct{}
	fetch    chan struct{} // there is something new at the service
}

// Run stays in a workspace until ctx ends, and says what there is to say. One watch runs in a workspace.
func Run(ctx context.Context, w *workspace.Workspace, o Options, say func(Notice)) error {
	lock := flock.New(filepath.Join(w.State(), "watching"))
	if ok, err := lock.TryLock(); err != nil {
		return err
	} else if !ok {
		return model.NewProblem(model.Taken, "leave it running; tarn status says what it knows", "tarn watch runs in this workspace already")
	}
	defer func() { _ = lock.Unlock() }()
	w.Unobtrusive()
	var mu sync.Mutex
	r := &watcher{w: w, o: o, dirty: map[string]bool{}, told: map[string]bool{}, all: true, fetch: make(chan struct{}, 1),
		echoes: map[string]chan struct{}{}, work: make(chan struct{}, 1),
		act: make(chan struct{}, 1), outgoing: make(chan struct{}, 1),
		tried: map[string]string{}, said: map[string]string{}, kits: map[string]bool{}, away: map[string]bool{}}
	for _, other := range []**workspace.Workspace{&r.hand, &r.ear} {
		opened, err := w.Again()
		if err != nil {
			return err
		}
		defer opened.Close()
		opened.Unobtrusive()
		*other = opened
	}
	r.say = func(n Notice) {
		mu.Lock()
		defer mu.Unlock()
		n.At = time.Now().UTC().Truncate(time.Second)
		say(n)
	}
	if o.Poll == 0 {
		r.listen()
	}
	if r.watch != nil {
		defer r.watch.Close()
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var group sync.WaitGroup
	defer group.Wait()
	defer stop()
	answering, err := w.Answering(ctx, &group, r.upToDate)
	if err != nil {
		return err
	}
	defer answering()
	if r.watch != nil {
		group.Go(func() { r.hear(ctx) })
	}
	group.Go(func() { r.news(ctx) })
	group.Go(func() { r.fetching(ctx) })
	group.Go(func() { r.acting(ctx) })
	group.Go(func() { r.sending(ctx) })
	return r.looking(ctx)
}

// listen asks the system to tell of changes. Where it can't (too many folders, a network disk), the watch polls.
func (r *watcher) listen() {
	watch, err := fsnotify.NewBufferedWatcher(4096)
	if err == nil {
		r.watch = watch
		if err = watch.Add(r.w.State()); err == nil {
			err = r.add("")
		}
	}
	if err != nil {
		if watch != nil {
			_ = watch.Close()
		}
		r.watch = nil
		r.say(Notice{Kind: "polling", Message: fmt.Sprintf("the system does not tell of changes here (%v); the folder is looked at every %s", err,
			pollTime)})
	}
}

// add listens to a folder and those in it, but for those that are left out.
func (r *watcher) add(rel string) error {
	scan, _ := scan.New(r.w.Root)
	return filepath.WalkDir(filepath.Join(r.w.Root, filepath.FromSlash(rel)), func(full string, d os.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return nil
		}
		name, err := filepath.Rel(r.w.Root, full)
		if err != nil {
			return err
		}
		if name != "." {
			folded := assetpath.Fold(d.Name())
			if _, shut := scan.Rules.Shut(filepath.ToSlash(name)); shut || folded == ".git" || strings.HasPrefix(folded, assetpath.ReservedPrefix) {
				return filepath.SkipDir
			}
		}
		return r.watch.Add(full)
	})
}

// hear notes what the system tells of.
func (r *watcher) hear(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case err := <-r.watch.Errors:
			if err != nil {
				r.mark("", true) // events were lost
			}
		case e, ok := <-r.watch.Events:
			if !ok {
				return
			}
			r.heard(e)
		}
	}
}

func (r *watcher) heard(e fsnotify.Event) {
	rel, err := filepath.Rel(r.w.Root, e.Name)
	if err != nil || strings.HasPrefix(rel, "..") {
		if filepath.Base(e.Name) == "index" {
			r.wake(r.work)
		}
		if filepath.Base(e.Name) == "outbox" {
			r.wake(r.outgoing)
		}
		return
	}
	name := filepath.ToSlash(rel)
	base := path.Base(name)
	if strings.HasPrefix(base, workspace.EchoPrefix) {
		r.mu.Lock()
		if c, ok := r.echoes[base]; ok && e.Has(fsnotify.Create) {
			close(c)
			delete(r.echoes, base)
		}
		r.mu.Unlock()
		return
	}
	if first, _, _ := strings.Cut(name, "/"); first == ".git" || strings.HasPrefix(first, assetpath.ReservedPrefix) {
		return
	}
	if e.Has(fsnotify.Create) {
		if info, err := os.Lstat(e.Name); err == nil && info.IsDir() {
			_ = r.add(name)
		}
	}
	r.mark(name, base == ".gitignore" || name == rules.File)
}

func (r *watcher) mark(name string, all bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.all = r.all || all
	if name != "" {
		r.dirty[name] = true
	}
	r.wake(r.work)
}

func (r *watcher) wake(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// looking looks again wherever something changed, until ctx ends.
func (r *watcher) looking(ctx context.Context) error {
	every := pollTime
	if r.o.Poll > 0 {
		every = r.o.Poll
	}
	tick := time.NewTicker(every)
	defer tick.Stop()
	if _, err := r.current(ctx); err != nil && ctx.Err() == nil {
		return err
	}
	r.say(Notice{Kind: "watching", Message: fmt.Sprintf("watching %s in %s", r.w.Marker.Project, r.w.Root)})
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-r.work:
			// A program that saves does so in many steps.
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(settleTime):
			}
		case <-tick.C:
			if r.watch != nil {
				continue
			}
			r.mark("", true)
		}
		if _, err := r.current(ctx); err != nil && ctx.Err() == nil {
			r.say(Notice{Kind: "error", Message: err.Error()})
		}
	}
}

// current is the status as of now: looked at again where something changed since.
func (r *watcher) current(ctx context.Context) (*workspace.Status, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	counter := r.w.Writes()
	if r.status != nil && !r.all && len(r.dirty)+len(r.told) == 0 && counter == r.seen {
		return r.status, nil
	}
	var s *workspace.Status
	var err error
	if r.status == nil || r.all || counter != r.seen || len(r.dirty) > fewPaths || len(r.told) > manyPaths {
		s, err = r.w.Status(ctx, workspace.Question{LeftOut: true})
	} else {
		s, err = r.again(ctx)
	}
	if err != nil {
		return nil, err
	}
	r.status, r.seen, r.all = s, counter, false
	clear(r.dirty)
	clear(r.told)
	r.wake(r.act)
	r.show()
	return s, nil
}

// show tells how the workspace stands.
func (r *watcher) show() {
	if r.o.Seen != nil && r.status != nil {
		r.o.Seen(r.status, r.online)
	}
}

// again looks at what is dirty, and joins it with what is known of the rest.
func (r *watcher) again(ctx context.Context) (*workspace.Status, error) {
	paths := slices.Collect(maps.Keys(r.dirty))
	for p := range r.told {
		if !r.dirty[p] {
			paths = append(paths, p)
		}
	}
	return r.w.StatusAgain(ctx, r.status, paths)
}

// refresh asks the service what is new. The folder is looked at where that is about, and nowhere else.
func (r *watcher) refresh(ctx context.Context) {
	changed, err := r.ear.RefreshedPaths(ctx)
	if err != nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for p := range changed {
		r.told[p] = true
	}
	r.wake(r.work)
}

// fetching asks for what the service told of: for all that comes within a moment at once.
func (r *watcher) fetching(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-r.fetch:
		}
		r.refresh(ctx)
		select {
		case <-ctx.Done():
			return
		case <-time.After(togetherTime):
		}
	}
}

// sending sends what was put into the outbox, one job after the other.
func (r *watcher) sending(ctx context.Context) {
	tick := time.NewTicker(retryTime)
	defer tick.Stop()
	for {
		jobs, _ := r.w.Jobs()
		if len(jobs) > 0 {
			r.mu.Lock()
			r.show()
			r.mu.Unlock()
		}
		for i := range jobs {
			if len(jobs[i].Refusals) == 0 && r.isOnline() && ctx.Err() == nil {
				r.sendOne(ctx, &jobs[i])
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-r.outgoing:
		case <-tick.C:
		}
	}
}

func (r *watcher) sendOne(ctx context.Context, j *workspace.Job) {
	w, err := r.w.Again()
	if err != nil {
		return
	}
	defer w.Close()
	w.Progress = w.ProgressOf(j)
	h, err := w.SendJob(ctx, j)
	switch {
	case err == nil:
		r.say(Notice{Kind: "sent", Handoff: h.Number,
			Message: fmt.Sprintf("h%d: %s sent in the background", h.Number, assets(h.Count))})
	case workspace.Answered(err):
		r.say(Notice{Kind: "refused", Message: "a send in the background was refused; tarn status says why"})
	default:
		return // tried again later
	}
	r.mark("", true)
}
