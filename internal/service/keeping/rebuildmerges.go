package keeping

import (
	"cmp"
	"context"
	"slices"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// writeMerge makes a merge again. Which assets came as they were, and which became new versions, is not written anywhere: it follows from
// the trees, and from which version descends from which. An asset that came is as it is there, and descends from what was here; a new
// version is whatever is otherwise, and whatever two sides had that neither descends from the other.
func (r *rebuild) writeMerge(ctx context.Context, tx *records.Tx, h chain.Handoff, diffs []tree.Difference, assets, size int64) error {
	_, digest := h.Encode()
	n := records.NewHandoff{Record: h, Digest: digest, Branch: r.branches[h.Branch], Author: r.people[h.Author], Assets: assets, Size: size}
	here, there := h.Parents[0].Number, h.Parents[1].Number
	since, err := tx.CommonState(ctx, r.id, here, there)
	if err != nil {
		return err
	}
	base, err := ground.RootAt(ctx, tx, records.Project{ID: r.id}, since)
	if err != nil {
		return err
	}
	forest := r.s.Forest(tx, r.id)
	theirs, err := forest.Steps(ctx, base, r.roots[there])
	if err != nil {
		return err
	}
	ours, err := forest.Steps(ctx, base, r.roots[here])
	if err != nil {
		return err
	}
	came, err := forest.Steps(ctx, r.roots[here], h.Root)
	if err != nil {
		return err
	}
	deleted, err := tx.DeletedApart(ctx, r.id, here, there)
	if err != nil {
		return err
	}
	apart := map[int64]bool{}
	for _, id := range deleted {
		apart[id] = true
		if _, seen := theirs[id]; !seen {
			theirs[id] = tree.Step{From: ours[id].From, To: ours[id].From}
		}
	}
	var ids []int64
	for id := range theirs {
		ids = append(ids, id)
	}
	for id := range came {
		if _, known := theirs[id]; !known {
			ids = append(ids, id)
		}
	}
	var tips [2]map[int64]records.Tip
	for i, state := range []int{here, there} {
		if tips[i], err = tx.Tips(ctx, r.id, state, ids); err != nil {
			return err
		}
	}
	hereOf, thereOf := make([]int, len(ids)), make([]int, len(ids))
	for i, id := range ids {
		hereOf[i], thereOf[i] = tips[0][id].Number, tips[1][id].Number
	}
	rows, err := tx.AssetsOf(ctx, ids, false)
	if err != nil {
		return err
	}
	newer, err := tx.Descents(ctx, ids, hereOf, thereOf)
	if err != nil {
		return err
	}
	var claim []int64
	var paths, places []string
	claims := func(id int64, path, place string) {
		claim, paths, places = append(claim, id), append(paths, path), append(places, place)
	}
	for _, id := range ids {
		its, comes := theirs[id]
		mine, both := ours[id]
		made, changed := came[id]
		was, result := its.From, made.To
		if both {
			was = mine.To
		}
		both = both || apart[id]
		if !changed {
			result = was
		}
		side := newer[id]
		if comes && !both {
			side = tree.Take
		}
		switch {
		case comes && tree.Same(was, its.To) && (was != nil || side != tree.Undecided), comes && side == tree.Keep && tree.Same(result, was):
			continue
		case comes && side == tree.Take && tree.Same(result, its.To):
			came := records.Came{Asset: id, Number: tips[1][id].Number, Before: tips[0][id].Number}
			if at := cmp.Or(result, was); at != nil {
				came.Path, came.Folded = at.Spelling(), at.Key
			}
			if result != nil {
				claims(id, result.Spelling(), result.Key)
			}
			n.Came = append(n.Came, came)
			continue
		}
		v := records.NewVersion{Asset: id, Number: max(tips[0][id].Numbered, tips[1][id].Numbered) + 1,
			Parents: [2]int{tips[0][id].Number, tips[1][id].Number}, Renames: true}
		if result != nil {
			v.Number, v.Path, v.Folded = result.Version, result.Spelling(), result.Key
			v.Content, v.Size, v.Executable = r.contents[result.Content], result.Size, result.Mode&tree.Executable != 0
		} else {
			if row := rows[id]; row != nil {
				v.Path, v.Folded = row.Path, assetpath.Fold(row.Path) // deleted on both sides, and in the common state
			}
			for _, e := range []*tree.Entry{was, its.To, its.From} {
				if e != nil {
					v.Path, v.Folded = e.Spelling(), e.Key
					break
				}
			}
		}
		n.Versions = append(n.Versions, v)
		claims(id, v.Path, v.Folded)
	}
	r.out.Versions += len(n.Versions)
	if err := tx.RestoreAssets(ctx, r.id, claim, paths, places); err != nil {
		return err
	}
	if err := tx.AddHandoffs(ctx, r.id, n); err != nil {
		return err
	}
	if err := tx.Packed(ctx, r.id, []int{h.Number}); err != nil {
		return err
	}
	return tx.SetHandoffs(ctx, r.id, h.Number)
}

// restoreBranches takes over what the packs say of branches: those of which nothing else is there, too. A branch that began at a handoff
// that did not come back has its own handoffs, or is not there.
func (r *rebuild) restoreBranches(ctx context.Context) error {
	names := make([]string, 0, len(r.states))
	for name := range r.states {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Compare(r.states[a].At, r.states[b].At) })
	return r.s.Write(ctx, func(tx *records.Tx) error {
		for _, name := range names {
			b := r.states[name]
			person := int64(0)
			if b.Person != "" {
				var err error
				if person, err = tx.EnsurePerson(ctx, b.Person); err != nil {
					return err
				}
			}
			if err := tx.RestoreBranch(ctx, r.id, b, person); err != nil {
				return err
			}
			if err := r.restoreSize(ctx, tx, b); err != nil {
				return err
			}
		}
		return nil
	})
}

// restoreReleases takes over the releases of kits that the packs have, but for those of handoffs that did not come back.
func (r *rebuild) restoreReleases(ctx context.Context) error {
	digests := map[int]chunk.Digest{}
	for _, h := range r.history {
		_, digests[h.Number] = h.Encode()
	}
	return r.s.Write(ctx, func(tx *records.Tx) error {
		for _, k := range r.releases {
			if digests[k.Handoff.Number] != k.Handoff.Digest {
				continue
			}
			person, err := tx.EnsurePerson(ctx, k.Person)
			if err != nil {
				return err
			}
			if err := tx.RestoreKitRelease(ctx, r.id, person, model.KitRelease{Kit: k.Kit, Number: k.Number, Handoff: k.Handoff.Number,
				Match: k.Match, Note: k.Note, At: time.UnixMicro(k.At)}); err != nil {
				return err
			}
			if err := tx.PackedReleases(ctx, r.id, []chain.Release{k}); err != nil {
				return err
			}
		}
		return nil
	})
}

// restoreSize counts what a branch holds, and gives what it has the claims on its places.
func (r *rebuild) restoreSize(ctx context.Context, tx *records.Tx, b chain.Branch) error {
	branch, err := tx.Branch(ctx, r.id, b.Name, false)
	if err != nil || branch.Head == 0 {
		return err
	}
	from, err := tx.Branch(ctx, r.id, b.From, false)
	if err != nil {
		return err
	}
	forest := r.s.Forest(tx, r.id)
	count, size, err := forest.Sum(ctx, branch.Root, "", "")
	if err != nil {
		return err
	}
	if err := tx.SetBranchSize(ctx, r.id, b.Name, count, size); err != nil {
		return err
	}
	return r.s.ClaimPlaces(ctx, tx, r.id, from.Root, branch.Root)
}
