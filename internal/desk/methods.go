package desk

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"sync"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/handler"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace"
)

// Method is one of the local interface: what it is for, and the types of what it takes and what it answers.
type Method struct {
	Name, About    string
	Takes, Answers reflect.Type
	handle         jrpc2.Handler
}

// Codes of errors. They are the exit statuses of tarn.
const (
	CodeRefused     jrpc2.Code = 1
	CodeWrongUse    jrpc2.Code = 2
	CodeUnreachable jrpc2.Code = 3
)

// Refusals is the data of an error: what stands in the way, each with a stable word and the way out.
type Refusals struct {
	Refusals []model.Refusal `json:"refusals"`
}

// method makes one of a function.
func method[P, R any](name, about string, do func(context.Context, P) (R, error)) Method {
	return Method{Name: name, About: about, Takes: reflect.TypeFor[P](), Answers: reflect.TypeFor[R](),
		handle: handler.New(func(ctx context.Context, p *P) (any, error) {
			if p == nil {
				p = new(P)
			}
			r, err := do(ctx, *p)
			if err != nil {
				return nil, wire(err)
			}
			return r, nil
		})}
}

// wire is an error as it is told.
func wire(err error) error {
	var refused *model.Refused
	var problem *model.Problem
	var away *client.Unreachable
	switch {
	case errors.As(err, &refused):
		return jrpc2.Errorf(CodeRefused, "it was refused").WithData(Refusals{refused.Refusals})
	case errors.As(err, &problem):
		code := CodeRefused
		if problem.Type == model.Unavailable {
			code = CodeUnreachable
		}
		return jrpc2.Errorf(code, "%s", problem.Detail).WithData(Refusals{[]model.Refusal{{Reason: problem.Type, Message: problem.Detail,
			Remedy: problem.Remedy}}})
	case errors.As(err, &away):
		return jrpc2.Errorf(CodeUnreachable, "%s", away.Error()).WithData(Refusals{[]model.Refusal{{Reason: "unreachable",
			Message: fmt.Sprintf("the service at %s can't be reached (%s)", away.URL, away.Cause),
			Remedy:  "check the network; what you edit is remembered, and nothing is lost"}}})
	case errors.Is(err, context.Canceled):
		return err
	}
	return jrpc2.Errorf(CodeRefused, "%s", err.Error()).WithData(Refusals{[]model.Refusal{{Reason: "failed", Message: err.Error()}}})
}

// parallel is how many requests of one line are worked on at once.
const parallel = 16

// serve speaks the local interface over a line until it is closed, or ctx ends.
func (d *Desk) serve(ctx context.Context, l *Line) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	s := &speaker{desk: d, follower: newFollower(), follows: map[*watched]bool{}}
	methods := handler.Map{}
	for _, m := range s.methods() {
		methods[m.Name] = m.handle
	}
	server := jrpc2.NewServer(methods, &jrpc2.ServerOptions{AllowPush: true, Concurrency: parallel,
		NewContext: func() context.Context { return ctx }})
	s.notify = func(method string, params any) error { return server.Notify(ctx, method, params) }
	server.Start(l)
	told := make(chan struct{})
	go func() {
		defer close(told)
		s.follower.tell(ctx, s.notify)
	}()
	_ = server.Wait()
	stop()
	<-told
	s.mu.Lock()
	defer s.mu.Unlock()
	for w := range s.follows {
		w.leave(s.follower)
	}
}

// speaker is one line, and what is heard over it.
type speaker struct {
	desk     *Desk
	follower *follower
	notify   func(method string, params any) error

	mu      sync.Mutex
	follows map[*watched]bool
}

// Methods are those of the local interface, in the order in which they are described.
func Methods() []Method { return (&speaker{desk: &Desk{}}).methods() }

func (s *speaker) methods() []Method {
	d := s.desk
	return []Method{
		method("about", "Who is at the desk", func(ctx context.Context, _ Nothing) (About, error) { return d.about(ctx) }),
		method("invited", "What the link of an invitation offers", d.invited),
		method("sign_in", "Sign in to a service on this machine, or join by an invitation", d.signIn),
		method("sign_in_elsewhere", "Begin a sign-in that one says yes to on a page of the service", d.signInElsewhere),
		method("sign_out", "End the sign-in of this machine", d.signOut),
		method("projects", "The projects that one belongs to", d.projects),
		method("folders", "The folders in a folder of this machine", d.folders),
		method("join", "Bring a project down into a folder", s.join),
		method("would_start", "What making a project of a folder would track", d.wouldStart),
		method("start", "Make a project of a folder, and record it as it is", s.start),

		method("workspaces", "The workspaces of this machine", d.workspaces),
		method("status", "How a workspace stands, or, with paths, all that is at or below them", d.status),
		method("follow", "How a workspace stands, and from now on every change of that, as `changed`, and every notice, as `noticed`", s.follow),
		method("unfollow", "End that", s.unfollow),
		method("settings", "Change how a workspace is kept at the desk", d.settings),

		method("begin", "Before editing: bring the newest version, take the lock, open the file", s.begin),
		method("lock", "Take locks, or wait in line", d.lock),
		method("unlock", "Give locks back, or leave the line", d.unlock),
		method("ask", "Ask the holder of a lock to let go", d.ask),
		method("answer", "Answer those who ask for a lock that one holds", d.answer),
		method("open", "Open a file in its program", d.open),

		method("send", "Set changes aside and hand them off in the background, all of them or none", s.send),
		method("cancel_sends", "Take back what is being sent, and is not there yet", d.cancelSends),
		method("update", "Bring newer versions down", s.update),
		method("discard", "Put local changes away, and bring back what was there", d.discard),
		method("put_away", "What was put away", d.putAway),
		method("restore", "Bring put-away files back", d.restore),
		method("settle", "End a clash", d.settle),
		method("left_out", "What the rules leave out in a workspace, and which line of them does", d.leftOut),
		method("include", "Make assets of paths that the rules leave out; who is no lead asks the leads", d.include),
		method("compare", "A file here beside the version that it was made from", d.compare),
		method("history", "An asset with its versions", d.history),
		method("scope", "Which folders come down", d.scope),
		method("set_scope", "Take folders in, or out", s.setScope),
		method("switch", "Bring the workspace over to a branch", s.switchTo),
	}
}

// working does something with a workspace that nothing else is done with meanwhile.
func (d *Desk) working(ctx context.Context, id string, progress workspace.Progress, do func(*workspace.Workspace) error) error {
	w, err := d.workspace(id)
	if err != nil {
		return err
	}
	select {
	case w.turn <- struct{}{}:
		defer func() { <-w.turn }()
	case <-ctx.Done():
		return ctx.Err()
	}
	opened, err := w.open(progress)
	if err != nil {
		return err
	}
	defer opened.Close()
	release, err := taken(ctx, opened)
	if err != nil {
		return err
	}
	defer release()
	return do(opened)
}

// patience is how long a command elsewhere, or the watch itself, may be at work in a workspace before somebody is told to wait.
const patience = 15 * time.Second

func taken(ctx context.Context, w *workspace.Workspace) (release func(), err error) {
	var problem *model.Problem
	for until := time.Now().Add(patience); ; {
		release, err = w.Work()
		if err == nil || !errors.As(err, &problem) || problem.Type != model.Taken || time.Now().After(until) {
			return release, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// looking does something with a workspace that changes nothing in it.
func (d *Desk) looking(id string, do func(*workspace.Workspace) error) error {
	w, err := d.workspace(id)
	if err != nil {
		return err
	}
	opened, err := w.open(nil)
	if err != nil {
		return err
	}
	defer opened.Close()
	return do(opened)
}

// paths checks paths that were named, as those that a person typed.
func paths(w *workspace.Workspace, named []string) ([]string, error) {
	out := make([]string, len(named))
	for i, p := range named {
		path, err := w.Path(w.Root, p)
		if err != nil {
			return nil, err
		}
		out[i] = path
	}
	return w.Spelled(out)
}

// progress tells how far long work is, a few times a second.
type progress struct {
	tell  func(Progress)
	mu    sync.Mutex
	now   Progress
	told  time.Time
	quiet time.Duration
}

// progress is that of a request, or nil where nobody wants to know.
func (s *speaker) progress(l Long) workspace.Progress {
	if l.Work == "" {
		return nil
	}
	return &progress{now: Progress{Work: l.Work}, quiet: 200 * time.Millisecond, tell: func(p Progress) { _ = s.notify("progress", p) }}
}

func (p *progress) Start(title string, total int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.now.Title, p.now.Total, p.now.Done = title, total, 0
	p.told = time.Now()
	p.tell(p.now)
}

func (p *progress) Add(n int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.now.Done += n
	if time.Since(p.told) >= p.quiet {
		p.told = time.Now()
		p.tell(p.now)
	}
}

func (p *progress) Done() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.tell(p.now)
}
