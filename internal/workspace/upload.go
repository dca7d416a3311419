package workspace

import (
	"context"
	"errors"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/scan"
)

// upload brings the content of a send. Reading, cutting, hashing, asking, compressing and sending run at once; batches that are full
// and not sent yet hold the reading back. What fits into one batch is not sent by itself at all: it travels with the handoff.
type upload struct {
	w       *Workspace
	root    reads // where the files are: the workspace, or frozen copies of them
	status  *Status
	changed []model.Asset
	request model.SendRequest // as it was before anything was read
	sent    atomic.Int64

	mu      sync.Mutex
	seen    map[chunk.Digest]bool
	batch   *batch
	refused error           // what the service said to the outline
	sending *errgroup.Group // nil as long as everything fits into one batch
	// hand lets a batch go, beside those that are on their way.
	hand func(*batch) error
}

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
	return len(b.digests) >= batchChunks || len(b.data) > 0 && len(b.data)+n > batchBytes
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
	return batches.get(func() *batch { return &batch{data: make([]byte, 0, batchBytes+batchBytes/16)} })
}

func (b *batch) free() {
	b.kinds, b.digests, b.sizes, b.ends, b.data = b.kinds[:0], b.digests[:0], b.sizes[:0], b.ends[:0], b.data[:0]
	batches.put(b)
}

// add takes one record, unless this send had it already. It is encoded here, once, beside others.
func (u *upload) add(ctx context.Context, kind uint8, digest chunk.Digest, data []byte) error {
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

func (u *upload) progress(kind uint8, n int) {
	if kind == pack.Chunk {
		u.w.Progress.Add(int64(n))
	}
}

// flush lets the batch go, behind those that are on their way. The first time, the service is asked whether it will take the send.
func (u *upload) flush(ctx context.Context) error {
	if u.refused != nil {
		return u.refused // said once, not again for every file that is still being read
	}
	if u.sending == nil {
		outline := u.request
		coming := int64(0)
		for _, a := range u.changed {
			outline.Changes = append(outline.Changes, u.w.outline(u.status, a))
			file, _ := u.status.file(a.Path)
			base, _ := u.status.base(a.Path)
			coming += max(file.Stamp.Size-base.Size, 0)
		}
		check, err := u.w.Client.CheckSend(ctx, u.w.Marker.Project, model.SendQuestion{Send: outline, Coming: coming})
		if err != nil {
			u.refused = err
			return err
		}
		u.w.wanted = check.Wanted
		u.begin(ctx)
	}
	b := u.batch
	u.batch = newBatch()
	return u.hand(b)
}

// begin makes hand ready: from now on batches travel, several at once.
func (u *upload) begin(ctx context.Context) {
	group, running := errgroup.WithContext(ctx)
	group.SetLimit(inFlight)
	u.sending = group
	u.hand = func(b *batch) error {
		if running.Err() != nil {
			return group.Wait()
		}
		group.Go(func() error {
			missing, err := u.w.Client.MissingChunks(running, u.w.Marker.Project, b.digests)
			if err != nil {
				return err
			}
			if body, size := b.body(missing); size > 0 {
				if err := u.w.Client.StoreRecords(running, u.w.Marker.Project, body...); err != nil {
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

// finish waits until everything has arrived, or, where little is to be brought, asks about the whole send and returns what has to
// travel with it. refusals are those that were found here.
func (u *upload) finish(ctx context.Context, request model.SendRequest, refusals []model.Refusal) (records [][]byte, err error) {
	if u.sending != nil {
		if len(u.batch.digests) > 0 {
			if err := u.flush(ctx); err != nil {
				return nil, err
			}
		}
		if err := u.sending.Wait(); err != nil {
			return nil, err
		}
		if len(refusals) == 0 {
			u.w.offer(ctx)
			return nil, nil
		}
	}
	question := model.SendQuestion{Send: request, Chunks: u.batch.digests, Coming: int64(len(u.batch.data))}
	check, err := u.w.Client.CheckSend(ctx, u.w.Marker.Project, question)
	if err := joinRefusals(refusals, err, len(request.Changes) == 0); err != nil {
		return nil, err
	}
	u.w.wanted = check.Wanted
	records, size := u.batch.body(check.Chunks)
	u.sent.Add(size)
	u.w.offer(ctx)
	return records, nil
}

// readAll reads every changed file and fills the request. What can't be read comes back as refusals.
func (u *upload) readAll(ctx context.Context, request *model.SendRequest) (map[string]index.Cut, []model.Refusal, error) {
	w, s := u.w, u.status
	cuts, refusals := map[string]index.Cut{}, []model.Refusal(nil)
	known, bases, err := w.cutsOf(s, u.changed)
	if err != nil {
		return nil, nil, err
	}
	keep := &cutKeeper{w: w}
	var mu sync.Mutex
	changes := make([]*model.SendChange, len(u.changed))
	one := func(i int) error {
		a := u.changed[i]
		change := w.outline(s, a)
		if change.Gone {
			changes[i] = &change
			return nil
		}
		file, _ := s.file(a.Path)
		cut, f, err := u.readOne(ctx, a.Path, file, known[a.Path], bases[a.Path])
		mu.Lock()
		defer mu.Unlock()
		if unread := (*unreadFile)(nil); errors.As(err, &unread) {
			refusals = append(refusals, unreadable(a.Path, unread.error))
			return nil
		}
		if err != nil {
			return err
		}
		if u.root != reads(w.root) {
			// The looks that count are those that the file in the workspace had.
			cut.Stamp = file.Stamp
		} else if err := keep.add(a.Path, cut); err != nil {
			return err
		}
		cuts[a.Path] = cut
		change.Content, change.Size, change.Executable = cut.Content, cut.Size, f.Executable
		if !scan.KeepsExecutable {
			base, _ := s.base(a.Path)
			change.Executable = base.Executable
		}
		changes[i] = &change
		return nil
	}
	// Small files are read by all cores, one each; a large one by all of them together.
	group := errgroup.Group{}
	group.SetLimit(runtime.NumCPU())
	for i, a := range u.changed {
		if err = u.stopped(ctx); err != nil {
			break
		}
		if file, _ := s.file(a.Path); file.Stamp.Size <= chunk.SegmentSize {
			group.Go(func() error { return one(i) })
			continue
		}
		if err = group.Wait(); err == nil {
			err = one(i)
		}
		if err != nil {
			break
		}
	}
	if waited := group.Wait(); err == nil {
		err = waited
	}
	if kept := keep.flush(); err == nil {
		err = kept
	}
	if err != nil {
		if u.sending != nil {
			if first := u.sending.Wait(); first != nil && !errors.Is(first, context.Canceled) {
				err = first
			}
		}
		return nil, nil, err
	}
	for _, c := range changes {
		if c != nil {
			request.Changes = append(request.Changes, *c)
		}
	}
	return cuts, refusals, nil
}

// stopped tells why reading on is of no use, if it is not.
func (u *upload) stopped(ctx context.Context) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	return errors.Join(u.refused, ctx.Err())
}

// unreadFile is the error of a file that can't be read: a reason to refuse the send, not to break off.
type unreadFile struct{ error }

// readOne cuts one file, unless its cut was kept, and takes along what its last version has not.
func (u *upload) readOne(ctx context.Context, path string, f scan.File, known index.Cut, base index.Refs) (index.Cut, scan.File, error) {
	if known.Stamp.Fits(f.Stamp) {
		return known, f, u.again(ctx, path, known, base)
	}
	// What add says is an error of the service, not of the file.
	var refused error
	cut, f, err := u.w.readIn(ctx, u.root, path, base, func(p chunk.Piece, data []byte) error {
		if p.Known {
			u.w.Progress.Add(int64(p.Size))
			return nil
		}
		refused = u.add(ctx, pack.Chunk, p.Digest, data)
		return refused
	})
	switch {
	case refused != nil:
		return cut, f, refused
	case ctx.Err() != nil:
		return cut, f, ctx.Err()
	case err != nil:
		return cut, f, &unreadFile{err}
	}
	return cut, f, u.nodes(ctx, cut.Refs, base)
}

// again takes along the chunks of a file that was cut before.
func (u *upload) again(ctx context.Context, path string, cut index.Cut, base index.Refs) error {
	had := map[chunk.Digest]bool{}
	for _, ref := range base.List() {
		had[ref.Digest] = true
	}
	f, err := u.root.Open(filepath.FromSlash(path))
	if err != nil {
		return &unreadFile{err}
	}
	defer f.Close()
	buf := make([]byte, chunk.Max)
	start := int64(0)
	for _, ref := range cut.Refs.List() {
		if had[ref.Digest] {
			u.w.Progress.Add(int64(ref.Size))
		} else {
			data := buf[:ref.Size]
			if _, err := f.ReadAt(data, start); err != nil || chunk.Sum(data) != ref.Digest {
				return &unreadFile{errMoving}
			}
			if err := u.add(ctx, pack.Chunk, ref.Digest, data); err != nil {
				return err
			}
		}
		start += int64(ref.Size)
	}
	return u.nodes(ctx, cut.Refs, base)
}

// nodes takes along the nodes of a manifest that those of its last version are not.
func (u *upload) nodes(ctx context.Context, refs, base index.Refs) error {
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
		if err := u.add(ctx, pack.Manifest, n.Digest, n.Data); err != nil {
			return err
		}
	}
	return nil
}
