package history

import (
	"context"
	"net/url"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Bounds of a view: characters of its name and its filter, and how many one sees of a project.
const (
	maxViewName  = 60
	maxViewQuery = 2000
	maxViews     = 200
)

// Views lists the named filters of assets that a person has in a project: the team's and their own.
func (s *Room) Views(ctx context.Context, actor ground.Actor, key string) (list []model.View, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		list, err = tx.Views(ctx, p.ID, actor.ID)
		return err
	})
	return list, err
}

// KeepView keeps what is filtered under a name, in place of what had that name: for oneself, or, for artists, for the team.
func (s *Room) KeepView(ctx context.Context, actor ground.Actor, key, name string, q model.ViewRequest) (v model.View, err error) {
	v = model.View{Name: strings.TrimSpace(name), Team: q.Team, Folder: strings.Trim(q.Folder, "/"), Query: q.Query, By: actor.Handle}
	if v.Name == "" {
		return v, model.NewProblem(model.BadRequest, "write one", "a view needs a name")
	}
	if err := ground.Written("the name of a view", v.Name, maxViewName, false); err != nil {
		return v, err
	}
	if err := ground.Written("the folder of a view", v.Folder, 4096, false); err != nil {
		return v, err
	}
	if _, err := url.ParseQuery(v.Query); err != nil || len(v.Query) > maxViewQuery {
		return v, model.NewProblem(model.BadRequest, "filter for less", "the filter of a view is a query of at most %d characters", maxViewQuery)
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, rightTo(q.Team))
		if err != nil {
			return err
		}
		there, err := tx.Views(ctx, p.ID, actor.ID)
		if err != nil {
			return err
		}
		if len(there) >= maxViews {
			return model.NewProblem(model.TooLarge, "remove one first", "there are %d views already", len(there))
		}
		return tx.KeepView(ctx, p.ID, ownerOf(actor, q.Team), actor.ID, assetpath.Fold(v.Name), v)
	})
	return v, err
}

// RemoveView forgets a view of one's own, or, for artists, one of the team's.
func (s *Room) RemoveView(ctx context.Context, actor ground.Actor, key, name string, team bool) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, rightTo(team))
		if err != nil {
			return err
		}
		there, err := tx.RemoveView(ctx, p.ID, ownerOf(actor, team), assetpath.Fold(strings.TrimSpace(name)))
		if err == nil && !there {
			err = model.NewProblem(model.NotFound, "look at the list again", "there is no view %s", ground.Printable(name))
		}
		return err
	})
}

func rightTo(team bool) string {
	if team {
		return model.Artist
	}
	return model.Viewer
}

func ownerOf(actor ground.Actor, team bool) int64 {
	if team {
		return 0
	}
	return actor.ID
}
