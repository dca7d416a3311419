package contents

import (
	"bufio"
	"context"
	"errors"
	"io"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/store"
)

// Bounds of an answer with content: how many packs are held open for it, and from how many bytes on a stretch of a pack is left to the
// system to send.
const (
	openPacks   = 16
	sendStretch = 64 << 10
)

// Fetched is content on its way to who asked for it, as records in the form in which they travel. Not safe for concurrent use; Close it.
type Fetched struct {
	project int64
	r       *Reader
	digests []chunk.Digest
	packs   map[string]store.Object // in which records lie as they travel
	size    int64
	bytes   int64 // of all records, as they lie there
}

// Fetch finds chunks and manifest nodes, to be handed out in that order as they lie in the store: who gets them checks them, and tells of
// what is not what its name says (Suspect).
func (s *Room) Fetch(ctx context.Context, actor ground.Actor, key string, digests []chunk.Digest) (*Fetched, error) {
	if len(digests) > MaxDigests {
		return nil, model.NewProblem(model.TooLarge, "", "ask for at most %d chunks at once", MaxDigests)
	}
	s.Busy()
	var p records.Project
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		p, err = ground.Project(ctx, tx, actor, key, model.Viewer)
		return err
	}); err != nil {
		return nil, err
	}
	f := &Fetched{project: p.ID, r: s.Reader(p.ID), digests: digests, packs: map[string]store.Object{}}
	if err := f.r.locate(ctx, digests); err != nil {
		f.Close()
		return nil, err
	}
	f.open(ctx)
	return f, nil
}

// open opens the packs, and adds up what is to be sent. What can't be opened is looked for again when its turn comes.
func (f *Fetched) open(ctx context.Context) {
	seen := map[string]bool{}
	for _, d := range f.digests {
		at := f.r.places[d]
		f.size += pack.HeadSize + int64(at.Stored)
		f.bytes += int64(at.Stored)
		if seen[at.Pack] {
			continue
		}
		if seen[at.Pack] = true; len(seen) > openPacks {
			continue
		}
		o, err := f.r.s.Store.Open(ctx, at.Pack)
		if err != nil {
			continue
		}
		if travels, err := pack.Travels(o); err != nil || !travels {
			_ = o.Close()
			continue
		}
		f.packs[at.Pack] = o
	}
	if len(f.packs) < len(seen) {
		f.size = -1
	}
}

// Size is how many bytes there are, or -1 where that shows only on the way.
func (f *Fetched) Size() int64 { return f.size }

// Close lets go of the packs.
func (f *Fetched) Close() {
	for _, o := range f.packs {
		_ = o.Close()
	}
	f.r.Close()
	f.r.s.Busy()
}

// errShort says that a pack is cut off.
var errShort = errors.New("a pack ends before its records do")

// WriteTo writes the records. An error in the middle leaves what was written useless: whoever gets it asks again, and is told then what
// can't be read.
func (f *Fetched) WriteTo(ctx context.Context, w io.Writer) error {
	f.r.s.Travelled(f.project, 0, f.bytes)
	out := bufio.NewWriterSize(w, 256<<10)
	var head []byte
	for rest := f.digests; len(rest) > 0; {
		first := f.r.places[rest[0]]
		n, end := 1, first.Offset+int64(first.Stored)
		for o := f.packs[first.Pack]; o != nil && n < len(rest); n++ {
			next := f.r.places[rest[n]]
			if next.Pack != first.Pack || next.Offset != end+pack.HeadSize {
				break
			}
			end = next.Offset + int64(next.Stored)
		}
		run := rest[:n]
		rest = rest[n:]
		start := first.Offset - pack.HeadSize
		if o := f.packs[first.Pack]; o != nil && end-start >= sendStretch {
			if err := out.Flush(); err != nil {
				return err
			}
			if err := stretch(w, o, start, end-start); err != nil {
				return errors.Join(err, f.r.lookAt(ctx, run))
			}
			continue
		}
		if o := f.packs[first.Pack]; o != nil {
			if _, err := io.Copy(out, io.NewSectionReader(o, start, end-start)); err != nil {
				return errors.Join(err, f.r.lookAt(ctx, run))
			}
			continue
		}
		if err := f.r.asStored(ctx, run, func(record *pack.Record) error {
			head = pack.AppendHead(head[:0], *record)
			if _, err := out.Write(head); err != nil {
				return err
			}
			_, err := out.Write(record.Data)
			return err
		}); err != nil {
			return err
		}
	}
	return out.Flush()
}

// stretch copies a part of a pack, by the system alone where w can and the pack is a file.
func stretch(w io.Writer, o store.Object, start, size int64) error {
	part := io.Reader(io.NewSectionReader(o, start, size))
	if on, is := o.(store.OnDisk); is {
		file := on.OnDisk()
		if _, err := file.Seek(start, io.SeekStart); err != nil {
			return err
		}
		part = io.LimitReader(file, size)
	}
	n, err := io.Copy(w, part)
	if err == nil && n < size {
		err = errShort
	}
	return err
}

// lookAt reads records, so that what can't be read is set aside.
func (r *Reader) lookAt(ctx context.Context, digests []chunk.Digest) error {
	return r.records(ctx, digests, func(pack.Record, []byte) error { return nil })
}
