package reviewing

import (
	"context"
	"errors"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/lines"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/spot"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// pointing is a remark that points at an asset: at the version made, and on is the one that it is looked for on.
type pointing struct {
	remark   model.Remark
	made, on model.Version
}

// Spots says where on a version the remarks of a review are that point at its asset: where they were set, for that version, and on any
// other one the same thing, where it is there. Without a path it says so of all that they point at, without a version of those that the
// review is about.
func (s *Room) Spots(ctx context.Context, actor ground.Actor, key string, number int, path string,
	version int) ([]model.RemarkSpot, error) {
	var p records.Project
	var list []pointing
	err := s.Use(ctx, func(tx *records.Tx) (err error) {
		if p, err = ground.Project(ctx, tx, actor, key, model.Viewer); err != nil {
			return err
		}
		r, err := find(ctx, tx, p, number)
		if err != nil {
			return err
		}
		list, err = pointings(ctx, tx, p, r, path, version)
		return err
	})
	spots := []model.RemarkSpot{}
	for _, m := range list {
		where, there, err := s.follow(ctx, p, m)
		if err != nil {
			return nil, err
		}
		if there {
			spots = append(spots, model.RemarkSpot{Remark: m.remark.Number, Path: m.on.Path, Version: m.on.Version, Where: where})
		}
	}
	return spots, err
}

// pointings loads the remarks that point at the asset at a path, or at any. Versions in which it is gone are left out.
func pointings(ctx context.Context, tx *records.Tx, p records.Project, r model.Review, path string,
	version int) (list []pointing, err error) {
	assets, err := tx.RemarkedAssets(ctx, p.ID, r.Number)
	if err != nil {
		return nil, err
	}
	only := int64(0)
	if path != "" {
		only, err = tx.AssetAt(ctx, p.ID, r.Head, assetpath.Fold(path))
		if errors.Is(err, records.ErrNotFound) {
			return nil, model.NewProblem(model.NotFound, "check the spelling", "%s has no %s", p.Key, ground.Printable(path))
		} else if err != nil {
			return nil, err
		}
	}
	for _, m := range r.Remarks {
		asset, points := assets[m.Number]
		if !points || only != 0 && asset != only {
			continue
		}
		next := pointing{remark: m}
		if next.made, err = tx.VersionOfAsset(ctx, p.ID, asset, r.Head, m.Version); err == nil {
			next.on, err = tx.VersionOfAsset(ctx, p.ID, asset, r.Head, version)
		}
		if err != nil && !errors.Is(err, records.ErrNotFound) {
			return nil, err
		}
		if err == nil && !next.made.Gone && !next.on.Gone {
			list = append(list, next)
		}
	}
	return list, nil
}

// follow finds the spot of one remark; false where it is not on that version.
func (s *Room) follow(ctx context.Context, p records.Project, m pointing) (where string, there bool, err error) {
	if m.remark.Where == "" || m.made.Content == m.on.Content {
		return m.remark.Where, true, nil
	}
	at, err := spot.Parse(m.remark.Where)
	if err != nil {
		return "", false, err
	}
	if at.Kind == spot.Line {
		at.Line, there, err = s.followLine(ctx, p, m, at.Line)
		return at.String(), there, err
	}
	var reports [2]media.Report
	for i, v := range []model.Version{m.made, m.on} {
		if reports[i], err = s.looks.Report(ctx, p, v); err != nil {
			return "", false, err
		}
	}
	at, there = media.Follow(at, reports[0], reports[1])
	return at.String(), there, nil
}

func (s *Room) followLine(ctx context.Context, p records.Project, m pointing, line int) (now int, there bool, err error) {
	var texts [2][]string
	for i, v := range []model.Version{m.made, m.on} {
		texts[i], err = s.looks.TextOf(ctx, p, v)
		if errors.Is(err, lines.ErrNoText) || errors.Is(err, lines.ErrTooLarge) {
			return 0, false, nil
		} else if err != nil {
			return 0, false, err
		}
	}
	now, there = lines.Follow(texts[0], texts[1], line)
	return now, there, nil
}
