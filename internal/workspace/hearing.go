package workspace

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
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
	r.online, r.retry = online, true
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
	case !online && before:
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
	n := Notice{Kind: e.Kind, Person: e.Person}
	for _, p := range list(e.Subject["paths"]) {
		n.Paths = append(n.Paths, p)
	}
	count, _ := e.Subject["count"].(float64)
	what := assets(int(count))
	if len(n.Paths) == 1 {
		what = n.Paths[0]
	}
	text := func(key string) string { s, _ := e.Subject[key].(string); return s }
	mine := e.Person == r.ear.Handle
	switch e.Kind {
	case "handoff.sent":
		number, _ := e.Subject["handoff"].(float64)
		n.Handoff = int(number)
		n.Message = fmt.Sprintf("h%d by %s: %s (%s)", n.Handoff, e.Person, text("note"), what)
	case "lock.taken":
		n.Message = fmt.Sprintf("%s took the lock of %s", e.Person, what)
	case "lock.given-back":
		n.Message = fmt.Sprintf("%s gave back the lock of %s", e.Person, what)
	case "lock.overridden":
		n.Message = fmt.Sprintf("%s took the lock of %s away from %s: %s", e.Person, what, strings.Join(list(e.Subject["from"]), ", "), text("reason"))
	case "rules.asked":
		n.Paths, n.Message = []string{text("path")}, fmt.Sprintf("%s asks that %s be an asset", e.Person, text("path"))
	case "rules.answered":
		n.Paths, n.Message = []string{text("path")}, fmt.Sprintf("%s answered the request for %s", e.Person, text("path"))
	}
	if n.Message != "" && !mine {
		r.say(n)
	}
	switch e.Kind {
	case "handoff.sent", "lock.taken", "lock.given-back", "lock.overridden", "unsent.changed":
		r.mu.Lock()
		r.retry = true
		r.mu.Unlock()
		r.refresh(ctx)
	}
}

func assets(n int) string {
	if n == 1 {
		return "1 asset"
	}
	return fmt.Sprintf("%d assets", n)
}

func list(v any) (out []string) {
	items, _ := v.([]any)
	for _, i := range items {
		if s, ok := i.(string); ok {
			out = append(out, s)
		}
	}
	return out
}
