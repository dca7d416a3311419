package workspace

import (
	"context"
	"errors"
	"io/fs"
	"sort"
	"strings"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// Status is the state of every asset and every new file, by path.
type Status struct {
	Assets  []model.Asset
	Odd     []model.Refusal
	Left    int
	Rules   error
	At      int
	Fetched time.Time
	Pending *Pending
	found   *Found
	bases   map[string]Base
	newest  map[string]model.Asset
}

// Status looks at the folder and at what the service last said. It needs no service.
func (w *Workspace) Status(ctx context.Context) (*Status, error) {
	s := &Status{}
	var cuts map[string]Cut
	err := w.look(func(t indexTx) (err error) {
		if s.bases, err = t.bases(); err != nil {
			return err
		}
		if s.newest, err = t.newest(); err != nil {
			return err
		}
		view, err := t.view()
		if err != nil {
			return err
		}
		s.At, s.Fetched = view.At, view.Fetched
		if p, ok, err := t.pending(); err != nil {
			return err
		} else if ok {
			s.Pending = &p
		}
		cuts, err = all[Cut](t.tx.Bucket(bucketCuts))
		return err
	})
	if err != nil {
		return nil, err
	}
	folders := map[string]bool{}
	for path := range s.bases {
		for i, r := range path {
			if r == '/' {
				folders[path[:i+1]] = true
			}
		}
	}
	s.found, err = Look(ctx, w.Root, func(path string) bool {
		if strings.HasSuffix(path, "/") {
			return folders[path]
		}
		_, ok := s.bases[path]
		return ok
	})
	if err != nil {
		return nil, err
	}
	s.Odd, s.Left, s.Rules = s.found.Odd, s.found.Left, s.found.RulesErr
	return s, w.judge(ctx, s, cuts)
}

// judge finds the state of each path, reading the files whose looks do not tell.
func (w *Workspace) judge(ctx context.Context, s *Status, cuts map[string]Cut) error {
	paths := map[string]bool{}
	for p := range s.found.Files {
		paths[p] = true
	}
	for p := range s.bases {
		paths[p] = true
	}
	for p, a := range s.newest {
		if !a.Gone {
			paths[p] = true
		}
	}
	var doubtful []string
	var bytes int64
	for p := range paths {
		if size, ok := s.doubt(p, cuts); ok {
			doubtful = append(doubtful, p)
			bytes += size
		}
	}
	digests, err := w.settleDoubts(ctx, s, doubtful, bytes)
	if err != nil {
		return err
	}
	for p := range paths {
		if c, ok := cuts[p]; ok {
			if f, here := s.found.Files[p]; here && c.Stamp.fits(f.Stamp) {
				digests[p] = c.Content
			}
		}
		if a, show := s.state(p, digests); show {
			s.Assets = append(s.Assets, a)
		}
	}
	sort.Slice(s.Assets, func(i, j int) bool { return s.Assets[i].Path < s.Assets[j].Path })
	return nil
}

// doubt reports whether the content of a file has to be read to know its state, and its size.
func (s *Status) doubt(p string, cuts map[string]Cut) (int64, bool) {
	f, here := s.found.Files[p]
	if !here {
		return 0, false
	}
	if c, ok := cuts[p]; ok && c.Stamp.fits(f.Stamp) {
		return 0, false
	}
	b, had := s.bases[p]
	theirs, known := s.newest[p]
	switch {
	case had && b.Stamp.fits(f.Stamp):
		return 0, false
	case had && b.Size == f.Stamp.Size:
		return f.Stamp.Size, true
	case !had && known && !theirs.Gone && theirs.Size == f.Stamp.Size:
		return f.Stamp.Size, true
	case had && known && theirs.Newest > b.Version && theirs.Size == f.Stamp.Size:
		return f.Stamp.Size, true
	}
	return 0, false
}

// settleDoubts reads files, keeps what was learnt, and returns their digests.
func (w *Workspace) settleDoubts(ctx context.Context, s *Status, paths []string, bytes int64) (map[string]chunk.Digest, error) {
	digests := map[string]chunk.Digest{}
	if len(paths) == 0 {
		return digests, nil
	}
	sort.Strings(paths)
	w.Progress.Start("Looking at changed files", bytes)
	defer w.Progress.Done()
	bases := map[string]Refs{}
	if err := w.look(func(t indexTx) error {
		for _, p := range paths {
			bases[p] = t.refs(p)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	learnt := map[string]Cut{}
	for _, p := range paths {
		c, file, err := w.read(ctx, p, bases[p], nil)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				delete(s.found.Files, p)
				continue
			}
			// It counts as changed; a send will say why it can't be read.
			continue
		}
		digests[p], learnt[p], s.found.Files[p] = c.Content, c, file
		if b, had := s.bases[p]; had && b.Content == c.Content {
			b.Stamp = c.Stamp
			s.bases[p] = b
		}
	}
	return digests, w.update(func(t indexTx) error {
		for p, c := range learnt {
			b, had, err := get[Base](t.tx.Bucket(bucketBase), p)
			if err != nil {
				return err
			}
			if had && b.Content == c.Content {
				b.Stamp = c.Stamp
				if err := t.setBase(p, b, nil); err != nil {
					return err
				}
				continue
			}
			if err := t.setCut(p, c); err != nil {
				return err
			}
		}
		return nil
	})
}

// state is the state of one path; show is false for what is of no concern (gone here and there).
func (s *Status) state(p string, digests map[string]chunk.Digest) (a model.Asset, show bool) {
	f, here := s.found.Files[p]
	b, had := s.bases[p]
	theirs, known := s.newest[p]
	live := known && !theirs.Gone
	if known {
		a = theirs
	}
	a.Path, a.Version = p, b.Version
	if here {
		a.Size = f.Stamp.Size
	} else {
		a.Size = max(a.Size, b.Size)
	}
	newer := known && theirs.Newest > b.Version
	digest, read := digests[p]
	unchanged := had && here && (b.Stamp.fits(f.Stamp) || read && digest == b.Content) && (f.Executable == b.Executable || !keepsExecutable)
	if here {
		a.Digest, a.Content = "", ""
		if read {
			a.Content = digest.String()
		} else if unchanged {
			a.Content = b.Content.String()
		}
		if a.Content == theirs.Content {
			a.Digest = theirs.Digest
		}
	}
	switch {
	case !here && !had:
		a.State = model.Behind
		return a, live
	case !here && newer && !live:
		return a, false
	case !here && newer:
		a.State = model.Clash
	case !here:
		a.State = model.Gone
	case !had && !live:
		a.State = model.New
	case !had && read && theirs.Content == digest.String():
		// The same content by another way: an update takes it over without a byte moved.
		a.State = model.Behind
	case !had:
		a.State = model.Clash
	case unchanged && newer:
		a.State = model.Behind
	case unchanged:
		a.State = model.Same
	case newer && live && read && theirs.Content == digest.String():
		a.State = model.Behind
	case newer:
		a.State = model.Clash
	default:
		a.State = model.Edited
	}
	return a, true
}

// Within keeps the assets at or below one of the paths; no paths keep all. missing are the paths at which there is nothing.
func Within(assets []model.Asset, paths []string) (kept []model.Asset, missing []string) {
	if len(paths) == 0 {
		return assets, nil
	}
	hit := make([]bool, len(paths))
	for _, a := range assets {
		keep := false
		for i, p := range paths {
			if below(a.Path, p) {
				hit[i], keep = true, true
			}
		}
		if keep {
			kept = append(kept, a)
		}
	}
	for i, p := range paths {
		if !hit[i] {
			missing = append(missing, p)
		}
	}
	return kept, missing
}

// below reports whether path is p or lies in the folder p.
func below(path, p string) bool {
	return p == "" || path == p || strings.HasPrefix(path, p) && len(path) > len(p) && path[len(p)] == '/'
}

// Refresh asks the service what is new, and keeps it.
func (w *Workspace) Refresh(ctx context.Context) error {
	var view View
	if err := w.look(func(t indexTx) (err error) {
		view, err = t.view()
		return err
	}); err != nil {
		return err
	}
	first := true
	held := map[string]*model.Lock{}
	var pages []model.Assets
	if err := w.Client.Changes(ctx, w.Marker.Project, view.At, func(page model.Assets) error {
		if first {
			for i := range page.Locks {
				held[page.Locks[i].Path] = &page.Locks[i]
			}
			w.wanted = page.Wanted
		}
		first = false
		pages = append(pages, page)
		return nil
	}); err != nil {
		return err
	}
	return w.update(func(t indexTx) error {
		for _, page := range pages {
			for _, a := range page.Assets {
				if err := t.setNewest(a); err != nil {
					return err
				}
			}
			view.At = page.At
		}
		known, err := t.newest()
		if err != nil {
			return err
		}
		for p, a := range known {
			lock := held[p]
			if lock == nil && a.Lock == nil || lock != nil && a.Lock != nil && lock.Fence == a.Lock.Fence {
				continue
			}
			a.Lock, a.Holder = lock, ""
			if lock != nil {
				a.Holder = lock.Holder
			}
			if err := t.setNewest(a); err != nil {
				return err
			}
		}
		return t.setView(View{At: view.At, Fetched: now()})
	})
}
