package pack

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"sync"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"

	"kettletarn/internal/core/chunk"
)

var encoders = sync.Pool{New: func() any {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(chunk.Max),
		zstd.WithEncoderCRC(false))
	if err != nil {
		panic(err)
	}
	return e
}}

var decoder = func() *zstd.Decoder {
	d, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(chunk.Max), zstd.WithDecoderConcurrency(0))
	if err != nil {
		panic(err)
	}
	return d
}()

// compress appends data to dst as an S2 block where that saves a thirtieth or more, or else as it is. S2 is what content travels and is
// first kept in: it costs a fifth of what zstd does. See [Record.Pressed] for what comes later.
func compress(dst, data []byte) (out []byte, codec uint8) {
	if dense(data) {
		return append(dst, data...), Plain
	}
	start := len(dst)
	dst = slices.Grow(dst, s2.MaxEncodedLen(len(data)))
	out = s2.Encode(dst[start:cap(dst)], data)
	if len(out) < len(data)-len(data)/32 {
		return dst[:start+len(out)], S2
	}
	return append(dst, data...), Plain
}

// Pressed is the record of data, which Decode gave, as it is kept for long: as a zstd frame where that helps, and else as it is. The frame
// is written into buf.
func (r *Record) Pressed(buf, data []byte) Record {
	out := *r
	if r.Codec == Zstd {
		return out
	}
	out.Codec, out.Data = Plain, data
	if dense(data) {
		return out
	}
	e := encoders.Get().(*zstd.Encoder)
	defer encoders.Put(e)
	if packed := e.EncodeAll(data, buf[:0]); len(packed) < len(data)-len(data)/32 {
		out.Codec, out.Data = Zstd, packed
	}
	return out
}

// sample is how many bytes in each of three places dense looks at.
const sample = 4 << 10

// shares is how many bits a byte value that is there so often in a sample stands for, all of them together.
var shares = func() (table [sample + 1]float32) {
	for c := 1; c <= sample; c++ {
		table[c] = float32(float64(c) * (math.Log2(sample) - math.Log2(float64(c))))
	}
	return table
}()

// dense recognises cheaply what is compressed or noise already: its bytes are all equally frequent, in samples from three places.
func dense(data []byte) bool {
	if len(data) < 4*sample {
		return false
	}
	for _, at := range []int{0, len(data)/2 - sample/2, len(data) - sample} {
		var counts [256]uint16
		for _, b := range data[at : at+sample] {
			counts[b]++
		}
		bits := float32(0)
		for _, c := range counts {
			bits += shares[c]
		}
		// Noise has 7.95 bits a byte in a sample of this size.
		if bits < 7.9*sample {
			return false
		}
	}
	return true
}

// Encode makes a record, compressed where that helps. The record shares no memory with data.
func Encode(kind uint8, digest chunk.Digest, data []byte) Record {
	packed, codec := compress(make([]byte, 0, len(data)+16), data)
	return Record{Kind: kind, Digest: digest, Codec: codec, Size: len(data), Data: packed}
}

// Decode gives back what a record keeps, after checking it against its digest. buf may be reused for the result, which may share
// memory with the record. The error wraps ErrDamaged.
func (r *Record) Decode(buf []byte) ([]byte, error) {
	if r.Size < 1 || r.Size > chunk.Max || len(r.Data) > chunk.Max {
		return nil, fmt.Errorf("chunk %s claims %d bytes, and a chunk has 1 to %d: %w", r.Digest, r.Size, chunk.Max, ErrDamaged)
	}
	data := r.Data
	switch r.Codec {
	case Plain:
	case Zstd:
		var err error
		if data, err = decoder.DecodeAll(r.Data, buf[:0]); err != nil {
			return nil, fmt.Errorf("chunk %s does not unpack (%v): %w", r.Digest, err, ErrDamaged)
		}
	case S2:
		n, err := s2.DecodedLen(r.Data)
		if err == nil && n != r.Size {
			err = fmt.Errorf("it has %d bytes, and %d are claimed", n, r.Size)
		}
		if err == nil {
			data, err = s2.Decode(slices.Grow(buf[:0], n)[:n], r.Data)
		}
		if err != nil {
			return nil, fmt.Errorf("chunk %s does not unpack (%v): %w", r.Digest, err, ErrDamaged)
		}
	default:
		return nil, fmt.Errorf("chunk %s has the unknown codec %d: %w", r.Digest, r.Codec, ErrDamaged)
	}
	if len(data) != r.Size {
		return nil, fmt.Errorf("chunk %s has %d bytes, and %d are claimed: %w", r.Digest, len(data), r.Size, ErrDamaged)
	}
	if chunk.Sum(data) != r.Digest {
		return nil, fmt.Errorf("chunk %s does not match its digest: %w", r.Digest, ErrDamaged)
	}
	return data, nil
}

// Own returns the record as this package would have made it of data, which Decode gave: a frame in a form that ours never have
// (several frames, unused bytes, an unknown size, a dictionary) is encoded anew, so that nothing unchecked is kept.
func (r *Record) Own(data []byte) Record {
	if r.Codec != Zstd || plainFrame(r.Data, len(data)) {
		return *r
	}
	return Encode(r.Kind, r.Digest, data)
}

// plainFrame reports whether data is exactly one zstd frame (RFC 8878) that states its size and needs no dictionary.
func plainFrame(data []byte, size int) bool {
	var h zstd.Header
	if h.Decode(data) != nil || h.Skippable || h.DictionaryID != 0 || !h.HasFCS || h.FrameContentSize != uint64(size) ||
		h.WindowSize > chunk.Max {
		return false
	}
	for at := h.HeaderSize; at+3 <= len(data); {
		head := uint32(data[at]) | uint32(binary.LittleEndian.Uint16(data[at+1:]))<<8
		body := int(head >> 3)
		if head>>1&3 == 1 { // one byte, repeated
			body = 1
		}
		if at += 3 + body; head&1 == 1 {
			if h.HasCheckSum {
				at += 4
			}
			return at == len(data)
		}
	}
	return false
}
