package ground

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/point"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
)

// cachedNodes is how many tree nodes are kept decoded: about 30 MiB.
const cachedNodes = 2048

// nodeKey names a node in the cache: the node space is per project.
type nodeKey struct {
	project int64
	digest  chunk.Digest
}

// Forest reads a project's trees over a connection. A node is immutable, so that the cache never is out of date.
func (s *Ground) Forest(tx *records.Tx, project int64) *tree.Forest {
	return tree.NewForest(func(ctx context.Context, digests []chunk.Digest) ([]*tree.Node, error) {
		out := make([]*tree.Node, len(digests))
		var ask []chunk.Digest
		for i, d := range digests {
			var ok bool
			if out[i], ok = s.nodes.Get(nodeKey{project, d}); !ok {
				ask = append(ask, d)
			}
		}
		if len(ask) == 0 {
			return out, nil
		}
		found, err := tx.Nodes(ctx, project, ask)
		if err != nil {
			return nil, err
		}
		for i, d := range digests {
			if out[i] != nil {
				continue
			}
			data, ok := found[d]
			if !ok {
				return nil, fmt.Errorf("the tree node %s is missing", d)
			}
			if chunk.Sum(data) != d {
				return nil, fmt.Errorf("the tree node %s does not match its digest", d)
			}
			if out[i], err = tree.Decode(data); err != nil {
				return nil, err
			}
			s.nodes.Add(nodeKey{project, d}, out[i])
		}
		return out, nil
	})
}

// ContentAt is what a tree has at a folded path; ok is false where there is nothing.
func (s *Ground) ContentAt(ctx context.Context, tx *records.Tx, p records.Project, root chunk.Digest, folded string) (c records.Content,
	version int, ok bool, err error) {
	held, err := s.Forest(tx, p.ID).Get(ctx, root, []string{folded})
	e, ok := held[folded]
	if err != nil || !ok {
		return c, 0, false, err
	}
	known, err := tx.Contents(ctx, p.ID, []chunk.Digest{e.Content}, false)
	c, ok = known[e.Content]
	return c, e.Version, ok, err
}

// AtHead lets somebody who may look at a project look at it as the first branch stands.
func (s *Ground) AtHead(ctx context.Context, actor Actor, key string,
	look func(tx *records.Tx, p records.Project, branch records.Branch) error) error {
	return s.Use(ctx, func(tx *records.Tx) error {
		p, err := Project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		branch, err := Head(ctx, tx, p, "")
		if err != nil {
			return err
		}
		return look(tx, p, branch)
	})
}

// Head is a branch by its name, in whichever case, the first one for "".
func Head(ctx context.Context, tx *records.Tx, p records.Project, name string) (records.Branch, error) {
	if name == "" {
		return tx.Branch(ctx, p.ID, model.FirstBranch, false)
	}
	b, err := tx.BranchNamed(ctx, p.ID, point.Fold(name))
	if errors.Is(err, records.ErrNotFound) {
		err = model.NewProblem(model.NotFound, "see tarn branch list", "%s has no branch %s", p.Key, Printable(name))
	}
	return b, err
}

// RootAt is the root of a project as of a handoff; 0 is before the first.
func RootAt(ctx context.Context, tx *records.Tx, p records.Project, number int) (chunk.Digest, error) {
	if number == 0 {
		return tree.Empty(), nil
	}
	return tx.RootAt(ctx, p.ID, number)
}

// PointAt is the number of the handoff that somebody named, 0 for before the first. What is said without a branch is about the one that is
// given, "" for the first.
func PointAt(ctx context.Context, tx *records.Tx, p records.Project, on, text string) (number int, err error) {
	at, err := point.Parse(text, time.UTC)
	if err != nil {
		return 0, model.NewProblem(model.BadRequest, "take one of these", "%v", err)
	}
	branch, err := Head(ctx, tx, p, on)
	if err != nil {
		return 0, err
	}
	switch {
	case at.Handoff > p.Handoffs:
		return 0, model.NewProblem(model.NotFound, "see tarn history", "%s has no handoff h%d; the newest is h%d", p.Key, at.Handoff, p.Handoffs)
	case at.Handoff > 0:
		return at.Handoff, nil
	case at.Name != "":
		found, err := tx.Milestones(ctx, p.ID, point.Fold(at.Name))
		if err != nil {
			return 0, err
		}
		if len(found) > 0 {
			return found[0].Handoff, nil
		}
		named, err := tx.BranchNamed(ctx, p.ID, point.Fold(at.Name))
		if errors.Is(err, records.ErrNotFound) {
			err = model.NewProblem(model.NotFound, "see tarn milestone list and tarn branch list", "%s has no milestone and no branch %s",
				p.Key, Printable(at.Name))
		}
		return named.Head, err
	case !at.Time.IsZero():
		n, err := tx.HandoffUpTo(ctx, p.ID, branch.Head, at.Time)
		if err == nil && n == 0 {
			err = model.NewProblem(model.NotFound, "take a later time", "%s had no handoff yet at %s", p.Key, at.Time.Format(time.RFC1123))
		}
		return n, err
	}
	return branch.Head, nil
}

// NoBranch refuses a name that a branch has: milestones and branches share one space of names. The caller has locked it (LockNames).
func NoBranch(ctx context.Context, tx *records.Tx, p records.Project, name string) error {
	b, err := tx.BranchNamed(ctx, p.ID, point.Fold(name))
	switch {
	case errors.Is(err, records.ErrNotFound):
		return nil
	case err != nil:
		return err
	}
	return model.NewProblem(model.Taken, "choose another name: milestones and branches share one space of names",
		"there is a branch %s already", b.Name)
}

// ClaimPlaces gives what a tree has the claims on its places, where another one, that of the branch that it came from, has something else
// there, or nothing.
func (g *Ground) ClaimPlaces(ctx context.Context, tx *records.Tx, project int64, from, root chunk.Digest) error {
	var ids []int64
	var places []string
	if err := g.Forest(tx, project).Diff(ctx, from, root, "", func(d tree.Difference) bool {
		if d.To != nil {
			ids, places = append(ids, d.To.Asset), append(places, d.To.Key)
		}
		return ctx.Err() == nil
	}); err != nil || len(ids) == 0 {
		return errors.Join(err, ctx.Err())
	}
	return tx.AddClaims(ctx, project, ids, places)
}
