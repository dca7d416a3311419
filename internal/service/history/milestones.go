package history

import (
	"context"
	"fmt"
	"strings"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/point"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Handoff shows one handoff, by its number, or as a state that somebody named, with its assets.
func (s *Room) Handoff(ctx context.Context, actor ground.Actor, key, at string) (h model.Handoff, err error) {
	return s.HandoffPage(ctx, actor, key, at, records.Page{})
}

// HandoffPage is Handoff with a page of its assets; its count says how many there are.
func (s *Room) HandoffPage(ctx context.Context, actor ground.Actor, key, at string, page records.Page) (h model.Handoff, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		number, err := ground.PointAt(ctx, tx, p, "", at)
		if err != nil {
			return err
		}
		if number == 0 {
			return model.NewProblem(model.NotFound, "send something first", "%s has no handoff yet", key)
		}
		h, err = tx.HandoffPage(ctx, p.ID, number, page)
		return err
	})
	return h, err
}

// AddMilestone names a handoff. The name stays with it.
func (s *Room) AddMilestone(ctx context.Context, actor ground.Actor, key string, q model.MilestoneRequest) (m model.Milestone, err error) {
	q.Name, q.Note = strings.TrimSpace(q.Name), strings.TrimSpace(q.Note)
	if err := point.CheckName(q.Name); err != nil {
		return m, model.NewProblem(model.BadRequest, "choose another name", "%v", err)
	}
	if err := ground.CheckWord("the note of a milestone", q.Note); err != nil {
		return m, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Artist)
		if err != nil {
			return err
		}
		if err := tx.LockNames(ctx, p.ID); err != nil {
			return err
		}
		if err := ground.NoBranch(ctx, tx, p, q.Name); err != nil {
			return err
		}
		number, err := ground.PointAt(ctx, tx, p, "", q.At)
		if err != nil {
			return err
		}
		if number == 0 {
			return model.NewProblem(model.NotFound, "send something first", "%s has no handoff yet that could be named", key)
		}
		fresh, err := tx.AddMilestone(ctx, p.ID, actor.ID, point.Fold(q.Name), model.Milestone{Name: q.Name, Handoff: number, Note: q.Note})
		if err != nil {
			return err
		}
		found, err := tx.Milestones(ctx, p.ID, point.Fold(q.Name))
		if err != nil {
			return err
		}
		if !fresh && (len(found) == 0 || found[0].Handoff != number) {
			at := "another handoff"
			if len(found) > 0 {
				at = fmt.Sprintf("h%d", found[0].Handoff)
			}
			return model.NewProblem(model.Taken, "a milestone is never moved; choose another name", "%s names %s already", q.Name, at)
		}
		if m = found[0]; !fresh {
			return nil
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.MilestoneAdded, map[string]any{"name": m.Name, "handoff": number, "note": m.Note})
	})
	return m, err
}

// Milestones lists a project's, the latest handoff first.
func (s *Room) Milestones(ctx context.Context, actor ground.Actor, key string) ([]model.Milestone, error) {
	page, err := s.MilestonePage(ctx, actor, key, records.Page{})
	return page.Milestones, err
}

// MilestonePage is a page of Milestones, with how many there are in all.
func (s *Room) MilestonePage(ctx context.Context, actor ground.Actor, key string, page records.Page) (out model.Milestones, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		if out.Total, err = tx.CountMilestones(ctx, p.ID); err != nil {
			return err
		}
		out.Milestones, err = tx.MilestonePage(ctx, p.ID, "", page)
		return err
	})
	return out, err
}

// RemoveMilestone takes a name away, which only leads may. The handoff stays.
func (s *Room) RemoveMilestone(ctx context.Context, actor ground.Actor, key, name string) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Lead)
		if err != nil {
			return err
		}
		found, err := tx.Milestones(ctx, p.ID, point.Fold(name))
		if err != nil {
			return err
		}
		there, err := tx.RemoveMilestone(ctx, p.ID, point.Fold(name))
		if err != nil {
			return err
		}
		if !there || len(found) == 0 {
			return model.NewProblem(model.NotFound, "see tarn milestone list", "%s has no milestone %s", key, ground.Printable(name))
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.MilestoneRemoved, map[string]any{"name": found[0].Name, "handoff": found[0].Handoff})
	})
}
