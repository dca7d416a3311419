package keeping

import (
	"context"
	"io"
	"time"

	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
)

// Handoffs and the nodes of their trees are written to packs right after their commit, so that a project can be rebuilt from its packs
// alone; nobody waits for it. Only what is committed is written: a pack never tells of a handoff that did not happen.
const (
	historyEvery = time.Minute // beside what wakes it
	historyLast  = 10 * time.Second
	historyBatch = 200
)

// KeepingHistory writes what is new until ctx ends, and then what is left.
func (s *Room) KeepingHistory(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), historyLast)
			defer cancel()
			if err := s.KeepHistory(last); err != nil {
				s.Log.Warn("some history is in the database only; it is written to packs at the next start", "error", err)
			}
			return
		case <-s.HandedOff:
		case <-time.After(historyEvery):
		}
		if err := s.KeepHistory(ctx); err != nil && ctx.Err() == nil {
			s.Log.Error("history can't be written to packs now; it is tried again", "error", err)
		}
	}
}

// KeepHistory writes what the packs of all projects lack of their history.
func (s *Room) KeepHistory(ctx context.Context) error {
	var list []records.Project
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		list, err = tx.WithUnpacked(ctx)
		return err
	}); err != nil {
		return err
	}
	for _, p := range list {
		for more := true; more; {
			var err error
			if more, err = s.keepSome(ctx, p); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Room) keepSome(ctx context.Context, p records.Project) (more bool, err error) {
	err = s.Write(ctx, func(tx *records.Tx) error {
		more = false
		if err := tx.KeepHistory(ctx, p.ID); err != nil {
			return err
		}
		list, err := tx.Unpacked(ctx, p.ID, historyBatch)
		if err != nil {
			return err
		}
		var branches []chain.Branch
		var releases []chain.Release
		if more = len(list) == historyBatch; !more {
			if branches, err = tx.UnpackedBranches(ctx, p.ID); err != nil {
				return err
			}
			if releases, err = tx.UnpackedReleases(ctx, p.ID); err != nil {
				return err
			}
		}
		if len(list)+len(branches)+len(releases) == 0 {
			return nil
		}
		var also []pack.Record
		for _, b := range branches {
			data, digest := b.Encode()
			also = append(also, pack.Encode(pack.Branch, digest, data))
		}
		for _, r := range releases {
			data, digest := r.Encode()
			also = append(also, pack.Encode(pack.Release, digest, data))
		}
		name, size, entries, err := s.putHistory(ctx, tx, p, list, also)
		if err != nil {
			return err
		}
		numbers := make([]int, len(list))
		for i, h := range list {
			numbers[i] = h.Number
		}
		if err := tx.AddPack(ctx, p.ID, name, size, entries); err != nil {
			return err
		}
		if err := tx.PackedBranches(ctx, p.ID, branches); err != nil {
			return err
		}
		if err := tx.PackedReleases(ctx, p.ID, releases); err != nil {
			return err
		}
		return tx.Packed(ctx, p.ID, numbers)
	})
	return more, err
}

// putHistory writes one pack with records, then handoffs, and the nodes that their trees have and those before have not.
func (s *Room) putHistory(ctx context.Context, tx *records.Tx, p records.Project,
	list []chain.Handoff, queue []pack.Record) (string, int64, []pack.Entry, error) {
	forest := s.Forest(tx, p.ID)
	written := map[chunk.Digest]bool{}
	return s.PutPack(ctx, p.ID, func() (pack.Record, error) {
		for len(queue) == 0 {
			if len(list) == 0 {
				return pack.Record{}, io.EOF
			}
			h := list[0]
			list = list[1:]
			before := tree.Empty()
			if len(h.Parents) > 0 {
				var err error
				if before, err = tx.RootAt(ctx, p.ID, h.Parents[0].Number); err != nil {
					return pack.Record{}, err
				}
			}
			if err := forest.NewNodes(ctx, before, h.Root, func(d chunk.Digest, n *tree.Node) error {
				if !written[d] {
					written[d] = true
					data, _ := n.Encode()
					queue = append(queue, pack.Encode(pack.Node, d, data))
				}
				return nil
			}); err != nil {
				return pack.Record{}, err
			}
			data, digest := h.Encode()
			queue = append(queue, pack.Encode(pack.Handoff, digest, data))
		}
		r := queue[0]
		queue = queue[1:]
		return r, nil
	})
}
