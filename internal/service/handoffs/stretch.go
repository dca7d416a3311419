package handoffs

import (
	"context"
	"fmt"
	"slices"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
)

// A past is mostly commits that change what is there: no asset moves. What a row of them can touch is loaded once, each is judged against
// what those before it leave, in memory, and all of them are written together: the same handoffs as one after the other, in a few
// statements.

// still is how many commits from the first on move nothing and are not here yet.
func (b *bringing) still(commits []model.PastCommit, sends []Send) int {
	for i, send := range sends {
		if _, known := b.before[commits[i].Commit]; known || slices.ContainsFunc(send.Changes, func(c Change) bool { return c.MovedFrom != "" }) {
			return i
		}
	}
	return len(sends)
}

// stretch makes handoffs of commits that move nothing, in their order, of at least the first; the transaction has the project's exclusive
// gate. It ends before a commit that brings back what went in it: which of several assets that were at a place is meant then is read anew.
func (b *bringing) stretch(ctx context.Context, commits []model.PastCommit, sends []Send) ([]model.PastHandoff, error) {
	l, err := b.loadAll(ctx, sends)
	if err != nil {
		return nil, err
	}
	if l == nil {
		return b.changeNothing(commits), nil
	}
	forest := b.s.Forest(b.tx, b.project.ID)
	number := b.project.Handoffs
	var list []records.NewHandoff
	var touched []int64
	var out []model.PastHandoff
	went := map[string]bool{}
	for i, c := range commits {
		if slices.ContainsFunc(sends[i].Changes, func(c Change) bool { return !c.Gone && went[assetpath.Fold(c.Path)] }) {
			break
		}
		made, by := b.origin(c)
		out = append(out, made)
		if by.at.IsZero() {
			by.at = l.state.Terms.Now
		}
		plan, err := b.judgeOne(ctx, l, forest, sends[i])
		if err != nil {
			return nil, err
		}
		if len(plan.Versions) == 0 {
			continue
		}
		h, ids, _ := l.handoff(plan, sends[i], by)
		root, err := forest.Apply(ctx, l.branch.Root, plan.Tree)
		if err != nil {
			return nil, err
		}
		if h.Assets, h.Size, err = forest.Sum(ctx, root, "", ""); err != nil {
			return nil, err
		}
		number++
		l.seal(&h, number, root, sends[i], by)
		l.follow(plan, h)
		for _, v := range plan.Versions {
			went[v.Folded] = v.Gone
		}
		list, touched, out[i].Handoff = append(list, h), append(touched, ids...), number
	}
	if len(list) == 0 {
		return out, nil
	}
	return out, b.writeAll(ctx, l, forest, list, touched)
}

// changeNothing is what comes of commits that change no asset.
func (b *bringing) changeNothing(commits []model.PastCommit) []model.PastHandoff {
	out := make([]model.PastHandoff, len(commits))
	for i, c := range commits {
		out[i], _ = b.origin(c)
	}
	return out
}

// loadAll loads what any of the commits can touch, as for one change that has all their places; nil where they have none.
func (b *bringing) loadAll(ctx context.Context, sends []Send) (*loaded, error) {
	var all []Change
	var contents []chunk.Digest
	seen := map[string]bool{}
	for _, send := range sends {
		for _, c := range send.Changes {
			if !c.Gone {
				contents = append(contents, c.Content)
			}
			if f := assetpath.Fold(c.Path); !seen[f] && assetpath.Check(c.Path) == nil { // a path that is none is refused where it is judged
				seen[f] = true
				all = append(all, Change{Path: c.Path, Gone: true})
			}
		}
	}
	if len(all) == 0 {
		return nil, nil
	}
	l, err := b.s.load(ctx, b.tx, b.project, b.seat, all, change.Manner{Past: true, Over: b.over}, true)
	if err != nil {
		return nil, err
	}
	l.contents, err = b.tx.Contents(ctx, b.project.ID, contents, false)
	for d, c := range l.contents {
		l.state.Sizes[d] = c.Size
	}
	return l, err
}

// judgeOne judges one commit against what is loaded. What is not there is the error, as are refusals.
func (b *bringing) judgeOne(ctx context.Context, l *loaded, forest *tree.Forest, send Send) (plan change.Plan, err error) {
	one := *l
	state := *l.state
	one.state, one.laid = &state, change.Lay(send.Changes)
	if state.Around, err = one.laid.Look(ctx, forest, l.branch.Root, state.Assets); err != nil {
		return plan, err
	}
	if plan, err = one.judge(ctx, b.tx); err == nil && len(plan.Missing) > 0 {
		err = lacking(plan)
	}
	return plan, err
}

// follow makes what is loaded what it is behind a handoff.
func (l *loaded) follow(plan change.Plan, h records.NewHandoff) {
	entries := make(map[string]*tree.Entry, len(plan.Tree))
	for _, c := range plan.Tree {
		entries[c.Key] = c.Entry
	}
	for _, v := range plan.Versions {
		a := v.Asset
		a.Held, a.Path, a.Newest, a.Numbered = entries[v.Folded], v.Path, v.Number, v.Number
		a.Last = change.Last{Author: h.Record.Author, Handoff: h.Record.Number, Commit: h.Record.Commit}
		if h.Record.Signed != "" {
			a.Last.Author = h.Record.Signed
		}
	}
	l.branch.Root, l.branch.Head, l.branch.HeadDigest = h.Record.Root, h.Record.Number, h.Digest
}

// writeAll writes the handoffs of a stretch.
func (b *bringing) writeAll(ctx context.Context, l *loaded, forest *tree.Forest, list []records.NewHandoff, touched []int64) error {
	slices.Sort(touched)
	if err := b.tx.DropHeadsUps(ctx, l.state.Who.WorkspaceID, slices.Compact(touched)); err != nil {
		return err
	}
	if err := b.tx.AddNodes(ctx, b.project.ID, forest.Fresh); err != nil {
		return err
	}
	if _, err := b.tx.Branch(ctx, b.project.ID, l.branch.Name, true); err != nil {
		return err
	}
	first, err := b.tx.NextNumbers(ctx, b.project.ID, len(list))
	if err != nil {
		return err
	}
	if first != list[0].Record.Number {
		return fmt.Errorf("the next handoff of %s is h%d, not h%d, behind its gate", b.project.Key, first, list[0].Record.Number)
	}
	b.project.Handoffs += len(list)
	return b.tx.AddHandoffs(ctx, b.project.ID, list...)
}
