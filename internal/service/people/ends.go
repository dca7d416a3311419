package people

import (
	"context"
	"errors"
	"strings"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// ownProject is a project in which the actor is an owner, or that they see to as a steward.
func ownProject(ctx context.Context, tx *records.Tx, actor ground.Actor, key string) (records.Project, error) {
	if err := actor.Whole(); err != nil {
		return records.Project{}, err
	}
	p, err := ground.Project(ctx, tx, actor, key, ground.LeadOrSteward)
	if err == nil && p.Role != model.Owner && !actor.Steward {
		err = model.NewProblem(model.NotAllowed, "ask an owner of the project", "only an owner decides what becomes of %s", key)
	}
	return p, err
}

// asSeen is a project as the actor sees it.
func asSeen(ctx context.Context, tx *records.Tx, actor ground.Actor, key string) (p model.Project, err error) {
	list, err := tx.Projects(ctx, actor.ID, true, key)
	if err == nil && len(list) == 1 {
		p = list[0]
	}
	return p, err
}

// Archive makes a project one that is only looked at, out of the way, or brings it back. Locks stay as they are meanwhile.
func (s *Room) Archive(ctx context.Context, actor ground.Actor, key string, archived bool) (out model.Project, err error) {
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ownProject(ctx, tx, actor, key)
		if err != nil {
			return err
		}
		if err := tx.Gate(ctx, p.ID, true); err != nil {
			return err
		}
		changed, err := tx.SetArchived(ctx, p.ID, archived)
		if err == nil && changed {
			kind := news.ProjectBack
			if archived {
				kind = news.ProjectArchived
			}
			err = tx.AddEvent(ctx, p.ID, actor.ID, kind, map[string]any{"key": key})
		}
		if err != nil {
			return err
		}
		out, err = asSeen(ctx, tx, actor, key)
		return err
	})
	return out, err
}

// DeleteProject deletes a project, whose key was typed once more. Nobody gets at it from then on; until its days of grace are over an owner
// brings it back, and then collect takes it away for good.
func (s *Room) DeleteProject(ctx context.Context, actor ground.Actor, key, typed string) (out model.DeletedProject, err error) {
	if typed != key {
		return out, model.NewProblem(model.BadRequest, "type the key of the project, exactly", "%q is not the key of %s", ground.Printable(typed),
			key)
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ownProject(ctx, tx, actor, key)
		if err != nil {
			return err
		}
		if err := tx.Gate(ctx, p.ID, true); err != nil {
			return err
		}
		goes, err := tx.DeleteProject(ctx, p.ID, actor.ID, s.Grace)
		if err != nil {
			return err
		}
		if err := tx.AddEvent(ctx, p.ID, actor.ID, news.ProjectDeleted,
			map[string]any{"key": key, "goes": goes.UTC().Format(time.RFC3339)}); err != nil {
			return err
		}
		list, err := tx.DeletedOf(ctx, actor.ID, true, key)
		if err == nil && len(list) == 1 {
			out = list[0]
		}
		return err
	})
	return out, err
}

// RestoreProject brings a deleted project back, as it was.
func (s *Room) RestoreProject(ctx context.Context, actor ground.Actor, key string) (out model.Project, err error) {
	if err := actor.Whole(); err != nil {
		return out, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		list, err := tx.DeletedOf(ctx, actor.ID, actor.Steward, key)
		switch {
		case err != nil:
			return err
		case key == "" || len(list) != 1:
			return model.NewProblem(model.NotFound, "tarn project list shows those that can be brought back", "no project %q of yours was deleted",
				ground.Printable(key))
		case list[0].Role != model.Owner && !actor.Steward:
			return model.NewProblem(model.NotAllowed, "ask an owner of the project", "only an owner brings %s back", key)
		}
		id, err := tx.UndeleteProject(ctx, key)
		if errors.Is(err, records.ErrNotFound) {
			err = model.NewProblem(model.NotFound, "", "%s is not there any more", key)
		}
		if err != nil {
			return err
		}
		if err := tx.AddEvent(ctx, id, actor.ID, news.ProjectRestored, map[string]any{"key": key}); err != nil {
			return err
		}
		out, err = asSeen(ctx, tx, actor, key)
		return err
	})
	return out, err
}

// Deleted lists the actor's projects that were deleted and can be brought back, and all of them for a steward.
func (s *Room) Deleted(ctx context.Context, actor ground.Actor) (list []model.DeletedProject, err error) {
	if actor.Within != "" {
		return []model.DeletedProject{}, nil
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		list, err = tx.DeletedOf(ctx, actor.ID, actor.Steward, "")
		return err
	})
	return list, err
}

// DeedQuery asks for a part of the record: see records.DeedQuery. About is one of the subjects of package news.
type DeedQuery struct {
	Person, Path, About string
	Since, Until        time.Time
	Before              int64
	Limit               int
}

// Deeds is the record of a project: everything that was done, the latest first. What concerns credentials and who is let in is for leads.
// With key "" it is that of the whole service, for stewards.
func (s *Room) Deeds(ctx context.Context, actor ground.Actor, key string, q DeedQuery) (out model.Deeds, err error) {
	limit := ground.Rows(q.Limit)
	out.Record = []model.Deed{}
	err = s.Use(ctx, func(tx *records.Tx) error {
		of, closed := int64(0), actor.Steward
		if key != "" {
			p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
			if err != nil {
				return err
			}
			of, closed = p.ID, model.AtLeast(p.Role, model.Lead)
		} else if !actor.Steward {
			return model.NewProblem(model.NotAllowed, "ask whoever runs the service", "only a steward sees the record of the whole service")
		}
		kinds := news.Recorded(q.About, closed)
		if len(kinds) == 0 && q.About != "" && len(news.Recorded(q.About, true)) == 0 {
			return model.NewProblem(model.BadRequest, "take one of those that --help lists", "the record knows nothing of %q",
				ground.Printable(q.About))
		}
		list, err := tx.Deeds(ctx, records.DeedQuery{Project: of, Person: q.Person, Path: assetpath.Printable(q.Path), Kinds: kinds,
			Since: q.Since,
			Until: q.Until, Before: q.Before, Limit: limit + 1})
		if err != nil {
			return err
		}
		if len(list) > limit {
			list = list[:limit]
			out.Next = list[limit-1].Row
		}
		for _, h := range list {
			item := news.Of(h.Event)
			d := model.Deed{ID: h.Row, At: h.At, Person: h.Person, Kind: h.Kind, Text: news.Says(h.Event), Paths: item.Paths, Handoff: item.Handoff}
			if key == "" {
				d.Project = h.Key
			}
			if person, ok := h.Subject["person"].(string); ok && strings.HasPrefix(h.Kind, news.Before) {
				d.Person = person
			}
			out.Record = append(out.Record, d)
		}
		return nil
	})
	return out, err
}
