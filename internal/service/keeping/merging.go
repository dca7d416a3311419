package keeping

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kettletarn/internal/records"
)

// Packs are merged by themselves when nobody has brought or fetched content for mergeRest; when all of them were looked at, it is done
// again
// after mergeEvery.
const (
	mergeRest  = 10 * time.Minute
	mergeEvery = time.Hour
)

// errSomebodyComes ends a merge: what it was writing is given up, and begun again later.
var errSomebodyComes = errors.New("somebody brings or fetches content")

// Merging does what MergePacks does whenever the service is idle, until ctx ends.
func (s *Room) Merging(ctx context.Context) {
	for wait := mergeRest; ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		if left := mergeRest - s.Rested(); left > 0 {
			wait = left
			continue
		}
		done, err := s.MergePacks(ctx, CollectDefaults(), s.Quiet)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			s.Log.Error("packs could not be merged; it is tried again later", "error", err)
			wait = mergeEvery
		case done:
			wait = mergeEvery
		default:
			wait = mergeRest
		}
	}
}

// MergePacks writes packs that are small or thin, or have what can be pressed harder, anew, as Collect does, as long as goOn says so. It is
// done where everything was looked at.
func (s *Room) MergePacks(ctx context.Context, o CollectOptions, goOn func() bool) (done bool, err error) {
	alone, err := s.DB.Alone(ctx, 1, func() error {
		var list []records.Project
		if err := s.Use(ctx, func(tx *records.Tx) (err error) {
			list, err = tx.AllProjects(ctx)
			return err
		}); err != nil {
			return err
		}
		for _, p := range list {
			c := &collection{s: s, o: o, p: p, out: &Collected{}, goOn: goOn}
			if err := c.rewrite(ctx); errors.Is(err, errSomebodyComes) {
				return err
			} else if err != nil {
				return fmt.Errorf("%s: %w", p.Key, err)
			}
			if n := c.out.Rewritten; n > 0 {
				s.Log.Info("packs were merged", "project", p.Key, "packs", n)
			}
		}
		return nil
	})
	if errors.Is(err, errSomebodyComes) {
		return false, nil
	}
	return err == nil && alone, s.Explain(err)
}
