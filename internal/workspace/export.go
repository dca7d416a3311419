package workspace

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/bundle"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// ExportOptions say what is written where: the state At (a handoff, a time or a milestone), of it what is at or below Paths (all where
// there are none), into Out.
type ExportOptions struct {
	At    string
	Paths []string
	Out   bundle.Writer
}

// Exported is what was written: the handoff that the state is, and how much it is.
type Exported struct {
	At     int   `json:"at"`
	Assets int   `json:"assets"`
	Size   int64 `json:"size"`
}

// Export writes an old state, and leaves the workspace as it is. What is on this disk is not fetched. It goes beyond the scope.
func (w *Workspace) Export(ctx context.Context, o ExportOptions) (*Exported, error) {
	out := &Exported{}
	var assets []model.Asset
	if err := w.Client.Changes(ctx, w.Marker.Project, model.ChangesQuery{At: o.At}, func(page model.Assets) error {
		out.At = page.At
		for _, a := range page.Assets {
			if !a.Gone {
				assets = append(assets, a)
			}
		}
		return nil
	}); err != nil {
		return nil, err
	}
	kept, missing := Within(assets, o.Paths)
	if len(missing) > 0 {
		list := make([]model.Refusal, len(missing))
		for i, p := range missing {
			list[i] = model.Refusal{Path: p, Reason: "unknown", Message: p + ": there is nothing of that name in " + state(out.At),
				Remedy: "check the spelling; tarn history PATH says when something was there"}
		}
		return nil, &model.Refused{Refusals: list}
	}
	for _, a := range kept {
		out.Size += a.Size
	}
	out.Assets = len(kept)
	w.Progress.Start("Writing", out.Size)
	defer w.Progress.Done()
	for len(kept) > 0 {
		page := kept[:min(len(kept), pageFiles)]
		kept = kept[len(page):]
		files := make([]wanted, len(page))
		for i, a := range page {
			files[i] = wanted{asset: a, place: a.Path}
		}
		list, err := w.manifests(ctx, files)
		if err != nil {
			return nil, err
		}
		run := &fetching{w: w}
		if run.local, err = w.onDisk(list); err != nil {
			return nil, err
		}
		if err := run.stream(ctx, list, o.Out); err != nil {
			return nil, noRoom(err)
		}
	}
	return out, noRoom(o.Out.Close())
}

// stretchOf is some chunks that follow one another, over the borders of files, and what is in them once it has arrived.
type stretchOf struct {
	refs []chunk.Ref
	have map[chunk.Digest][]byte
	err  error
	done chan struct{}
}

// stream writes files one behind the other, while what comes next is on its way.
func (r *fetching) stream(ctx context.Context, files []arriving, out bundle.Writer) error {
	ctx, stop := context.WithCancel(ctx)
	var running sync.WaitGroup
	defer running.Wait()
	defer stop()
	ahead := make(chan *stretchOf, inFlight)
	running.Add(1)
	go func() {
		defer running.Done()
		defer close(ahead)
		for _, refs := range stretches(files) {
			s := &stretchOf{refs: refs, have: map[chunk.Digest][]byte{}, done: make(chan struct{})}
			select {
			case ahead <- s:
			case <-ctx.Done():
				return
			}
			running.Add(1)
			go func() {
				defer running.Done()
				defer close(s.done)
				s.err = r.get(ctx, s.refs, func(d chunk.Digest, data []byte) error {
					s.have[d] = append([]byte(nil), data...)
					return nil
				})
			}()
		}
	}()
	var now *stretchOf
	next := func() ([]byte, error) {
		for now == nil || len(now.refs) == 0 {
			select {
			case s, more := <-ahead:
				if !more {
					return nil, io.ErrUnexpectedEOF
				}
				<-s.done
				if now = s; s.err != nil {
					return nil, s.err
				}
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
		data := now.have[now.refs[0].Digest]
		now.refs = now.refs[1:]
		return data, nil
	}
	for _, f := range files {
		at := time.Time{}
		if f.asset.At != nil {
			at = *f.asset.At
		}
		content := &chunked{left: len(f.refs), next: next, told: r.w.Progress.Add}
		if err := out.Add(bundle.File{Path: f.asset.Path, Size: f.asset.Size, Executable: f.asset.Executable, At: at}, content); err != nil {
			return err
		}
	}
	return nil
}

// stretches cuts the chunks of files, in their order, into what one request gets.
func stretches(files []arriving) (list [][]chunk.Ref) {
	var now []chunk.Ref
	size := 0
	for _, f := range files {
		for _, ref := range f.refs {
			if len(now) > 0 && (size+ref.Size > batchBytes || len(now) == batchChunks) {
				list, now, size = append(list, now), nil, 0
			}
			now, size = append(now, ref), size+ref.Size
		}
	}
	if len(now) > 0 {
		list = append(list, now)
	}
	return list
}

// chunked reads a file that comes chunk by chunk.
type chunked struct {
	left int
	next func() ([]byte, error)
	told func(int64)
	now  bytes.Reader
}

func (c *chunked) Read(p []byte) (int, error) {
	for c.now.Len() == 0 {
		if c.left == 0 {
			return 0, io.EOF
		}
		data, err := c.next()
		if err != nil {
			return 0, err
		}
		c.left--
		c.told(int64(len(data)))
		c.now.Reset(data)
	}
	return c.now.Read(p)
}

// folderWriter writes the files of a bundle into a new folder.
type folderWriter struct{ root *os.Root }

// NewFolder is a bundle.Writer that writes into a folder, which is made, or is empty. Nothing is written outside it.
func NewFolder(dir string) (bundle.Writer, error) {
	if root, err := Find(filepath.Dir(dir)); err == nil && root != "" {
		return nil, model.NewProblem(model.Taken, "name a folder outside it: what lies in a workspace would count as new there",
			"%s lies in the workspace %s", dir, root)
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, model.NewProblem(model.Taken, "name a new folder", "%s is not empty", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	return folderWriter{root}, err
}

func (w folderWriter) Add(f bundle.File, content io.Reader) error {
	if bad := assetpath.Check(f.Path); bad != nil {
		return bad
	}
	name := filepath.FromSlash(f.Path)
	if err := w.root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	mode := os.FileMode(0o644)
	if f.Executable {
		mode = 0o755
	}
	out, err := w.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, content)
	if closed := out.Close(); err == nil {
		err = closed
	}
	if err == nil && n != f.Size {
		err = io.ErrUnexpectedEOF
	}
	if err == nil && !f.At.IsZero() {
		err = w.root.Chtimes(name, f.At, f.At)
	}
	return err
}

func (w folderWriter) Close() error { return w.root.Close() }
