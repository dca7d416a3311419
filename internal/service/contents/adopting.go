package contents

import (
	"context"
	"errors"

	"github.com/dustin/go-humanize"

	"kettletarn/internal/core/change"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Adopt makes the contents of a send known, after walking their manifests and seeing that every chunk is here. Where a project has
// damaged chunks, contents that are known already are walked too, so that nothing new is built on damage.
func (s *Room) Adopt(ctx context.Context, actor ground.Actor, p records.Project, changes []change.Change) error {
	byDigest := map[chunk.Digest]change.Change{}
	for _, c := range changes {
		if !c.Gone {
			byDigest[c.Content] = c
		}
	}
	digests := make([]chunk.Digest, 0, len(byDigest))
	for d := range byDigest {
		digests = append(digests, d)
	}
	var known map[chunk.Digest]records.Content
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		if known, err = tx.Contents(ctx, p.ID, digests, true); err != nil {
			return err
		}
		damaged, err := tx.Damaged(ctx, p.ID, 1)
		if len(damaged) > 0 {
			known = map[chunk.Digest]records.Content{}
		}
		return err
	}); err != nil {
		return err
	}
	var unknown []chunk.Digest
	for _, d := range digests {
		if _, there := known[d]; !there {
			unknown = append(unknown, d)
		}
	}
	w := &adoption{known: map[chunk.Ref]bool{}, s: s, project: p.ID, actor: actor, r: s.Reader(p.ID)}
	defer w.r.Close()
	for len(unknown) > 0 {
		page := unknown[:min(len(unknown), MaxDigests)]
		unknown = unknown[len(page):]
		if err := w.page(ctx, page, byDigest); err != nil {
			return err
		}
	}
	return nil
}

// MaxAsset is the most bytes that one asset has, and MaxChunks the most chunks. A manifest is a tree in which one node may stand in many
// places: a few hundred bytes of it can stand for any size.
const (
	MaxAsset  = 4 << 40
	MaxChunks = 1 << 24
)

// rememberedRefs is how many chunks that are known to be here are not asked about again.
const rememberedRefs = 1 << 17

// adoption is one run of adopt.
type adoption struct {
	known   map[chunk.Ref]bool
	s       *Room
	project int64
	actor   ground.Actor
	r       *Reader
	refs    []chunk.Ref
	missing []chunk.Digest
}

func (w *adoption) page(ctx context.Context, digests []chunk.Digest, byDigest map[chunk.Digest]change.Change) error {
	if err := w.r.locate(ctx, digests); err != nil {
		return err
	}
	list := make([]records.Content, 0, len(digests))
	for _, d := range digests {
		c := records.Content{Digest: d, Claimed: byDigest[d].Digest, Person: w.actor.ID}
		var first chunk.Ref
		chunks := 0
		err := manifest.Walk(ctx, w.r.Load, d, 0, nil, func(_ int64, ref chunk.Ref) error {
			if chunks++; chunks == 1 {
				first = ref
			}
			if c.Size += int64(ref.Size); c.Size > MaxAsset || chunks > MaxChunks {
				return model.NewProblem(model.TooLarge, "split the file", "an asset has at most %s, in at most %d chunks", humanize.IBytes(MaxAsset),
					MaxChunks)
			}
			return w.want(ctx, ref)
		})
		if errors.Is(err, manifest.ErrInvalid) {
			return model.NewProblem(model.DigestMismatch, "read the file again and send it again", "the manifest %s is not one: %v", d, err)
		}
		if err != nil {
			return err
		}
		// The digest of one chunk is that of the whole content, and was checked when it came.
		switch chunks {
		case 0:
			none := chunk.Sum(nil)
			c.Whole = &none
		case 1:
			c.Whole = &first.Digest
		}
		if c.Whole != nil && c.Claimed != nil && *c.Whole != *c.Claimed {
			return model.NewProblem(model.DigestMismatch, "read the file again and send it again",
				"content %s does not have the BLAKE3 that is claimed for it", d)
		}
		list = append(list, c)
	}
	if err := w.check(ctx); err != nil {
		return err
	}
	if err := chunksMissing(w.missing); err != nil {
		return err
	}
	return w.s.Write(ctx, func(tx *records.Tx) error { return tx.AddContents(ctx, w.project, list) })
}

func (w *adoption) want(ctx context.Context, ref chunk.Ref) error {
	if w.known[ref] {
		return nil
	}
	if len(w.known) >= rememberedRefs {
		clear(w.known)
	}
	w.known[ref] = true
	if w.refs = append(w.refs, ref); len(w.refs) < MaxDigests {
		return nil
	}
	return w.check(ctx)
}

func (w *adoption) check(ctx context.Context) error {
	digests := make([]chunk.Digest, len(w.refs))
	for i, ref := range w.refs {
		digests[i] = ref.Digest
	}
	var here map[chunk.Digest]int
	if err := w.s.Use(ctx, func(tx *records.Tx) (err error) {
		here, err = tx.Lease(ctx, w.project, digests)
		return err
	}); err != nil {
		return err
	}
	for _, ref := range w.refs {
		size, there := here[ref.Digest]
		if !there {
			w.missing = append(w.missing, ref.Digest)
		} else if size != ref.Size {
			return model.NewProblem(model.DigestMismatch, "read the file again and send it again", "chunk %s has %d bytes, and the manifest says %d",
				ref.Digest, size, ref.Size)
		}
	}
	w.refs = w.refs[:0]
	return nil
}

// EachContent calls each with every content of a project; the places of their manifests' roots are known to the reader then, as far as
// they are there.
func (s *Room) EachContent(ctx context.Context, project int64, r *Reader, each func(records.Content) error) error {
	after := int64(0)
	for {
		var page []records.Content
		if err := s.Use(ctx, func(tx *records.Tx) (err error) {
			page, err = tx.ContentsAfter(ctx, project, after, 1000)
			return err
		}); err != nil || len(page) == 0 {
			return err
		}
		roots := make([]chunk.Digest, len(page))
		for i, c := range page {
			roots[i] = c.Digest
		}
		var problem *model.Problem
		if err := r.locate(ctx, roots); err != nil && !errors.As(err, &problem) {
			return err
		}
		for _, c := range page {
			after = c.ID
			if err := each(c); err != nil {
				return err
			}
		}
	}
}
