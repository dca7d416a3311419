package service

import (
	"context"
	"sync"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
)

// hub wakes everyone who waits for news.
type hub struct {
	mu      sync.Mutex
	waiting chan struct{}
}

func (h *hub) wait() <-chan struct{} {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.waiting == nil {
		h.waiting = make(chan struct{})
	}
	return h.waiting
}

func (h *hub) wake() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.waiting != nil {
		close(h.waiting)
		h.waiting = nil
	}
}

// How often news is looked for where no notification came, and how often a silent stream shows that it is alive.
const (
	newsPoll  = 2 * time.Second
	newsAlive = 15 * time.Second
)

// told adds to an event what it says to one who reads it.
func told(e *model.Event, actor Actor, role string) {
	if !news.Open(e.Kind) && !model.AtLeast(role, model.Lead) && e.Person != actor.Handle {
		*e = model.Event{ID: e.ID, At: e.At, Kind: e.Kind} // that something changed is all that is for them
		return
	}
	item := news.Of(*e)
	e.Text = item.For(actor.Handle)
	if item.Concerns(actor.Handle, role, e.Person) {
		e.News = item.Kind
	}
}

// News calls each with every event of a project after the one with the id last ("" for from now on), as they happen, until ctx
// ends or each fails. alive is called when the stream starts, and now and then while there is nothing.
func (s *Service) News(ctx context.Context, actor Actor, key, last string, each func(model.Event) error, alive func() error) error {
	var cursor records.Cursor
	if last != "" {
		var err error
		if cursor, err = records.ParseCursor(last); err != nil {
			return model.NewProblem(model.BadRequest, "ask without it", "%s", err.Error())
		}
	}
	started, quiet, greeted := last != "", time.Now(), false
	for {
		woken := s.news.wait()
		var events []model.Event
		err := s.read(ctx, func(tx *records.Tx) error {
			// Membership is looked at each time: who was removed hears no more.
			p, err := project(ctx, tx, actor, key, model.Viewer)
			if err != nil {
				return err
			}
			// So is the sign-in: its end ends the stream.
			if holds, err := tx.TokenHolds(ctx, actor.Credential); err != nil {
				return err
			} else if !holds && actor.Credential != (chunk.Digest{}) {
				return model.NewProblem(model.SignInExpired, again, "this sign-in has ended")
			}
			if !started {
				started = true
				cursor, err = tx.EventsNow(ctx)
				return err
			}
			events, cursor, err = tx.Events(ctx, p.ID, cursor, 500)
			for i := range events {
				told(&events[i], actor, p.Role)
			}
			return err
		})
		if err != nil {
			return err
		}
		if !greeted {
			greeted = true
			if err := alive(); err != nil {
				return err
			}
		}
		for _, e := range events {
			if err := each(e); err != nil {
				return err
			}
		}
		if len(events) > 0 {
			quiet = time.Now()
			continue
		}
		if time.Since(quiet) > newsAlive {
			quiet = time.Now()
			if err := alive(); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-s.ended:
			return nil
		case <-woken:
		case <-time.After(newsPoll):
		}
	}
}
