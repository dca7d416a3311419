package locks

import (
	"context"
	"slices"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// MaxUnsent is how many unsent changes a workspace may tell of.
const MaxUnsent = 10_000

// SetHeadsUps keeps which assets have unsent changes in one of the actor's workspaces: all of them, each time.
func (s *Room) SetHeadsUps(ctx context.Context, actor ground.Actor, key, workspaceID string, changes []model.UnsentChange) error {
	if len(changes) > MaxUnsent {
		return model.NewProblem(model.TooLarge, "", "a workspace tells of at most %d unsent changes", MaxUnsent)
	}
	n := len(changes)
	folded, states, sizes, since := make([]string, 0, n), make([]string, 0, n), make([]int64, 0, n), make([]time.Time, 0, n)
	seen := map[string]bool{}
	for _, c := range changes {
		f := assetpath.Fold(c.Path)
		if assetpath.Check(c.Path) != nil || seen[f] {
			continue
		}
		switch c.State {
		case model.Edited, model.Gone, model.Clash, model.Same, model.Behind: // the latter two with a move
		default:
			return model.NewProblem(model.BadRequest, "", "%q is not the state of an unsent change", ground.Printable(c.State))
		}
		seen[f] = true
		folded, states, sizes, since = append(folded, f), append(states, c.State), append(sizes, max(c.Size, 0)), append(since, c.Since)
	}
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		w, err := ground.Workspace(ctx, tx, actor, p, workspaceID)
		if err != nil {
			return err
		}
		known, err := tx.Assets(ctx, p.ID, w.Branch, folded)
		if err != nil {
			return err
		}
		ids, n := make([]int64, 0, len(folded)), 0
		for i, f := range folded {
			if a := known[f]; a != nil && !slices.Contains(ids, a.ID) {
				ids, states[n], sizes[n], since[n] = append(ids, a.ID), states[i], sizes[i], since[i]
				n++
			}
		}
		changed, err := tx.SetHeadsUps(ctx, p.ID, w.ID, ids, states[:n], sizes[:n], since[:n])
		if err != nil || len(changed) == 0 {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.UnsentChanged,
			map[string]any{"workspace": w.Name, "count": len(changed), "paths": changed[:min(len(changed), 100)]})
	})
}

// HeadsUps lists who has unsent changes in a project.
func (s *Room) HeadsUps(ctx context.Context, actor ground.Actor, key string) (list []model.HeadsUp, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		list, err = tx.HeadsUps(ctx, p.ID)
		return err
	})
	return list, err
}
