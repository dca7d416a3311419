package people

import (
	"context"
	"errors"
	"strings"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// MaxTokenDays is how long a token for a project may hold.
const MaxTokenDays = 3 * 366

// NewToken makes a token for one project and for at most a role there, which holds for so many days: for a machine that works by itself.
// It is the actor's, and never lets anybody do more than the actor may.
func (s *Room) NewToken(ctx context.Context, actor ground.Actor, key string, q model.TokenRequest) (t model.Token, err error) {
	label := strings.TrimSpace(q.Label)
	switch {
	case !model.ValidRole(q.Role):
		return t, model.NewProblem(model.BadRequest, "take viewer, artist, lead or owner", "%q is not a role", ground.Printable(q.Role))
	case q.Days < 1 || q.Days > MaxTokenDays:
		return t, model.NewProblem(model.BadRequest, "take for example: 90 days", "a token holds between one day and %d", MaxTokenDays)
	}
	if err := ground.Written("what a token is for", label, 80, false); err != nil {
		return t, err
	}
	if err := actor.Whole(); err != nil {
		return t, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, q.Role)
		if err != nil {
			return err
		}
		t = model.Token{Project: key, Person: actor.Handle, Label: label, Role: q.Role}
		if t.Made, err = tx.Now(ctx); err != nil {
			return err
		}
		if t.Token, t.Expires, t.ID, err = addToken(ctx, tx, records.NewToken{Person: actor.ID, Label: label, Project: p.ID, Role: q.Role},
			q.Days); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.TokenMade, map[string]any{"label": label, "role": q.Role, "expires": t.Expires})
	})
	return t, err
}

// Tokens lists the tokens of a project that still hold: one's own, and for a lead all.
func (s *Room) Tokens(ctx context.Context, actor ground.Actor, key string) (list []model.Token, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		list, err = tx.Tokens(ctx, p.ID, whose(p, actor))
		return err
	})
	return list, err
}

// MyTokens lists the actor's tokens for single projects that still hold.
func (s *Room) MyTokens(ctx context.Context, actor ground.Actor) (list []model.Token, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		list, err = tx.Tokens(ctx, 0, actor.ID)
		return err
	})
	return list, err
}

// EndToken makes a token of a project unusable from now on: one's own, or, for a lead, anybody's.
func (s *Room) EndToken(ctx context.Context, actor ground.Actor, key string, id int64) error {
	if err := actor.Whole(); err != nil {
		return err
	}
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		label, handle, err := tx.EndProjectToken(ctx, p.ID, id, whose(p, actor))
		if errors.Is(err, records.ErrNotFound) {
			return model.NewProblem(model.NotFound, "tarn token list shows those that there are",
				"there is no token %d of yours in %s that still holds", id, key)
		}
		if err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.TokenEnded, map[string]any{"label": label, "person": handle})
	})
}

// whose tokens the actor may see and end: 0 for everybody's.
func whose(p records.Project, actor ground.Actor) int64 {
	if model.AtLeast(p.Role, model.Lead) {
		return 0
	}
	return actor.ID
}
