package keeping

import (
	"context"
	"slices"

	"kettletarn/internal/core/tree"
	"kettletarn/internal/records"
)

// claims looks whether what is at a place in the newest tree of a branch has a claim on it: without that, locks taken at that path would
// be another asset's.
func (v *verification) claims(ctx context.Context) error {
	if slices.ContainsFunc(v.out.Findings, func(f Finding) bool { return f.Project == v.p.Key && f.Kind == "tree" }) {
		return nil // where trees can't be read, that is told already
	}
	var branches []records.Branch
	if err := v.s.Use(ctx, func(tx *records.Tx) (err error) {
		branches, err = tx.Branches(ctx, v.p.ID)
		return err
	}); err != nil {
		return err
	}
	for _, b := range branches {
		for after, more := "", true; more; {
			var odd []tree.Entry
			if err := v.s.Use(ctx, func(tx *records.Tx) (err error) {
				odd, after, more, err = v.unclaimed(ctx, tx, b, after)
				return err
			}); err != nil {
				return err
			}
			for _, e := range odd {
				if err := v.stillUnclaimed(ctx, b.Name, e); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// unclaimed are the entries of one page behind a key that have no claims on their places.
func (v *verification) unclaimed(ctx context.Context, tx *records.Tx, b records.Branch, after string) (odd []tree.Entry, last string,
	more bool, err error) {
	var page []tree.Entry
	var keys []string
	if err = v.s.Forest(tx, v.p.ID).Range(ctx, b.Root, after, "", func(e *tree.Entry) bool {
		page, keys = append(page, *e), append(keys, e.Key)
		return len(page) < verifyPage
	}); err != nil || len(page) == 0 {
		return nil, after, false, err
	}
	claims, err := tx.Claims(ctx, v.p.ID, keys)
	for _, e := range page {
		if !slices.Contains(claims[e.Key], e.Asset) {
			odd = append(odd, e)
		}
	}
	return odd, keys[len(keys)-1], len(page) == verifyPage, err
}

// stillUnclaimed looks once more, as of now: somebody may have moved it meanwhile.
func (v *verification) stillUnclaimed(ctx context.Context, branch string, e tree.Entry) error {
	return v.s.Use(ctx, func(tx *records.Tx) error {
		claims, err := tx.Claims(ctx, v.p.ID, []string{e.Key})
		if err != nil {
			return err
		}
		b, err := tx.Branch(ctx, v.p.ID, branch, false)
		if err != nil {
			return err
		}
		held, err := v.s.Forest(tx, v.p.ID).Get(ctx, b.Root, []string{e.Key})
		if now, there := held[e.Key]; err == nil && there && now.Asset == e.Asset && !slices.Contains(claims[e.Key], e.Asset) {
			v.found("claim", nil, "%s is on %s, and has no claim on its place; tarnd rebuild makes the claims anew", e.Spelling(),
				branch)
		}
		return err
	})
}
