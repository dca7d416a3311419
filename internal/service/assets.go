package service

import (
	"context"
	"errors"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
)

// MaxRows is how many rows of a list one request gets.
const MaxRows = 5000

func rows(limit int) int {
	if limit <= 0 || limit > MaxRows {
		return MaxRows
	}
	return limit
}

// Changes is the state of a project as of handoff At (0 for the newest): the assets that changed after handoff Since, or all of
// them. They come by path, in pages: After is the last path of the page before.
type Changes struct {
	Since, At int
	After     string
	Limit     int
}

// Changes lists one page, and the handoff that it is as of. more tells whether another page follows.
func (s *Service) Changes(ctx context.Context, actor Actor, key string, q Changes) (assets []model.Asset, at int, more bool, err error) {
	limit := rows(q.Limit)
	err = s.read(ctx, func(tx *records.Tx) error {
		p, err := project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		if at = q.At; at == 0 {
			at = p.Handoffs
		}
		if at > p.Handoffs || q.Since > p.Handoffs {
			return model.NewProblem(model.NotFound, "see tarn history", "%s has no handoff h%d; the newest is h%d", key, max(at, q.Since), p.Handoffs)
		}
		assets, err = tx.Changes(ctx, p.ID, q.Since, at, q.After, limit+1)
		return err
	})
	if len(assets) > limit {
		assets, more = assets[:limit], true
	}
	return assets, at, more, err
}

// Folder lists what is right in one folder ("" for the root), or, with text, what has text in its path anywhere.
func (s *Service) Folder(ctx context.Context, actor Actor, key, folder, text, after string, limit int) (folders []model.Folder, assets []model.Asset, more bool, err error) {
	limit = rows(limit)
	err = s.read(ctx, func(tx *records.Tx) error {
		p, err := project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		folders = []model.Folder{}
		if text != "" {
			assets, err = tx.Search(ctx, p.ID, assetpath.Fold(text), after, limit+1)
			return err
		}
		prefix := folder
		if prefix != "" {
			prefix += "/"
		}
		if after == "" {
			if folders, err = tx.FoldersIn(ctx, p.ID, prefix); err != nil {
				return err
			}
		}
		assets, err = tx.InFolder(ctx, p.ID, prefix, after, limit+1)
		return err
	})
	if len(assets) > limit {
		assets, more = assets[:limit], true
	}
	return folders, assets, more, err
}

// History returns one asset with all its versions, the newest first.
func (s *Service) History(ctx context.Context, actor Actor, key, path string) (asset model.Asset, versions []model.Version, err error) {
	err = s.read(ctx, func(tx *records.Tx) error {
		p, err := project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		folded := assetpath.Fold(path)
		found, err := tx.AssetsAt(ctx, p.ID, []string{folded})
		if err != nil {
			return err
		}
		if len(found) == 0 {
			return model.NewProblem(model.NotFound, "check the spelling", "there is no asset %s in %s", printable(path), key)
		}
		asset = found[0]
		versions, err = tx.Versions(ctx, p.ID, folded)
		return err
	})
	return asset, versions, err
}

// Handoffs lists handoffs, the newest first.
func (s *Service) Handoffs(ctx context.Context, actor Actor, key string, before, limit int, author, path string) (list []model.Handoff, err error) {
	err = s.read(ctx, func(tx *records.Tx) error {
		p, err := project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		list, err = tx.Handoffs(ctx, p.ID, before, rows(limit), author, assetpath.Fold(path))
		return err
	})
	return list, err
}

// Handoff shows one handoff with its assets.
func (s *Service) Handoff(ctx context.Context, actor Actor, key string, number int) (h model.Handoff, err error) {
	err = s.read(ctx, func(tx *records.Tx) error {
		p, err := project(ctx, tx, actor, key, model.Viewer)
		if err != nil {
			return err
		}
		h, err = tx.Handoff(ctx, p.ID, number)
		if errors.Is(err, records.ErrNotFound) {
			return model.NewProblem(model.NotFound, "see tarn history", "%s has no handoff h%d; the newest is h%d", key, number, p.Handoffs)
		}
		return err
	})
	return h, err
}

// OpenVersion opens the content of one version of an asset (0 for the newest).
func (s *Service) OpenVersion(ctx context.Context, actor Actor, key, path string, number int) (model.Version, *Content, error) {
	asset, versions, err := s.History(ctx, actor, key, path)
	if err != nil {
		return model.Version{}, nil, err
	}
	if number == 0 {
		number = asset.Newest
	}
	for _, v := range versions {
		if v.Version != number {
			continue
		}
		if v.Gone {
			return v, nil, model.NewProblem(model.NotFound, "choose another version", "%s was removed in version %d", path, number)
		}
		digest, err := chunk.ParseDigest(v.Digest)
		if err != nil {
			return v, nil, err
		}
		var content *Content
		err = s.read(ctx, func(tx *records.Tx) error {
			p, err := project(ctx, tx, actor, key, model.Viewer)
			if err != nil {
				return err
			}
			known, err := tx.Contents(ctx, p.ID, []chunk.Digest{digest})
			content = s.openContent(ctx, p.ID, known[digest])
			return err
		})
		return v, content, err
	}
	return model.Version{}, nil, model.NewProblem(model.NotFound, "see its history", "%s has no version %d", printable(path), number)
}
