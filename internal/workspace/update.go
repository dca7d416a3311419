package workspace

import (
	"context"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// Updated is what an update did, or, as a preview, would do.
type Updated struct {
	At       int             `json:"at"`
	Brought  []model.Asset   `json:"brought"`
	Removed  []model.Asset   `json:"removed"`
	Same     int             `json:"same"`
	Clashes  []model.Asset   `json:"clashes"`
	Refusals []model.Refusal `json:"refusals"`
}

// Update brings down what is newer, at or below the paths. It asks the service first unless it was asked just now. A local change is
// never overwritten: it is reported as a clash, and the rest goes on.
func (w *Workspace) Update(ctx context.Context, paths []string, preview bool) (*Updated, error) {
	if err := w.Refresh(ctx); err != nil {
		return nil, err
	}
	s, err := w.Status(ctx)
	if err != nil {
		return nil, err
	}
	u := &Updated{At: s.At, Brought: []model.Asset{}, Removed: []model.Asset{}, Clashes: []model.Asset{}, Refusals: []model.Refusal{}}
	assets, missing := Within(s.Assets, paths)
	for _, p := range missing {
		u.Refusals = append(u.Refusals, model.Refusal{Path: p, Reason: "unknown", Message: p + ": there is nothing of that name here or at the service", Remedy: "check the spelling"})
	}
	var bring, remove []wanted
	for _, a := range assets {
		switch a.State {
		case model.Clash:
			u.Clashes = append(u.Clashes, a)
		case model.Same:
			u.Same++
		case model.Behind:
			f := wanted{asset: s.newest[a.Path]}
			if b, had := s.bases[a.Path]; had {
				f.base = &b
			}
			if here, ok := s.found.Files[a.Path]; ok {
				f.stamp = &here.Stamp
			}
			if f.asset.Gone {
				remove = append(remove, f)
				u.Removed = append(u.Removed, a)
			} else {
				bring = append(bring, f)
				u.Brought = append(u.Brought, a)
			}
		}
	}
	if preview {
		return u, nil
	}
	w.offer(ctx)
	u.Brought, u.Removed = u.Brought[:0], u.Removed[:0]
	for _, f := range remove {
		refusal, err := w.removeFile(f)
		if err != nil {
			return u, err
		}
		if refusal != nil {
			u.Refusals = append(u.Refusals, *refusal)
			continue
		}
		if err := w.update(func(t indexTx) error { return t.dropBase(f.asset.Path) }); err != nil {
			return u, err
		}
		u.Removed = append(u.Removed, f.asset)
	}
	bring, err = w.adopt(s, bring, u)
	if err != nil {
		return u, err
	}
	refusals, err := w.bring(ctx, bring, func(a model.Asset) { u.Brought = append(u.Brought, a) })
	u.Refusals = append(u.Refusals, refusals...)
	return u, err
}

// adopt takes over the files that have the newest content already, whoever put them there.
func (w *Workspace) adopt(s *Status, bring []wanted, u *Updated) (rest []wanted, err error) {
	return rest, w.update(func(t indexTx) error {
		for _, f := range bring {
			c, known, err := t.cut(f.asset.Path)
			if err != nil {
				return err
			}
			if f.stamp == nil || !known || !c.Stamp.fits(*f.stamp) || c.Content.String() != f.asset.Content {
				rest = append(rest, f)
				continue
			}
			if err := t.setBase(f.asset.Path, baseOf(f.asset, c.Stamp), c.Refs.orNone()); err != nil {
				return err
			}
			if err := t.dropCut(f.asset.Path); err != nil {
				return err
			}
			u.Brought = append(u.Brought, f.asset)
		}
		return nil
	})
}

func baseOf(a model.Asset, stamp Stamp) Base {
	content, _ := chunk.ParseDigest(a.Content)
	return Base{Version: a.Newest, Content: content, Size: a.Size, Executable: a.Executable, Stamp: stamp}
}

// bring fetches files and notes each in the index as it is put in its place, some at a time.
func (w *Workspace) bring(ctx context.Context, files []wanted, each func(model.Asset)) ([]model.Refusal, error) {
	type placed struct {
		path string
		base Base
		refs Refs
	}
	var batch []placed
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		err := w.update(func(t indexTx) error {
			for _, p := range batch {
				if err := t.setBase(p.path, p.base, p.refs.orNone()); err != nil {
					return err
				}
				if err := t.dropCut(p.path); err != nil {
					return err
				}
			}
			return nil
		})
		batch = batch[:0]
		return err
	}
	refusals, err := w.fetch(ctx, files, func(f wanted, refs Refs, stamp Stamp) error {
		batch = append(batch, placed{f.asset.Path, baseOf(f.asset, stamp), refs})
		each(f.asset)
		if len(batch) < 256 && f.asset.Size < 64<<20 {
			return nil
		}
		return flush()
	})
	if flushed := flush(); err == nil {
		err = flushed
	}
	return refusals, err
}
