// Package branching makes branches, and tells how they stand to each other. It makes no handoffs.
package branching

import (
	"context"
	"errors"
	"slices"
	"strings"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/point"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Room makes branches.
type Room struct {
	*ground.Ground
}

// New makes the room.
func New(ground *ground.Ground) *Room { return &Room{ground} }

// Branches lists those of a project.
func (s *Room) Branches(ctx context.Context, actor ground.Actor, key string) (list []model.Branch, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		list, err = tx.BranchList(ctx, p.ID, "")
		return err
	})
	return list, err
}

// Branch shows one: since which common state it has gone its own way from the branch that it came from, what changed on either side since,
// what clashes already, and who is on it.
func (s *Room) Branch(ctx context.Context, actor ground.Actor, key, name string) (b model.Branch, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		found, err := find(ctx, tx, p, name)
		if err != nil {
			return err
		}
		if b, err = told(ctx, tx, p, found.Name); err != nil {
			return err
		}
		if b.Workspaces, err = tx.WorkspacesOn(ctx, p.ID, b.Name); err != nil || b.From == "" {
			return err
		}
		other, err := tx.Branch(ctx, p.ID, b.From, false)
		if err != nil {
			return err
		}
		return s.compare(ctx, tx, p, found, other, &b)
	})
	return b, err
}

// compare adds what two branches have made of their common state.
func (s *Room) compare(ctx context.Context, tx *records.Tx, p records.Project, here, there records.Branch, b *model.Branch) (err error) {
	if b.Since, err = tx.CommonState(ctx, p.ID, here.Head, there.Head); err != nil {
		return err
	}
	base, err := ground.RootAt(ctx, tx, p, b.Since)
	if err != nil {
		return err
	}
	forest := s.Forest(tx, p.ID)
	if b.Here, err = changes(ctx, forest, base, here.Root); err != nil {
		return err
	}
	if b.There, err = changes(ctx, forest, base, there.Root); err != nil {
		return err
	}
	meeting, err := s.Meet(ctx, tx, p, b.Since, there, here)
	if err != nil {
		return err
	}
	if err := meeting.Compare(ctx, tx); err != nil {
		return err
	}
	merged, err := meeting.Merge(ctx, func(m tree.Met) tree.Side { return meeting.Newer[m.ID] })
	if err != nil {
		return err
	}
	for _, c := range merged.Clashes {
		for _, e := range []*tree.Entry{c.There, c.Here, c.Base} {
			if e != nil {
				b.Clashes = append(b.Clashes, e.Spelling())
				break
			}
		}
	}
	b.Clashing = len(b.Clashes)
	slices.Sort(b.Clashes)
	b.Clashes = b.Clashes[:min(len(b.Clashes), model.MaxClashes)]
	return nil
}

// changes counts what one side made of the common state.
func changes(ctx context.Context, forest *tree.Forest, base, root chunk.Digest) (*model.BranchChanges, error) {
	steps, err := forest.Steps(ctx, base, root)
	if err != nil {
		return nil, err
	}
	var n model.BranchChanges
	for _, s := range steps {
		switch {
		case s.From == nil:
			n.New++
			continue
		case s.To == nil:
			n.Gone++
			continue
		case s.From.Spelling() != s.To.Spelling():
			n.Moved++
		}
		if s.From.Content != s.To.Content || s.From.Mode != s.To.Mode {
			n.Changed++
		}
	}
	return &n, nil
}

// find finds a branch by what somebody calls it.
func find(ctx context.Context, tx *records.Tx, p records.Project, name string) (records.Branch, error) {
	b, err := tx.BranchNamed(ctx, p.ID, point.Fold(name))
	if errors.Is(err, records.ErrNotFound) {
		err = model.NewProblem(model.NotFound, "see tarn branch list", "%s has no branch %s", p.Key, ground.Printable(name))
	}
	return b, err
}

// told is what is told of a branch that is there.
func told(ctx context.Context, tx *records.Tx, p records.Project, name string) (b model.Branch, err error) {
	list, err := tx.BranchList(ctx, p.ID, point.Fold(name))
	if err == nil {
		b = list[0]
	}
	return b, err
}

// AddBranch makes a branch from a state. It costs the same whatever the state holds.
func (s *Room) AddBranch(ctx context.Context, actor ground.Actor, key string, q model.BranchRequest) (b model.Branch, err error) {
	q.Name, q.Why, q.At = strings.TrimSpace(q.Name), strings.TrimSpace(q.Why), strings.TrimSpace(q.At)
	if err := point.CheckBranch(q.Name); err != nil {
		return b, model.NewProblem(model.BadRequest, "choose another name", "%v", err)
	}
	if err := ground.CheckWord("what a branch is for", q.Why); err != nil {
		return b, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Artist)
		if err != nil {
			return err
		}
		if err := tx.LockNames(ctx, p.ID); err != nil {
			return err
		}
		if err := free(ctx, tx, p, q.Name); err != nil {
			return err
		}
		fresh, size, err := s.begin(ctx, tx, p, q.At)
		if err != nil {
			return err
		}
		fresh.Name, fresh.Why, fresh.Person = q.Name, q.Why, actor.ID
		if err := tx.AddBranch(ctx, p.ID, fresh); err != nil {
			return err
		}
		if err := tx.SetBranchSize(ctx, p.ID, q.Name, size.count, size.bytes); err != nil {
			return err
		}
		// An older state has assets where they are no more.
		from, err := tx.BranchByID(ctx, p.ID, fresh.From)
		if err != nil {
			return err
		}
		if err := s.ClaimPlaces(ctx, tx, p.ID, from.Root, fresh.Root); err != nil {
			return err
		}
		if b, err = told(ctx, tx, p, q.Name); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.BranchAdded, map[string]any{"name": b.Name, "from": b.From, "handoff": b.At, "note": b.Why})
	})
	if err == nil {
		s.WakeHistory()
	}
	return b, err
}

// held is what a state has, in assets and bytes.
type held struct{ count, bytes int64 }

// begin finds the state that a branch begins at, and the branch that it is made from: the one that is named, or the one that the state was
// handed off on.
func (s *Room) begin(ctx context.Context, tx *records.Tx, p records.Project, at string) (b records.NewBranch, size held, err error) {
	if at == "" {
		at = model.FirstBranch
	}
	if b.Head, err = ground.PointAt(ctx, tx, p, "", at); err != nil {
		return b, size, err
	}
	if b.Head == 0 {
		return b, size, model.NewProblem(model.NotFound, "send something first", "%s has no handoff yet that a branch could begin at", p.Key)
	}
	if b.Root, err = ground.RootAt(ctx, tx, p, b.Head); err != nil {
		return b, size, err
	}
	named, err := tx.BranchNamed(ctx, p.ID, point.Fold(at))
	if b.From = named.ID; errors.Is(err, records.ErrNotFound) {
		b.From, err = tx.BranchOf(ctx, p.ID, b.Head)
	}
	if err != nil {
		return b, size, err
	}
	size.count, size.bytes, err = s.Forest(tx, p.ID).Sum(ctx, b.Root, "", "")
	return b, size, err
}

// free refuses a name that a branch or a milestone has.
func free(ctx context.Context, tx *records.Tx, p records.Project, name string) error {
	found, err := tx.Milestones(ctx, p.ID, point.Fold(name))
	if err != nil {
		return err
	}
	if len(found) > 0 {
		return model.NewProblem(model.Taken, "choose another name: milestones and branches share one space of names", "%s is a milestone already",
			found[0].Name)
	}
	return ground.NoBranch(ctx, tx, p, name)
}

// SetBranchState says that a branch is done, live again, or closed. Closing is for leads, and for whoever made it.
func (s *Room) SetBranchState(ctx context.Context, actor ground.Actor, key, name, state string) (b model.Branch, err error) {
	number := slices.Index(model.BranchStates, state)
	if number < 0 {
		return b, model.NewProblem(model.BadRequest, "take one of "+strings.Join(model.BranchStates, ", "), "%q is no state of a branch",
			ground.Printable(state))
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Artist)
		if err != nil {
			return err
		}
		found, err := find(ctx, tx, p, name)
		if err != nil {
			return err
		}
		if b, err = told(ctx, tx, p, found.Name); err != nil {
			return err
		}
		switch {
		case b.From == "":
			return model.NewProblem(model.BadRequest, "make a branch of your own with tarn branch add",
				"%s is the first branch of %s: it is neither done nor closed", b.Name, key)
		case (state == model.Closed || b.State == model.Closed) && b.Person != actor.Handle && !model.AtLeast(p.Role, model.Lead):
			return model.NewProblem(model.NotAllowed, "ask one of them",
				"closing the branch %s and opening it again is for %s, who made it, and for leads",
				b.Name, b.Person)
		}
		// Behind the rows of assets, as everywhere: a send that was judged before this commits before it, or is judged anew.
		if _, err := tx.Branch(ctx, p.ID, found.Name, true); err != nil {
			return err
		}
		other, err := tx.SetBranchState(ctx, found.ID, number)
		if err != nil || !other {
			return err
		}
		b.State = state
		kind := map[string]string{model.Live: news.BranchReopened, model.Done: news.BranchDone, model.Closed: news.BranchClosed}[state]
		return tx.AddEvent(ctx, p.ID, actor.ID, kind, map[string]any{"name": b.Name})
	})
	if err == nil {
		s.WakeHistory()
	}
	return b, err
}
