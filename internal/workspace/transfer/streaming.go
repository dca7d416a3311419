package transfer

import (
	"bytes"
	"context"
	"io"
	"sync"
	"time"

	"kettletarn/internal/core/bundle"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/placing"
)

// stretchOf is some chunks that follow one another, over the borders of files, and what is in them once it has arrived.
type stretchOf struct {
	refs []chunk.Ref
	have map[chunk.Digest][]byte
	err  error
	done chan struct{}
}

// Stream writes files into a bundle, in their order, while what comes next is on its way. What is on this disk is not fetched.
func (w *Way) Stream(ctx context.Context, assets []model.Asset, out bundle.Writer) error {
	for len(assets) > 0 {
		page := assets[:min(len(assets), pageFiles)]
		assets = assets[len(page):]
		files := make([]placing.Wanted, len(page))
		for i, a := range page {
			files[i] = placing.Wanted{Asset: a, Place: a.Path}
		}
		list, err := w.manifests(ctx, files)
		if err != nil {
			return err
		}
		run := &fetching{w: w}
		if run.local, err = w.onDisk(list); err != nil {
			return err
		}
		if err := run.stream(ctx, list, out); err != nil {
			return err
		}
	}
	return nil
}

// stream writes files one behind the other.
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
		if f.Asset.At != nil {
			at = *f.Asset.At
		}
		content := &chunked{left: len(f.refs), next: next, told: r.w.Progress.Add}
		if err := out.Add(bundle.File{Path: f.Asset.Path, Size: f.Asset.Size, Executable: f.Asset.Executable, At: at}, content); err != nil {
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
			if len(now) > 0 && (size+ref.Size > BatchBytes || len(now) == batchChunks) {
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
