// Package reviewing is the conversation on a branch or a handoff: people are asked to look, say things that point at the thing itself, and
// answer. It decides nothing about merges; who asks it what was answered does.
package reviewing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/point"
	"kettletarn/internal/core/spot"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/looking"
)

// MaxRemarks is how much is said in one review at most.
const MaxRemarks = 2000

// Room holds the conversations.
type Room struct {
	*ground.Ground
	looks *looking.Room
}

// New makes the room.
func New(looks *looking.Room) *Room { return &Room{looks.Ground, looks} }

// Reviews lists those of a project, without what was said.
func (s *Room) Reviews(ctx context.Context, actor ground.Actor, key string) (list []model.Review, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		list, err = tx.Reviews(ctx, p.ID, 0, 0)
		return err
	})
	return list, err
}

// Review shows one with all that was said.
func (s *Room) Review(ctx context.Context, actor ground.Actor, key string, number int) (r model.Review, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		r, err = find(ctx, tx, p, number)
		return err
	})
	return r, err
}

func find(ctx context.Context, tx *records.Tx, p records.Project, number int) (r model.Review, err error) {
	list, err := tx.Reviews(ctx, p.ID, number, 0)
	if err != nil {
		return r, err
	}
	if number < 1 || len(list) == 0 {
		return r, model.NewProblem(model.NotFound, "see tarn review list", "%s has no review r%d", p.Key, number)
	}
	r = list[0]
	r.Remarks, err = tx.Remarks(ctx, p.ID, number)
	return r, err
}

// OpenReview opens one of a branch or a handoff, and asks people to look.
func (s *Room) OpenReview(ctx context.Context, actor ground.Actor, key string, q model.ReviewRequest) (r model.Review, err error) {
	q.Of, q.Text = strings.TrimSpace(q.Of), strings.TrimSpace(q.Text)
	if q.Text == "" {
		return r, model.NewProblem(model.BadRequest, "say with -m what is to be looked at", "a review begins with a few words")
	}
	if err := ground.CheckWord("what a review begins with", q.Text); err != nil {
		return r, err
	}
	if len(q.Ask) > 100 {
		return r, model.NewProblem(model.TooLarge, "ask fewer", "one review asks at most 100 people")
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Artist)
		if err != nil {
			return err
		}
		if err := tx.LockReviews(ctx, p.ID); err != nil {
			return err
		}
		fresh := records.NewReview{Person: actor.ID, Text: q.Text}
		of, err := about(ctx, tx, p, q.Of, &fresh)
		if err != nil {
			return err
		}
		members, err := tx.MembersCalled(ctx, p.ID, q.Ask)
		if err != nil {
			return err
		}
		for _, handle := range q.Ask {
			member, is := members[handle]
			if !is {
				return model.NewProblem(model.NotFound, "see tarn member list", "%s is nobody in %s", ground.Printable(handle), key)
			}
			fresh.Ask = append(fresh.Ask, member.ID)
		}
		number, err := tx.AddReview(ctx, p.ID, fresh)
		if err != nil {
			return err
		}
		if r, err = find(ctx, tx, p, number); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.ReviewOpened, map[string]any{"review": number, "of": of, "note": ground.FirstLine(q.Text),
			"to": r.Asked})
	})
	return r, err
}

// about finds what a review is of, and how that is called.
func about(ctx context.Context, tx *records.Tx, p records.Project, of string, r *records.NewReview) (string, error) {
	if n, is := point.Handoff(of); is {
		if n > p.Handoffs {
			return "", model.NewProblem(model.NotFound, "see tarn history", "%s has no handoff h%d; the newest is h%d", p.Key, n, p.Handoffs)
		}
		r.Handoff = n
		return fmt.Sprintf("h%d", n), nil
	}
	if of == "" {
		return "", model.NewProblem(model.BadRequest, "name a branch or a handoff (h40)", "it is not clear what is to be looked at")
	}
	b, err := ground.Head(ctx, tx, p, of)
	if err != nil {
		return "", err
	}
	r.Branch, r.Handoff = b.ID, b.Head
	return b.Name, nil
}

// hearers are those who hear of what is said in a review: who opened it, who was asked, and who said or answered something.
func hearers(r model.Review, but string) (list []string) {
	add := func(handle string) {
		if handle != but && !slices.Contains(list, handle) {
			list = append(list, handle)
		}
	}
	add(r.Person)
	for _, handle := range r.Asked {
		add(handle)
	}
	for _, a := range r.Answers {
		add(a.Person)
	}
	for _, m := range r.Remarks {
		add(m.Person)
	}
	return list
}

// change opens a review for a change by somebody with a role.
func (s *Room) change(ctx context.Context, actor ground.Actor, key string, number int, role string,
	do func(tx *records.Tx, p records.Project, r model.Review) error) (r model.Review, err error) {
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, role)
		if err != nil {
			return err
		}
		if err := tx.LockReviews(ctx, p.ID); err != nil {
			return err
		}
		if r, err = find(ctx, tx, p, number); err != nil {
			return err
		}
		if r.Closed != nil {
			return model.NewProblem(model.Taken, "open another one", "r%d was closed by %s", number, r.Closer)
		}
		if err := do(tx, p, r); err != nil {
			return err
		}
		r, err = find(ctx, tx, p, number)
		return err
	})
	return r, err
}

// Say says something in a review, of the whole or of a thing in it.
func (s *Room) Say(ctx context.Context, actor ground.Actor, key string, number int, q model.RemarkRequest) (model.Review, error) {
	q.Text = strings.TrimSpace(q.Text)
	if q.Text == "" {
		return model.Review{}, model.NewProblem(model.BadRequest, "add -m with what you have to say", "a remark has words")
	}
	if err := ground.CheckWord("a remark", q.Text); err != nil {
		return model.Review{}, err
	}
	return s.change(ctx, actor, key, number, model.Viewer, func(tx *records.Tx, p records.Project, r model.Review) error {
		if r.Said >= MaxRemarks {
			return model.NewProblem(model.TooMany, "go on in another review", "%d things were said in r%d, and there is no room for more", r.Said,
				number)
		}
		fresh := records.NewRemark{Person: actor.ID, Text: q.Text, Answers: q.Answers}
		if q.Answers != 0 && !slices.ContainsFunc(r.Remarks, func(m model.Remark) bool { return m.Number == q.Answers && m.Answers == 0 }) {
			return model.NewProblem(model.NotFound, "see tarn review show", "r%d has no remark %d that could be answered", number, q.Answers)
		}
		if err := pointAt(ctx, tx, p, r, q, &fresh); err != nil {
			return err
		}
		if _, err := tx.AddRemark(ctx, p.ID, number, fresh); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.ReviewSaid, map[string]any{"review": number, "note": ground.FirstLine(q.Text),
			"path": fresh.Path,
			"to":   hearers(r, actor.Handle)})
	})
}

// pointAt finds the version that a remark is about: the one that is named, or the one of the state that is looked at.
func pointAt(ctx context.Context, tx *records.Tx, p records.Project, r model.Review, q model.RemarkRequest,
	fresh *records.NewRemark) error {
	if q.Path == "" {
		if q.Where != "" || q.Version != 0 {
			return model.NewProblem(model.BadRequest, "name the asset, too", "a spot is one on an asset")
		}
		return nil
	}
	if q.Where != "" {
		at, err := spot.Parse(q.Where)
		if err != nil {
			return model.NewProblem(model.BadRequest, "write it like one of these", "%v", err)
		}
		if kinds := media.Spots(q.Path); kinds != nil && !slices.Contains(kinds, at.Kind) {
			return model.NewProblem(model.BadRequest, "point at one", "on %s there is a %s, and no %s", ground.Printable(q.Path),
				strings.Join(kinds, ", a "), at.Kind)
		}
		if at.Page > 1 && media.KindOf(q.Path) != media.Document {
			return model.NewProblem(model.BadRequest, "leave the page out", "%s has no pages", ground.Printable(q.Path))
		}
		fresh.Spot = at.String()
	}
	folded := assetpath.Fold(q.Path)
	id, err := tx.AssetAt(ctx, p.ID, r.Head, folded)
	if err == nil {
		var v model.Version
		if v, err = tx.Version(ctx, p.ID, r.Head, folded, q.Version); err == nil {
			fresh.Path, fresh.Version, fresh.Asset = v.Path, v.Version, id
			return nil
		}
	}
	if errors.Is(err, records.ErrNotFound) {
		err = model.NewProblem(model.NotFound, "check the spelling", "there is no such version of %s in what is looked at",
			ground.Printable(q.Path))
	}
	return err
}

// Settle settles a remark, or takes that back. Whoever may send may do it.
func (s *Room) Settle(ctx context.Context, actor ground.Actor, key string, number int, q model.SettleRequest) (model.Review, error) {
	return s.change(ctx, actor, key, number, model.Artist, func(tx *records.Tx, p records.Project, r model.Review) error {
		if !slices.ContainsFunc(r.Remarks, func(m model.Remark) bool { return m.Number == q.Remark && m.Answers == 0 }) {
			return model.NewProblem(model.NotFound, "see tarn review show", "r%d has no remark %d that could be settled", number, q.Remark)
		}
		if err := tx.SettleRemark(ctx, p.ID, number, q.Remark, actor.ID, q.Settled); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.ReviewSettled, map[string]any{"review": number, "remark": q.Remark, "settled": q.Settled})
	})
}

// AnswerReview says what one thinks of the whole, as of the handoff that it is at. Not yet needs a reason.
func (s *Room) AnswerReview(ctx context.Context, actor ground.Actor, key string, number int, q model.AnswerRequest) (model.Review, error) {
	q.Why = strings.TrimSpace(q.Why)
	if !q.Yes && q.Why == "" {
		return model.Review{}, model.NewProblem(model.BadRequest, "add -m with what is missing", "not yet needs a reason")
	}
	if err := ground.CheckWord("an answer", q.Why); err != nil {
		return model.Review{}, err
	}
	return s.change(ctx, actor, key, number, model.Viewer, func(tx *records.Tx, p records.Project, r model.Review) error {
		if err := tx.AddReviewAnswer(ctx, p.ID, number, actor.ID, q.Yes, q.Why, r.Head); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.ReviewAnswered, map[string]any{"review": number, "yes": q.Yes,
			"word":    ground.FirstLine(q.Why),
			"handoff": r.Head, "to": hearers(r, actor.Handle)})
	})
}

// CloseReview ends a review: for whoever opened it, and for leads.
func (s *Room) CloseReview(ctx context.Context, actor ground.Actor, key string, number int) (model.Review, error) {
	return s.change(ctx, actor, key, number, model.Artist, func(tx *records.Tx, p records.Project, r model.Review) error {
		if r.Person != actor.Handle && !model.AtLeast(p.Role, model.Lead) {
			return model.NewProblem(model.NotAllowed, "ask one of them", "closing r%d is for %s, who opened it, and for leads", number, r.Person)
		}
		if err := tx.CloseReview(ctx, p.ID, number, actor.ID); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.ReviewClosed, map[string]any{"review": number, "to": hearers(r, actor.Handle)})
	})
}
