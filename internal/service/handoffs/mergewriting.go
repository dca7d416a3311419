package handoffs

import (
	"cmp"
	"context"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/ruling"
)

// How a merge is carried out, once nothing stands in its way.

// write carries the merge out, in the order of locking of docs/architecture.md: gate, assets by id, branch, counter.
// Alone, it lets nothing else in meanwhile.
func (m *merge) write(ctx context.Context, tx *records.Tx, sendKey string, alone bool) (out model.Handoff, err error) {
	if m.project, err = ground.Project(ctx, tx, m.actor, m.key, model.Artist); err != nil {
		return out, err
	}
	before, fresh, err := tx.ClaimSendKey(ctx, m.project.ID, sendKey, m.actor.ID, nil)
	if err != nil {
		return out, err
	}
	if !fresh {
		receipt, err := m.s.repeat(ctx, tx, m.project, m.actor, before, chunk.Digest{})
		return receipt.Handoff, err
	}
	gated := alone || m.plan != nil && m.newRules() != nil
	if err := tx.Gate(ctx, m.project.ID, gated); err != nil {
		return out, err
	}
	if err := m.load(ctx, tx, true); err != nil {
		return out, err
	}
	if err := m.refused(); err != nil {
		return out, err
	}
	if m.newRules() != nil && !gated {
		return out, errMovedOn
	}
	h, err := m.handoff(ctx, tx)
	if err != nil {
		return out, err
	}
	h.Key = sendKey
	if err := m.seal(ctx, tx, &h); err != nil {
		return out, err
	}
	if err := tx.AddHandoffs(ctx, m.project.ID, h); err != nil {
		return out, err
	}
	if err := m.meet(ctx, tx, h); err != nil {
		return out, err
	}
	if out, err = tx.Handoff(ctx, m.project.ID, h.Record.Number); err != nil {
		return out, err
	}
	return out, tx.AddEvent(ctx, m.project.ID, m.actor.ID, news.HandoffSent, map[string]any{"note": ground.FirstLine(out.Note),
		"count": out.Count, "paths": pathsOf(out, 100), "unlocked": 0, "handoff": out.Number, "merged": m.from.Name, "branch": m.into.Name,
		"answers": m.answers})
}

// pathsOf are those of a handoff, at most so many.
func pathsOf(h model.Handoff, most int) (list []string) {
	for _, a := range h.Assets[:min(len(h.Assets), most)] {
		list = append(list, a.Path)
	}
	return list
}

// handoff makes the handoff of a plan, up to its number: its versions, what comes as it is, the tree.
func (m *merge) handoff(ctx context.Context, tx *records.Tx) (h records.NewHandoff, err error) {
	h = records.NewHandoff{Author: m.actor.ID, Workspace: m.seat.ID, Branch: m.into.ID}
	asides, err := m.asides(ctx, tx)
	if err != nil {
		return h, err
	}
	var claim []int64
	var places []string
	comes := func(id int64, was, now *tree.Entry) {
		if now != nil && (was == nil || was.Key != now.Key) {
			claim, places = append(claim, id), append(places, now.Key)
		}
	}
	for _, x := range m.plan.Came {
		id := x.ID
		came := records.Came{Asset: id, Number: m.tips[1][id].Number, Before: m.tips[0][id].Number}
		if at := cmp.Or(x.There, x.Here); at != nil {
			came.Path, came.Folded = at.Spelling(), at.Key
		}
		h.Came = append(h.Came, came)
		comes(id, x.Here, x.There)
	}
	digests := []chunk.Digest{}
	for _, x := range m.plan.Made {
		if comes(x.Met.ID, x.Here, x.Entry); x.Entry != nil {
			digests = append(digests, x.Entry.Content)
		}
	}
	for _, a := range m.plan.Asides {
		digests = append(digests, a.Entry.Content)
	}
	known, err := tx.Contents(ctx, m.project.ID, digests, false)
	if err != nil {
		return h, err
	}
	version := func(id int64, number int, parents [2]int, path string, e *tree.Entry) error {
		v := records.NewVersion{Asset: id, Number: number, Parents: parents, Path: path, Folded: assetpath.Fold(path)}
		if e != nil {
			c, there := known[e.Content]
			if !there {
				return model.NewProblem(model.ChunksMissing, "try again", "the content %s of %s is not there", e.Content, path)
			}
			v.Content, v.Size, v.Executable = c.ID, e.Size, e.Mode&tree.Executable != 0
		}
		if row := m.rows[id]; row != nil {
			v.Renames = row.Path != path
		}
		h.Versions = append(h.Versions, v)
		return nil
	}
	for _, x := range m.plan.Made {
		path := change.Spelled(x.Met)
		switch row := m.rows[x.Met.ID]; {
		case x.Entry != nil:
			path = x.Entry.Spelling()
		case path == "":
			path = row.Path // deleted on both sides, and in the common state
		}
		if err := version(x.Met.ID, m.next(x.Met.ID), x.Parents, path, x.Entry); err != nil {
			return h, err
		}
	}
	for i, a := range m.plan.Asides {
		if err := version(asides[i], 1, [2]int{}, a.Path, &a.Entry); err != nil {
			return h, err
		}
	}
	if err := tx.AddClaims(ctx, m.project.ID, claim, places); err != nil {
		return h, err
	}
	forest := m.s.Forest(tx, m.project.ID)
	if h.Record.Root, err = forest.Apply(ctx, m.into.Root, m.plan.Changes(m.next, asides)); err != nil {
		return h, err
	}
	if err := tx.AddNodes(ctx, m.project.ID, forest.Fresh); err != nil {
		return h, err
	}
	h.Assets, h.Size, err = forest.Sum(ctx, h.Record.Root, "", "")
	return h, err
}

// next is the number of the version that the merge makes of an asset.
func (m *merge) next(id int64) int { return max(m.tips[0][id].Numbered, m.tips[1][id].Numbered) + 1 }

// asides makes the assets that get names of their own.
func (m *merge) asides(ctx context.Context, tx *records.Tx) (ids []int64, err error) {
	var paths, places []string
	for _, a := range m.plan.Asides {
		paths, places = append(paths, a.Path), append(places, assetpath.Fold(a.Path))
	}
	if len(paths) == 0 {
		return nil, nil
	}
	if err := tx.ClaimAnew(ctx, m.project.ID, paths, places); err != nil {
		return nil, err
	}
	rows, err := tx.LockAssets(ctx, m.project.ID, m.into.Name, places)
	if err != nil {
		return nil, err
	}
	for _, f := range places {
		if rows[f] == nil || rows[f].Numbered > 0 {
			return nil, errMovedOn
		}
		ids = append(ids, rows[f].ID)
	}
	return ids, nil
}

// seal locks the branch that stays, and gives the handoff its number and its digest.
func (m *merge) seal(ctx context.Context, tx *records.Tx, h *records.NewHandoff) error {
	seen := m.into.Head
	var err error
	if m.into, err = tx.Branch(ctx, m.project.ID, m.into.Name, true); err != nil {
		return err
	}
	if err := open(m.into); err != nil {
		return err
	}
	if m.into.Head != seen {
		return errMovedOn
	}
	now, err := tx.Now(ctx)
	if err != nil {
		return err
	}
	number, err := tx.NextNumber(ctx, m.project.ID)
	if err != nil {
		return err
	}
	root := h.Record.Root
	h.Record = chain.Handoff{Project: m.project.Key, Number: number, Branch: m.into.Name, Root: root, Author: m.actor.Handle,
		At:      now.UnixMicro(),
		Parents: []chain.Parent{{Number: m.into.Head, Digest: m.into.HeadDigest}, {Number: m.from.Head, Digest: m.from.HeadDigest}}}
	record(model.About{Note: m.note()}, &h.Record)
	_, h.Digest = h.Record.Encode()
	if e := m.newRules(); e != nil && m.into.Name == model.FirstBranch {
		return m.terms(ctx, tx, e)
	}
	return nil
}

// terms takes over what the rules that came say of locks.
func (m *merge) terms(ctx context.Context, tx *records.Tx, e *tree.Entry) error {
	found, err := tx.Contents(ctx, m.project.ID, []chunk.Digest{e.Content}, false)
	if err != nil {
		return err
	}
	file, err := m.s.Known(m.project, found[e.Content])
	if err != nil || file.Broken != nil {
		return err
	}
	return tx.SetLockTerms(ctx, m.project.ID, ruling.TermsOf(file.Rules), file.Rules.Tasks)
}

// meet ends what was said of locks that were taken knowingly from a version that others had gone on without: where that version has met
// theirs by now.
func (m *merge) meet(ctx context.Context, tx *records.Tx, h records.NewHandoff) error {
	var ids []int64
	var have []int
	number := map[int64]int{}
	for _, c := range h.Came {
		number[c.Asset] = c.Number
	}
	for _, v := range h.Versions {
		number[v.Asset] = v.Number
	}
	for id, n := range number {
		if row := m.rows[id]; row != nil && row.Lock.Diverged > 0 {
			ids, have = append(ids, id), append(have, n)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	lacking, err := tx.Lacking(ctx, m.project.ID, m.into.Name, ids, have)
	if err != nil {
		return err
	}
	var met []*records.Asset
	for _, id := range ids {
		if row := m.rows[id]; len(lacking[id]) == 0 {
			row.Lock.Diverged = 0
			met = append(met, row)
		}
	}
	if len(met) == 0 {
		return nil
	}
	return tx.SetLocks(ctx, m.project.ID, records.Outcome{By: m.actor.ID, Terms: m.project.Terms}, met)
}
