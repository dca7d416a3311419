package transfer

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/disk"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
)

// arriving is a wanted file with its chunks.
type arriving struct {
	placing.Wanted
	refs []chunk.Ref
}

// source is where a chunk lies on this disk.
type source struct {
	path  string
	start int64
}

// fetching is one run of fetch.
type fetching struct {
	w     *Way
	local map[chunk.Digest]source

	mu      sync.Mutex
	built   []placing.Built
	damaged []model.Refusal
}

// Fetch builds files beside their places, several requests at once. Chunks that are on this disk are not fetched, nor what an earlier run
// built already. What the service can't give back comes back as refusals; the rest is brought.
func (w *Way) Fetch(ctx context.Context, files []placing.Wanted) ([]placing.Built, []model.Refusal, error) {
	if len(files) == 0 {
		return nil, nil, nil
	}
	total := int64(0)
	for _, f := range files {
		total += f.Asset.Size
	}
	w.Progress.Start("Bringing down", total)
	defer w.Progress.Done()
	if err := w.Folder.Disk.MkdirAll(placing.Incoming, 0o755); err != nil {
		return nil, nil, placing.NoRoom(err)
	}
	started := time.Now()
	run := &fetching{w: w}
	for len(files) > 0 {
		page := files[:min(len(files), pageFiles)]
		files = files[len(page):]
		if err := run.page(ctx, page); err != nil {
			return nil, run.damaged, placing.NoRoom(err)
		}
	}
	w.notePace(total, time.Since(started))
	return run.built, run.damaged, disk.SyncFiles(w.Folder.Root, run.names())
}

// giveUp notes that a file can't be brought.
func (r *fetching) giveUp(f placing.Wanted) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.damaged = append(r.damaged, model.Refusal{Path: f.Place, Reason: model.Damaged, Message: f.Place +
		": the service can't give it back, its content there is damaged",
		Remedy: "a workspace that has the file can heal it: ask your team to run tarn heal, then run tarn update"})
}

func (r *fetching) names() []string {
	out := make([]string, len(r.built))
	for i, b := range r.built {
		out[i] = placing.PartName(b.Wanted)
	}
	return out
}

func (r *fetching) page(ctx context.Context, files []placing.Wanted) error {
	list, err := r.w.manifests(ctx, files)
	if lost(err) {
		// One of them stands in the way of the rest: it is found by halves.
		if len(files) == 1 {
			r.giveUp(files[0])
			return nil
		}
		if err := r.page(ctx, files[:len(files)/2]); err != nil {
			return err
		}
		return r.page(ctx, files[len(files)/2:])
	}
	if err != nil {
		return err
	}
	if r.local, err = r.w.onDisk(list); err != nil {
		return err
	}
	list = r.anew(list)
	for len(list) > 0 {
		// A large file has all requests in flight for itself.
		if list[0].Asset.Size > BatchBytes {
			if err := r.large(ctx, list[0]); lost(err) {
				r.giveUp(list[0].Wanted)
			} else if err != nil {
				return err
			}
			list = list[1:]
			continue
		}
		n := 1
		for n < len(list) && list[n].Asset.Size <= BatchBytes {
			n++
		}
		if err := r.many(ctx, list[:n]); err != nil {
			return err
		}
		list = list[n:]
	}
	return nil
}

// many brings small files, several requests at once.
func (r *fetching) many(ctx context.Context, list []arriving) error {
	group, running := errgroup.WithContext(ctx)
	group.SetLimit(inFlight)
	for len(list) > 0 && running.Err() == nil {
		n, size := 1, list[0].Asset.Size
		for n < len(list) && n < jobFiles && size+list[n].Asset.Size <= BatchBytes {
			size += list[n].Asset.Size
			n++
		}
		job := list[:n]
		list = list[n:]
		group.Go(func() error { return r.small(running, job) })
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return ctx.Err()
}

// manifests gets the chunks of files: the root nodes of all at once, and what is below them where there is more.
func (w *Way) manifests(ctx context.Context, files []placing.Wanted) ([]arriving, error) {
	roots := make([]chunk.Digest, len(files))
	for i, f := range files {
		var err error
		if roots[i], err = chunk.ParseDigest(f.Asset.Content); err != nil {
			return nil, err
		}
	}
	nodes := map[chunk.Digest][]byte{}
	load := func(ctx context.Context, digests []chunk.Digest) ([][]byte, error) {
		out, ask := make([][]byte, len(digests)), []chunk.Digest(nil)
		for _, d := range digests {
			if nodes[d] == nil {
				nodes[d], ask = []byte{}, append(ask, d)
			}
		}
		if len(ask) > 0 {
			if err := w.Client.FetchChunks(ctx, w.Project, ask, func(i int, data []byte) error {
				nodes[ask[i]] = append([]byte(nil), data...)
				return nil
			}); err != nil {
				return nil, err
			}
		}
		for i, d := range digests {
			out[i] = nodes[d]
		}
		return out, nil
	}
	if _, err := load(ctx, roots); err != nil {
		return nil, err
	}
	list := make([]arriving, len(files))
	for i, f := range files {
		list[i].Wanted = f
		size := int64(0)
		if err := manifest.Walk(ctx, load, roots[i], 0, nil, func(_ int64, ref chunk.Ref) error {
			size += int64(ref.Size)
			list[i].refs = append(list[i].refs, ref)
			return nil
		}); err != nil {
			return nil, err
		}
		if size != f.Asset.Size {
			return nil, model.NewProblem(model.Damaged, "tell whoever runs the service", "%s is said to have %d bytes, and its content has %d",
				f.Asset.Path, f.Asset.Size, size)
		}
	}
	return list, nil
}

// lookThrough is how many chunks of this workspace are looked through at least for those of one page, and for how many bytes that lack
// there is one more: fetching as much takes longer.
const (
	lookThrough = 200_000
	lookFor     = 128
)

// onDisk finds which of the chunks lie in the workspace already, in files as they were when they were last the same as at the service.
// Whether they still do is seen when they are read. The versions before are asked for theirs; the rest of the workspace is looked through
// as far as that pays.
func (w *Way) onDisk(list []arriving) (map[chunk.Digest]source, error) {
	want, lacking := map[chunk.Digest]int{}, 0
	for _, f := range list {
		for _, ref := range f.refs {
			if _, twice := want[ref.Digest]; !twice {
				want[ref.Digest] = ref.Size
				lacking += ref.Size
			}
		}
	}
	found := map[chunk.Digest]source{}
	take := func(path string, start int64, digest chunk.Digest) {
		if size, wanted := want[digest]; wanted {
			delete(want, digest)
			lacking -= size
			found[digest] = source{path, start}
		}
	}
	return found, w.Folder.Index.Look(func(t index.Tx) error {
		for _, f := range list {
			t.RefsOf(f.Asset.Path, func(start int64, digest chunk.Digest) { take(f.Asset.Path, start, digest) })
		}
		left := lookThrough + lacking/lookFor
		t.EachRef(func(path []byte, start int64, digest chunk.Digest) bool {
			if _, wanted := want[digest]; wanted {
				take(string(path), start, digest)
			}
			left--
			return left > 0 && len(want) > 0
		})
		return nil
	})
}

// readLocal reads a chunk from this disk; ok is false where it is not there any more.
func (w *Way) readLocal(s source, ref chunk.Ref) (data []byte, ok bool) {
	f, err := w.Folder.Disk.Open(filepath.FromSlash(s.path))
	if err != nil {
		return nil, false
	}
	defer f.Close()
	data = make([]byte, ref.Size)
	_, err = f.ReadAt(data, s.start)
	return data, err == nil && chunk.Sum(data) == ref.Digest
}

// get calls each with every one of the chunks, once, in any order: from this disk, or else from the service.
func (r *fetching) get(ctx context.Context, refs []chunk.Ref, each func(chunk.Digest, []byte) error) error {
	var ask []chunk.Digest
	seen := make(map[chunk.Digest]bool, len(refs))
	for _, ref := range refs {
		if seen[ref.Digest] {
			continue
		}
		seen[ref.Digest] = true
		if s, there := r.local[ref.Digest]; there {
			if data, ok := r.w.readLocal(s, ref); ok {
				if err := each(ref.Digest, data); err != nil {
					return err
				}
				continue
			}
		}
		ask = append(ask, ref.Digest)
	}
	if len(ask) == 0 {
		return nil
	}
	return r.w.Client.FetchChunks(ctx, r.w.Project, ask, func(i int, data []byte) error { return each(ask[i], data) })
}

// small brings files together. Each is written as its chunks arrive.
func (r *fetching) small(ctx context.Context, files []arriving) (err error) {
	kept, let := r.w.Folder.Disk.Keep()
	defer let()
	s := &sowing{r: r, disk: kept, files: files, left: make([]int, len(files)), out: map[int]*os.File{}, sites: map[chunk.Digest][]site{}}
	var refs []chunk.Ref
	for i, f := range files {
		at := int64(0)
		for _, ref := range f.refs {
			s.sites[ref.Digest] = append(s.sites[ref.Digest], site{i, at})
			at += int64(ref.Size)
		}
		s.left[i] = len(f.refs)
		refs = append(refs, f.refs...)
	}
	err = s.empty()
	if err == nil {
		err = r.get(ctx, refs, s.sow)
	}
	rest, closed := s.end()
	if lost(err) {
		if len(rest) == 1 {
			r.giveUp(rest[0].Wanted)
			return nil
		}
		if err := r.small(ctx, rest[:len(rest)/2]); err != nil {
			return err
		}
		return r.small(ctx, rest[len(rest)/2:])
	}
	return errors.Join(err, closed)
}

// large brings one file, chunk by chunk to their places. What an interrupted command left of it is taken up again.
func (r *fetching) large(ctx context.Context, f arriving) (err error) {
	part := placing.PartName(f.Wanted)
	if there, err := r.w.Folder.Disk.Lstat(filepath.FromSlash(f.Place)); err == nil {
		if begun, err := r.w.Folder.Disk.Lstat(part); err == nil && os.SameFile(begun, there) {
			if err := r.w.Folder.Disk.Remove(part); err != nil {
				return err // it is a second name of the file that is in its place
			}
		}
	}
	out, err := r.w.Folder.Disk.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	defer func() {
		if closed := out.Close(); err == nil {
			err = closed
		}
		if err == nil {
			r.finish(f)
		}
	}()
	info, err := out.Stat()
	if err != nil {
		return err
	}
	begun := info.Size() == f.Asset.Size
	if err := out.Truncate(f.Asset.Size); err != nil {
		return err
	}
	group, running := errgroup.WithContext(ctx)
	group.SetLimit(inFlight)
	start := int64(0)
	for refs := f.refs; len(refs) > 0 && running.Err() == nil; {
		n, size := 0, int64(0)
		for n < len(refs) && n < batchChunks && (n == 0 || size+int64(refs[n].Size) <= BatchBytes) {
			size += int64(refs[n].Size)
			n++
		}
		batch, from := refs[:n], start
		refs, start = refs[n:], start+size
		group.Go(func() error { return r.stretch(running, out, batch, from, begun) })
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return ctx.Err()
}

// stretch writes chunks that lie one behind the other. begun says that some of them may be there already.
func (r *fetching) stretch(ctx context.Context, out *os.File, refs []chunk.Ref, start int64, begun bool) error {
	places := map[chunk.Digest][]int64{}
	var lacking []chunk.Ref
	first := start
	for _, ref := range refs {
		if begun && r.there(out, ref, start) {
			r.w.Progress.Add(int64(ref.Size))
		} else {
			places[ref.Digest], lacking = append(places[ref.Digest], start), append(lacking, ref)
		}
		start += int64(ref.Size)
	}
	err := r.get(ctx, lacking, func(d chunk.Digest, data []byte) error {
		for _, at := range places[d] {
			if _, err := out.WriteAt(data, at); err != nil {
				return err
			}
			r.w.Progress.Add(int64(len(data)))
		}
		return nil
	})
	disk.Soon(out, first, start-first)
	return err
}

func (r *fetching) there(f *os.File, ref chunk.Ref, start int64) bool {
	data := make([]byte, ref.Size)
	_, err := f.ReadAt(data, start)
	return err == nil && chunk.Sum(data) == ref.Digest
}

// anew takes out the small files that an interrupted run built whole.
func (r *fetching) anew(list []arriving) []arriving {
	rest := list[:0]
	for _, f := range list {
		if f.Asset.Size > BatchBytes || !r.whole(f) {
			rest = append(rest, f)
			continue
		}
		r.w.Progress.Add(f.Asset.Size)
		r.finish(f)
	}
	return rest
}

func (r *fetching) whole(f arriving) bool {
	part, err := r.w.Folder.Disk.Open(placing.PartName(f.Wanted))
	if err != nil {
		return false
	}
	defer part.Close()
	if info, err := part.Stat(); err != nil || info.Size() != f.Asset.Size {
		return false
	}
	start := int64(0)
	for _, ref := range f.refs {
		if !r.there(part, ref, start) {
			return false
		}
		start += int64(ref.Size)
	}
	return true
}

// finish notes that a file is whole.
func (r *fetching) finish(f arriving) {
	packed := index.MakeRefs(len(f.refs))
	for _, ref := range f.refs {
		packed = packed.Add(ref)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.built = append(r.built, placing.Built{Wanted: f.Wanted, Refs: packed})
}
