package workspace

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"sort"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
	"kettletarn/internal/workspace/scan"
)

// Question says what a status is wanted of.
type Question struct {
	// Paths restricts the look to what is at or below them. All that is there is listed then, also what is the same.
	Paths []string
	// All lists what is the same, too.
	All bool
	// LeftOut lists what the rules leave out.
	LeftOut bool
	// Unsent is for the changes alone: with Paths, too, what is the same is not listed, and folders that the rules leave out stay closed.
	Unsent bool
}

// Status is how a workspace stands. Assets has, by path, what is not just the same: changed here or there, moved, held, or with a heads-up.
type Status struct {
	Assets []model.Asset
	// Same counts the assets that are the same here and there, Code the files left to the main history.
	Same int
	Code int
	Odd  []model.Refusal
	// Left is how many files and whole folders the rules leave out; LeftOut lists them where that was asked for.
	Left    int
	LeftOut []scan.LeftOut
	// Uncovered are large binaries that no rule covers and that the main history would take.
	Uncovered []model.Asset
	Rules     error
	index.View
	Pending *index.Pending
	// Jobs are the sends in the background; Watched says that a running watch answered.
	Jobs    []Job
	Watched bool

	decide *rules.Rules
	here   int // assets of which some version is here, of the whole folder
	scan   *scan.Scan
	moves  map[string]string // made here: from where, by where to
	places map[string]string // the other way round
	fresh  map[string]*scan.Entry
	read   map[string]chunk.Digest // what is in files that had to be read
}

// Decide is what the rules in the folder say of a path.
func (s *Status) Decide(path string) rules.Decision { return s.decide.Decide(path) }

// entry is what is known of a path, or nil.
func (s *Status) entry(path string) *scan.Entry {
	if t := s.scan.Find(path); t != nil {
		return t
	}
	return s.fresh[path]
}

// file is the file at a path.
func (s *Status) file(path string) (scan.File, bool) {
	if t := s.entry(path); t != nil && t.Here {
		return t.File, true
	}
	return scan.File{}, false
}

// standing is the file at a path as it was looked at, with its content; nil where there is none. The content is zero where nobody needed to
// know it, and nothing is the same as that.
func (s *Status) standing(path string) *placing.Standing {
	t := s.entry(path)
	if t == nil || !t.Here {
		return nil
	}
	out := &placing.Standing{Stamp: t.File.Stamp}
	if base, had := s.base(path); had && base.Stamp.Fits(t.File.Stamp) {
		out.Content = base.Content
	} else {
		out.Content = s.read[path]
	}
	return out
}

// origin is the entry that has the base of a path: its own, or that of the path it was moved from.
func (s *Status) origin(path string) *scan.Entry {
	if from, moved := s.moves[path]; moved {
		return s.entry(from)
	}
	return s.entry(path)
}

// base is the version that the workspace has of what is at a path.
func (s *Status) base(path string) (index.Base, bool) {
	if t := s.origin(path); t != nil && t.Had {
		return t.Base, true
	}
	return index.Base{}, false
}

// Status looks at the folder and at what the service last said. It needs no service.
func (w *Workspace) Status(ctx context.Context, q Question) (*Status, error) {
	if len(q.Paths) == 0 {
		w.looked.Add(1)
		defer quiet()()
	}
	s := &Status{fresh: map[string]*scan.Entry{}}
	s.scan, s.Rules = scan.New(w.Root)
	s.decide, s.scan.Listing, s.scan.Closed = s.scan.Rules, q.LeftOut, q.Unsent
	listed := map[string]bool{} // with a lock or a heads-up
	err := w.look(func(t index.Tx) (err error) {
		if s.View, err = t.View(); err != nil {
			return err
		}
		if p, ok, err := t.Pending(); err != nil {
			return err
		} else if ok {
			s.Pending = &p
		}
		t.EachHeld(func(path string) { listed[path] = true })
		s.moves = t.Moves()
		s.scan.Within = withMoves(q.Paths, s.moves)
		return s.scan.Load(t)
	})
	if err != nil {
		return nil, err
	}
	s.scan.Scope = s.Scope
	if err := s.scan.Run(ctx); err != nil {
		return nil, err
	}
	spare(len(s.scan.Tracked) + len(s.scan.Fresh))
	s.Odd, s.Left, s.LeftOut, s.Code = s.scan.Odd, s.scan.LeftCount, s.scan.LeftOut, s.scan.Code
	for i := range s.scan.Fresh {
		s.fresh[s.scan.Fresh[i].Path] = &s.scan.Fresh[i]
	}
	s.pointOut(w)
	if err := w.judge(ctx, s, q, listed); err != nil {
		return s, err
	}
	s.here = s.Same
	for i := range s.Assets {
		a := &s.Assets[i]
		if a.Version > 0 && !plain(*a) {
			s.here++
		}
		if f, here := s.file(a.Path); here && Changed(*a) {
			at := time.Unix(0, f.Stamp.Time).UTC()
			a.Changed = &at
		}
	}
	return s, nil
}

// judge finds the state of each path, reading the files whose looks do not tell.
func (w *Workspace) judge(ctx context.Context, s *Status, q Question, listed map[string]bool) error {
	everything := q.All || len(q.Paths) > 0 && !q.Unsent
	var look []*scan.Entry
	for i := range s.scan.Tracked {
		t := &s.scan.Tracked[i]
		if t.Same() && !everything && !listed[t.Path] {
			s.Same++
			continue
		}
		look = append(look, t)
	}
	for i := range s.scan.Fresh {
		look = append(look, &s.scan.Fresh[i])
	}
	digests, err := w.settleDoubts(ctx, s, look)
	if err != nil {
		return err
	}
	s.read = digests
	for _, t := range look {
		if _, moved := s.places[t.Path]; moved {
			continue
		}
		a, show := s.state(t, digests)
		if show && plain(a) {
			s.Same++
			show = everything || listed[a.Path]
		}
		if show {
			s.Assets = append(s.Assets, a)
		}
	}
	for i := range s.scan.Outside {
		t := &s.scan.Outside[i]
		s.Assets = append(s.Assets, model.Asset{Path: t.Path, State: model.Outside, Size: t.File.Stamp.Size})
	}
	sort.Slice(s.Assets, func(i, j int) bool { return s.Assets[i].Path < s.Assets[j].Path })
	return w.details(s)
}

// details adds what the service said of those assets that are listed.
func (w *Workspace) details(s *Status) error {
	if len(s.Assets) == 0 {
		return nil
	}
	return w.look(func(t index.Tx) error {
		for i := range s.Assets {
			a := &s.Assets[i]
			path := a.Path
			if a.MovedFrom != "" {
				path = a.MovedFrom
			}
			said, known, err := t.Newest(path)
			if err != nil {
				return err
			}
			if !known {
				if err := t.AddLock(a); err != nil {
					return err
				}
				continue
			}
			mine := *a
			*a = said
			a.Path, a.State, a.Version, a.MovedFrom, a.Size, a.Content, a.Executable = mine.Path, mine.State, mine.Version, mine.MovedFrom,
				mine.Size, mine.Content, mine.Executable
			if a.Content != said.Content {
				a.Digest = ""
			}
			a.HeadsUp = nil
			for _, h := range said.HeadsUp {
				if h.WorkspaceID != w.Marker.Workspace {
					a.HeadsUp = append(a.HeadsUp, h)
				}
			}
		}
		return nil
	})
}

// doubt reports whether the content of a file has to be read to know its state.
func (s *Status) doubt(t *scan.Entry, cut index.Cut, gone map[int64][]*scan.Entry) bool {
	if !t.Here || cut.Stamp.Fits(t.File.Stamp) {
		return false
	}
	size := t.File.Stamp.Size
	base, had := s.base(t.Path)
	switch {
	case had && base.Stamp.Fits(t.File.Stamp):
		return false
	case had && base.Size == size:
		return true
	case !had && t.Known && !t.Theirs.Gone && t.Theirs.Size == size:
		return true
	case had && t.Known && t.Theirs.Newest != base.Version && t.Theirs.Size == size:
		return true
	case !had && (!t.Known || t.Theirs.Gone):
		// It may be one that is gone from another place.
		for _, g := range gone[size] {
			if g.Base.Size == size && !g.Base.Stamp.Fits(t.File.Stamp) {
				return true
			}
		}
	}
	return false
}

// settleDoubts reads files, keeps what was learnt, finds moves, and returns the contents that were looked at.
func (w *Workspace) settleDoubts(ctx context.Context, s *Status, look []*scan.Entry) (map[string]chunk.Digest, error) {
	digests := map[string]chunk.Digest{}
	gone := map[int64][]*scan.Entry{}
	stale := s.dropStale()
	taken := s.placed()
	for _, t := range look {
		if t.Had && !t.Here && !taken[t.Path] {
			gone[t.Base.Size] = append(gone[t.Base.Size], t)
		}
	}
	var doubtful []*scan.Entry
	total := int64(0)
	bases := map[string]index.Refs{}
	if err := w.look(func(tx index.Tx) error {
		for _, t := range look {
			if !t.Here || t.Same() {
				continue
			}
			cut, known, err := tx.Cut(t.Path)
			if err != nil {
				return err
			}
			if known && cut.Stamp.Fits(t.File.Stamp) {
				digests[t.Path] = cut.Content
			}
			if s.doubt(t, cut, gone) {
				doubtful, total = append(doubtful, t), total+t.File.Stamp.Size
				bases[t.Path] = tx.Refs(s.source(t.Path))
			}
		}
		return nil
	}); err != nil {
		return nil, err
	}
	learnt := map[string]index.Cut{}
	if len(doubtful) > 0 {
		w.Progress.Start("Looking at changed files", total)
		defer w.Progress.Done()
	}
	for _, t := range doubtful {
		c, file, err := w.read(ctx, t.Path, bases[t.Path])
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if errors.Is(err, fs.ErrNotExist) {
			t.Here = false
			continue
		}
		if err != nil {
			continue // It counts as changed; a send will say why it can't be read.
		}
		digests[t.Path], learnt[t.Path], t.File = c.Content, c, file
		if o := s.origin(t.Path); o != nil && o.Had && o.Base.Content == c.Content {
			o.Base.Stamp = c.Stamp
		}
	}
	found := s.findMoves(look, gone, digests)
	s.addMoves(found)
	if len(learnt)+len(found)+len(stale) == 0 {
		return digests, nil
	}
	return digests, w.update(func(tx index.Tx) error {
		for _, to := range stale {
			if err := tx.DropMove(to); err != nil {
				return err
			}
		}
		for to, from := range found {
			if err := tx.SetMove(to, from); err != nil {
				return err
			}
		}
		for p, c := range learnt {
			source := s.source(p)
			b, had, err := tx.Base(source)
			if err != nil {
				return err
			}
			if had && b.Content == c.Content {
				b.Stamp = c.Stamp
				err = tx.SetBase(source, b, nil)
			} else {
				err = tx.SetCut(p, c)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// pointOut finds large binaries among the files that no rule covers and that are left to the main history.
func (s *Status) pointOut(w *Workspace) {
	for _, t := range s.scan.Large {
		if len(s.Uncovered) < 100 && isBinary(w.folder.Disk.FS(), t.Path) {
			s.Uncovered = append(s.Uncovered, model.Asset{Path: t.Path, State: model.Code, Size: t.File.Stamp.Size})
		}
	}
}

// isBinary reports whether a file has a zero byte near its start.
func isBinary(folder fs.FS, path string) bool {
	f, err := folder.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	start := make([]byte, 8000)
	n, _ := io.ReadFull(f, start)
	return bytes.IndexByte(start[:n], 0) >= 0
}

// state is the state of one path; show is false for what is of no concern (gone here and there).
func (s *Status) state(t *scan.Entry, digests map[string]chunk.Digest) (a model.Asset, show bool) {
	from, moved := s.moves[t.Path]
	o := t
	if moved {
		o = s.entry(from)
		a.MovedFrom = from
	}
	live := o.Known && !o.Theirs.Gone
	a.Path, a.Version, a.Newest = t.Path, o.Base.Version, o.Theirs.Newest
	a.Size = max(o.Theirs.Size, o.Base.Size)
	if t.Here {
		a.Size, a.Executable = t.File.Stamp.Size, t.File.Executable
	}
	newer := o.Known && o.Theirs.Newest != o.Base.Version
	digest, read := digests[t.Path]
	unchanged := o.Had && t.Here && (o.Base.Stamp.Fits(t.File.Stamp) || read && digest == o.Base.Content) &&
		(t.File.Executable == o.Base.Executable || !scan.KeepsExecutable)
	switch {
	case t.Here && unchanged:
		a.Content = o.Base.Content.String()
	case t.Here && read:
		a.Content = digest.String()
	case !t.Here && live:
		a.Content = o.Theirs.Content.String()
	}
	asTheirs := t.Here && live && read && o.Theirs.Content == digest
	switch {
	case !t.Here && !o.Had:
		a.State = model.Behind
		return a, live
	case !t.Here && newer && !live:
		return a, false
	case !t.Here && newer:
		a.State = model.Clash
	case !t.Here:
		a.State = model.Gone
	case !o.Had && !live:
		a.State = model.New
	case !o.Had && asTheirs:
		// The same content by another way: an update takes it over without a byte moved.
		a.State = model.Behind
	case !o.Had:
		a.State = model.Clash
	case unchanged && newer && moved && !live:
		a.State = model.Clash
	case unchanged && newer:
		a.State = model.Behind
	case unchanged:
		a.State = model.Same
	case newer && asTheirs:
		a.State = model.Behind
	case newer:
		a.State = model.Clash
	default:
		a.State = model.Edited
	}
	return a, true
}

// Changed reports whether a state is one of something that was not sent. A move is, too, whatever the state.
func Changed(a model.Asset) bool {
	switch a.State {
	case model.New, model.Edited, model.Clash, model.Gone:
		return true
	}
	return a.MovedFrom != ""
}

// Within keeps the assets at or below one of the paths; no paths keep all. missing are the paths at which there is nothing. What was moved
// is also found by where it was.
func Within(assets []model.Asset, paths []string) (kept []model.Asset, missing []string) {
	if len(paths) == 0 {
		return assets, nil
	}
	hit := make([]bool, len(paths))
	for _, a := range assets {
		keep := false
		for i, p := range paths {
			if assetpath.Below(a.Path, p) || a.MovedFrom != "" && assetpath.Below(a.MovedFrom, p) {
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
