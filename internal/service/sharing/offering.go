package sharing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
)

// OfferKit puts what was changed in a use to the project that made the kit: on a branch there, which begins at the release that the use
// has, with a review that asks its leads. The actor hands off there, and needs what that takes: the role of an artist, and locks that
// nobody else has. sendKey is the key of that handoff; the same key again gives the same answer. What was taken away is not offered.
func (s *Room) OfferKit(ctx context.Context, actor ground.Actor, key string, q model.KitOfferRequest, sendKey string) (out model.KitOffer,
	err error) {
	q.Why = strings.TrimSpace(q.Why)
	if q.Why == "" {
		return out, model.NewProblem(model.BadRequest, "say with -m what it is for", "an offer says why")
	}
	if err := ground.Written("why it is offered", q.Why, ground.MaxNote, true); err != nil {
		return out, err
	}
	if !ground.ValidID(sendKey) {
		return out, model.NewProblem(model.BadRequest, "", "the key of a send is a UUID")
	}
	o, err := s.offer(ctx, actor, key, q)
	if err != nil {
		return out, err
	}
	out = model.KitOffer{Project: o.maker.project.Key, Kit: o.use.said.Kit, Paths: o.paths, Asked: []string{}}
	sent, err := s.SentBefore(ctx, actor, out.Project, sendKey)
	if err != nil {
		return out, err
	}
	if sent == nil {
		if sent, err = s.putOffer(ctx, actor, key, q, o, sendKey); err != nil {
			return out, err
		}
	}
	out.Branch, out.Handoff = sent.Branch, sent.Number
	review, err := s.reviewOf(ctx, actor, out.Project, sent.Branch)
	if err == nil && review.Number == 0 {
		review, err = s.reviews.OpenReview(ctx, actor, out.Project, model.ReviewRequest{Of: sent.Branch, Text: o.says(key, q), Ask: o.leads})
	}
	out.Review, out.Asked = review.Number, append(out.Asked, review.Asked...)
	return out, err
}

// offer is what is to be offered: the changes, in the words of the project that makes the kit.
type offer struct {
	use     *use
	maker   released
	leads   []string
	changes []handoffs.Change
	paths   []string
	wanted  []chunk.Digest
}

func (o *offer) says(key string, q model.KitOfferRequest) string {
	return fmt.Sprintf("%s\n\nFrom %s in %s, where %s@%d is used.", q.Why, o.use.dir, key, o.use.said.Name(), o.use.said.Release)
}

func (s *Room) offer(ctx context.Context, actor ground.Actor, key string, q model.KitOfferRequest) (*offer, error) {
	_, _, list, err := s.usesOn(ctx, actor, key, q.Branch, model.Viewer)
	if err != nil {
		return nil, err
	}
	o := &offer{paths: []string{}}
	for _, u := range list {
		if assetpath.Fold(u.dir) == assetpath.Fold(strings.Trim(q.Dir, "/")) {
			o.use = u
		}
	}
	if o.use == nil {
		return nil, model.NewProblem(model.NotFound, "tarn kit list shows those that do", "%s does not come from a kit", ground.Printable(q.Dir))
	}
	said := o.use.said
	if o.maker, err = s.released(ctx, actor, said.Project, said.Kit, said.Release); err != nil {
		return nil, err
	}
	if err := s.Use(ctx, func(tx *records.Tx) error {
		if err := ground.MayWork(o.maker.project, actor, said.Project, model.Artist); err != nil {
			return err
		}
		if err := s.known(ctx, tx, o.maker.project, o.use); err != nil {
			return err
		}
		members, err := tx.Members(ctx, o.maker.project.ID)
		for _, m := range members {
			if model.AtLeast(m.Role, model.Lead) && m.Handle != actor.Handle && len(o.leads) < 100 {
				o.leads = append(o.leads, m.Handle)
			}
		}
		return err
	}); err != nil {
		return nil, err
	}
	for _, a := range o.maker.assets {
		came, _ := said.Content(a.Path)
		e, there := o.use.here[assetpath.Fold(a.Path)]
		if !there || e.Content == came {
			continue
		}
		o.changes = append(o.changes, handoffs.Change{Path: a.Path, Base: a.Version, Content: e.Content, Size: e.Size,
			Executable: e.Mode&tree.Executable != 0})
		o.paths, o.wanted = append(o.paths, a.Path), append(o.wanted, e.Content)
	}
	return o, nil
}

// known refuses where the project of a use is another one by now, which only has the key of the one that made the kit.
func (s *Room) known(ctx context.Context, tx *records.Tx, maker records.Project, u *use) error {
	same, err := ground.SameMaker(ctx, tx, maker, says(u.said))
	if err == nil && !same {
		err = model.NewProblem(model.Taken, "detach it; then use the kit of the new one in another folder",
			"%s is not the project any more that %s came from: it never released %s@%d so", maker.Key, u.dir, u.said.Kit, u.said.Release)
	}
	return err
}

// putOffer hands the changes off on a branch of their own. A branch that nothing came onto is closed again.
func (s *Room) putOffer(ctx context.Context, actor ground.Actor, key string, q model.KitOfferRequest, o *offer,
	sendKey string) (*model.Handoff, error) {
	maker := o.maker.project.Key
	if len(o.changes) == 0 {
		return nil, model.NewProblem(model.BadRequest, "change something of it and send that first",
			"nothing in %s is other than it came: there is nothing to offer", o.use.dir)
	}
	if err := s.copy(ctx, actor, key, maker, o.wanted); err != nil {
		return nil, err
	}
	branch, err := s.branchFor(ctx, actor, maker, key, o)
	if err != nil {
		return nil, err
	}
	receipt, err := s.Send(ctx, actor, maker, handoffs.Send{Key: sendKey, Workspace: model.KindConsole, Branch: branch.Name, TakeFree: true,
		About: model.About{Note: o.says(key, q)}, Changes: o.changes}, nil)
	if err != nil {
		if _, err := s.branches.SetBranchState(context.WithoutCancel(ctx), actor, maker, branch.Name, model.Closed); err != nil {
			s.Log.Warn("the branch of an offer that was refused could not be closed", "branch", branch.Name, "error", err)
		}
		return nil, err
	}
	return &receipt.Handoff, nil
}

// offersOfOne is how many branches are tried for offers of one kit from one project.
const offersOfOne = 1000

// branchFor makes the branch of an offer: undertow/lamp-parts, or the first of undertow/lamp-parts-2 and so on that is free.
func (s *Room) branchFor(ctx context.Context, actor ground.Actor, maker, key string, o *offer) (b model.Branch, err error) {
	taken, err := s.branches.Branches(ctx, actor, maker)
	if err != nil {
		return b, err
	}
	name := key + "/" + o.use.said.Kit
	for n := 2; n < offersOfOne; n++ {
		// One of theirs that nothing came onto, and that was closed for it, is taken up again.
		at := slices.IndexFunc(taken, func(b model.Branch) bool { return b.Name == name })
		if at >= 0 && taken[at].State == model.Closed && taken[at].Head == taken[at].At && taken[at].Person == actor.Handle &&
			taken[at].At == o.maker.release.Handoff {
			return s.branches.SetBranchState(ctx, actor, maker, name, model.Live)
		}
		if at < 0 {
			b, err = s.branches.AddBranch(ctx, actor, maker, model.BranchRequest{Name: name, At: fmt.Sprintf("h%d", o.maker.release.Handoff),
				Why: fmt.Sprintf("what %s changed of %s@%d", key, o.use.said.Kit, o.use.said.Release)})
			var held *model.Problem
			if !errors.As(err, &held) || held.Type != model.Taken {
				return b, err
			}
		}
		name = fmt.Sprintf("%s/%s-%d", key, o.use.said.Kit, n)
	}
	return b, model.NewProblem(model.TooLarge, "close some of them", "there are %d offers of it already", offersOfOne)
}

// reviewOf is the review of a branch, where there is one.
func (s *Room) reviewOf(ctx context.Context, actor ground.Actor, key, branch string) (r model.Review, err error) {
	list, err := s.reviews.Reviews(ctx, actor, key)
	for _, found := range list {
		if found.Branch == branch {
			r = found
		}
	}
	return r, err
}
