package service

import (
	"context"
	"fmt"
	"io"
	"strings"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
)

// Rollback sends old versions of assets as new ones, all or none. It takes the locks for that where they are free.
func (s *Service) Rollback(ctx context.Context, actor Actor, key string, q model.RollbackRequest, sendKey string) (Receipt, error) {
	send := Send{Key: sendKey, Workspace: q.Workspace, Note: q.Note, TakeFree: true}
	for _, one := range append([]model.RollbackWith{{Path: q.Path, To: q.To, Base: q.Base}}, q.With...) {
		change, v, err := s.rollback(ctx, actor, key, one)
		if err != nil {
			return Receipt{}, err
		}
		if strings.TrimSpace(send.Note) == "" {
			send.Note = fmt.Sprintf("Back to version %d (h%d): %s", v.Version, v.Handoff, firstLine(v.Note))
		}
		send.Changes = append(send.Changes, change)
	}
	return s.Send(ctx, actor, key, send, nil)
}

// rollback is the change that makes an old version the newest.
func (s *Service) rollback(ctx context.Context, actor Actor, key string, one model.RollbackWith) (c Change, v model.Version, err error) {
	asset, versions, err := s.History(ctx, actor, key, one.Path)
	if err != nil {
		return c, v, err
	}
	for _, v := range versions {
		if v.Version != one.To {
			continue
		}
		if v.Gone {
			return c, v, model.NewProblem(model.BadRequest, "choose another version", "%s was gone in version %d", one.Path, one.To)
		}
		if one.To == asset.Newest {
			return c, v, model.NewProblem(model.BadRequest, "choose an older one", "version %d of %s is the newest already", one.To, one.Path)
		}
		if c.Content, err = chunk.ParseDigest(v.Content); err != nil {
			return c, v, err
		}
		c.Path, c.Base, c.Size, c.Executable = asset.Path, one.Base, v.Size, v.Executable
		if asset.Gone {
			c.Base = 0
		}
		return c, v, nil
	}
	return c, v, model.NewProblem(model.NotFound, "see tarn history "+printable(one.Path), "%s has no version %d", printable(one.Path), one.To)
}

// Drop sends a file that a page has: as a new version of an asset whose lock the console holds, or as a new asset.
func (s *Service) Drop(ctx context.Context, actor Actor, key string, send Send, body io.Reader) (Receipt, error) {
	// Looked at with an empty content first, so that what would be refused is refused before the file travels.
	if _, err := s.CheckSend(ctx, actor, key, Question{Send: send}); err != nil {
		return Receipt{}, err
	}
	var p records.Project
	if err := s.read(ctx, func(tx *records.Tx) (err error) {
		p, err = project(ctx, tx, actor, key, model.Artist)
		return err
	}); err != nil {
		return Receipt{}, err
	}
	content, err := s.ingest(ctx, p, body)
	if err != nil {
		return Receipt{}, err
	}
	send.Changes[0].Content, send.Changes[0].Size = content.Digest, content.Size
	return s.Send(ctx, actor, key, send, nil)
}
