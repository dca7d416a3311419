// Package pack is the file format in which chunks lie in a store: many chunks, one immutable file. It works over io.Writer and
// io.ReaderAt and knows no store. The layout is specified in docs/formats.md and repeated beside the constants below.
package pack

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"

	"kettletarn/internal/core/chunk"
)

// A pack is
//
//	magic     8 bytes  "KTPACK" and the format version as two digits
//	record    one or more, each
//	  codec     1 byte   0 plain, 1 one zstd frame (RFC 8878)
//	  size      4 bytes  of the chunk, little endian
//	  stored    4 bytes  of the data that follows the digest, little endian
//	  digest   32 bytes  BLAKE3-256 of the chunk
//	  data
//	index     for each record: offset of its data (8 bytes), then codec, size, stored and digest as above
//	footer    count (4 bytes), BLAKE3-256 of the index (32 bytes), and the magic again
//
// The footer stands at the end so that a pack is written in one pass; a pack that was cut off has none, and is refused whole.
const (
	magic       = "KTPACK01"
	headSize    = 1 + 4 + 4 + 32
	indexSize   = 8 + headSize
	footerSize  = 4 + 32 + len(magic)
	maxRecords  = 1 << 20
	maxExpanded = chunk.Max
)

// Codecs.
const (
	Plain = 0
	Zstd  = 1
)

// ErrDamaged is wrapped by every error about content that is not what it should be.
var ErrDamaged = errors.New("damaged")

// A Record is one chunk as it is stored and as it travels. On the wire it is a CBOR array of four (docs/protocol.md).
type Record struct {
	_      struct{} `cbor:",toarray"`
	Digest chunk.Digest
	Codec  uint8
	Size   int
	Data   []byte
}

// An Entry says where in a pack the data of one record lies.
type Entry struct {
	Digest chunk.Digest
	Codec  uint8
	Size   int
	Stored int
	Offset int64
}

var encoders = sync.Pool{New: func() any {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(chunk.Max))
	if err != nil {
		panic(err)
	}
	return e
}}

var decoder = func() *zstd.Decoder {
	d, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxExpanded), zstd.WithDecoderConcurrency(0))
	if err != nil {
		panic(err)
	}
	return d
}()

// Encode makes the record of a chunk, compressed where that helps. The record may share data's memory.
func Encode(digest chunk.Digest, data []byte) Record {
	e := encoders.Get().(*zstd.Encoder)
	defer encoders.Put(e)
	if packed := e.EncodeAll(data, make([]byte, 0, len(data)/2+512)); len(packed) < len(data)-len(data)/32 {
		return Record{Digest: digest, Codec: Zstd, Size: len(data), Data: packed}
	}
	return Record{Digest: digest, Codec: Plain, Size: len(data), Data: data}
}

// Decode gives the chunk of a record back, after checking it against its digest. buf may be reused for the result. The error
// wraps ErrDamaged.
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

// A Writer writes one pack. Not safe for concurrent use.
type Writer struct {
	w       io.Writer
	offset  int64
	entries []Entry
	err     error
}

// NewWriter starts a pack on w.
func NewWriter(w io.Writer) *Writer {
	p := &Writer{w: w}
	p.write([]byte(magic))
	return p
}

func (p *Writer) write(b []byte) {
	if p.err != nil {
		return
	}
	n, err := p.w.Write(b)
	p.offset += int64(n)
	p.err = err
}

// Add appends a record. The caller has checked it.
func (p *Writer) Add(r Record) error {
	if len(p.entries) == maxRecords {
		return fmt.Errorf("a pack holds at most %d chunks", maxRecords)
	}
	e := Entry{Digest: r.Digest, Codec: r.Codec, Size: r.Size, Stored: len(r.Data)}
	p.write(appendHead(nil, e))
	e.Offset = p.offset
	p.write(r.Data)
	p.entries = append(p.entries, e)
	return p.err
}

// Size is the number of bytes written so far.
func (p *Writer) Size() int64 { return p.offset }

// Close writes index and footer, and returns where everything lies. It does not close what is below.
func (p *Writer) Close() ([]Entry, error) {
	var index bytes.Buffer
	for _, e := range p.entries {
		index.Write(binary.LittleEndian.AppendUint64(nil, uint64(e.Offset)))
		index.Write(appendHead(nil, e))
	}
	sum := chunk.Sum(index.Bytes())
	p.write(index.Bytes())
	p.write(binary.LittleEndian.AppendUint32(nil, uint32(len(p.entries))))
	p.write(sum[:])
	p.write([]byte(magic))
	return p.entries, p.err
}

func appendHead(b []byte, e Entry) []byte {
	b = append(b, e.Codec)
	b = binary.LittleEndian.AppendUint32(b, uint32(e.Size))
	b = binary.LittleEndian.AppendUint32(b, uint32(e.Stored))
	return append(b, e.Digest[:]...)
}

// ReadIndex reads the entries of a pack of size bytes. The error wraps ErrDamaged where the pack is not whole.
func ReadIndex(r io.ReaderAt, size int64) ([]Entry, error) {
	if size < int64(len(magic)+footerSize) {
		return nil, fmt.Errorf("a pack of %d bytes is cut off: %w", size, ErrDamaged)
	}
	footer := make([]byte, footerSize)
	if _, err := r.ReadAt(footer, size-int64(footerSize)); err != nil {
		return nil, err
	}
	if string(footer[4+32:]) != magic {
		return nil, fmt.Errorf("the pack has no footer: %w", ErrDamaged)
	}
	count := int64(binary.LittleEndian.Uint32(footer))
	start := size - int64(footerSize) - count*indexSize
	if count > maxRecords || start < int64(len(magic)) {
		return nil, fmt.Errorf("the pack's footer claims %d chunks: %w", count, ErrDamaged)
	}
	index := make([]byte, count*indexSize)
	if _, err := r.ReadAt(index, start); err != nil {
		return nil, err
	}
	if sum := chunk.Sum(index); !bytes.Equal(sum[:], footer[4:4+32]) {
		return nil, fmt.Errorf("the pack's index does not match its digest: %w", ErrDamaged)
	}
	entries := make([]Entry, count)
	for i := range entries {
		b := index[int64(i)*indexSize:]
		e := Entry{
			Offset: int64(binary.LittleEndian.Uint64(b)),
			Codec:  b[8],
			Size:   int(binary.LittleEndian.Uint32(b[9:])),
			Stored: int(binary.LittleEndian.Uint32(b[13:])),
		}
		copy(e.Digest[:], b[17:])
		if e.Offset < int64(len(magic)+headSize) || e.Offset+int64(e.Stored) > start || e.Size < 1 || e.Size > chunk.Max {
			return nil, fmt.Errorf("entry %d of the pack points outside it: %w", i, ErrDamaged)
		}
		entries[i] = e
	}
	return entries, nil
}
