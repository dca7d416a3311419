// Package telling carries what happened to those whom it concerns: streams, mail, hooks, and what somebody missed. What an event means is
// decided in core/news.
package telling

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Room tells of what happens.
type Room struct {
	*ground.Ground
	// Bell rings when something happened.
	Bell hub
	// addressed rings when there is more to take out of the house.
	addressed hub
	feed      feed
	Ended     chan struct{}
}

// New makes the room.
func New(ground *ground.Ground) *Room {
	n := new(Room)
	n.Ground, n.Ended = ground, make(chan struct{})
	return n
}

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

// Rung is closed when the bell rings next.
func (h *hub) Rung() <-chan struct{} { return h.wait() }

// Wake wakes all that wait.
func (h *hub) Wake() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.waiting != nil {
		close(h.waiting)
		h.waiting = nil
	}
}

// How often news is looked for where no notification came: for a while after one did, since what is committed can't be read while something
// older is under way, and else; how often a silent stream shows that it is alive, and how long a stream that has just told something
// gathers what comes next: two hundred watches in a busy project are told ten times a second, not at every lock, and three times where
// much more than that happens.
const (
	newsPoll  = 2 * time.Second
	newsAfter = 30 * time.Second
	newsRest  = 10 * time.Second
	newsAlive = 15 * time.Second
	newsGap   = 100 * time.Millisecond
	newsMany  = 50
	newsLong  = 300 * time.Millisecond
)

// gap is how long a stream gathers what comes next, where it was just told of so many events.
func gap(told int) time.Duration {
	if told > newsMany {
		return newsLong
	}
	return newsGap
}

// happening is an event with what many who hear of it have in common: what it means, and what it is encoded to, by what it says to them.
type happening struct {
	records.ProjectEvent
	once sync.Once
	item news.Item
	open bool // everybody in the project may know what it says
	// forms are by form; nil until somebody was told in it.
	forms [allForms]atomic.Pointer[[]byte]
}

// form is what may be different between those who hear of an event.
type form uint8

const (
	closed   form = 1 << iota // that something changed is all that they hear
	you                       // it speaks to them
	concerns                  // it is news to them
	allForms
)

// Heard is an event as one hears it.
type Heard struct {
	of   *happening
	form form
}

// told is an event as it is told to one who reads it. With two hundred who do, it is what most of telling consists of.
func (e *happening) told(actor ground.Actor, role string) Heard {
	e.once.Do(func() { e.item, e.open = news.Of(e.Event), news.Open(e.Kind) })
	if !e.open && !model.AtLeast(role, model.Lead) && e.Person != actor.Handle {
		return Heard{e, closed}
	}
	h := Heard{of: e}
	if e.item.Speaks(actor.Handle) {
		h.form |= you
	}
	if e.item.Concerns(actor.Handle, role, e.Person) {
		h.form |= concerns
	}
	return h
}

// Event is what is heard.
func (h Heard) Event() model.Event {
	e := h.of.Event
	if h.form == closed {
		return model.Event{ID: e.ID, At: e.At, Kind: e.Kind}
	}
	if e.Text = h.of.item.Text; h.form&you != 0 {
		e.Text = h.of.item.You
	}
	if h.form&concerns != 0 {
		e.News = h.of.item.Kind
	}
	return e
}

// Encoded is what an event is encoded to: once for all to whom it says the same.
func (h Heard) Encoded(encode func(model.Event) ([]byte, error)) ([]byte, error) {
	if data := h.of.forms[h.form].Load(); data != nil {
		return *data, nil
	}
	data, err := encode(h.Event())
	if err == nil {
		h.of.forms[h.form].Store(&data)
	}
	return data, err
}

// News is Hear for whoever wants the events alone.
func (s *Room) News(ctx context.Context, actor ground.Actor, key, last string, each func(model.Event) error,
	pause func(quiet bool) error) error {
	return s.Hear(ctx, actor, key, last, func(h Heard) error { return each(h.Event()) }, pause)
}

// Hear calls each with every event of a project after the one with the id last ("" for from now on), as they happen, until ctx
// ends or each fails. pause is called when all that there is was told; with quiet, when the stream starts, and now and then while there is
// nothing.
func (s *Room) Hear(ctx context.Context, actor ground.Actor, key, last string, each func(Heard) error,
	pause func(quiet bool) error) error {
	var cursor records.Cursor
	if last != "" {
		var err error
		if cursor, err = records.ParseCursor(last); err != nil {
			return model.NewProblem(model.BadRequest, "ask without it", "%s", err.Error())
		}
	}
	var p records.Project
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		if p, err = mayHear(ctx, tx, actor, key); err == nil && last == "" {
			cursor, err = tx.EventsNow(ctx)
		}
		return err
	}); err != nil {
		return err
	}
	st := s.feed.join(p.ID, actor.Credential)
	defer s.feed.leave(st)
	if err := pause(true); err != nil {
		return err
	}
	tell := func(e *happening) error { return each(e.told(actor, p.Role)) }
	quiet := time.NewTimer(newsAlive)
	defer quiet.Stop()
	for {
		events, behind, again := st.take()
		if again {
			if err := s.Use(ctx, func(tx *records.Tx) (err error) {
				p, err = mayHear(ctx, tx, actor, key)
				return err
			}); err != nil {
				return err
			}
		}
		if behind {
			if err := s.missed(ctx, actor, &p, &cursor, tell); err != nil {
				return err
			}
		}
		for _, e := range events {
			if !cursor.Before(e.Cursor) {
				continue // it was read from the records
			}
			if cursor = e.Cursor; e.Project == p.ID {
				if err := tell(e); err != nil {
					return err
				}
			}
		}
		if behind || len(events) > 0 {
			if err := pause(false); err != nil {
				return err
			}
			quiet.Reset(newsAlive)
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-s.Ended:
				return nil
			case <-time.After(gap(len(events))):
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-s.Ended:
			return nil
		case <-st.wake:
		case <-quiet.C:
			quiet.Reset(newsAlive)
			if err := pause(true); err != nil {
				return err
			}
		}
	}
}

// missed tells what the records have behind a cursor, and moves it. Whether one may hear it is looked at after it was read: who was
// removed before any of it happened hears none.
func (s *Room) missed(ctx context.Context, actor ground.Actor, p *records.Project, cursor *records.Cursor,
	tell func(*happening) error) error {
	for {
		var events []model.Event
		if err := s.Use(ctx, func(tx *records.Tx) (err error) {
			if events, *cursor, err = tx.Events(ctx, p.ID, *cursor, 500); err == nil && len(events) > 0 {
				*p, err = mayHear(ctx, tx, actor, p.Key)
			}
			return err
		}); err != nil || len(events) == 0 {
			return err
		}
		for _, e := range events {
			if err := tell(&happening{ProjectEvent: records.ProjectEvent{Event: e}}); err != nil {
				return err
			}
		}
	}
}
