package chunk

import (
	"context"
	"io"
	"sort"
	"sync"
)

// Hints are the chunks of an earlier version of a content. Where a chunk of it is found again, its end is the cut that the rules
// would give, so that the gear hash need not run. Safe for concurrent use.
type Hints struct {
	refs   []Ref
	starts []int64
	index  map[Digest]int
}

// NewHints makes hints of the chunks of an earlier version, in order. No chunks give no hints.
func NewHints(refs []Ref) *Hints {
	if len(refs) == 0 {
		return nil
	}
	h := &Hints{refs: refs, starts: make([]int64, len(refs)), index: make(map[Digest]int, len(refs))}
	at := int64(0)
	for i, ref := range refs {
		h.starts[i], h.index[ref.Digest] = at, i
		at += int64(ref.Size)
	}
	return h
}

// none says that nothing is known of which earlier chunk comes next.
const none = -1

// cut cuts and names the first chunk of data. want is the earlier chunk that is expected; next is the one to expect then. The last
// chunk of an earlier version ended with it and not by the rules, so it counts at the end only.
func (h *Hints) cut(data []byte, want int) (ref Ref, next int, known bool) {
	if h != nil && want >= 0 && want < len(h.refs) {
		if hint := h.refs[want]; hint.Size <= len(data) && (want < len(h.refs)-1 || hint.Size == len(data)) {
			if d := Sum(data[:hint.Size]); d == hint.Digest {
				return hint, want + 1, true
			}
		}
	}
	n := Cut(data)
	ref = Ref{Digest: Sum(data[:n]), Size: n}
	if h != nil {
		if i, ok := h.index[ref.Digest]; ok {
			return ref, i + 1, true
		}
	}
	return ref, none, false
}

// from is the earlier chunk that starts first at or behind a place.
func (h *Hints) from(at int64) (want int, start int64) {
	if h == nil {
		return none, at
	}
	i := sort.Search(len(h.starts), func(i int) bool { return h.starts[i] >= at })
	if i == len(h.starts) {
		return none, at
	}
	return i, h.starts[i]
}

// A Piece is one chunk of a content and where it starts. Known says that the earlier version has it.
type Piece struct {
	Ref
	Start int64
	Known bool
}

// SegmentSize is how much of a content one goroutine cuts at a time, in bytes. Scan holds that and Max for each of its workers.
const SegmentSize = 8 << 20

// segment is a stretch of a content, cut from a place that need not be a cut: after a few chunks the cuts agree with the true ones.
type segment struct {
	start  int64
	buf    []byte
	data   []byte
	pieces []Piece
	err    error
	done   chan struct{}
}

var segments = sync.Pool{New: func() any { return &segment{buf: make([]byte, SegmentSize+Max)} }}

// Scan cuts and hashes a content of size bytes with the same cuts as a Cutter, over at most workers goroutines, and calls each with
// every chunk in order; the bytes are valid only during the call. It returns io.ErrUnexpectedEOF where the content is shorter than
// size. The goroutines have ended when Scan returns.
func Scan(ctx context.Context, r io.ReaderAt, size int64, hints *Hints, workers int, each func(Piece, []byte) error) error {
	if size <= SegmentSize {
		return scanSmall(ctx, r, size, hints, each)
	}
	ctx, cancel := context.WithCancel(ctx)
	var running sync.WaitGroup
	queue := make(chan *segment, max(workers-1, 0))
	defer func() {
		cancel()
		for s := range queue {
			<-s.done
			segments.Put(s)
		}
		running.Wait()
	}()
	running.Go(func() {
		defer close(queue)
		for start := int64(0); start < size; start += SegmentSize {
			s := segments.Get().(*segment)
			s.start, s.pieces, s.err, s.done = start, s.pieces[:0], nil, make(chan struct{})
			running.Go(func() {
				defer close(s.done)
				s.read(r, size)
				if s.err == nil {
					s.cut(hints)
				}
			})
			select {
			case queue <- s:
			case <-ctx.Done():
				<-s.done
				segments.Put(s)
				return
			}
		}
	})
	at, want := int64(0), 0
	for s := range queue {
		<-s.done
		err := s.err
		if err == nil {
			err = ctx.Err()
		}
		if err == nil {
			at, want, err = s.stitch(hints, at, want, each)
		}
		segments.Put(s)
		if err != nil {
			return err
		}
	}
	return ctx.Err()
}

// scanSmall does without goroutines.
func scanSmall(ctx context.Context, r io.ReaderAt, size int64, hints *Hints, each func(Piece, []byte) error) error {
	if size == 0 {
		return ctx.Err()
	}
	s := segments.Get().(*segment)
	defer segments.Put(s)
	s.start, s.pieces = 0, s.pieces[:0]
	if s.read(r, size); s.err != nil {
		return s.err
	}
	_, _, err := s.stitch(hints, 0, 0, each)
	if err == nil {
		err = ctx.Err()
	}
	return err
}

func (s *segment) read(r io.ReaderAt, size int64) {
	s.data, s.err = s.buf[:min(int64(len(s.buf)), size-s.start)], nil
	n, err := r.ReadAt(s.data, s.start)
	switch {
	case n == len(s.data):
	case err == nil || err == io.EOF:
		s.err = io.ErrUnexpectedEOF
	default:
		s.err = err
	}
}

func (s *segment) cut(hints *Hints) {
	want, at := hints.from(s.start)
	if at >= s.start+SegmentSize {
		want, at = none, s.start
	}
	for at < s.start+SegmentSize && at < s.start+int64(len(s.data)) {
		ref, next, known := hints.cut(s.data[at-s.start:], want)
		s.pieces = append(s.pieces, Piece{Ref: ref, Start: at, Known: known})
		at, want = at+int64(ref.Size), next
	}
}

// stitch gives the chunks that truly start in the segment, the first of them at the place at.
func (s *segment) stitch(hints *Hints, at int64, want int, each func(Piece, []byte) error) (int64, int, error) {
	guess := 0
	for at < s.start+SegmentSize && at < s.start+int64(len(s.data)) {
		for guess < len(s.pieces) && s.pieces[guess].Start < at {
			guess++
		}
		var p Piece
		rest := s.data[at-s.start:]
		if guess < len(s.pieces) && s.pieces[guess].Start == at {
			p, want = s.pieces[guess], none
		} else {
			p.Start = at
			p.Ref, want, p.Known = hints.cut(rest, want)
		}
		if err := each(p, rest[:p.Size]); err != nil {
			return at, want, err
		}
		at += int64(p.Size)
	}
	return at, want, nil
}
