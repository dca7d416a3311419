package vorbis

import (
	"math"
	"math/bits"
	"sort"
)

// Bounds of what all codebooks of a header may have together: entries, and numbers in their vectors. Encoders stay far below them.
const (
	maxEntries = 1 << 18
	maxVectors = 1 << 22
)

func ilog(v uint32) int { return bits.Len32(v) }

// codebook is a Huffman tree over entries, and what vector each entry stands for (Vorbis I, section 3).
type codebook struct {
	dims    int
	entries int
	tree    [][2]int32 // positive: a node; negative: an entry, as -1-entry; 0: nothing
	vectors []float32
}

func float32Of(x uint32) float64 {
	m := float64(x & 0x1fffff)
	if x&0x80000000 != 0 {
		m = -m
	}
	return math.Ldexp(m, int(x&0x7fe00000>>21)-788)
}

// room is what is left of those bounds.
type room struct{ entries, vectors int }

func readCodebook(b *bitReader, left *room) (*codebook, error) {
	if b.read(24) != 0x564342 {
		return nil, damaged("a codebook does not begin where it should")
	}
	c := &codebook{dims: int(b.read(16)), entries: int(b.read(24))}
	if left.entries -= c.entries; c.entries < 1 || left.entries < 0 {
		return nil, damaged("a codebook has %d entries", c.entries)
	}
	lengths := make([]uint8, c.entries)
	if b.flag() { // ordered
		length := b.read(5) + 1
		for i := 0; i < c.entries; length++ {
			n := int(b.read(ilog(uint32(c.entries - i))))
			if b.over || length > 32 || n > c.entries-i {
				return nil, damaged("a codebook is damaged")
			}
			for range n {
				lengths[i] = uint8(length)
				i++
			}
		}
	} else {
		sparse := b.flag()
		for i := range lengths {
			if !sparse || b.flag() {
				lengths[i] = uint8(b.read(5) + 1)
			}
			if b.over {
				return nil, damaged("a codebook was cut off")
			}
		}
	}
	if err := c.plant(lengths); err != nil {
		return nil, err
	}
	return c, c.lookup(b, left)
}

// plant makes the tree: codewords are given out in order, each the lowest that is left (section 3.2.1).
func (c *codebook) plant(lengths []uint8) error {
	c.tree = make([][2]int32, 1, c.entries+1)
	used, only := 0, 0
	for i, n := range lengths {
		if n > 0 {
			used, only = used+1, i
		}
	}
	if used == 1 { // either bit stands for it
		c.tree[0] = [2]int32{int32(-1 - only), int32(-1 - only)}
		return nil
	}
	var free [33]uint32
	for i, n := range lengths {
		if n == 0 {
			continue
		}
		word := free[n]
		if n < 32 && word>>n != 0 {
			return damaged("a codebook has more words than there is room for")
		}
		if err := c.hang(word, int(n), int32(-1-i)); err != nil {
			return err
		}
		for j := n; j > 0; j-- {
			if free[j]&1 != 0 {
				if j == 1 {
					free[1]++
				} else {
					free[j] = free[j-1] << 1
				}
				break
			}
			free[j]++
		}
		for j := n + 1; j < 33 && free[j]>>1 == word; j++ {
			word = free[j]
			free[j] = free[j-1] << 1
		}
	}
	return nil
}

func (c *codebook) hang(word uint32, n int, leaf int32) error {
	at := int32(0)
	for i := n - 1; i >= 0; i-- {
		side := word >> i & 1
		next := c.tree[at][side]
		switch {
		case i == 0 && next == 0:
			c.tree[at][side] = leaf
			return nil
		case next < 0 || i == 0:
			return damaged("a codebook gives one word out twice")
		case next == 0:
			if len(c.tree) > 32*maxEntries {
				return damaged("a codebook is too large")
			}
			c.tree = append(c.tree, [2]int32{})
			next = int32(len(c.tree) - 1)
			c.tree[at][side] = next
		}
		at = next
	}
	return nil
}

// lookup reads what vectors the entries stand for.
func (c *codebook) lookup(b *bitReader, left *room) error {
	kind := b.read(4)
	if kind == 0 {
		return nil
	}
	if left.vectors -= c.entries * c.dims; kind > 2 || c.dims == 0 || left.vectors < 0 {
		return damaged("a codebook has vectors of a kind that is not known (%d)", kind)
	}
	low, step, wide, chained := float32Of(b.read(32)), float32Of(b.read(32)), int(b.read(4)+1), b.flag()
	n := c.entries * c.dims
	if kind == 1 { // the largest n for which n to the power of dims is no more than the entries
		for n = 1; power(n+1, c.dims, c.entries); n++ {
		}
	}
	numbers := make([]float64, n)
	for i := range numbers {
		numbers[i] = float64(b.read(wide))
		if b.over {
			return damaged("a codebook was cut off")
		}
	}
	c.vectors = make([]float32, c.entries*c.dims)
	for e := range c.entries {
		last, divisor := 0.0, 1
		for i := range c.dims {
			at := e*c.dims + i
			if kind == 1 {
				at = e / divisor % n
				if divisor *= n; divisor > c.entries {
					divisor = c.entries + 1
				}
			}
			v := numbers[at]*step + low + last
			if chained {
				last = v
			}
			c.vectors[e*c.dims+i] = float32(v)
		}
	}
	return nil
}

// power tells whether n to the power of e is no more than limit.
func power(n, e, limit int) bool {
	v := 1
	for range e {
		if v *= n; v > limit {
			return false
		}
	}
	return true
}

// scalar reads the number of an entry, -1 where the packet is over or has no word there.
func (c *codebook) scalar(b *bitReader) int {
	at := int32(0)
	for {
		side := b.read(1)
		if b.over {
			return -1
		}
		switch at = c.tree[at][side]; {
		case at < 0:
			return int(-1 - at)
		case at == 0:
			return -1
		}
	}
}

// vector reads the vector of an entry, nil where there is none.
func (c *codebook) vector(b *bitReader) []float32 {
	e := c.scalar(b)
	if e < 0 || c.vectors == nil {
		return nil
	}
	return c.vectors[e*c.dims : (e+1)*c.dims]
}

// floor is a curve through points, of the kind that is numbered 1 (section 7).
type floor struct {
	partitions []int
	classes    []floorClass
	multiplier int
	x          []int
	order      []int // of the points, by x
	low, high  []int // of each point the neighbours among those before it
}

type floorClass struct {
	dims, subclasses, master int
	books                    []int
}

func readFloor(b *bitReader, books int) (*floor, error) {
	switch kind := b.read(16); {
	case kind == 0:
		return nil, damaged("its spectrum is of the oldest kind (floor 0), which is not read")
	case kind > 1:
		return nil, damaged("a floor is of no kind that is known")
	}
	f := &floor{partitions: make([]int, b.read(5))}
	most := -1
	for i := range f.partitions {
		f.partitions[i] = int(b.read(4))
		most = max(most, f.partitions[i])
	}
	f.classes = make([]floorClass, most+1)
	for i := range f.classes {
		c := floorClass{dims: int(b.read(3) + 1), subclasses: int(b.read(2)), master: -1}
		if c.subclasses > 0 {
			if c.master = int(b.read(8)); c.master >= books {
				return nil, damaged("a floor names a codebook that is not there")
			}
		}
		c.books = make([]int, 1<<c.subclasses)
		for k := range c.books {
			if c.books[k] = int(b.read(8)) - 1; c.books[k] >= books {
				return nil, damaged("a floor names a codebook that is not there")
			}
		}
		f.classes[i] = c
	}
	f.multiplier = int(b.read(2) + 1)
	wide := int(b.read(4))
	f.x = []int{0, 1 << wide}
	for _, p := range f.partitions {
		for range f.classes[p].dims {
			f.x = append(f.x, int(b.read(wide)))
		}
	}
	if b.over || len(f.x) > 65 {
		return nil, damaged("a floor is damaged")
	}
	f.order = make([]int, len(f.x))
	for i := range f.order {
		f.order[i] = i
	}
	sort.SliceStable(f.order, func(i, j int) bool { return f.x[f.order[i]] < f.x[f.order[j]] })
	for i := 1; i < len(f.order); i++ {
		if f.x[f.order[i]] == f.x[f.order[i-1]] {
			return nil, damaged("a floor has two points at one place")
		}
	}
	f.low, f.high = make([]int, len(f.x)), make([]int, len(f.x))
	for i := 2; i < len(f.x); i++ {
		f.low[i], f.high[i] = 0, 1
		for j := range i {
			if f.x[j] < f.x[i] && f.x[j] > f.x[f.low[i]] {
				f.low[i] = j
			}
			if f.x[j] > f.x[i] && f.x[j] < f.x[f.high[i]] {
				f.high[i] = j
			}
		}
	}
	return f, nil
}

// residue is what lies on the floor (section 8).
type residue struct {
	kind, begin, end, size int
	classes                int
	book                   int
	books                  [][8]int
}

func readResidue(b *bitReader, books []*codebook) (*residue, error) {
	r := &residue{kind: int(b.read(16)), begin: int(b.read(24)), end: int(b.read(24)), size: int(b.read(24) + 1), classes: int(b.read(6) + 1),
		book: int(b.read(8))}
	if r.kind > 2 || r.end < r.begin || r.book >= len(books) || books[r.book].dims < 1 {
		return nil, damaged("a residue is damaged")
	}
	cascade := make([]uint32, r.classes)
	for i := range cascade {
		cascade[i] = b.read(3)
		if b.flag() {
			cascade[i] |= b.read(5) << 3
		}
	}
	r.books = make([][8]int, r.classes)
	for i := range r.books {
		for k := range 8 {
			r.books[i][k] = -1
			if cascade[i]>>k&1 == 1 {
				n := int(b.read(8))
				if n >= len(books) || books[n].vectors == nil {
					return nil, damaged("a residue names a codebook that is not there")
				}
				r.books[i][k] = n
			}
		}
	}
	if b.over {
		return nil, damaged("a residue was cut off")
	}
	return r, nil
}

// mapping says how channels are coupled, and which floor and residue each has (section 4.2.4).
type mapping struct {
	coupling [][2]int // magnitude and angle
	mux      []int
	floors   []int
	residues []int
}

func readMapping(b *bitReader, channels, floors, residues int) (*mapping, error) {
	if b.read(16) != 0 {
		return nil, damaged("a mapping is of no kind that is known")
	}
	m := &mapping{mux: make([]int, channels)}
	submaps := 1
	if b.flag() {
		submaps = int(b.read(4) + 1)
	}
	if b.flag() {
		m.coupling = make([][2]int, b.read(8)+1)
		for i := range m.coupling {
			n := ilog(uint32(channels - 1))
			c := [2]int{int(b.read(n)), int(b.read(n))}
			if c[0] == c[1] || c[0] >= channels || c[1] >= channels {
				return nil, damaged("a mapping couples channels that are not there")
			}
			m.coupling[i] = c
		}
	}
	if b.read(2) != 0 {
		return nil, damaged("a mapping is damaged")
	}
	if submaps > 1 {
		for i := range m.mux {
			if m.mux[i] = int(b.read(4)); m.mux[i] >= submaps {
				return nil, damaged("a mapping is damaged")
			}
		}
	}
	for range submaps {
		b.read(8)
		f, r := int(b.read(8)), int(b.read(8))
		if f >= floors || r >= residues {
			return nil, damaged("a mapping names what is not there")
		}
		m.floors, m.residues = append(m.floors, f), append(m.residues, r)
	}
	if b.over {
		return nil, damaged("a mapping was cut off")
	}
	return m, nil
}
