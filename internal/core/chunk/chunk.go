// Package chunk cuts a content into chunks where the content itself says so, and names each by its BLAKE3-256 digest.
//
// The cut is the normalised content-defined chunking of the FastCDC paper (Xia et al., USENIX ATC 2016): a gear hash rolls over
// the bytes; a chunk ends where the hash's top bits are zero, with more bits asked for below the wanted size than above it.
// The exact definition, with test vectors, is in docs/formats.md. The package does no I/O but reading from the reader it is given.
// Cutter cuts a stream; Scan cuts a file, with all cores and with the cuts of an earlier version to try first.
package chunk

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"

	"github.com/zeebo/blake3"
)

// Format is the version of the cutting rules. Content cut under another version still reads back, but shares fewer chunks.
const Format = 1

// Sizes of a chunk in bytes. Only the last chunk of a content may be smaller than Min.
const (
	Min     = 64 << 10
	Average = 256 << 10
	Max     = 1 << 20
)

// The top bits that have to be zero: two more than log2(Average) before Average is reached, two fewer after it.
const (
	maskBefore = uint64(1<<20-1) << 44
	maskAfter  = uint64(1<<16-1) << 48
)

// gearContext is the constant that the gear table is derived from.
const gearContext = "kettle tarn 2026 chunk gear table v1"

var gear = func() (table [256]uint64) {
	var raw [256 * 8]byte
	blake3.DeriveKey(gearContext, nil, raw[:])
	for i := range table {
		table[i] = binary.LittleEndian.Uint64(raw[i*8:])
	}
	return table
}()

// A Digest is the BLAKE3-256 of a chunk or of a whole content.
type Digest [32]byte

// Sum is the digest of b.
func Sum(b []byte) Digest { return sum(b) }

// String gives 64 hex digits.
func (d Digest) String() string { return hex.EncodeToString(d[:]) }

// MarshalText and UnmarshalText carry a digest as 64 hex digits.
func (d Digest) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

func (d *Digest) UnmarshalText(text []byte) error {
	parsed, err := ParseDigest(string(text))
	*d = parsed
	return err
}

// MarshalCBOR and UnmarshalCBOR carry a digest as a byte string of 32 bytes (RFC 8949).
func (d Digest) MarshalCBOR() ([]byte, error) { return append([]byte{0x58, 32}, d[:]...), nil }

func (d *Digest) UnmarshalCBOR(data []byte) error {
	if len(data) != 34 || data[0] != 0x58 || data[1] != 32 {
		return errors.New("a digest is a byte string of 32 bytes")
	}
	copy(d[:], data[2:])
	return nil
}

// ParseDigest reads 64 hex digits.
func ParseDigest(s string) (d Digest, err error) {
	if len(s) != 64 {
		return d, fmt.Errorf("a digest has 64 hex digits, not %d", len(s))
	}
	if _, err := hex.Decode(d[:], []byte(s)); err != nil {
		return Digest{}, errors.New("a digest has hex digits only")
	}
	return d, nil
}

// Cut returns the length of the first chunk of data. data holds at least Max bytes, or all that is left of the content.
func Cut(data []byte) int {
	n := min(len(data), Max)
	if n <= Min {
		return n
	}
	data = data[Min:n] // the hash begins here
	if at := find(data[:min(n, Average)-Min], 0, maskBefore); at >= 0 {
		return Min + at + 1
	}
	if n <= Average {
		return n
	}
	if at := find(data, Average-Min, maskAfter); at >= 0 {
		return Min + at + 1
	}
	return n
}

// A hash of 64 bits that is shifted by one for each byte knows of the last window bytes only. So two places of the data can be looked at in
// turns, each a lane of its own, and the processor does both in the time of one. A lane is that many bytes long.
const (
	window = 64
	lane   = 4096
)

// find is the first place of data, from on, at which the hash that begins with data has only zeros under a mask; -1 where there is none.
// from is 0 or at least window.
func find(data []byte, from int, mask uint64) int {
	at := from
	if at < window {
		var h uint64
		for i, b := range data[:min(window, len(data))] {
			if h = h<<1 + gear[b]; h&mask == 0 {
				return i
			}
		}
		at = window
	}
	for len(data)-at >= 2*lane {
		first := data[at : at+lane : at+lane]
		second := data[at+lane : at+2*lane : at+2*lane]
		h, k := hash(data[at-window:at]), hash(first[lane-window:])
		later := -1
		for i := range first {
			h, k = h<<1+gear[first[i]], k<<1+gear[second[i]]
			if h&mask == 0 {
				return at + i
			}
			if k&mask == 0 && later < 0 {
				later = at + lane + i
			}
		}
		if later >= 0 {
			return later
		}
		at += 2 * lane
	}
	if at >= len(data) {
		return -1
	}
	h := hash(data[at-window : at])
	for i, b := range data[at:] {
		if h = h<<1 + gear[b]; h&mask == 0 {
			return at + i
		}
	}
	return -1
}

// hash is that of window bytes.
func hash(data []byte) (h uint64) {
	for _, b := range data {
		h = h<<1 + gear[b]
	}
	return h
}

// A Cutter cuts what it reads into chunks. It holds at most 4 Max bytes, however large the content. Not safe for concurrent use.
type Cutter struct {
	r          io.Reader
	buf        []byte
	start, end int
	err        error
}

// NewCutter returns a Cutter over r.
func NewCutter(r io.Reader) *Cutter { return &Cutter{r: r, buf: make([]byte, 4*Max)} }

// Reset makes the Cutter begin anew with another reader.
func (c *Cutter) Reset(r io.Reader) { c.r, c.start, c.end, c.err = r, 0, 0, nil }

// Next returns the next chunk, valid until the next call, and io.EOF after the last one. An empty content has no chunks.
func (c *Cutter) Next() ([]byte, error) {
	for c.end-c.start < Max && c.err == nil {
		if len(c.buf)-c.end < Max {
			c.end = copy(c.buf, c.buf[c.start:c.end])
			c.start = 0
		}
		var n int
		n, c.err = c.r.Read(c.buf[c.end:])
		c.end += n
	}
	if c.err != nil && c.err != io.EOF {
		return nil, c.err
	}
	if c.start == c.end {
		return nil, io.EOF
	}
	n := Cut(c.buf[c.start:c.end])
	c.start += n
	return c.buf[c.start-n : c.start], nil
}

// A Ref names one chunk of a content. Size is in bytes, 1 to Max.
type Ref struct {
	_      struct{} `cbor:",toarray"`
	Digest Digest
	Size   int
}
