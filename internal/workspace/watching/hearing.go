package watching

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"kettletarn/internal/client"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
)

// news hears what happens at the service, and goes on where the line was cut.
func (r *watcher) news(ctx context.Context) {
	last := ""
	for ctx.Err() == nil {
		err := r.ear.Client.News(ctx, r.w.Marker.Project, last, func() { r.setOnline(ctx, true, nil) }, func(e model.Event) error {
			last = e.ID
			r.tell(ctx, e)
			return nil
		})
		if ctx.Err() != nil {
			return
		}
		r.setOnline(ctx, false, err)
		var problem *model.Problem
		if errors.As(err, &problem) && problem.Type == model.BadRequest {
			last = "" // the service does not know that place in the news any more
		}
		select {
		case <-ctx.Done():
		case <-time.After(retryTime):
		}
	}
}

func (r *watcher) setOnline(ctx context.Context, online bool, err error) {
	r.mu.Lock()
	before := r.online
	r.online, r.cut, r.retry = online, !online, true
	if online != before {
		r.show()
	}
	r.mu.Unlock()
	switch {
	case online && !before:
		if who, err := r.ear.Client.Whoami(ctx); err == nil {
			r.ear.Handle = who.Handle
		}
		r.say(Notice{Kind: "online", Message: "connected to " + r.w.Client.URL()})
		r.refresh(ctx)
		r.wake(r.act)
		r.wake(r.outgoing)
	case !online && !before:
		r.wake(r.act)
	case !online:
		cause := "the service can't be reached"
		var away *client.Unreachable
		if err != nil && !errors.As(err, &away) {
			cause = err.Error()
		}
		r.say(Notice{Kind: "offline", Message: cause + "; what you edit is remembered, and caught up with when it is back"})
	}
}

// tell says what happened, and takes it into account.
func (r *watcher) tell(ctx context.Context, e model.Event) {
	item := news.Of(e)
	if item.Text != "" && e.Person != r.ear.Handle {
		r.say(Notice{Kind: e.Kind, Person: e.Person, Paths: item.Paths, Handoff: item.Handoff, Message: item.For(r.ear.Handle), News: item.Kind,
			Yours: slices.Contains(item.To, r.ear.Handle)})
	}
	if e.Kind == news.HandoffSent || e.Kind == news.UnsentChanged || strings.HasPrefix(e.Kind, "lock.") {
		r.mu.Lock()
		r.retry = true
		r.mu.Unlock()
		r.wake(r.fetch)
	}
	if e.Kind == lock.Offered {
		r.wake(r.act)
	}
}
