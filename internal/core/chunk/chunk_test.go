package chunk

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"testing"
	"testing/iotest"
	"testing/quick"
)

func noise(seed uint64, n int) []byte {
	b := make([]byte, n)
	src := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)})
	_, _ = src.Read(b)
	return b
}

// cuts are the chunks of what r gives.
func cuts(t testing.TB, r io.Reader) (refs []Ref) {
	t.Helper()
	c := NewCutter(r)
	for {
		data, err := c.Next()
		if err == io.EOF {
			return refs
		}
		if err != nil {
			t.Fatal(err)
		}
		refs = append(refs, Ref{Digest: Sum(data), Size: len(data)})
	}
}

func TestSameBytesSameCutsHoweverTheyArrive(t *testing.T) {
	data := noise(1, 5<<20)
	want := cuts(t, bytes.NewReader(data))
	for name, r := range map[string]io.Reader{
		"half":    iotest.HalfReader(bytes.NewReader(data)),
		"dataErr": iotest.DataErrReader(bytes.NewReader(data)),
		"odd":     &oddReader{data: data},
	} {
		if got := cuts(t, r); !slices.Equal(got, want) {
			t.Fatalf("%s: other cuts", name)
		}
	}
}

type oddReader struct{ data []byte }

func (o *oddReader) Read(p []byte) (int, error) {
	if len(o.data) == 0 {
		return 0, io.EOF
	}
	n := copy(p, o.data[:min(len(o.data), 1+len(o.data)%7919)])
	o.data = o.data[n:]
	return n, nil
}

func TestChunksAreWithinBoundsAndMakeUpTheContent(t *testing.T) {
	check := func(seed uint16, size uint32) bool {
		data := noise(uint64(seed), int(size%(3<<20)))
		sum := 0
		refs := cuts(t, bytes.NewReader(data))
		for i, ref := range refs {
			if ref.Size > Max || ref.Size < Min && i != len(refs)-1 || Sum(data[sum:sum+ref.Size]) != ref.Digest {
				return false
			}
			sum += ref.Size
		}
		return sum == len(data)
	}
	if err := quick.Check(check, &quick.Config{MaxCount: 30}); err != nil {
		t.Error(err)
	}
}

// scan cuts with Scan, and checks what it hands over.
func scan(t testing.TB, data []byte, hints *Hints, workers int) (refs []Ref, known int) {
	t.Helper()
	at := int64(0)
	if err := Scan(t.Context(), bytes.NewReader(data), int64(len(data)), hints, workers, func(p Piece, b []byte) error {
		if p.Start != at || p.Known != (b == nil) || !p.Known && Sum(b) != p.Digest || Sum(data[at:][:p.Size]) != p.Digest {
			t.Fatalf("a piece at %d is not what it says", p.Start)
		}
		at += int64(p.Size)
		refs = append(refs, p.Ref)
		if p.Known {
			known++
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return refs, known
}

func TestManyCoresCutAsOneDoes(t *testing.T) {
	repeating := bytes.Repeat(noise(8, 300_000), 100)
	for name, data := range map[string][]byte{
		"nothing": nil, "small": noise(5, 1000), "one segment": noise(5, SegmentSize), "noise": noise(6, 5*SegmentSize+12345),
		"zeros": make([]byte, 3*SegmentSize+1), "repeating": repeating,
	} {
		want := cuts(t, bytes.NewReader(data))
		for _, workers := range []int{1, 3} {
			if got, _ := scan(t, data, nil, workers); !slices.Equal(got, want) {
				t.Errorf("%s with %d workers: other cuts", name, workers)
			}
			if got, known := scan(t, data, NewHints(want), workers); !slices.Equal(got, want) || known != len(want) {
				t.Errorf("%s with %d workers and its own cuts as hints: other cuts, or only %d of %d known", name, workers, known, len(want))
			}
		}
	}
}

// counting counts the bytes that are read.
type counting struct {
	io.ReaderAt
	read atomic.Int64
}

func (c *counting) ReadAt(p []byte, at int64) (int, error) {
	c.read.Add(int64(len(p)))
	return c.ReaderAt.ReadAt(p, at)
}

// TestWhatWasMovedOnIsLookedAtOnce: behind what was put in, or taken out, every stretch that is cut for itself begins at a chunk of before.
func TestWhatWasMovedOnIsLookedAtOnce(t *testing.T) {
	data := noise(7, 96<<20)
	before := cuts(t, bytes.NewReader(data))
	at := len(data) / 5
	for name, edited := range map[string][]byte{"put in": slices.Concat(data[:at], noise(8, 1<<20), data[at:]),
		"taken out": slices.Concat(data[:at], data[at+1<<20:]), "changed": slices.Concat(data[:at], noise(8, 1<<20), data[at+1<<20:])} {
		r := &counting{ReaderAt: bytes.NewReader(edited)}
		if err := Scan(t.Context(), r, int64(len(edited)), NewHints(before), 2, func(Piece, []byte) error { return nil }); err != nil {
			t.Fatal(err)
		}
		if ratio := float64(r.read.Load()) / float64(len(edited)); ratio > 1.1 {
			t.Errorf("%s: %.2f times the content was read", name, ratio)
		}
	}
}

func TestHintsChangeNoCut(t *testing.T) {
	data := noise(9, 3*SegmentSize)
	hints := NewHints(cuts(t, bytes.NewReader(data)))
	patch := noise(10, 1<<20)
	for name, edited := range map[string][]byte{
		"changed":   slices.Concat(data[:10<<20], patch, data[11<<20:]),
		"inserted":  slices.Concat(data[:10<<20], patch, data[10<<20:]),
		"cut out":   slices.Concat(data[:10<<20], data[13<<20:]),
		"shorter":   data[:20<<20+17],
		"appended":  slices.Concat(data, patch),
		"in front":  slices.Concat(patch[:100], data),
		"unrelated": noise(11, 9<<20),
		"twice":     slices.Concat(data, data),
	} {
		want := cuts(t, bytes.NewReader(edited))
		got, known := scan(t, edited, hints, 2)
		if !slices.Equal(got, want) {
			t.Errorf("%s: the hints changed the cuts", name)
		}
		if fresh := len(want) - known; name != "unrelated" && fresh > 8 {
			t.Errorf("%s: %d of %d chunks are not known", name, fresh, len(want))
		}
	}
}

func TestScanStopsInOrder(t *testing.T) {
	data := noise(12, 4*SegmentSize)
	broken := errors.New("broken")
	n := 0
	if err := Scan(t.Context(), bytes.NewReader(data), int64(len(data)), nil, 2, func(Piece, []byte) error {
		if n++; n == 3 {
			return broken
		}
		return nil
	}); err != broken || n != 3 {
		t.Errorf("after %d pieces: %v", n, err)
	}
	if err := Scan(t.Context(), bytes.NewReader(data), int64(len(data))+5, nil, 2,
		func(Piece, []byte) error { return nil }); err != io.ErrUnexpectedEOF {
		t.Errorf("a file that became shorter: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	if err := Scan(ctx, bytes.NewReader(data), int64(len(data)), nil, 2,
		func(Piece, []byte) error { cancel(); return nil }); err != context.Canceled {
		t.Errorf("after it was called off: %v", err)
	}
}

func TestNoAllocationPerChunk(t *testing.T) {
	data := noise(13, 4*SegmentSize)
	count := func(n int) float64 {
		return testing.AllocsPerRun(5, func() {
			_ = Scan(context.Background(), bytes.NewReader(data[:n]), int64(n), nil, 2, func(Piece, []byte) error { return nil })
		})
	}
	// A segment costs a goroutine and a channel; its thirty chunks cost nothing.
	if more := count(4*SegmentSize) - count(2*SegmentSize); more > 20 {
		t.Errorf("two more segments cost %.0f allocations", more)
	}
}

func TestAnInsertionChangesOnlyTheChunksAroundIt(t *testing.T) {
	data := noise(3, 16<<20)
	before := map[Digest]bool{}
	for _, ref := range cuts(t, bytes.NewReader(data)) {
		before[ref.Digest] = true
	}
	edited := append(append(append([]byte{}, data[:8<<20]...), []byte("a few bytes more")...), data[8<<20:]...)
	fresh := 0
	for _, ref := range cuts(t, bytes.NewReader(edited)) {
		if !before[ref.Digest] {
			fresh++
		}
	}
	if fresh == 0 || fresh > 4 {
		t.Errorf("%d chunks are new after a small insertion", fresh)
	}
}

func TestAverageIsNearWhatIsMeant(t *testing.T) {
	n := len(cuts(t, bytes.NewReader(noise(4, 64<<20))))
	if average := (64 << 20) / n; average < Average*3/4 || average > Average*3/2 {
		t.Errorf("the average chunk has %d bytes, and about %d are meant", average, Average)
	}
}

// The vectors stand in docs/formats.md too.
func TestVectors(t *testing.T) {
	counting := make([]byte, 2<<20)
	for i := range counting {
		counting[i] = byte(i*i>>8 ^ i)
	}
	for _, v := range vectors {
		data := counting
		if v.zeros {
			data = make([]byte, 2<<20)
		}
		if got := Sum(data); got.String() != v.digest {
			t.Errorf("digest %s, want %s", got, v.digest)
		}
		for i, ref := range cuts(t, bytes.NewReader(data)) {
			if i >= len(v.sizes) || ref.Size != v.sizes[i] {
				t.Errorf("zeros=%v: chunk %d has %d bytes, want %v", v.zeros, i, ref.Size, v.sizes)
				break
			}
		}
	}
}

func TestParseDigest(t *testing.T) {
	d := Sum([]byte("brine"))
	if got, err := ParseDigest(d.String()); err != nil || got != d {
		t.Errorf("a digest does not survive being written and read: %v", err)
	}
	for _, bad := range []string{"", "xyz", d.String()[:63], d.String()[:63] + "g"} {
		if _, err := ParseDigest(bad); err == nil {
			t.Errorf("ParseDigest(%q) is taken", bad)
		}
	}
}

// TestTwoLanesCutAsOneDoes compares the cuts with those of the definition: one hash, byte by byte.
func TestTwoLanesCutAsOneDoes(t *testing.T) {
	plain := func(data []byte) int {
		n := min(len(data), Max)
		var h uint64
		for i := Min; i < n; i++ {
			mask := maskBefore
			if i >= Average {
				mask = maskAfter
			}
			if h = h<<1 + gear[data[i]]; h&mask == 0 {
				return i + 1
			}
		}
		return n
	}
	noise := rand.NewChaCha8([32]byte{1})
	r := rand.New(noise)
	early, late := 0, 0
	for i := range 240 {
		data := make([]byte, r.IntN(Max+200))
		if i%5 == 0 {
			data = data[:min(len(data), Min+r.IntN(3*lane))]
		}
		switch i % 4 {
		case 0, 1:
			_, _ = noise.Read(data)
		case 2:
			_, _ = noise.Read(data[:len(data)/2])
		default:
			for j := range data {
				data[j] = byte(r.IntN(3))
			}
		}
		n := Cut(data)
		if want := plain(data); n != want {
			t.Fatalf("%d bytes are cut at %d, and not at %d", len(data), n, want)
		}
		if n < Average {
			early++
		} else if n < len(data) && n < Max {
			late++
		}
	}
	if early < 20 || late < 20 {
		t.Errorf("only %d cuts before the average and %d behind it were compared", early, late)
	}
}
