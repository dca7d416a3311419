package transfer

import (
	"context"
	"errors"
	"path/filepath"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/scan"
)

// batch is content that the service may lack: records as they travel, one behind the other. sizes are those of what they keep.
type batch struct {
	kinds   []uint8
	digests []chunk.Digest
	sizes   []int
	ends    []int
	data    []byte
}

func (b *batch) add(kind uint8, digest chunk.Digest, size int, record []byte) {
	b.kinds, b.digests, b.sizes = append(b.kinds, kind), append(b.digests, digest), append(b.sizes, size)
	b.data = append(b.data, record...)
	b.ends = append(b.ends, len(b.data))
}

// full says that the batch should go before n more bytes are added.
func (b *batch) full(n int) bool {
	return len(b.digests) >= batchChunks || len(b.data) > 0 && len(b.data)+n > BatchBytes
}

// body is that of a request which brings those records that are lacking, in pieces that stay valid until the batch is freed.
func (b *batch) body(lacking []chunk.Digest) (pieces [][]byte, size int64) {
	want := make(map[chunk.Digest]bool, len(lacking))
	for _, d := range lacking {
		want[d] = true
	}
	start, from := 0, -1 // of this record, and of the run of lacking ones that it belongs to
	for i, d := range b.digests {
		if want[d] && from < 0 {
			from = start
		} else if !want[d] && from >= 0 {
			pieces, from = append(pieces, b.data[from:start]), -1
		}
		if want[d] {
			size += int64(b.ends[i] - start)
		}
		start = b.ends[i]
	}
	if from >= 0 {
		pieces = append(pieces, b.data[from:start])
	}
	return pieces, size
}

// idle are large buffers that are free, and are used again as they are: few, and not given to the collector, which would clear them.
type idle[T any] chan T

func (s idle[T]) get(fresh func() T) T {
	select {
	case v := <-s:
		return v
	default:
		return fresh()
	}
}

func (s idle[T]) put(v T) {
	select {
	case s <- v:
	default:
	}
}

var (
	batches = make(idle[*batch], inFlight+1)
	encoded = make(idle[[]byte], 4) // for one record each
)

func newBatch() *batch {
	return batches.get(func() *batch { return &batch{data: make([]byte, 0, BatchBytes+BatchBytes/16)} })
}

func (b *batch) free() {
	b.kinds, b.digests, b.sizes, b.ends, b.data = b.kinds[:0], b.digests[:0], b.sizes[:0], b.ends[:0], b.data[:0]
	batches.put(b)
}

// Carry brings content to the service. Encoding, asking what it has, and sending run beside whoever adds; batches that are full and not
// sent yet hold that back. What fits into one batch is not sent by itself at all: [Carry.Records] gives it to travel with something else.
// Safe for concurrent use, but for what ends it.
type Carry struct {
	way   *Way
	admit func(context.Context) error
	sent  atomic.Int64

	mu      sync.Mutex
	seen    map[chunk.Digest]bool
	batch   *batch
	refused error           // what admit said
	sending *errgroup.Group // nil as long as everything fits into one batch
	// hand lets a batch go, beside those that are on their way.
	hand func(*batch) error
}

// Carry begins to bring content. admit, where not nil, is called once, before the first batch goes: with its error, none does.
func (w *Way) Carry(admit func(context.Context) error) *Carry {
	return &Carry{way: w, admit: admit, seen: map[chunk.Digest]bool{}, batch: &batch{}}
}

// Sent is how many bytes have gone to the service as records so far.
func (u *Carry) Sent() int64 { return u.sent.Load() }

// Begun reports whether content is on its way by itself.
func (u *Carry) Begun() bool { return u.sending != nil }

// End sends what is left, and waits until everything has arrived. Nothing may be added any more.
func (u *Carry) End(ctx context.Context) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if len(u.batch.digests) > 0 {
		if err := u.flush(ctx); err != nil {
			return err
		}
	}
	if u.sending == nil {
		return nil
	}
	return u.sending.Wait()
}

// GiveUp waits for what is on its way, and returns what stopped it, if that was not that somebody else had stopped first.
func (u *Carry) GiveUp() error {
	if u.sending == nil {
		return nil
	}
	if err := u.sending.Wait(); !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}

// Waiting is the content that has not gone: what it is named, and how many bytes its records have.
func (u *Carry) Waiting() ([]chunk.Digest, int64) { return u.batch.digests, int64(len(u.batch.data)) }

// Records gives those of the waiting content that lack, as records to travel with something else, in pieces that are valid until Free.
func (u *Carry) Records(lacking []chunk.Digest) [][]byte {
	records, size := u.batch.body(lacking)
	u.sent.Add(size)
	return records
}

// Free gives back the memory of what is waiting. It is enough to forget a Carry.
func (u *Carry) Free() {
	u.batch.free()
	u.batch = nil
}

// Add takes one record, unless it was taken already. It is encoded here, once, beside others.
func (u *Carry) Add(ctx context.Context, kind uint8, digest chunk.Digest, data []byte) error {
	u.mu.Lock()
	had := u.seen[digest]
	u.seen[digest] = true
	u.mu.Unlock()
	if had {
		u.progress(kind, len(data))
		return nil
	}
	record := encoded.get(func() []byte { return make([]byte, 0, chunk.Max+chunk.Max/4) })
	record = pack.AppendEncoded(record[:0], kind, digest, data)
	defer encoded.put(record)
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.batch.full(len(record)) {
		if err := u.flush(ctx); err != nil {
			return err
		}
	}
	u.batch.add(kind, digest, len(data), record)
	return nil
}

func (u *Carry) progress(kind uint8, n int) {
	if kind == pack.Chunk {
		u.way.Progress.Add(int64(n))
	}
}

// flush lets the batch go, behind those that are on their way. Before the first one, admit is asked.
func (u *Carry) flush(ctx context.Context) error {
	if u.refused != nil {
		return u.refused // said once, not again for every file that is still being read
	}
	if u.sending == nil {
		if u.admit != nil {
			if err := u.admit(ctx); err != nil {
				u.refused = err
				return err
			}
		}
		u.begin(ctx)
	}
	b := u.batch
	u.batch = newBatch()
	return u.hand(b)
}

// begin makes hand ready: from now on batches travel, several at once.
func (u *Carry) begin(ctx context.Context) {
	group, running := errgroup.WithContext(ctx)
	group.SetLimit(inFlight)
	u.sending = group
	u.hand = func(b *batch) error {
		if running.Err() != nil {
			return group.Wait()
		}
		group.Go(func() error {
			missing, err := u.way.Client.MissingChunks(running, u.way.Project, b.digests)
			if err != nil {
				return err
			}
			if body, size := b.body(missing); size > 0 {
				if err := u.way.Client.StoreRecords(running, u.way.Project, body...); err != nil {
					return err
				}
				u.sent.Add(size)
			}
			for i, kind := range b.kinds {
				u.progress(kind, b.sizes[i])
			}
			// Only now: a request that failed may still be reading from the batch.
			b.free()
			return nil
		})
		return nil
	}
}

// Stopped tells why adding more is of no use, if it is not.
func (u *Carry) Stopped(ctx context.Context) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	return errors.Join(u.refused, ctx.Err())
}

// UnreadFile is the error of a file that can't be read: a reason to refuse the send, not to break off.
type UnreadFile struct{ Err error }

func (e *UnreadFile) Error() string { return e.Err.Error() }

// Unwrap gives what the system said.
func (e *UnreadFile) Unwrap() error { return e.Err }

// File cuts one file, unless its cut was kept, and takes along what its last version has not. A file that can't be read is an
// [UnreadFile].
func (u *Carry) File(ctx context.Context, root scan.Files, path string, f scan.File, known index.Cut, base index.Refs) (index.Cut,
	scan.File, error) {
	if known.Stamp.Fits(f.Stamp) {
		return known, f, u.again(ctx, root, path, known, base)
	}
	// What Add says is an error of the service, not of the file.
	var refused error
	cut, f, err := scan.Read(ctx, root, path, base, func(p chunk.Piece, data []byte) error {
		if p.Known {
			u.way.Progress.Add(int64(p.Size))
			return nil
		}
		refused = u.Add(ctx, pack.Chunk, p.Digest, data)
		return refused
	})
	switch {
	case refused != nil:
		return cut, f, refused
	case ctx.Err() != nil:
		return cut, f, ctx.Err()
	case err != nil:
		return cut, f, &UnreadFile{err}
	}
	return cut, f, u.Nodes(ctx, cut.Refs, base)
}

// again takes along the chunks of a file that was cut before.
func (u *Carry) again(ctx context.Context, root scan.Files, path string, cut index.Cut, base index.Refs) error {
	had := map[chunk.Digest]bool{}
	for _, ref := range base.List() {
		had[ref.Digest] = true
	}
	f, err := root.Open(filepath.FromSlash(path))
	if err != nil {
		return &UnreadFile{err}
	}
	defer f.Close()
	buf := make([]byte, chunk.Max)
	start := int64(0)
	for _, ref := range cut.Refs.List() {
		if had[ref.Digest] {
			u.way.Progress.Add(int64(ref.Size))
		} else {
			data := buf[:ref.Size]
			if _, err := f.ReadAt(data, start); err != nil || chunk.Sum(data) != ref.Digest {
				return &UnreadFile{scan.ErrMoving}
			}
			if err := u.Add(ctx, pack.Chunk, ref.Digest, data); err != nil {
				return err
			}
		}
		start += int64(ref.Size)
	}
	return u.Nodes(ctx, cut.Refs, base)
}

// Nodes takes along the nodes of a manifest that those of its last version are not.
func (u *Carry) Nodes(ctx context.Context, refs, base index.Refs) error {
	had := map[chunk.Digest]bool{}
	if len(base) > 0 {
		for _, n := range manifest.Build(base.List()) {
			had[n.Digest] = true
		}
	}
	for _, n := range manifest.Build(refs.List()) {
		if had[n.Digest] {
			continue
		}
		if err := u.Add(ctx, pack.Manifest, n.Digest, n.Data); err != nil {
			return err
		}
	}
	return nil
}
