package tree

import (
	"context"
	"fmt"

	"kettletarn/internal/core/chunk"
)

// A Summing computes something of all entries of a tree from the leaves up, so that what was computed of a node once holds wherever that
// node stands again: after a change only the nodes on the way to it are looked into.
type Summing[V any] struct {
	// Leaf is the value of the entries of one leaf.
	Leaf func([]Entry) V
	// Join is the value of a node whose children have these values.
	Join func([]V) V
	// Known gives what Keep was told of an inner node, which has a number of entries. Both may be nil.
	Known func(node chunk.Digest) (V, bool)
	Keep  func(node chunk.Digest, v V)
}

// Of is the value of the tree with a root. The error is that of loading nodes, or wraps [ErrInvalid].
func (s Summing[V]) Of(ctx context.Context, f *Forest, root chunk.Digest) (v V, err error) {
	if s.Known != nil {
		if v, ok := s.Known(root); ok {
			return v, nil
		}
	}
	n, err := f.node(ctx, root)
	if err != nil {
		return v, err
	}
	return s.node(ctx, f, root, n)
}

func (s Summing[V]) node(ctx context.Context, f *Forest, d chunk.Digest, n *Node) (v V, err error) {
	if n.Level == 0 {
		return s.Leaf(n.Entries), nil
	}
	values := make([]V, len(n.Refs))
	var lacking []int
	for i, r := range n.Refs {
		if s.Known != nil && n.Level > 1 {
			if known, ok := s.Known(r.Digest); ok {
				values[i] = known
				continue
			}
		}
		lacking = append(lacking, i)
	}
	for len(lacking) > 0 {
		some := lacking[:min(len(lacking), mostAhead)]
		lacking = lacking[len(some):]
		digests := make([]chunk.Digest, len(some))
		for j, i := range some {
			digests[j] = n.Refs[i].Digest
		}
		below, err := f.nodes(ctx, digests)
		if err != nil {
			return v, err
		}
		for j, i := range some {
			if below[j].Level != n.Level-1 {
				return v, fmt.Errorf("a node of level %d below one of level %d: %w", below[j].Level, n.Level, ErrInvalid)
			}
			if values[i], err = s.node(ctx, f, digests[j], below[j]); err != nil {
				return v, err
			}
		}
		if err := ctx.Err(); err != nil {
			return v, err
		}
	}
	v = s.Join(values)
	if s.Keep != nil {
		s.Keep(d, v)
	}
	return v, nil
}
