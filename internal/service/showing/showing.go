// Package showing lets somebody outside look, without an account, at one version, a comparison or a state: by a link that ends, that can be
// ended, and that leads to nothing else. What may be seen from outside is decided in package ground (see [ground.Outside]), where every
// look at a version asks for it.
package showing

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/contents"
	"kettletarn/internal/service/ground"
)

// MaxDays is how long a showing may hold.
const MaxDays = 366

// Room holds the showings.
type Room struct{ *contents.Room }

// New makes the room.
func New(contents *contents.Room) *Room { return &Room{contents} }

// Showings lists a page of those of a project. Who may look at the project may see what is shown of it, and to whom.
func (s *Room) Showings(ctx context.Context, actor ground.Actor, key string, page records.Page) (out model.Showings, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		if out.Off, err = tx.ShowingsOff(ctx, p.ID); err != nil {
			return err
		}
		if out.Total, err = tx.CountShowings(ctx, p.ID); err != nil {
			return err
		}
		out.Showings, err = tx.Showings(ctx, p.ID, 0, page)
		return err
	})
	return out, err
}

// AddShowing makes a link, which is told this once.
func (s *Room) AddShowing(ctx context.Context, actor ground.Actor, key string, q model.ShowingRequest) (out model.Showing, err error) {
	q.For = strings.TrimSpace(q.For)
	switch {
	case q.For == "":
		return out, model.NewProblem(model.BadRequest, "write for whom it is", "a showing is for somebody")
	case q.Days < 1 || q.Days > MaxDays:
		return out, model.NewProblem(model.BadRequest, "take for example 14 days", "a showing holds between one day and %d", MaxDays)
	case (q.At == "") == (q.Path == ""):
		return out, model.NewProblem(model.BadRequest, "name an asset, or a state", "a showing is of one thing: an asset's version, or a state")
	case q.Path == "" && (q.Version != 0 || q.Compare), !q.Compare && (q.With != "" || q.WithVersion != 0):
		return out, model.NewProblem(model.BadRequest, "leave the rest out", "that is not one thing to be shown")
	}
	if err := ground.Written("for whom a showing is", q.For, 200, false); err != nil {
		return out, err
	}
	out.Shown, out.For = model.Shown{Files: q.Files}, q.For
	if q.Path != "" {
		_, v, err := s.VersionOf(ctx, actor, key, q.Path, q.Version)
		if err != nil {
			return out, err
		}
		out.Path, out.Version, out.Handoff = v.Path, v.Version, v.Handoff
	}
	if q.Compare {
		if q.With == "" {
			q.With = q.Path
		}
		_, v, err := s.VersionOf(ctx, actor, key, q.With, q.WithVersion)
		if err != nil {
			return out, err
		}
		out.With, out.WithVersion, out.WithHandoff = v.Path, v.Version, v.Handoff
	}
	var random [32]byte
	_, _ = rand.Read(random[:])
	secret := strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(random[:]))
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Artist)
		if err != nil {
			return err
		}
		if off, err := tx.LockShowings(ctx, p.ID); err != nil {
			return err
		} else if off {
			return model.NewProblem(model.NotAllowed, "ask a lead of the project", "nothing of %s is shown outside: a lead switched that off", key)
		}
		if q.At != "" {
			if out.Handoff, err = ground.PointAt(ctx, tx, p, "", q.At); err != nil {
				return err
			}
			if out.Handoff == 0 {
				return model.NewProblem(model.NotFound, "send something first", "%s has no handoff yet", key)
			}
			out.State = q.At
		}
		now, err := tx.Now(ctx)
		if err != nil {
			return err
		}
		out.Until = now.AddDate(0, 0, q.Days)
		if out, err = tx.AddShowing(ctx, p.ID, actor.ID, chunk.Sum([]byte(secret)), out); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.ShowingAdded, subject(out))
	})
	out.Address = "/shown/" + secret
	return out, err
}

// subject is what the record keeps of a showing.
func subject(s model.Showing) map[string]any {
	about := map[string]any{"showing": s.Number, "for": s.For, "until": s.Until, "files": s.Files}
	switch {
	case s.Path == "":
		about["state"], about["handoff"] = s.State, s.Handoff
	case s.With == "":
		about["paths"], about["version"] = []string{s.Path}, s.Version
	default:
		about["paths"], about["version"], about["with_version"] = []string{s.Path, s.With}, s.Version, s.WithVersion
	}
	return about
}

// EndShowing makes a link lead nowhere from now on: one's own, or, for a lead, anybody's.
func (s *Room) EndShowing(ctx context.Context, actor ground.Actor, key string, number int) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		list, err := tx.Showings(ctx, p.ID, number, records.Page{})
		if err != nil {
			return err
		}
		if number < 1 || len(list) == 0 {
			return model.NewProblem(model.NotFound, "tarn showing list shows those that there are", "%s has no showing %d", key, number)
		}
		if list[0].By != actor.Handle && !model.AtLeast(p.Role, model.Lead) {
			return model.NewProblem(model.NotAllowed, "ask a lead of the project", "this showing is %s's", list[0].By)
		}
		ended, err := tx.EndShowing(ctx, p.ID, number, actor.ID)
		if err != nil || !ended {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.ShowingEnded, subject(list[0]))
	})
}

// SwitchShowings switches all that a project shows outside off, or on again: what was not ended then holds as before.
func (s *Room) SwitchShowings(ctx context.Context, actor ground.Actor, key string, off bool) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Lead)
		if err != nil {
			return err
		}
		if was, err := tx.LockShowings(ctx, p.ID); err != nil || was == off {
			return err
		}
		if err := tx.SetShowingsOff(ctx, p.ID, off); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.ShowingsSwitched, map[string]any{"off": off})
	})
}

// Exhibit is what a link shows, for whoever has it; that it was opened is counted, and comes on record once an hour.
func (s *Room) Exhibit(ctx context.Context, actor ground.Actor) (out model.Exhibit, err error) {
	o := actor.Outside
	out = model.Exhibit{Project: o.Project.Key, By: o.Showing.By, For: o.Showing.For, Shown: o.Showing.Shown, Until: o.Showing.Until}
	if out.Path == "" {
		if err = s.state(ctx, o, func(forest *tree.Forest, root chunk.Digest) error {
			count, size, err := forest.Sum(ctx, root, "", "")
			out.Assets, out.Size = int(count), size
			return err
		}); err != nil {
			return out, err
		}
	}
	return out, s.Write(ctx, func(tx *records.Tx) error {
		fresh, err := tx.OpenedShowing(ctx, o.Project.ID, o.Showing.Number)
		if err != nil || !fresh {
			return err
		}
		return tx.AddEvent(ctx, o.Project.ID, 0, news.ShowingOpened, subject(o.Showing))
	})
}

// state looks at the tree of the state that is shown.
func (s *Room) state(ctx context.Context, o *ground.Outside, look func(*tree.Forest, chunk.Digest) error) error {
	if o.Showing.Path != "" {
		return model.NewProblem(model.NotFound, "go back to what this link shows", "this link shows one thing")
	}
	return s.Use(ctx, func(tx *records.Tx) error {
		root, err := ground.RootAt(ctx, tx, o.Project, o.Showing.Handoff)
		if err != nil {
			return err
		}
		return look(s.Forest(tx, o.Project.ID), root)
	})
}

// Exhibits lists a page of the assets of the state that is shown, behind a path, "" for the first page: those with text in their paths.
func (s *Room) Exhibits(ctx context.Context, actor ground.Actor, after, text string, limit int) (out model.ExhibitPage, err error) {
	limit, text = ground.Rows(limit), assetpath.Fold(text)
	out.Assets = []model.ExhibitAsset{}
	err = s.state(ctx, actor.Outside, func(forest *tree.Forest, root chunk.Digest) error {
		return forest.Range(ctx, root, assetpath.Fold(after), "", func(e *tree.Entry) bool {
			if !strings.Contains(e.Key, text) {
				return ctx.Err() == nil
			}
			if len(out.Assets) == limit {
				out.Next = out.Assets[limit-1].Path
				return false
			}
			out.Assets = append(out.Assets, model.ExhibitAsset{Path: e.Spelling(), Version: e.Version, Size: e.Size})
			return ctx.Err() == nil
		})
	})
	return out, err
}
