// Package contents takes content in, makes it known, and reads it: chunks on their way in and out, contents by the walk of their manifests,
// and the check that a sender's claim holds. It knows no handoffs.
package contents

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/dustin/go-humanize"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Room takes contents in, keeps track of them, and reads them.
type Room struct {
	*ground.Ground
}

// New makes the room.
func New(ground *ground.Ground) *Room { return &Room{ground} }

// MaxDigests is how many chunks one request may name.
const MaxDigests = 8192

// MissingChunks tells which chunks the project lacks. What it does not name stays for 14 days.
func (s *Room) MissingChunks(ctx context.Context, actor ground.Actor, key string, digests []chunk.Digest) (missing []chunk.Digest,
	err error) {
	if len(digests) > MaxDigests {
		return nil, model.NewProblem(model.TooLarge, "", "ask about at most %d chunks at once", MaxDigests)
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Artist)
		if err != nil {
			return err
		}
		missing, err = Lacking(ctx, tx, p.ID, digests)
		return err
	})
	return missing, err
}

// Lacking is which of the chunks the project lacks; the others stay for records.LeaseDays.
func Lacking(ctx context.Context, tx *records.Tx, project int64, digests []chunk.Digest) ([]chunk.Digest, error) {
	missing := []chunk.Digest{}
	if len(digests) == 0 {
		return missing, nil
	}
	here, err := tx.Lease(ctx, project, digests)
	seen := map[chunk.Digest]bool{}
	for _, d := range digests {
		if _, there := here[d]; !there && !seen[d] {
			seen[d] = true
			missing = append(missing, d)
		}
	}
	return missing, err
}

// StoreChunks checks what next gives, until io.EOF, and keeps it in one pack. When it returns nil, everything is durable; when it
// fails, nothing of it is kept.
func (s *Room) StoreChunks(ctx context.Context, actor ground.Actor, key string, next func() (pack.Record, error)) (count int, err error) {
	var p records.Project
	if err = s.Use(ctx, func(tx *records.Tx) (err error) {
		p, err = ground.Project(ctx, tx, actor, key, model.Artist)
		return err
	}); err != nil {
		return 0, err
	}
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	return s.StorePack(ctx, p, Checked(next, *buf))
}

// buffers are each as large as a chunk may be.
var buffers = sync.Pool{New: func() any { b := make([]byte, 0, chunk.Max); return &b }}

// Checked passes on the records that are what they say, chunks and manifest nodes only.
func Checked(next func() (pack.Record, error), buf []byte) func() (pack.Record, error) {
	return func() (pack.Record, error) {
		r, err := next()
		if err != nil {
			return r, err
		}
		data, err := r.Decode(buf)
		if err != nil {
			return r, model.NewProblem(model.DigestMismatch,
				"send it again; if it happens again, check the memory and the disk of the machine that sends", "%s", err.Error())
		}
		switch r.Kind {
		case pack.Chunk:
		case pack.Manifest:
			if _, err := manifest.Decode(data); err != nil {
				return r, model.NewProblem(model.BadRequest, "", "the manifest node %s is not one: %v", r.Digest, err)
			}
		default:
			return r, model.NewProblem(model.BadRequest, "", "a sender brings chunks and manifest nodes, and nothing of kind %d", r.Kind)
		}
		return r.Own(data), nil
	}
}

// packName is where a new pack of a project lies in the store.
func packName(project int64) string { return fmt.Sprintf("p%d/%s.pack", project, ground.NewID()) }

// PutPack writes one durable pack of what next gives, until io.EOF. Without a record there is no pack.
func (s *Room) PutPack(ctx context.Context, project int64,
	next func() (pack.Record, error)) (name string, size int64, entries []pack.Entry, err error) {
	first, err := next()
	if err == io.EOF {
		return "", 0, nil, nil
	}
	name = packName(project)
	err = s.Explain(s.Store.Put(ctx, name, func(w io.Writer) error {
		packed := pack.NewWriter(w)
		for record, err := first, err; err != io.EOF; record, err = next() {
			if err != nil {
				return err
			}
			if err := packed.Add(record); err != nil {
				return err
			}
		}
		var err error
		entries, err = packed.Close()
		size = packed.Size()
		return err
	}))
	return name, size, entries, err
}

// StorePack keeps records in one pack and makes them known.
// What a project has no room for is not taken: looked at before a byte is read, and charged in the transaction that makes it known.
func (s *Room) StorePack(ctx context.Context, p records.Project, next func() (pack.Record, error)) (int, error) {
	s.Busy()
	if err := s.Use(ctx, func(tx *records.Tx) error { return s.charge(ctx, tx, p, 0) }); err != nil {
		return 0, err
	}
	name, size, entries, err := s.PutPack(ctx, p.ID, next)
	if err != nil || len(entries) == 0 {
		return 0, err
	}
	// What has arrived is kept even where its sender is gone. Where it can't be said whether the database took it, the pack stays: the
	// rows may be there. Collect removes it if they are not.
	ctx = context.WithoutCancel(ctx)
	err = s.Write(ctx, func(tx *records.Tx) error {
		if err := tx.ChargeRoom(ctx, p.ID); err != nil {
			return err
		}
		if err := s.charge(ctx, tx, p, size); err != nil {
			return err
		}
		return tx.AddPack(ctx, p.ID, name, size, entries)
	})
	var problem *model.Problem
	if errors.As(err, &problem) && problem.Type == model.LimitReached {
		if gone := s.Store.Remove(ctx, name); gone != nil {
			s.Log.Warn("a pack that was not taken could not be removed; collect does it", "pack", name, "error", gone)
		}
	}
	if err == nil {
		s.Travelled(p.ID, size, 0)
	}
	return len(entries), err
}

// charge refuses what would take more room than a project has, or all of them together. 0 asks whether there is any.
func (s *Room) charge(ctx context.Context, tx *records.Tx, p records.Project, size int64) error {
	limit, stored, err := tx.Room(ctx, p.ID)
	if err != nil {
		return err
	}
	if limit > 0 && (stored+size > limit || stored >= limit) {
		return noRoomLeft(p.Key, stored, limit)
	}
	if limit = s.LimitOfAll; limit == 0 {
		return nil
	}
	if stored, err = tx.StoredOfAll(ctx); err == nil && (stored+size > limit || stored >= limit) {
		return noRoomLeft("all that this service keeps", stored, limit)
	}
	return err
}

func noRoomLeft(key string, stored, limit int64) error {
	return model.NewProblem(model.LimitReached, "ask whoever runs the service, a steward, to raise the limit; nothing is lost, and "+
		"everything that is there can be read",
		"%s takes %s of the %s that it may take", key, humanize.IBytes(uint64(stored)), humanize.IBytes(uint64(limit)))
}

// FetchChunks calls each with the asked-for chunks and manifest nodes, in that order, as they lie in the store: who gets them checks them,
// and tells of what is not what its name says (Suspect). A record is valid during the call only.
func (s *Room) FetchChunks(ctx context.Context, actor ground.Actor, key string, digests []chunk.Digest,
	each func(pack.Record) error) error {
	if len(digests) > MaxDigests {
		return model.NewProblem(model.TooLarge, "", "ask for at most %d chunks at once", MaxDigests)
	}
	s.Busy()
	defer s.Busy()
	var p records.Project
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		p, err = ground.Project(ctx, tx, actor, key, model.Viewer)
		return err
	}); err != nil {
		return err
	}
	r := s.Reader(p.ID)
	defer r.Close()
	if err := r.locate(ctx, digests); err != nil {
		return err
	}
	return r.asStored(ctx, digests, func(record *pack.Record) error { return each(*record) })
}

// ingestBatch is how much of a dropped file is held in memory at once, in bytes.
const ingestBatch = 8 << 20

// Ingest cuts and keeps all that body gives, for senders that can't cut: a page. It returns the content.
func (s *Room) Ingest(ctx context.Context, p records.Project, body io.Reader) (content records.Content, err error) {
	var batch []pack.Record
	var refs []chunk.Ref
	held := 0
	flush := func() error {
		digests := make([]chunk.Digest, len(batch))
		for i := range batch {
			digests[i] = batch[i].Digest
		}
		var missing []chunk.Digest
		if err := s.Use(ctx, func(tx *records.Tx) (err error) {
			missing, err = Lacking(ctx, tx, p.ID, digests)
			return err
		}); err != nil {
			return err
		}
		wanted := map[chunk.Digest]bool{}
		for _, d := range missing {
			wanted[d] = true
		}
		_, err := s.StorePack(ctx, p, func() (pack.Record, error) {
			for len(batch) > 0 {
				r := batch[0]
				batch = batch[1:]
				if wanted[r.Digest] {
					delete(wanted, r.Digest)
					return r, nil
				}
			}
			return pack.Record{}, io.EOF
		})
		batch, held = nil, 0
		return err
	}
	keep := func(kind uint8, digest chunk.Digest, data []byte) error {
		r := pack.Encode(kind, digest, data)
		batch = append(batch, r)
		if held += len(r.Data); held < ingestBatch {
			return nil
		}
		return flush()
	}
	for cutter := chunk.NewCutter(body); ; {
		data, err := cutter.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return content, err
		}
		ref := chunk.Ref{Digest: chunk.Sum(data), Size: len(data)}
		refs = append(refs, ref)
		content.Size += int64(ref.Size)
		if err := keep(pack.Chunk, ref.Digest, data); err != nil {
			return content, err
		}
	}
	for _, node := range manifest.Build(refs) {
		content.Digest = node.Digest
		if err := keep(pack.Manifest, node.Digest, node.Data); err != nil {
			return content, err
		}
	}
	return content, flush()
}
