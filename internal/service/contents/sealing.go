package contents

import (
	"context"
	"errors"
	"io"
	"time"

	"github.com/zeebo/blake3"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// It is looked so often whether there is something to seal: at most, and where nothing happens.
const (
	sealEvery = 5 * time.Second
	sealRest  = time.Minute
)

// What was found out about so many contents, or after reading so many bytes, is kept in one transaction.
const (
	sealContents = 200
	sealBytes    = 256 << 20
)

// Sealing seals contents in the background until ctx ends. rung is closed when something happened.
func (s *Room) Sealing(ctx context.Context, rung func() <-chan struct{}) {
	happened, rest := rung(), sealEvery
	for {
		ground.Pause(ctx, happened, sealEvery, rest)
		if ctx.Err() != nil {
			return
		}
		happened, rest = rung(), sealRest
		stopped, err := s.sealAll(ctx, s.Quiet)
		if stopped {
			rest = sealEvery
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Error("contents can't be sealed now", "error", err)
		}
	}
}

// SealAll reads every content through that was not read yet, and keeps its BLAKE3; a claim that proves false is put on record, with
// who made it. go_on, where not nil, is asked before each.
func (s *Room) SealAll(ctx context.Context, goOn func() bool) error {
	_, err := s.sealAll(ctx, goOn)
	return err
}

func (s *Room) sealAll(ctx context.Context, goOn func() bool) (stopped bool, err error) {
	for {
		var list []records.Content
		if err := s.Use(ctx, func(tx *records.Tx) (err error) {
			list, err = tx.Unsealed(ctx, sealContents)
			return err
		}); err != nil || len(list) == 0 {
			return false, err
		}
		for len(list) > 0 {
			n := 1
			for n < len(list) && list[n].Project == list[0].Project {
				n++
			}
			stopped, err := s.sealSome(ctx, list[:n], goOn)
			if err != nil || stopped {
				return stopped, err
			}
			list = list[n:]
		}
	}
}

// sealed is what reading a content through came to: its BLAKE3, nil where it can't be read.
type sealed struct {
	records.Content
	whole *chunk.Digest
}

// sealSome seals contents of one project.
func (s *Room) sealSome(ctx context.Context, list []records.Content, goOn func() bool) (stopped bool, err error) {
	r := s.Reader(list[0].Project)
	defer r.Close()
	r.foresee(ctx, list)
	var done []sealed
	read := int64(0)
	buf := make([]byte, 1<<20)
	for _, c := range list {
		if stopped = goOn != nil && !goOn(); stopped {
			break
		}
		hash := blake3.New()
		_, err := io.CopyBuffer(struct{ io.Writer }{hash}, struct{ io.Reader }{contentOf(ctx, r, c)}, buf)
		var problem *model.Problem
		switch {
		case errors.As(err, &problem) && (problem.Type == model.Damaged || problem.Type == model.ChunksMissing):
			// It is sealed when it was healed: verify --deep reads it again.
			s.Log.Warn("a content can't be sealed", "content", c.Digest.String(), "error", err)
			done = append(done, sealed{Content: c})
		case err != nil:
			return false, errors.Join(err, s.keepSealed(context.WithoutCancel(ctx), done))
		default:
			whole := new(chunk.Digest)
			hash.Sum(whole[:0])
			done = append(done, sealed{c, whole})
		}
		if read += c.Size; read >= sealBytes {
			if err := s.keepSealed(ctx, done); err != nil {
				return false, err
			}
			done, read = nil, 0
		}
	}
	return stopped, s.keepSealed(ctx, done)
}

// keepSealed keeps what reading came to, and tells of claims that were false.
func (s *Room) keepSealed(ctx context.Context, done []sealed) error {
	if len(done) == 0 {
		return nil
	}
	ids, wholes := make([]int64, len(done)), make([]*chunk.Digest, len(done))
	for i, d := range done {
		ids[i], wholes[i] = d.ID, d.whole
	}
	return s.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Seal(ctx, ids, wholes); err != nil {
			return err
		}
		for _, d := range done {
			if d.whole == nil || d.Claimed == nil || *d.Claimed == *d.whole {
				continue
			}
			paths, err := tx.PathsOf(ctx, d.Project, d.ID, 100)
			if err != nil {
				return err
			}
			s.Log.Warn("a false claim", "content", d.Digest.String(), "claimed", d.Claimed.String(), "is", d.whole.String(), "person", d.Person)
			if err := tx.AddEvent(ctx, d.Project, d.Person, news.FalseClaim,
				map[string]any{"content": d.Digest.String(), "claimed": d.Claimed.String(), "is": d.whole.String(), "paths": paths}); err != nil {
				return err
			}
		}
		return nil
	})
}

// foresee learns where contents lie that fit into one page of chunks, a few questions for all of them: each would ask for itself otherwise.
// What is wrong with one of them shows when it is read.
func (r *Reader) foresee(ctx context.Context, list []records.Content) {
	var roots, chunks []chunk.Digest
	for _, c := range list {
		if c.Size <= pageChunks*chunk.Min {
			roots = append(roots, c.Digest)
		}
	}
	nodes, err := r.Load(ctx, roots)
	if err != nil {
		return
	}
	for _, data := range nodes {
		if n, err := manifest.Decode(data); err == nil && n.Level == 0 {
			for _, item := range n.Items {
				chunks = append(chunks, item.Digest)
			}
		}
	}
	_ = r.locate(ctx, chunks)
}
