package looking

import (
	"context"
	"errors"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// namedTwice is how many assets are named of one content.
const namedTwice = 20

// Twice lists what a project has more than once, byte for byte, what takes the most first; with a path, what else has the content that
// stands there.
func (s *Room) Twice(ctx context.Context, actor ground.Actor, key, path string, limit int) (out model.Twice, err error) {
	if limit <= 0 || limit > maxFound {
		limit = 20
	}
	out.Contents = []model.TwiceContent{}
	err = s.AtHead(ctx, actor, key, func(tx *records.Tx, p records.Project, branch records.Branch) (err error) {
		var list []records.Twice
		if path == "" {
			list, err = tx.PresentTwice(ctx, p.ID, limit)
		} else {
			var content int64
			if content, err = tx.ContentPresent(ctx, p.ID, assetpath.Fold(path)); errors.Is(err, records.ErrNotFound) {
				return model.NewProblem(model.NotFound, "check the spelling", "there is no asset at %s", ground.Printable(path))
			}
			list = []records.Twice{{Content: content}}
		}
		if err != nil || len(list) == 0 {
			return err
		}
		contents := make([]int64, len(list))
		for i, t := range list {
			contents[i] = t.Content
		}
		with, err := tx.PresentWith(ctx, p.ID, contents, namedTwice)
		if err != nil {
			return err
		}
		var ids []int64
		for _, assets := range with {
			ids = append(ids, assets...)
		}
		found, err := tx.AssetsByID(ctx, p.ID, ids, branch.Head)
		if err != nil {
			return err
		}
		out.Total, out.Wasted = list[0].Total, list[0].Wasted
		for _, t := range list {
			one := model.TwiceContent{Size: t.Size, Count: t.Count, Assets: []model.Asset{}}
			for _, id := range with[t.Content] {
				if a, ok := found[id]; ok && assetpath.Fold(a.Path) != assetpath.Fold(path) {
					one.Assets = append(one.Assets, a)
				}
			}
			if path != "" {
				if one.Count = len(one.Assets); one.Count == 0 {
					continue
				}
				one.Size, out.Total = one.Assets[0].Size, 1
			}
			out.Contents = append(out.Contents, one)
		}
		return nil
	})
	return out, err
}

// Alike lists what looks or sounds like the asset at a path, the nearest first; what is the same byte for byte is for [Room.Twice]. Of what
// is neither a picture nor a sound, or was not looked at yet, nothing is.
func (s *Room) Alike(ctx context.Context, actor ground.Actor, key, path string, limit int) (out model.Alike, err error) {
	if limit <= 0 || limit > maxFound {
		limit = 20
	}
	out.Assets = []model.AlikeAsset{}
	err = s.AtHead(ctx, actor, key, func(tx *records.Tx, p records.Project, branch records.Branch) (err error) {
		if _, err := tx.ContentPresent(ctx, p.ID, assetpath.Fold(path)); errors.Is(err, records.ErrNotFound) {
			return model.NewProblem(model.NotFound, "check the spelling", "there is no asset at %s", ground.Printable(path))
		} else if err != nil {
			return err
		}
		list, err := tx.PresentAlike(ctx, p.ID, assetpath.Fold(path), media.PrintAlike, limit)
		if err != nil {
			return err
		}
		ids := make([]int64, len(list))
		for i, a := range list {
			ids[i] = a.Asset
		}
		found, err := tx.AssetsByID(ctx, p.ID, ids, branch.Head)
		for _, a := range list {
			if asset, ok := found[a.Asset]; ok {
				out.Assets = append(out.Assets, model.AlikeAsset{Asset: asset, Apart: a.Apart})
			}
		}
		return err
	})
	return out, err
}
