package chunk

import (
	"context"
	"io"
	"sort"
	"sync"
	"sync/atomic"
)

// Hints are the chunks of an earlier version of a content. Where a chunk of it is found again, its end is the cut that the rules
// would give, so that the gear hash need not run. Safe for concurrent use.
type Hints struct {
	refs   []Ref
	starts []int64
	index  map[Digest]int
	size   int64 // of the earlier version
	shift  atomic.Int64
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
	h.size = at
	return h
}

// none says that nothing is known of which earlier chunk comes next.
const none = -1

// at is the earlier chunk that is expected next, if there is one. The last chunk of an earlier version ended with it and not by the
// rules, so it counts only where it ends the content, of which left bytes are left.
func (h *Hints) at(want int, left int64) (ref Ref, ok bool) {
	if h == nil || want < 0 || want >= len(h.refs) {
		return ref, false
	}
	ref = h.refs[want]
	return ref, int64(ref.Size) < left && want < len(h.refs)-1 || int64(ref.Size) == left
}

// after is the earlier chunk to expect behind one; known says that the earlier version has that one.
func (h *Hints) after(d Digest) (next int, known bool) {
	if h != nil {
		if i, ok := h.index[d]; ok {
			return i + 1, true
		}
	}
	return none, false
}

// from is the earlier chunk that starts first at or behind a place, where all was moved on by a number of bytes.
func (h *Hints) from(at, shift int64) (want int, start int64) {
	i := sort.Search(len(h.starts), func(i int) bool { return h.starts[i]+shift >= at })
	if i == len(h.starts) {
		return none, at
	}
	return i, h.starts[i] + shift
}

// shifts are by how much what comes may have been moved, in a content of a size: as what was found last, or not at all, or by what the
// content has become longer or shorter, where something was put in or taken out before.
func (h *Hints) shifts(size int64) []int64 {
	switch by := size - h.size; {
	case by == 0:
		return []int64{0}
	case h.shift.Load() == by:
		return []int64{by, 0}
	default:
		return []int64{0, by}
	}
}

// A Piece is one chunk of a content and where it starts. Known says that the earlier version has it.
type Piece struct {
	Ref
	Start int64
	Known bool
}

// SegmentSize is how much of a content one goroutine cuts at a time, in bytes. Scan holds that and twice Max for each of its workers.
const SegmentSize = 8 << 20

// segment is a stretch of a content, cut from a place that need not be a cut: after a few chunks the cuts agree with the true ones. It
// is read bit by bit, so that what is cut and hashed is still in the processor's cache.
type segment struct {
	r          io.ReaderAt
	start, end int64  // of what it may look at: the segment and Max behind it, as far as the content goes
	size       int64  // of the content
	buf        []byte // the bytes from start on, where they were read
	low, high  int64  // the stretch that was read last
	scratch    []byte // for chunks that are only compared
	pieces     []Piece
	err        error
	done       chan struct{}
}

// segments are free ones: few and large, so that they are kept, and not given to the collector, which would clear them.
var segments = make(chan *segment, 4)

func newSegment(r io.ReaderAt, start, size int64) *segment {
	var s *segment
	select {
	case s = <-segments:
	default:
		s = &segment{buf: make([]byte, SegmentSize+Max), scratch: make([]byte, Max)}
	}
	s.r, s.start, s.end, s.size = r, start, min(start+SegmentSize+Max, size), size
	s.low, s.high, s.pieces, s.err, s.done = start, start, s.pieces[:0], nil, nil
	return s
}

func (s *segment) free() {
	s.r = nil
	select {
	case segments <- s:
	default:
	}
}

// view gives the bytes from a place on: Max of them, or all that are left.
func (s *segment) view(at int64) ([]byte, error) {
	if at < s.low || at > s.high {
		s.low, s.high = at, at
	}
	if end := min(at+Max, s.end); end > s.high {
		if err := s.read(s.buf[s.high-s.start:end-s.start], s.high); err != nil {
			return nil, err
		}
		s.high = end
	}
	return s.buf[at-s.start : min(at+Max, s.end)-s.start], nil
}

func (s *segment) read(into []byte, at int64) error {
	n, err := s.r.ReadAt(into, at)
	if n == len(into) {
		return nil
	}
	if err == nil || err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// again looks whether the earlier chunk that is expected at a place is there: it is Known then.
func (s *segment) again(hints *Hints, at int64, want int) (p Piece, err error) {
	p.Start = at
	hint, ok := hints.at(want, s.size-at)
	if !ok || at+int64(hint.Size) > s.end {
		return p, nil
	}
	if err = s.read(s.scratch[:hint.Size], at); err == nil && Sum(s.scratch[:hint.Size]) == hint.Digest {
		p.Ref, p.Known = hint, true
	}
	return p, err
}

// next cuts and names the chunk that starts at a place. want is the earlier chunk that is expected there; next is the one to expect then.
func (s *segment) next(hints *Hints, at int64, want int) (p Piece, next int, err error) {
	if p, err = s.again(hints, at, want); err != nil || p.Known {
		return p, want + 1, err
	}
	data, err := s.view(at)
	if err != nil {
		return p, none, err
	}
	n := Cut(data)
	p.Ref = Ref{Digest: Sum(data[:n]), Size: n}
	next, p.Known = hints.after(p.Digest)
	return p, next, nil
}

// Scan cuts and hashes a content of size bytes with the same cuts as a Cutter, over at most workers goroutines, and calls each with
// every chunk in order. The bytes, which are valid only during the call, are not given for a chunk that is Known. Scan returns
// io.ErrUnexpectedEOF where the content is shorter than size. The goroutines have ended when it returns.
func Scan(ctx context.Context, r io.ReaderAt, size int64, hints *Hints, workers int, each func(Piece, []byte) error) error {
	if size <= SegmentSize {
		s := newSegment(r, 0, size)
		defer s.free()
		_, _, err := s.stitch(hints, 0, 0, each)
		if err == nil {
			err = ctx.Err()
		}
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	var running sync.WaitGroup
	queue := make(chan *segment, max(workers-1, 0))
	defer func() {
		cancel()
		for s := range queue {
			<-s.done
			s.free()
		}
		running.Wait()
	}()
	running.Go(func() {
		defer close(queue)
		for start := int64(0); start < size; start += SegmentSize {
			s := newSegment(r, start, size)
			s.done = make(chan struct{})
			running.Go(func() {
				defer close(s.done)
				s.cut(ctx, hints)
			})
			select {
			case queue <- s:
			case <-ctx.Done():
				<-s.done
				s.free()
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
		s.free()
		if err != nil {
			return err
		}
	}
	return ctx.Err()
}

// cut guesses the chunks that start in the segment.
func (s *segment) cut(ctx context.Context, hints *Hints) {
	want, at := none, s.start
	if hints != nil {
		for _, shift := range hints.shifts(s.size) {
			first, start := hints.from(s.start, shift)
			if start >= s.start+SegmentSize {
				continue
			}
			p, err := s.again(hints, start, first)
			if err != nil {
				s.err = err
				return
			}
			if p.Known {
				hints.shift.Store(shift)
				s.pieces = append(s.pieces, p)
				at, want = start+int64(p.Size), first+1
				break
			}
		}
	}
	for at < min(s.start+SegmentSize, s.end) && ctx.Err() == nil {
		p, next, err := s.next(hints, at, want)
		if err != nil {
			s.err = err
			return
		}
		s.pieces = append(s.pieces, p)
		at, want = at+int64(p.Size), next
	}
}

// stitch gives the chunks that truly start in the segment, the first of them at the place at.
func (s *segment) stitch(hints *Hints, at int64, want int, each func(Piece, []byte) error) (int64, int, error) {
	guess := 0
	for at < min(s.start+SegmentSize, s.end) {
		for guess < len(s.pieces) && s.pieces[guess].Start < at {
			guess++
		}
		var p Piece
		if guess < len(s.pieces) && s.pieces[guess].Start == at {
			p, want = s.pieces[guess], none
		} else {
			var err error
			if p, want, err = s.next(hints, at, want); err != nil {
				return at, want, err
			}
		}
		var data []byte
		if !p.Known {
			data = s.buf[at-s.start:][:p.Size]
		}
		if err := each(p, data); err != nil {
			return at, want, err
		}
		at += int64(p.Size)
	}
	return at, want, nil
}
