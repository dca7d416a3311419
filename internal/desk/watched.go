package desk

import (
	"context"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/signins"
	"kettletarn/internal/workspace"
	"kettletarn/internal/workspace/watching"
)

// watched is one workspace of the person's, with a watch in it as long as that can be.
type watched struct {
	desk  *Desk
	place workspace.Place
	stop  context.CancelFunc
	// anew ends the watch, which begins again then; retry has one that could not be begin at once.
	anew  context.CancelFunc
	retry chan struct{}
	// turn is had by whoever changes something in it: one at a time, the others wait.
	turn chan struct{}
	news chan seen // how it stands, the newest
	// jobs says that something else is being sent now.
	jobs chan struct{}

	mu        sync.Mutex
	standing  Standing
	followers map[*follower]bool
}

// seen is how a watch sees its workspace, which it has open.
type seen struct {
	in     *workspace.Workspace
	status *workspace.Status
	online bool
}

// againTime is how long it is waited before a watch that could not be is tried again.
const againTime = 10 * time.Second

// gather keeps a watch in every workspace that the person has on this machine.
func (d *Desk) gather(ctx context.Context) {
	tick := time.NewTicker(lookTime)
	defer tick.Stop()
	for {
		d.look(ctx)
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-d.changed:
		}
	}
}

func (d *Desk) look(ctx context.Context) {
	places, err := workspace.Known()
	if err != nil {
		d.o.Log.Warn("the workspaces of this machine can't be listed", "error", err)
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	here := map[string]bool{}
	for _, p := range places {
		id := p.Marker.Workspace
		here[id] = true
		if w := d.watched[id]; w != nil && w.place == p {
			continue
		} else if w != nil {
			w.stop()
		}
		watching, stop := context.WithCancel(ctx)
		w := &watched{desk: d, place: p, stop: stop, turn: make(chan struct{}, 1), news: make(chan seen, 1),
			jobs: make(chan struct{}, 1), retry: make(chan struct{}, 1), followers: map[*follower]bool{}}
		w.standing = Standing{Workspace: id, Folder: p.Root, Standing: workspace.Standing{Project: p.Marker.Project, Service: p.Marker.Service,
			Assets: []model.Asset{}, Odd: []model.Refusal{}, Uncovered: []model.Asset{}, Scope: []string{}}}
		d.watched[id] = w
		d.group.Go(func() { w.keep(watching) })
		d.group.Go(func() { w.telling(watching) })
	}
	for id, w := range d.watched {
		if !here[id] {
			w.stop()
			delete(d.watched, id)
		}
	}
}

// workspace is one of them, by its id.
func (d *Desk) workspace(id string) (*watched, error) {
	d.mu.Lock()
	w := d.watched[id]
	d.mu.Unlock()
	if w == nil {
		return nil, model.NewProblem(model.NotFound, "workspaces lists those that there are", "there is no workspace %q on this machine", id)
	}
	return w, nil
}

// all are they, by folder.
func (d *Desk) all() []*watched {
	d.mu.Lock()
	defer d.mu.Unlock()
	list := slices.Collect(maps.Values(d.watched))
	slices.SortFunc(list, func(a, b *watched) int { return strings.Compare(a.place.Root, b.place.Root) })
	return list
}

// open opens the workspace for one piece of work.
func (w *watched) open(progress workspace.Progress) (*workspace.Workspace, error) {
	access, err := signins.For(w.place.Marker.Service)
	if err != nil {
		return nil, err
	}
	opened, err := workspace.Open(w.place.Root, client.New(access.URL, access.Token, nil), progress)
	if err == nil {
		opened.Handle = access.Handle
	}
	return opened, err
}

// keep keeps a watch in the workspace, tried again where it ends before its time.
func (w *watched) keep(ctx context.Context) {
	for ctx.Err() == nil {
		select {
		case <-w.retry: // as it begins now
		default:
		}
		watch, end := context.WithCancel(ctx)
		w.mu.Lock()
		w.anew = end
		w.mu.Unlock()
		err := w.watch(watch)
		asked := watch.Err() != nil
		end()
		if ctx.Err() != nil {
			return
		}
		if asked {
			continue
		}
		trouble := "the watch ended by itself"
		if err != nil {
			trouble = err.Error()
		}
		w.change(func(s *Standing) { s.Online, s.Trouble = false, trouble })
		select {
		case <-ctx.Done():
		case <-w.retry:
		case <-time.After(againTime):
		}
	}
}

// again makes the watch begin anew, with other settings or another sign-in.
func (w *watched) again() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.anew != nil {
		w.anew()
	}
	select {
	case w.retry <- struct{}{}:
	default:
	}
}

func (w *watched) watch(ctx context.Context) error {
	opened, err := w.open(nil)
	if err != nil {
		return err
	}
	defer opened.Close()
	if err := opened.FinishInterrupted(); err != nil {
		return err
	}
	access := signins.Access{URL: opened.Client.URL(), Handle: opened.Handle}
	settings, err := readSettings()
	if err != nil {
		w.desk.o.Log.Warn("the settings of the desk can't be read", "error", err)
	}
	auto := settings.AutoUpdate[w.place.Marker.Workspace]
	w.change(func(s *Standing) { s.AutoUpdate = auto })
	o := watching.Options{AutoUpdate: auto, Seen: func(s *workspace.Status, online bool) {
		select { // only the newest counts
		case <-w.news:
		default:
		}
		w.news <- seen{opened, s, online}
	}}
	return watching.Run(ctx, opened, o, func(n watching.Notice) { w.notice(ctx, access, n) })
}

// telling works out what changed each time that the workspace is seen anew, and while something is being sent.
func (w *watched) telling(ctx context.Context) {
	var last seen
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case last = <-w.news:
		case <-w.jobs:
			if last.status == nil {
				continue
			}
		case <-tick.C:
			w.mu.Lock()
			busy := len(w.standing.Sending) > 0
			w.mu.Unlock()
			if !busy || last.status == nil {
				continue
			}
		}
		now := last.in.Standing(last.status) // which reads nothing that the watch changes
		w.change(func(s *Standing) {
			s.Standing, s.Online, s.Known, s.Trouble = now, last.online, true, ""
			s.Rules = ""
			if last.status.Rules != nil {
				s.Rules = last.status.Rules.Error()
			}
		})
	}
}

// change changes what is known of the workspace, and tells those who follow it.
func (w *watched) change(do func(*Standing)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	before := w.standing
	do(&w.standing)
	news := difference(&before, &w.standing)
	if news == nil {
		return
	}
	for f := range w.followers {
		f.hears(news)
	}
}

// difference is what is other in a standing than before; nil where nothing is.
func difference(before, after *Standing) *Changed {
	was := make(map[string]*model.Asset, len(before.Assets))
	for i := range before.Assets {
		was[before.Assets[i].Path] = &before.Assets[i]
	}
	out := &Changed{Standing: *after, Away: []string{}}
	out.Assets = []model.Asset{}
	for i := range after.Assets {
		a := &after.Assets[i]
		if b := was[a.Path]; b == nil || !reflect.DeepEqual(a, b) {
			out.Assets = append(out.Assets, *a)
		}
		delete(was, a.Path)
	}
	for p := range was {
		out.Away = append(out.Away, p)
	}
	slices.Sort(out.Away)
	if len(out.Assets)+len(out.Away) == 0 {
		one, other := *before, *after
		one.Assets, other.Assets = nil, nil
		if reflect.DeepEqual(one, other) {
			return nil
		}
	}
	return out
}

func (w *watched) notice(ctx context.Context, access signins.Access, n watching.Notice) {
	if w.desk.o.Notice != nil {
		w.desk.o.Notice(ctx, w.desk.shown(w.place.Marker.Project, access, n))
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for f := range w.followers {
		f.notices(Noticed{Workspace: w.place.Marker.Workspace, Notice: n})
	}
}

// follow tells somebody how the workspace stands, and of every change from then on.
func (w *watched) follow(f *follower) Standing {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.followers[f] = true
	return w.standing
}

func (w *watched) leave(f *follower) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.followers, f)
}
