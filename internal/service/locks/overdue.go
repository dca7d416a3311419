package locks

import (
	"context"
	"time"

	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// How often it is looked at what time does to locks: offers that lapse, asks that stay unanswered, and, less often, locks that look
// forgotten.
const (
	overduePoll   = 2 * time.Second // at most so often, and where something is due
	forgottenPoll = 30 * time.Second
	overdueAtOnce = 200
)

// KeepingTime does to locks what time does to them, when it is time. Several services may do so beside each other: each lock is looked at
// under its row. rung is closed when something happened.
func (s *Room) KeepingTime(ctx context.Context, rung func() <-chan struct{}) {
	forgotten := time.Time{}
	for ctx.Err() == nil {
		happened := rung()
		next, err := s.overdue(ctx)
		if err == nil && time.Since(forgotten) > forgottenPoll {
			forgotten = time.Now()
			err = s.Remind(ctx)
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Error("what time does to locks could not be done; it is tried again", "error", err)
			next = overduePoll
		}
		ground.Pause(ctx, happened, overduePoll, min(next, forgottenPoll))
	}
}

// overdue takes lapsed offers to the next in line, and tells those who asked that no answer came; next is how long it is until there is
// something to do again, as far as that is known.
func (s *Room) overdue(ctx context.Context) (next time.Duration, err error) {
	var due []records.Due
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		due, next, err = tx.DueLocks(ctx, overdueAtOnce)
		return err
	}); err != nil {
		return next, err
	}
	byProject := map[int64][]string{}
	for _, d := range due {
		byProject[d.Project] = append(byProject[d.Project], d.Folded)
	}
	for id, folded := range byProject {
		if err := s.Write(ctx, func(tx *records.Tx) error {
			if err := tx.Gate(ctx, id, false); err != nil {
				return err
			}
			p, err := tx.ProjectByID(ctx, id)
			if err != nil {
				return err
			}
			found, err := tx.LockAssets(ctx, id, "", folded)
			if err != nil {
				return err
			}
			now, err := tx.Now(ctx)
			if err != nil {
				return err
			}
			c := &Change{Tx: tx, Project: p, Terms: Terms(p, now), outcome: records.Outcome{Terms: p.Terms}}
			for _, f := range ground.SortedKeys(found) {
				next, events := c.Terms.Tick(found[f].Lock)
				c.Set(found[f], next, events, nil)
			}
			return c.finish(ctx, map[string]any{})
		}); err != nil {
			return next, err
		}
	}
	return next, nil
}

// Remind reminds the holders of locks that look forgotten, once for each time that they took one.
func (s *Room) Remind(ctx context.Context) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		list, projects, err := tx.RemindForgotten(ctx, overdueAtOnce)
		if err != nil {
			return err
		}
		type owner struct {
			project           int64
			handle, workspace string
		}
		paths := map[owner][]model.Lock{}
		for i, l := range list {
			o := owner{projects[i], l.Holder, l.Workspace}
			paths[o] = append(paths[o], l)
		}
		for o, locks := range paths {
			about := map[string]any{"person": o.handle, "workspace": o.workspace, "count": len(locks),
				"since": locks[0].Since.UTC().Format(time.RFC3339)}
			names := []string{}
			for _, l := range locks[:min(len(locks), 100)] {
				names = append(names, l.Path)
			}
			about["paths"] = names
			if err := tx.AddEvent(ctx, o.project, 0, lock.Reminded, about); err != nil {
				return err
			}
		}
		return nil
	})
}
