package history

import (
	"context"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// MaxPins is how many commits one request may tell of.
const MaxPins = 1000

// TellPins keeps which commits of the main history pin which handoffs, and lists those of them that are known now. One that names a handoff
// that is not of this history is left out.
func (s *Room) TellPins(ctx context.Context, actor ground.Actor, key string,
	list []model.PinnedCommit) (known []model.PinnedCommit, err error) {
	if len(list) > MaxPins {
		return nil, model.NewProblem(model.TooLarge, "tell of the latest ones", "one request tells of at most %d commits", MaxPins)
	}
	for i := range list {
		c := &list[i]
		if _, err := chunk.ParseDigest(c.Digest); err != nil || !ground.CommitID.MatchString(c.Commit) || c.Handoff < 1 || c.Handoff > 1<<31-1 {
			return nil, model.NewProblem(model.BadRequest, "name commits by their full ids, and handoffs by number and digest",
				"commit %s can't be one that pins a handoff", ground.Printable(c.Commit))
		}
		c.Author, c.Subject, c.At = ground.Printable(c.Author), ground.Printable(ground.FirstLine(c.Subject)), ground.Within(c.At)
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Artist)
		if err != nil {
			return err
		}
		fresh, err := tx.AddPins(ctx, p.ID, actor.ID, list)
		if err != nil {
			return err
		}
		if fresh > 0 {
			if err := tx.AddEvent(ctx, p.ID, actor.ID, news.PinsTold, map[string]any{"commits": fresh}); err != nil {
				return err
			}
		}
		known, err = tx.Pins(ctx, p.ID, 0, MaxPins)
		return err
	})
	return known, err
}

// Pins lists the commits that pin handoffs, the latest first: those of one handoff, or, with 0, of all.
func (s *Room) Pins(ctx context.Context, actor ground.Actor, key string, handoff int) (list []model.PinnedCommit, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		list, err = tx.Pins(ctx, p.ID, handoff, MaxPins)
		return err
	})
	return list, err
}
