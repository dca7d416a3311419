// Package projectfile writes a project with its whole past into one file, so that nobody is held by the service: as an archive that is
// described in docs/project-file.md, or as the stream of git's fast-import (git-fast-import(1), "INPUT FORMAT"), which version-control
// programs of every kind read. It asks the service for nothing that any client does not ask for.
package projectfile

import (
	"context"
	"fmt"
	"io"
	"slices"

	"kettletarn/internal/client"
	"kettletarn/internal/core/archive"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
)

// sink takes what there is, in this order: for each handoff, the smallest number first, the contents that come with it first, each of which
// is asked for once; then the handoff.
type sink interface {
	// has says that a content was taken before.
	has(content string) bool
	content(name string, size int64, write func(io.Writer) error) error
	// done says that a handoff was taken before.
	done(number int) bool
	handoff(h model.Handoff, changes []archive.Change) error
}

// Progress tells how far it is: handoffs.
type Progress func(done, total int)

// walk brings everything to a sink.
func walk(ctx context.Context, c *client.Client, key string, to sink, progress Progress) error {
	handoffs, err := all(ctx, c, key)
	if err != nil {
		return err
	}
	for i, h := range handoffs {
		progress(i, len(handoffs))
		if to.done(h.Number) {
			continue
		}
		changes, err := changesOf(ctx, c, key, h)
		if err != nil {
			return fmt.Errorf("h%d: %w", h.Number, err)
		}
		for _, ch := range changes {
			if ch.Gone || to.has(ch.Content) {
				continue
			}
			if err := to.content(ch.Content, ch.Size, func(w io.Writer) error { return fetch(ctx, c, key, ch, w) }); err != nil {
				return fmt.Errorf("%s as of h%d: %w", ch.Path, h.Number, err)
			}
		}
		if err := to.handoff(h, changes); err != nil {
			return err
		}
	}
	progress(len(handoffs), len(handoffs))
	return nil
}

// all lists all handoffs, the first one first.
func all(ctx context.Context, c *client.Client, key string) (list []model.Handoff, err error) {
	for before := 0; ; {
		page, err := c.Handoffs(ctx, key, client.HandoffQuery{Before: before, Limit: 500})
		if err != nil {
			return nil, err
		}
		if len(page.Handoffs) == 0 {
			break
		}
		list = append(list, page.Handoffs...)
		before = page.Handoffs[len(page.Handoffs)-1].Number
	}
	slices.SortFunc(list, func(a, b model.Handoff) int { return a.Number - b.Number })
	return list, nil
}

// changesOf is what is different between a handoff and the one on whose line it is, what is gone first.
func changesOf(ctx context.Context, c *client.Client, key string, h model.Handoff) (list []archive.Change, err error) {
	since := 0
	if len(h.Parents) > 0 {
		since = h.Parents[0]
	}
	seen := map[string]bool{}
	err = c.Changes(ctx, key, model.ChangesQuery{Since: since, At: fmt.Sprint(h.Number)}, func(page model.Assets) error {
		for _, a := range page.Assets {
			list = append(list, archive.Change{Path: a.Path, Gone: a.Gone, MovedFrom: a.MovedFrom, Asset: a.ID, Version: a.Newest,
				Content: a.Content,
				Size:    a.Size, Executable: a.Executable})
			if a.MovedFrom != "" {
				seen[a.MovedFrom] = true
			}
		}
		return nil
	})
	// A path that something moved away from is gone, where nothing else is there now.
	for _, ch := range list {
		delete(seen, ch.Path)
	}
	for path := range seen {
		list = append(list, archive.Change{Path: path, Gone: true})
	}
	slices.SortStableFunc(list, func(a, b archive.Change) int {
		switch {
		case a.Gone && !b.Gone:
			return -1
		case b.Gone && !a.Gone:
			return 1
		case a.Path < b.Path:
			return -1
		case a.Path > b.Path:
			return 1
		}
		return 0
	})
	for i := range list {
		if list[i].Gone {
			list[i] = archive.Change{Path: list[i].Path, Gone: true}
		}
	}
	return list, err
}

// atOnce is how many chunks are asked for together.
const atOnce = 64

// fetch writes a content, each chunk of it checked against its digest.
func fetch(ctx context.Context, c *client.Client, key string, ch archive.Change, w io.Writer) error {
	root, err := chunk.ParseDigest(ch.Content)
	if err != nil {
		return err
	}
	load := func(ctx context.Context, digests []chunk.Digest) ([][]byte, error) {
		out := make([][]byte, len(digests))
		err := c.FetchChunks(ctx, key, digests, func(i int, data []byte) error {
			out[i] = append([]byte(nil), data...)
			return nil
		})
		return out, err
	}
	var batch []chunk.Digest
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		err := c.FetchChunks(ctx, key, batch, func(_ int, data []byte) error {
			_, err := w.Write(data)
			return err
		})
		batch = batch[:0]
		return err
	}
	if err := manifest.Walk(ctx, load, root, 0, nil, func(_ int64, ref chunk.Ref) error {
		if batch = append(batch, ref.Digest); len(batch) < atOnce {
			return nil
		}
		return flush()
	}); err != nil {
		return err
	}
	return flush()
}

// exact holds what is written to a size.
type exact struct {
	to   io.Writer
	left int64
}

func (e *exact) Write(p []byte) (int, error) {
	if int64(len(p)) > e.left {
		return 0, fmt.Errorf("the content is longer than was said")
	}
	e.left -= int64(len(p))
	return e.to.Write(p)
}
