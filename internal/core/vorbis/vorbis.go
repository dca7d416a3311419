// Package vorbis decodes sounds in Ogg Vorbis ("Vorbis I specification", Xiph.Org, 2020; the numbers of sections are those of that text)
// into samples. There is no kept package for it to be had here. It is for looking at sounds, not for playing them as they come: seeking is
// left out, and so is the oldest kind of spectrum (floor 0), which no encoder of the last twenty years has written.
package vorbis

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"gonum.org/v1/gonum/dsp/fourier"
)

// ErrDamaged is wrapped where a file is not as the specification has it; the rest of the error says why.
var ErrDamaged = errors.New("it is no sound that can be decoded")

func damaged(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrDamaged, fmt.Sprintf(format, args...))
}

// Decoder decodes one stream from its start. Not safe for concurrent use.
type Decoder struct {
	// Channels and Rate (in Hz) are those of the stream.
	Channels, Rate int

	in       *reader
	sizes    [2]int // of blocks, in samples
	books    []*codebook
	floors   []*floor
	residues []*residue
	mappings []*mapping
	modes    []mode
	slopes   [2][]float32 // the rising half of each window
	mdct     [2]*mdct
	tail     [][]float32 // of each channel: the second half of the block before
	given    int64       // samples a channel
	left     []float32   // decoded, and not asked for yet: all channels in turn
	done     bool
}

type mode struct {
	long    bool
	mapping int
}

// MaxChannels is how many channels a stream may have.
const MaxChannels = 16

// NewDecoder reads the headers of a stream.
func NewDecoder(r io.Reader) (*Decoder, error) {
	d := &Decoder{in: &reader{pages: newPages(r)}}
	for i, read := range []func(*bitReader) error{d.identification, func(*bitReader) error { return nil }, d.setup} {
		packet, err := d.in.next()
		if err == io.EOF {
			return nil, damaged("it ends before its headers do")
		}
		if err != nil {
			return nil, err
		}
		if len(packet) < 7 || packet[0] != byte(1+2*i) || string(packet[1:7]) != "vorbis" {
			return nil, damaged("it does not start like Vorbis")
		}
		if err := read(&bitReader{data: packet[7:]}); err != nil {
			return nil, err
		}
	}
	d.tail = make([][]float32, d.Channels)
	return d, nil
}

func (d *Decoder) identification(b *bitReader) error {
	if len(b.data) < 23 || binary.LittleEndian.Uint32(b.data) != 0 {
		return damaged("its version is not known")
	}
	d.Channels, d.Rate = int(b.data[4]), int(binary.LittleEndian.Uint32(b.data[5:]))
	d.sizes = [2]int{1 << (b.data[21] & 15), 1 << (b.data[21] >> 4)}
	if d.Channels < 1 || d.Channels > MaxChannels || d.Rate < 1 || d.sizes[0] < 64 || d.sizes[1] > 8192 || d.sizes[0] > d.sizes[1] {
		return damaged("it says that it has %d channels, %d Hz and blocks of %d and %d samples", d.Channels, d.Rate, d.sizes[0], d.sizes[1])
	}
	for i, n := range d.sizes {
		d.slopes[i] = make([]float32, n/2)
		for k := range d.slopes[i] {
			s := math.Sin((float64(k) + 0.5) / float64(n/2) * math.Pi / 2)
			d.slopes[i][k] = float32(math.Sin(math.Pi / 2 * s * s))
		}
		d.mdct[i] = newMDCT(n)
	}
	return nil
}

func (d *Decoder) setup(b *bitReader) error {
	left := &room{maxEntries, maxVectors}
	for range b.read(8) + 1 {
		book, err := readCodebook(b, left)
		if err != nil {
			return err
		}
		d.books = append(d.books, book)
	}
	for range b.read(6) + 1 {
		if b.read(16) != 0 {
			return damaged("it transforms time in a way that is not known")
		}
	}
	for range b.read(6) + 1 {
		f, err := readFloor(b, len(d.books))
		if err != nil {
			return err
		}
		d.floors = append(d.floors, f)
	}
	for range b.read(6) + 1 {
		r, err := readResidue(b, d.books)
		if err != nil {
			return err
		}
		d.residues = append(d.residues, r)
	}
	for range b.read(6) + 1 {
		m, err := readMapping(b, d.Channels, len(d.floors), len(d.residues))
		if err != nil {
			return err
		}
		d.mappings = append(d.mappings, m)
	}
	for range b.read(6) + 1 {
		m := mode{long: b.flag()}
		kinds := b.read(32)
		if m.mapping = int(b.read(8)); kinds != 0 || m.mapping >= len(d.mappings) {
			return damaged("a mode is damaged")
		}
		d.modes = append(d.modes, m)
	}
	if !b.flag() || b.over {
		return damaged("its setup does not end where it should")
	}
	return nil
}

// Read gives the next samples, all channels in turn, mostly from -1 to 1, and io.EOF after the last.
func (d *Decoder) Read(block []float32) (int, error) {
	for len(d.left) == 0 {
		if d.done {
			return 0, io.EOF
		}
		packet, err := d.in.next()
		if err == io.EOF {
			d.done = true
			continue
		}
		if err != nil {
			return 0, err
		}
		if err := d.decode(&bitReader{data: packet}); err != nil {
			return 0, err
		}
		// The last page says where the sound ends; it may be within a block.
		if n := int64(len(d.left) / d.Channels); d.in.ended && len(d.in.segments) == 0 && d.in.last >= 0 && d.given+n > d.in.last {
			d.left = d.left[:max(0, d.in.last-d.given)*int64(d.Channels)]
		}
		d.given += int64(len(d.left) / d.Channels)
	}
	n := copy(block, d.left)
	d.left = d.left[n:]
	return n, nil
}

// decode decodes a packet of sound (section 4.3). What is damaged within it is silent, as the specification has it.
func (d *Decoder) decode(b *bitReader) error {
	if b.flag() {
		return nil // no sound
	}
	number := int(b.read(ilog(uint32(len(d.modes) - 1))))
	if b.over || number >= len(d.modes) {
		return nil
	}
	m := d.modes[number]
	size, before, behind := 0, 0, 0
	if m.long {
		size, before, behind = 1, int(b.read(1)), int(b.read(1))
	}
	n := d.sizes[size]
	mapped := d.mappings[m.mapping]

	curves, spectra := make([][]float32, d.Channels), make([][]float32, d.Channels)
	heard := make([]bool, d.Channels)
	for c := range d.Channels {
		curves[c] = d.floors[mapped.floors[mapped.mux[c]]].decode(b, d.books, n/2)
		heard[c] = curves[c] != nil
		spectra[c] = make([]float32, n/2)
	}
	for _, k := range mapped.coupling {
		if heard[k[0]] || heard[k[1]] {
			heard[k[0]], heard[k[1]] = true, true
		}
	}
	for i, number := range mapped.residues {
		var into [][]float32
		var skip []bool
		for c, s := range mapped.mux {
			if s == i {
				into, skip = append(into, spectra[c]), append(skip, !heard[c])
			}
		}
		d.residues[number].decode(b, d.books, into, skip)
	}
	for i := len(mapped.coupling) - 1; i >= 0; i-- {
		uncouple(spectra[mapped.coupling[i][0]], spectra[mapped.coupling[i][1]])
	}
	d.left = d.left[:0]
	var out int
	for c := range d.Channels {
		block := make([]float32, n)
		if curves[c] != nil {
			for i, v := range curves[c] {
				spectra[c][i] *= v
			}
			d.mdct[size].inverse(spectra[c], block)
		}
		d.window(block, size, before, behind)
		if tail := d.tail[c]; tail != nil {
			// The middle of the block before and that of this one are half of both apart (section 4.3.8).
			if out = len(tail)/2 + n/4; cap(d.left) < out*d.Channels {
				d.left = make([]float32, out*d.Channels)
			}
			d.left = d.left[:out*d.Channels]
			for i := range out {
				v := float32(0)
				if i < len(tail) {
					v = tail[i]
				}
				if k := i + n/2 - out; k >= 0 {
					v += block[k]
				}
				d.left[i*d.Channels+c] = v
			}
		}
		d.tail[c] = block[n/2:]
	}
	return nil
}

// window lays a window over a block: a long one next to a short one has a short slope there (section 4.3.1).
func (d *Decoder) window(block []float32, size, before, behind int) {
	n := len(block)
	slope := func(flag int) []float32 { return d.slopes[min(size, max(flag, 0))] }
	rise := slope(before)
	start := n/4 - len(rise)/2
	clear(block[:start])
	for i, v := range rise {
		block[start+i] *= v
	}
	fall := slope(behind)
	start = n*3/4 - len(fall)/2
	for i := range fall {
		block[start+i] *= fall[len(fall)-1-i]
	}
	clear(block[start+len(fall):])
}

// decibels are the heights of a floor: each is 140/256 dB above the one before, up to 1 (the table of section 10.1).
var decibels = func() (t [256]float32) {
	for i := range t {
		t[i] = float32(math.Pow(10, float64(i-255)*7/256))
	}
	return t
}()

// decode reads the curve of a channel in a packet, n long; nil where it is silent (sections 7.2.3 and 7.2.4).
func (f *floor) decode(b *bitReader, books []*codebook, n int) []float32 {
	if !b.flag() {
		return nil
	}
	span := [4]int{256, 128, 86, 64}[f.multiplier-1]
	y := make([]int, 2, len(f.x))
	y[0], y[1] = int(b.read(ilog(uint32(span-1)))), int(b.read(ilog(uint32(span-1))))
	for _, p := range f.partitions {
		c := f.classes[p]
		value := 0
		if c.subclasses > 0 {
			if value = books[c.master].scalar(b); value < 0 {
				return nil
			}
		}
		for range c.dims {
			v := 0
			if book := c.books[value&(len(c.books)-1)]; book >= 0 {
				v = books[book].scalar(b)
			}
			value >>= c.subclasses
			if v < 0 {
				return nil
			}
			y = append(y, v)
		}
	}
	if b.over {
		return nil
	}
	used := make([]bool, len(y))
	used[0], used[1] = true, true
	for i := 2; i < len(y); i++ {
		low, high := f.low[i], f.high[i]
		guess := between(f.x[low], y[low], f.x[high], y[high], f.x[i])
		above, below := span-guess, guess
		v := y[i]
		y[i] = guess
		if v == 0 {
			continue
		}
		used[low], used[high], used[i] = true, true, true
		switch {
		case v >= 2*min(above, below) && above > below:
			y[i] = v - below + guess
		case v >= 2*min(above, below):
			y[i] = guess - v + above - 1
		case v&1 == 1:
			y[i] = guess - (v+1)/2
		default:
			y[i] = guess + v/2
		}
	}
	curve := make([]float32, n)
	x0, y0 := 0, y[f.order[0]]*f.multiplier
	for _, i := range f.order[1:] {
		if used[i] {
			y1 := y[i] * f.multiplier
			draw(curve, x0, y0, f.x[i], y1)
			x0, y0 = f.x[i], y1
		}
	}
	draw(curve, x0, y0, n, y0)
	return curve
}

// between is where a line is at x (section 9.2.6).
func between(x0, y0, x1, y1, x int) int {
	dy := y1 - y0
	off := max(dy, -dy) * (x - x0) / (x1 - x0)
	if dy < 0 {
		return y0 - off
	}
	return y0 + off
}

// draw draws a line in whole steps, from x0 up to before x1 (section 9.2.7).
func draw(curve []float32, x0, y0, x1, y1 int) {
	if x1 <= x0 {
		return
	}
	dy, adx := y1-y0, x1-x0
	base := dy / adx
	step := base + 1
	if dy < 0 {
		step = base - 1
	}
	ady := max(dy, -dy) - max(base, -base)*adx
	err, y := 0, y0
	for x := x0; x < min(x1, len(curve)); x++ {
		if x > x0 {
			if err += ady; err >= adx {
				err -= adx
				y += step
			} else {
				y += base
			}
		}
		curve[x] = decibels[min(255, max(0, y))]
	}
}

// decode adds what lies on the floors of channels; those to be skipped stay silent (section 8.6).
func (r *residue) decode(b *bitReader, books []*codebook, into [][]float32, skip []bool) {
	if len(into) == 0 {
		return
	}
	if r.kind < 2 {
		r.partitions(b, books, into, skip)
		return
	}
	all := true
	for _, s := range skip {
		all = all && s
	}
	if all {
		return
	}
	// All channels in one vector, in turn.
	joined := make([]float32, len(into)*len(into[0]))
	r.partitions(b, books, [][]float32{joined}, []bool{false})
	for i, v := range joined {
		into[i%len(into)][i/len(into)] = v
	}
}

func (r *residue) partitions(b *bitReader, books []*codebook, into [][]float32, skip []bool) {
	size := len(into[0])
	begin, end := min(r.begin, size), min(r.end, size)
	count := (end - begin) / r.size
	words := books[r.book].dims
	classes := make([][]int, len(into))
	for c := range classes {
		classes[c] = make([]int, count+words)
	}
	for pass := range 8 {
		for at := 0; at < count; {
			if pass == 0 {
				for c := range into {
					if skip[c] {
						continue
					}
					v := books[r.book].scalar(b)
					if v < 0 {
						return
					}
					for i := words - 1; i >= 0; i-- {
						classes[c][at+i] = v % r.classes
						v /= r.classes
					}
				}
			}
			for i := 0; i < words && at < count; i++ {
				for c := range into {
					if skip[c] {
						continue
					}
					if book := r.books[classes[c][at]][pass]; book >= 0 && !r.partition(b, books[book], into[c][begin+at*r.size:][:r.size]) {
						return
					}
				}
				at++
			}
		}
	}
}

// partition adds vectors to a stretch; false where the packet is over.
func (r *residue) partition(b *bitReader, book *codebook, into []float32) bool {
	if r.kind == 0 {
		step := len(into) / book.dims
		for i := range step {
			v := book.vector(b)
			if v == nil {
				return false
			}
			for k, x := range v {
				into[i+k*step] += x
			}
		}
		return true
	}
	for i := 0; i < len(into); {
		v := book.vector(b)
		if v == nil {
			return false
		}
		for _, x := range v[:min(len(v), len(into)-i)] {
			into[i] += x
			i++
		}
	}
	return true
}

// uncouple makes two channels of magnitude and angle (section 4.3.5).
func uncouple(magnitude, angle []float32) {
	for i, m := range magnitude {
		a := angle[i]
		switch {
		case m > 0 && a > 0:
			angle[i] = m - a
		case m > 0:
			angle[i], magnitude[i] = m, m+a
		case a > 0:
			angle[i] = m + a
		default:
			angle[i], magnitude[i] = m, m-a
		}
	}
}

// mdct is the inverse modified discrete cosine transform: with m = n/2 spectral lines X,
// y[t] = sum over k of X[k] cos(pi/(2n) (2t + 1 + m)(2k + 1)), for t up to n. That is a DCT-IV of m lines, d, with its mirrored ends, and a
// DCT-IV is a Fourier transform of m/2 complex numbers, turned before and behind it (Britanak, Yip and Rao, Discrete Cosine and Sine
// Transforms, 2007, chapter 4).
type mdct struct {
	fft     *fourier.CmplxFFT
	turns   []complex128
	in, out []complex128
	d       []float32
}

func newMDCT(n int) *mdct {
	m := n / 2
	t := &mdct{fft: fourier.NewCmplxFFT(m / 2), turns: make([]complex128, m/2), in: make([]complex128, m/2), out: make([]complex128, m/2),
		d: make([]float32, m)}
	for i := range t.turns {
		sin, cos := math.Sincos(-math.Pi * float64(8*i+1) / float64(8*m))
		t.turns[i] = complex(cos, sin)
	}
	return t
}

func (t *mdct) inverse(spectrum, block []float32) {
	m := len(t.d)
	for i, turn := range t.turns {
		t.in[i] = complex(float64(spectrum[2*i]), float64(spectrum[m-1-2*i])) * turn
	}
	for i, v := range t.fft.Coefficients(t.out, t.in) {
		v *= t.turns[i]
		t.d[2*i], t.d[m-1-2*i] = float32(real(v)), float32(-imag(v))
	}
	for i, v := range t.d[m/2:] {
		block[i], block[m-1-i] = v, -v
	}
	for i, v := range t.d[:m/2] {
		block[3*m/2-1-i], block[3*m/2+i] = -v, -v
	}
}
