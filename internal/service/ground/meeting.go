package ground

import (
	"context"
	"slices"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
)

// Meeting is what two branches have made of their common state, before anybody decides about it.
type Meeting struct {
	project int64
	forest  *tree.Forest
	// Base is the root of the common state; Into stays, From comes.
	Base       chunk.Digest
	Into, From records.Branch
	// IDs are the assets that changed on From, or of which a deletion is known to one side alone, in order; Both are those of them that both
	// sides changed.
	IDs, Both []int64
	deleted   []int64
	// Tips are the newest versions of IDs on Into and on From, and Newer says of Both which of them descends from the other: see Compare.
	Tips  [2]map[int64]records.Tip
	Newer map[int64]tree.Side
}

// Meet looks what there is.
func (g *Ground) Meet(ctx context.Context, tx *records.Tx, p records.Project, since int, into, from records.Branch) (*Meeting, error) {
	m := &Meeting{project: p.ID, forest: g.Forest(tx, p.ID), Into: into, From: from}
	var err error
	if m.Base, err = RootAt(ctx, tx, p, since); err != nil {
		return nil, err
	}
	if m.deleted, err = tx.DeletedApart(ctx, p.ID, into.Head, from.Head); err != nil {
		return nil, err
	}
	seen, err := m.Merge(ctx, func(x tree.Met) tree.Side {
		m.Both = append(m.Both, x.ID)
		return tree.Undecided
	})
	if err != nil {
		return nil, err
	}
	m.IDs = slices.Clone(m.Both)
	for _, x := range seen.Came {
		m.IDs = append(m.IDs, x.ID)
	}
	for _, x := range seen.Clashes {
		m.IDs = append(m.IDs, x.ID)
	}
	slices.Sort(m.IDs)
	m.IDs = slices.Compact(m.IDs)
	return m, nil
}

// Compare asks how the versions of the two branches stand to each other. Where somebody locks the assets, that is behind their locks.
func (m *Meeting) Compare(ctx context.Context, tx *records.Tx) (err error) {
	for i, head := range []int{m.Into.Head, m.From.Head} {
		if m.Tips[i], err = tx.Tips(ctx, m.project, head, m.IDs); err != nil {
			return err
		}
	}
	here, there := make([]int, len(m.Both)), make([]int, len(m.Both))
	for i, id := range m.Both {
		here[i], there[i] = m.Tips[0][id].Number, m.Tips[1][id].Number
	}
	m.Newer, err = tx.Descents(ctx, m.Both, here, there)
	return err
}

// Merge puts the trees together.
func (m *Meeting) Merge(ctx context.Context, side func(tree.Met) tree.Side) (*tree.Merged, error) {
	return m.forest.Merge(ctx, m.Base, m.Into.Root, m.From.Root, side, m.deleted...)
}
