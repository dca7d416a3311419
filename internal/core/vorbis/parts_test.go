package vorbis

import (
	"errors"
	"math"
	"math/rand/v2"
	"testing"
)

// writer packs bits as a stream has them, the lowest of each byte first.
type writer struct {
	data []byte
	n    int
}

func (w *writer) put(v uint32, n int) *writer {
	for i := range n {
		if w.n%8 == 0 {
			w.data = append(w.data, 0)
		}
		w.data[w.n/8] |= byte(v>>i&1) << (w.n % 8)
		w.n++
	}
	return w
}

func (w *writer) reader() *bitReader { return &bitReader{data: w.data} }

func TestBitsAreReadLowestFirst(t *testing.T) {
	// The example of section 2.1.4: 12 in 4 bits, -1 in 3, 17 in 7, 6969 in 13.
	w := (&writer{}).put(12, 4).put(7, 3).put(17, 7).put(6969, 13)
	for i, want := range []byte{0xfc, 0x48, 0xce, 0x06} {
		if w.data[i] != want {
			t.Errorf("byte %d is %#x, want %#x", i, w.data[i], want)
		}
	}
	b := w.reader()
	for _, want := range [][2]uint32{{12, 4}, {7, 3}, {17, 7}, {6969, 13}} {
		if v := b.read(int(want[1])); v != want[0] || b.over {
			t.Errorf("%d is read as %d", want[0], v)
		}
	}
	if v := b.read(32); !b.over || v > 31 {
		t.Errorf("behind the end there is %d", v)
	}
}

func TestFloatsAreUnpacked(t *testing.T) {
	for packed, want := range map[uint32]float64{0: 0, 788<<21 | 1: 1, 788<<21 | 5 | 1<<31: -5, 789<<21 | 3: 6, 786<<21 | 3: 0.75} {
		if got := float32Of(packed); got != want {
			t.Errorf("%#x is %g, want %g", packed, got, want)
		}
	}
}

// book writes a codebook without vectors: the lengths of its words, one after the other.
func book(lengths ...uint32) *writer {
	w := (&writer{}).put(0x564342, 24).put(1, 16).put(uint32(len(lengths)), 24).put(0, 1).put(1, 1)
	for _, n := range lengths {
		if n == 0 {
			w.put(0, 1)
			continue
		}
		w.put(1, 1).put(n-1, 5)
	}
	return w.put(0, 4)
}

// The example of section 3.2.1: words of 2, 4, 4, 4, 4, 2, 3 and 3 bits are given out in order.
func TestWordsOfACodebook(t *testing.T) {
	c, err := readCodebook(book(2, 4, 4, 4, 4, 2, 3, 3).reader(), &room{maxEntries, maxVectors})
	if err != nil {
		t.Fatal(err)
	}
	for entry, word := range []string{"00", "0100", "0101", "0110", "0111", "10", "110", "111"} {
		w := &writer{}
		for _, bit := range word {
			w.put(uint32(bit-'0'), 1)
		}
		b := w.reader()
		if got := c.scalar(b); got != entry || b.at != len(word) {
			t.Errorf("%s is entry %d after %d bits, want %d", word, got, b.at, entry)
		}
	}
	if got := c.scalar(&bitReader{}); got != -1 {
		t.Errorf("where there is nothing, entry %d is read", got)
	}
	// One word alone stands for both bits.
	one, err := readCodebook(book(0, 1, 0).reader(), &room{maxEntries, maxVectors})
	if err != nil {
		t.Fatal(err)
	}
	for bit := range uint32(2) {
		if got := one.scalar((&writer{}).put(bit, 1).reader()); got != 1 {
			t.Errorf("bit %d is entry %d", bit, got)
		}
	}
}

func TestWordsInOrder(t *testing.T) {
	// Lengths that grow are written as how many there are of each: one of 1 bit, one of 2, two of 3.
	w := (&writer{}).put(0x564342, 24).put(1, 16).put(4, 24).put(1, 1).put(0, 5).put(1, 3).put(1, 2).put(2, 2).put(0, 4)
	c, err := readCodebook(w.reader(), &room{maxEntries, maxVectors})
	if err != nil {
		t.Fatal(err)
	}
	for entry, word := range []string{"0", "10", "110", "111"} {
		w := &writer{}
		for _, bit := range word {
			w.put(uint32(bit-'0'), 1)
		}
		if got := c.scalar(w.reader()); got != entry {
			t.Errorf("%s is entry %d, want %d", word, got, entry)
		}
	}
}

func TestVectorsOfACodebook(t *testing.T) {
	// Four entries of two numbers, from a grid of two: lookup 1, low -1, step 2, one bit each, not chained.
	w := (&writer{}).put(0x564342, 24).put(2, 16).put(4, 24).put(0, 1).put(0, 1)
	for range 4 {
		w.put(1, 5)
	}
	w.put(1, 4).put(788<<21|1|1<<31, 32).put(788<<21|2, 32).put(0, 4).put(0, 1).put(0, 1).put(1, 1)
	c, err := readCodebook(w.reader(), &room{maxEntries, maxVectors})
	if err != nil {
		t.Fatal(err)
	}
	for entry, want := range [][2]float32{{-1, -1}, {1, -1}, {-1, 1}, {1, 1}} {
		if got := c.vectors[2*entry : 2*entry+2]; got[0] != want[0] || got[1] != want[1] {
			t.Errorf("entry %d is %v, want %v", entry, got, want)
		}
	}
}

func TestDamagedCodebooksSayWhy(t *testing.T) {
	for name, w := range map[string]*writer{
		"nothing": {}, "another start": (&writer{}).put(1, 24), "no entries": (&writer{}).put(0x564342, 24).put(1, 16).put(0, 24),
		"very many": (&writer{}).put(0x564342, 24).put(1, 16).put(1<<24-1, 24).put(1, 1).put(0, 5),
		"cut off":   (&writer{}).put(0x564342, 24).put(1, 16).put(500, 24).put(0, 2), "too many words": book(1, 1, 1),
		"more than there is room for": book(2, 2, 2, 2, 2),
	} {
		if _, err := readCodebook(w.reader(), &room{maxEntries, maxVectors}); !errors.Is(err, ErrDamaged) {
			t.Errorf("%s: %v", name, err)
		}
	}
	// What all codebooks have together is bounded.
	left := &room{10, 10}
	if _, err := readCodebook(book(2, 2, 2, 2).reader(), left); err != nil || left.entries != 6 {
		t.Errorf("%v, %+v", err, left)
	}
	if _, err := readCodebook(book(3, 3, 3, 3, 3, 3, 3).reader(), left); !errors.Is(err, ErrDamaged) {
		t.Error(err)
	}
}

// The fast transform is the sum that defines it.
func TestTheTransformIsItsDefinition(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{64, 256} {
		m := newMDCT(n)
		spectrum, block := make([]float32, n/2), make([]float32, n)
		for i := range spectrum {
			spectrum[i] = float32(r.NormFloat64())
		}
		m.inverse(spectrum, block)
		for at := range block {
			want := 0.0
			for k, x := range spectrum {
				want += float64(x) * math.Cos(math.Pi/float64(2*n)*float64(2*at+1+n/2)*float64(2*k+1))
			}
			if math.Abs(want-float64(block[at])) > 1e-4 {
				t.Fatalf("%d of %d: %g, want %g", at, n, block[at], want)
			}
		}
	}
}

// Where two windows overlap their squares add up to 1, whatever the sizes beside each other.
func TestWindowsAddUp(t *testing.T) {
	d := &Decoder{sizes: [2]int{64, 256}}
	head := (&writer{}).put(0, 32).put(1, 8).put(8000, 32).put(0, 96).put(8<<4|6, 8).put(1, 8)
	if err := d.identification(head.reader()); err != nil {
		t.Fatal(err)
	}
	ones := func(size, before, behind int) []float32 {
		block := make([]float32, d.sizes[size])
		for i := range block {
			block[i] = 1
		}
		d.window(block, size, before, behind)
		return block
	}
	for name, pair := range map[string][2][]float32{"long, long": {ones(1, 1, 1), ones(1, 1, 1)},
		"short, short": {ones(0, 0, 0), ones(0, 0, 0)}, "long, short": {ones(1, 1, 0), ones(0, 0, 0)},
		"short, long": {ones(0, 0, 0), ones(1, 0, 1)}} {
		tail, next := pair[0][len(pair[0])/2:], pair[1]
		out := len(tail)/2 + len(next)/4
		for i := range out {
			sum := 0.0
			if i < len(tail) {
				sum += float64(tail[i]) * float64(tail[i])
			}
			if k := i + len(next)/2 - out; k >= 0 {
				sum += float64(next[k]) * float64(next[k])
			}
			if math.Abs(sum-1) > 1e-6 {
				t.Fatalf("%s: at %d of %d the squares are %g together", name, i, out, sum)
			}
		}
	}
}

func TestLinesOfAFloor(t *testing.T) {
	// Section 9.2.7: whole steps, the larger ones spread evenly.
	curve := make([]float32, 8)
	draw(curve, 0, 0, 8, 4)
	for x, y := range []int{0, 0, 1, 1, 2, 2, 3, 3} {
		if curve[x] != decibels[y] {
			t.Errorf("at %d the line is not at %d", x, y)
		}
	}
	if decibels[255] != 1 || math.Abs(float64(decibels[0])/1.0649863e-07-1) > 1e-5 {
		t.Errorf("the heights run from %g to %g", decibels[0], decibels[255])
	}
	if got := between(0, 0, 10, -5, 5); got != -2 {
		t.Errorf("half way down is %d", got)
	}
	if got := between(0, 0, 10, 5, 5); got != 2 {
		t.Errorf("half way up is %d", got)
	}
}

func TestChannelsAreUncoupled(t *testing.T) {
	// Section 4.3.5, one of each of its cases.
	for _, c := range [][4]float32{{3, 1, 3, 2}, {3, -1, 2, 3}, {-3, 1, -3, -2}, {-3, -1, -2, -3}, {0, 0, 0, 0}} {
		m, a := []float32{c[0]}, []float32{c[1]}
		uncouple(m, a)
		if m[0] != c[2] || a[0] != c[3] {
			t.Errorf("%g and %g become %g and %g, want %g and %g", c[0], c[1], m[0], a[0], c[2], c[3])
		}
	}
}
