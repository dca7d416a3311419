package workspace

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// Bounds of a transfer: bytes in one request, and requests in flight. Together they bound what is held in memory.
const (
	batchBytes  = 4 << 20
	batchChunks = 1024
	inFlight    = 3
	// manifestsAtOnce is how many files' manifests are asked for at once.
	manifestsAtOnce = 256
)

// wanted is a file to bring down. Base is what is in its place now, or nil; it is replaced only while it still looks like that.
type wanted struct {
	asset model.Asset
	base  *Base
	stamp *Stamp
}

// fetch brings files down one after the other, with the chunks of the next ones on their way, and moves each to its place. Files
// that are in the way come back as refusals; the rest goes on.
func (w *Workspace) fetch(ctx context.Context, files []wanted, done func(wanted, Stamp) error) (refusals []model.Refusal, err error) {
	total := int64(0)
	for _, f := range files {
		total += f.asset.Size
	}
	if len(files) == 0 {
		return nil, nil
	}
	w.Progress.Start("Bringing down", total)
	defer w.Progress.Done()
	if err := w.root.MkdirAll(incoming, 0o755); err != nil {
		return nil, err
	}
	for len(files) > 0 {
		page := files[:min(len(files), manifestsAtOnce)]
		files = files[len(page):]
		more, err := w.fetchPage(ctx, page, done)
		refusals = append(refusals, more...)
		if err != nil {
			return refusals, err
		}
	}
	_ = w.root.Remove(incoming)
	return refusals, nil
}

func (w *Workspace) fetchPage(ctx context.Context, files []wanted, done func(wanted, Stamp) error) (refusals []model.Refusal, err error) {
	digests := make([]chunk.Digest, len(files))
	for i, f := range files {
		if digests[i], err = chunk.ParseDigest(f.asset.Digest); err != nil {
			return nil, err
		}
	}
	list, err := w.Client.Manifests(ctx, w.Marker.Project, digests)
	if err != nil {
		return nil, err
	}
	// What an interrupted command left of a file is taken up again.
	skip := make([]int, len(files))
	var queue []chunk.Ref
	for i := range list {
		skip[i] = w.resume(&list[i])
		for _, ref := range list[i].Chunks[:skip[i]] {
			w.Progress.Add(int64(ref.Size))
		}
		queue = append(queue, list[i].Chunks[skip[i]:]...)
	}
	chunks, stop := w.stream(ctx, queue)
	defer stop()
	for i, f := range files {
		if err := w.build(&list[i], skip[i], chunks); err != nil {
			return refusals, err
		}
		stamp, refusal, err := w.place(f)
		if err != nil {
			return refusals, err
		}
		if refusal != nil {
			refusals = append(refusals, *refusal)
			_ = w.root.Remove(partName(list[i].Digest))
			continue
		}
		if err := done(f, stamp); err != nil {
			return refusals, err
		}
	}
	return refusals, nil
}

// stream fetches chunks in order, some requests ahead. next gives them one by one.
func (w *Workspace) stream(ctx context.Context, queue []chunk.Ref) (next func() ([]byte, error), stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	type result struct {
		data [][]byte
		err  error
	}
	order := make(chan chan result, inFlight)
	var group errgroup.Group
	group.Go(func() error {
		defer close(order)
		for len(queue) > 0 {
			n, size := 0, 0
			for n < len(queue) && n < batchChunks && (n == 0 || size+queue[n].Size <= batchBytes) {
				size += queue[n].Size
				n++
			}
			batch := queue[:n]
			queue = queue[n:]
			answer := make(chan result, 1)
			select {
			case order <- answer:
			case <-ctx.Done():
				return nil
			}
			group.Go(func() error {
				data, err := w.Client.FetchChunks(ctx, w.Marker.Project, batch)
				answer <- result{data, err}
				return nil
			})
		}
		return nil
	})
	var ready [][]byte
	next = func() ([]byte, error) {
		for len(ready) == 0 {
			answer, ok := <-order
			if !ok {
				return nil, io.ErrUnexpectedEOF
			}
			r := <-answer
			if r.err != nil {
				return nil, r.err
			}
			ready = r.data
		}
		data := ready[0]
		ready = ready[1:]
		return data, nil
	}
	stop = func() {
		cancel()
		for range order {
		}
		_ = group.Wait()
	}
	return next, stop
}

func partName(d chunk.Digest) string { return filepath.Join(incoming, d.String()) }

// resume counts the chunks of a content that an earlier command has built already.
func (w *Workspace) resume(m *chunk.Manifest) int {
	f, err := w.root.Open(partName(m.Digest))
	if err != nil {
		return 0
	}
	defer f.Close()
	buf := make([]byte, chunk.Max)
	for i, ref := range m.Chunks {
		if _, err := io.ReadFull(f, buf[:ref.Size]); err != nil || chunk.Sum(buf[:ref.Size]) != ref.Digest {
			return i
		}
	}
	return len(m.Chunks)
}

// build writes a content beside its place, from chunk number skip on, and checks the whole.
func (w *Workspace) build(m *chunk.Manifest, skip int, next func() ([]byte, error)) (err error) {
	f, err := w.root.OpenFile(partName(m.Digest), os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	defer func() {
		if closed := f.Close(); err == nil {
			err = closed
		}
	}()
	whole, have := blake3.New(), int64(0)
	for _, ref := range m.Chunks[:skip] {
		have += int64(ref.Size)
	}
	if n, err := io.CopyN(whole, f, have); err != nil || n != have {
		return fmt.Errorf("what was fetched before can't be read again: %w", err)
	}
	if err := f.Truncate(have); err != nil {
		return err
	}
	if _, err := f.Seek(have, io.SeekStart); err != nil {
		return err
	}
	for range m.Chunks[skip:] {
		data, err := next()
		if err != nil {
			return err
		}
		if _, err := f.Write(data); err != nil {
			return err
		}
		_, _ = whole.Write(data)
		w.Progress.Add(int64(len(data)))
	}
	var sum chunk.Digest
	whole.Sum(sum[:0])
	if sum != m.Digest {
		_ = f.Truncate(0)
		return model.NewProblem(model.Damaged, "run the command again", "content %s arrived damaged", m.Digest)
	}
	return nil
}

// place moves a built file to its place. What stands there is moved aside first, looked at again where nobody else can change it by
// name any more, and put back if it is not what it was taken for.
func (w *Workspace) place(f wanted) (Stamp, *model.Refusal, error) {
	name := filepath.FromSlash(f.asset.Path)
	inTheWay := func(err error) *model.Refusal {
		return &model.Refusal{Path: f.asset.Path, Reason: "in-the-way", Message: fmt.Sprintf("%s: it can't be put in its place: %s", f.asset.Path, rootCause(err)), Remedy: "close the program that holds it or clear the way, then run tarn update"}
	}
	if err := w.safeFolder(f.asset.Path); err != nil {
		return Stamp{}, inTheWay(err), nil
	}
	digest, err := chunk.ParseDigest(f.asset.Digest)
	if err != nil {
		return Stamp{}, nil, err
	}
	mode := fs.FileMode(0o644)
	if f.asset.Executable {
		mode = 0o755
	}
	if err := w.root.Chmod(partName(digest), mode); err != nil {
		return Stamp{}, nil, err
	}
	aside := filepath.Join(incoming, "aside-"+digest.String())
	refusal, moved, err := w.moveAside(f, name, aside)
	if err != nil || refusal != nil {
		return Stamp{}, refusal, err
	}
	if !moved {
		// Nothing stands there: a link fails where something appeared meanwhile, and a rename would not.
		if err := w.root.Link(partName(digest), name); err == nil {
			_ = w.root.Remove(partName(digest))
			info, err := w.root.Lstat(name)
			if err != nil {
				return Stamp{}, nil, err
			}
			return stampOf(info), nil, nil
		} else if errors.Is(err, fs.ErrExist) {
			return Stamp{}, changedMeanwhile(f.asset.Path), nil
		}
	}
	if err := w.root.Rename(partName(digest), name); err != nil {
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
