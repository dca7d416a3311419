package service

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
)

// thumbnails keeps pictures made small in a folder that may be emptied at any time. One is made at a time: decoding takes memory.
type thumbnails struct {
	folder string
	turn   chan struct{}
}

func newThumbnails(folder string) thumbnails {
	return thumbnails{folder: folder, turn: make(chan struct{}, 1)}
}

// ThumbnailEdges are the sizes that thumbnails come in, in pixels.
var ThumbnailEdges = []int{96, 320, 1280}

// Thumbnail returns a PNG of one version of an asset (0 for the newest) that fits into edge x edge pixels. It is encoded here, so
// that no byte of a user's file reaches a page.
func (s *Service) Thumbnail(ctx context.Context, actor Actor, key, path string, number, edge int) ([]byte, error) {
	none := model.NewProblem(model.NotFound, "", "there is no picture of %s", printable(path))
	if !media.Picture(path) {
		return nil, none
	}
	v, content, err := s.OpenVersion(ctx, actor, key, path, number)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	// The digest names the same bytes in every project, so the cache is shared; whoever gets here may see them.
	name := filepath.Join(s.thumbs.folder, fmt.Sprintf("%s-%d.png", v.Content, edge))
	if data, err := os.ReadFile(name); err == nil {
		return data, nil
	}
	select {
	case s.thumbs.turn <- struct{}{}:
		defer func() { <-s.thumbs.turn }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	data, _, err := media.Thumbnail(content, edge)
	if err != nil {
		s.log.Debug("no thumbnail", "path", path, "error", err)
		return nil, none
	}
	if err := s.keepThumbnail(name, data); err != nil {
		s.log.Warn("a thumbnail could not be kept", "error", err)
	}
	return data, nil
}

func (s *Service) keepThumbnail(name string, data []byte) error {
	if err := os.MkdirAll(s.thumbs.folder, 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(s.thumbs.folder, "new-")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		_ = os.Remove(f.Name())
	}
	return err
}
