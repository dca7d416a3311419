package workspace

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sync"

	"golang.org/x/sync/errgroup"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
)

// Bounds of a transfer: bytes and chunks in one request, and requests in flight. Together they bound what is held in memory; at 80 ms
// to the service they allow 400 MiB a second.
const (
	batchBytes  = 8 << 20
	batchChunks = 4096
	inFlight    = 4
	// pageFiles is how many files' manifests are asked for at once, and jobFiles how many small files are built by one goroutine.
	pageFiles = 2048
	jobFiles  = 256
)

// wanted is a file to bring down. Base is what is in its place now, or nil; it is replaced only while it still looks like that.
type wanted struct {
	asset model.Asset
	base  *Base
	stamp *Stamp
}

// arriving is a wanted file with its chunks.
type arriving struct {
	wanted
	refs []chunk.Ref
}

// source is where a chunk lies on this disk.
type source struct {
	path  string
	start int64
}

// fetching is one run of fetch.
type fetching struct {
	w     *Workspace
	local map[chunk.Digest]source
	done  func(wanted, Refs, Stamp) error

	mu       sync.Mutex
	refusals []model.Refusal
}

// fetch brings files down, several requests at once, and moves each to its place when it is whole. Chunks that are on this disk are
// not fetched. Files that are in the way come back as refusals; the rest goes on.
func (w *Workspace) fetch(ctx context.Context, files []wanted, done func(wanted, Refs, Stamp) error) (refusals []model.Refusal, err error) {
	if len(files) == 0 {
		return nil, nil
	}
	total := int64(0)
	for _, f := range files {
		total += f.asset.Size
	}
	w.Progress.Start("Bringing down", total)
	defer w.Progress.Done()
	if err := w.root.MkdirAll(incoming, 0o755); err != nil {
		return nil, err
	}
	run := &fetching{w: w, done: done}
	for len(files) > 0 {
		page := files[:min(len(files), pageFiles)]
		files = files[len(page):]
		if err := run.page(ctx, page); err != nil {
			return run.refusals, err
		}
	}
	_ = w.root.Remove(incoming)
	return run.refusals, nil
}

func (r *fetching) page(ctx context.Context, files []wanted) error {
	list, err := r.w.manifests(ctx, files)
	if err != nil {
		return err
	}
	if r.local, err = r.w.onDisk(list); err != nil {
		return err
	}
	for len(list) > 0 {
		// A large file has all requests in flight for itself.
		if list[0].asset.Size > batchBytes {
			if err := r.large(ctx, list[0]); err != nil {
				return err
			}
			list = list[1:]
			continue
		}
		n := 1
		for n < len(list) && list[n].asset.Size <= batchBytes {
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
		n, size := 1, list[0].asset.Size
		for n < len(list) && n < jobFiles && size+list[n].asset.Size <= batchBytes {
			size += list[n].asset.Size
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
func (w *Workspace) manifests(ctx context.Context, files []wanted) ([]arriving, error) {
	roots := make([]chunk.Digest, len(files))
	for i, f := range files {
		var err error
		if roots[i], err = chunk.ParseDigest(f.asset.Content); err != nil {
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
			if err := w.Client.FetchChunks(ctx, w.Marker.Project, ask, func(i int, data []byte) error {
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
		list[i].wanted = f
		size := int64(0)
		if err := manifest.Walk(ctx, load, roots[i], 0, nil, func(_ int64, ref chunk.Ref) error {
			size += int64(ref.Size)
			list[i].refs = append(list[i].refs, ref)
			return nil
		}); err != nil {
			return nil, err
		}
		if size != f.asset.Size {
			return nil, model.NewProblem(model.Damaged, "tell whoever runs the service", "%s is said to have %d bytes, and its content has %d", f.asset.Path, f.asset.Size, size)
		}
	}
	return list, nil
}

// onDisk finds which of the chunks lie in the workspace already, in files as they were when they were last the same as at the service.
// Whether they still do is seen when they are read.
func (w *Workspace) onDisk(list []arriving) (map[chunk.Digest]source, error) {
	want := map[chunk.Digest]bool{}
	for _, f := range list {
		for _, ref := range f.refs {
			want[ref.Digest] = true
		}
	}
	found := map[chunk.Digest]source{}
	return found, w.look(func(t indexTx) error {
		return t.eachRef(func(path string, start int64, digest chunk.Digest, _ int) {
			if want[digest] {
				found[digest] = source{path, start}
			}
		})
	})
}

// readLocal reads a chunk from this disk; ok is false where it is not there any more.
func (w *Workspace) readLocal(s source, ref chunk.Ref) (data []byte, ok bool) {
	f, err := w.root.Open(filepath.FromSlash(s.path))
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
	return r.w.Client.FetchChunks(ctx, r.w.Marker.Project, ask, func(i int, data []byte) error { return each(ask[i], data) })
}

// small brings files whose chunks fit into memory together.
func (r *fetching) small(ctx context.Context, files []arriving) error {
	var refs []chunk.Ref
	for _, f := range files {
		refs = append(refs, f.refs...)
	}
	have := make(map[chunk.Digest][]byte, len(refs))
	if err := r.get(ctx, refs, func(d chunk.Digest, data []byte) error {
		have[d] = append([]byte(nil), data...)
		r.w.Progress.Add(int64(len(data)))
		return nil
	}); err != nil {
		return err
	}
	for _, f := range files {
		part := partName(f.asset)
		out, err := r.w.root.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
		if err != nil {
			return err
		}
		for _, ref := range f.refs {
			if _, err = out.Write(have[ref.Digest]); err != nil {
				break
			}
		}
		if closed := out.Close(); err == nil {
			err = closed
		}
		if err != nil {
			_ = r.w.root.Remove(part)
			return err
		}
		if err := r.finish(f, part); err != nil {
			return err
		}
	}
	return nil
}

// large brings one file, chunk by chunk to their places. What an interrupted command left of it is taken up again.
func (r *fetching) large(ctx context.Context, f arriving) (err error) {
	part := partName(f.asset)
	out, err := r.w.root.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	defer func() {
		if closed := out.Close(); err == nil {
			err = closed
		}
		if err == nil {
			err = r.finish(f, part)
		}
	}()
	info, err := out.Stat()
	if err != nil {
		return err
	}
	begun := info.Size() == f.asset.Size
	if err := out.Truncate(f.asset.Size); err != nil {
		return err
	}
	group, running := errgroup.WithContext(ctx)
	group.SetLimit(inFlight)
	start := int64(0)
	for refs := f.refs; len(refs) > 0 && running.Err() == nil; {
		n, size := 0, int64(0)
		for n < len(refs) && n < batchChunks && (n == 0 || size+int64(refs[n].Size) <= batchBytes) {
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
	for _, ref := range refs {
		if begun && r.there(out, ref, start) {
			r.w.Progress.Add(int64(ref.Size))
		} else {
			places[ref.Digest], lacking = append(places[ref.Digest], start), append(lacking, ref)
		}
		start += int64(ref.Size)
	}
	return r.get(ctx, lacking, func(d chunk.Digest, data []byte) error {
		for _, at := range places[d] {
			if _, err := out.WriteAt(data, at); err != nil {
				return err
			}
			r.w.Progress.Add(int64(len(data)))
		}
		return nil
	})
}

func (r *fetching) there(f *os.File, ref chunk.Ref, start int64) bool {
	data := make([]byte, ref.Size)
	_, err := f.ReadAt(data, start)
	return err == nil && chunk.Sum(data) == ref.Digest
}

// finish moves a whole file to its place.
func (r *fetching) finish(f arriving, part string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	stamp, refusal, err := r.w.place(f.wanted, part)
	if err != nil {
		return err
	}
	if refusal != nil {
		r.refusals = append(r.refusals, *refusal)
		return r.w.root.Remove(part)
	}
	packed := make(Refs, 0, len(f.refs)*refSize)
	for _, ref := range f.refs {
		packed = packed.add(ref)
	}
	return r.done(f.wanted, packed, stamp)
}

// partName is where a file is built: the same for the same content at the same path, so that it can be taken up again.
func partName(a model.Asset) string {
	name := chunk.Sum([]byte(a.Path))
	return filepath.Join(incoming, a.Content[:min(len(a.Content), 32)]+"-"+hex.EncodeToString(name[:8]))
}

// place moves a built file to its place. What stands there is moved aside first, looked at again where nobody else can change it by
// name any more, and put back if it is not what it was taken for.
func (w *Workspace) place(f wanted, part string) (Stamp, *model.Refusal, error) {
	name := filepath.FromSlash(f.asset.Path)
	inTheWay := func(err error) *model.Refusal {
		return &model.Refusal{Path: f.asset.Path, Reason: "in-the-way", Message: fmt.Sprintf("%s: it can't be put in its place: %s", f.asset.Path, rootCause(err)), Remedy: "close the program that holds it or clear the way, then run tarn update"}
	}
	if err := w.safeFolder(f.asset.Path); err != nil {
		return Stamp{}, inTheWay(err), nil
	}
	mode := fs.FileMode(0o644)
	if f.asset.Executable {
		mode = 0o755
	}
	if err := w.root.Chmod(part, mode); err != nil {
		return Stamp{}, nil, err
	}
	aside := part + "-aside"
	refusal, moved, err := w.moveAside(f, name, aside)
	if err != nil || refusal != nil {
		return Stamp{}, refusal, err
	}
	if !moved {
		// Nothing stands there: a link fails where something appeared meanwhile, and a rename would not.
		if err := w.root.Link(part, name); err == nil {
			_ = w.root.Remove(part)
			info, err := w.root.Lstat(name)
			if err != nil {
				return Stamp{}, nil, err
			}
			return stampOf(info), nil, nil
		} else if errors.Is(err, fs.ErrExist) {
			return Stamp{}, changedMeanwhile(f.asset.Path), nil
		}
	}
	if err := w.root.Rename(part, name); err != nil {
		if moved {
			_ = w.root.Rename(aside, name)
		}
		return Stamp{}, inTheWay(err), nil
	}
	if moved {
		_ = w.root.Remove(aside)
	}
	info, err := w.root.Lstat(name)
	if err != nil {
		return Stamp{}, nil, err
	}
	return stampOf(info), nil, nil
}

func changedMeanwhile(path string) *model.Refusal {
	return &model.Refusal{Path: path, Reason: "changing", Message: path + ": it was changed here while the command ran", Remedy: "look at it with tarn status, then run the command again"}
}

// moveAside takes what stands at name out of the way, if it is what f expects there.
func (w *Workspace) moveAside(f wanted, name, aside string) (refusal *model.Refusal, moved bool, err error) {
	info, err := w.root.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	if f.stamp == nil || !info.Mode().IsRegular() {
		return changedMeanwhile(f.asset.Path), false, nil
	}
	if err := w.root.Rename(name, aside); err != nil {
		return &model.Refusal{Path: f.asset.Path, Reason: "in-the-way", Message: fmt.Sprintf("%s: it can't be replaced: %s", f.asset.Path, rootCause(err)), Remedy: "close the program that holds it, then run tarn update"}, false, nil
	}
	info, err = w.root.Lstat(aside)
	if err != nil {
		return nil, true, err
	}
	if s := stampOf(info); s.Size != f.stamp.Size || s.Time != f.stamp.Time || s.Inode != f.stamp.Inode {
		if err := w.root.Rename(aside, name); err != nil {
			return nil, true, err
		}
		return changedMeanwhile(f.asset.Path), false, nil
	}
	return nil, true, nil
}

// removeFile takes an unchanged file away, with the folders that it leaves empty.
func (w *Workspace) removeFile(f wanted) (*model.Refusal, error) {
	if err := w.root.MkdirAll(incoming, 0o755); err != nil {
		return nil, err
	}
	name := filepath.FromSlash(f.asset.Path)
	aside := filepath.Join(incoming, "aside-removed")
	refusal, moved, err := w.moveAside(f, name, aside)
	if err != nil || refusal != nil {
		return refusal, err
	}
	if moved {
		if err := w.root.Remove(aside); err != nil {
			return nil, err
		}
	}
	for folder := path.Dir(f.asset.Path); folder != "."; folder = path.Dir(folder) {
		if w.root.Remove(filepath.FromSlash(folder)) != nil {
			break
		}
	}
	_ = w.root.Remove(incoming)
	return nil, nil
}
