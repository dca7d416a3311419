package keeping

import (
	"context"
	"sync"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// byHand is a collection that a steward began from the console.
type byHand struct {
	mu          sync.Mutex
	since, done *time.Time
	freed       int64
	trouble     string
}

// Collecting says what could be freed, and how a collection from the console stands. For stewards.
func (s *Room) Collecting(ctx context.Context, actor ground.Actor) (c model.Collecting, err error) {
	if err := actor.RunsTheService(); err != nil {
		return c, err
	}
	o := CollectDefaults()
	err = s.Use(ctx, func(tx *records.Tx) error {
		list, err := tx.Freeable(ctx, o.Lease, o.Pause)
		c.Freeable = append([]model.Freeable{}, list...)
		return err
	})
	s.hand.mu.Lock()
	defer s.hand.mu.Unlock()
	c.Since, c.Done, c.Freed, c.Trouble = s.hand.since, s.hand.done, s.hand.freed, s.hand.trouble
	return c, err
}

// CollectNow begins a collection, which goes on behind the answer. For stewards.
func (s *Room) CollectNow(ctx context.Context, actor ground.Actor) error {
	if err := actor.RunsTheService(); err != nil {
		return err
	}
	s.hand.mu.Lock()
	defer s.hand.mu.Unlock()
	if s.hand.since != nil {
		return model.NewProblem(model.Taken, "wait until it is done", "a collection is at work")
	}
	now := time.Now().UTC()
	s.hand.since = &now
	go func() {
		out, err := s.Collect(context.WithoutCancel(ctx), CollectDefaults())
		s.hand.mu.Lock()
		defer s.hand.mu.Unlock()
		done := time.Now().UTC()
		s.hand.since, s.hand.done, s.hand.freed, s.hand.trouble = nil, &done, out.Freed, ""
		if err != nil {
			s.hand.trouble = err.Error()
			s.Log.Warn("a collection from the console failed", "error", err)
		}
	}()
	return nil
}
