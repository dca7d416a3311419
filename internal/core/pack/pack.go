// Package pack is the file format in which content lies in a store: many records, one immutable file. It works over io.Writer and
// io.ReaderAt and knows no store. The layout is specified in docs/formats.md and repeated beside the constants below; the form in
// which records travel is in wire.go, their compression in codec.go.
package pack

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"kettletarn/internal/core/chunk"
)

// A pack is
//
//	magic     8 bytes  "KTPACK" and the format version as two digits
//	record    one or more, each as it travels (wire.go): a head of 47 bytes, and the data
//	index     for each record: offset of its data (8 bytes), and, numbers little endian,
//	  kind      1 byte   0 chunk, 1 manifest node, 2 tree node, 3 handoff, 4 branch, 5 release of a kit
//	  codec     1 byte   0 plain, 1 one zstd frame (RFC 8878), 2 one S2 block
//	  size      4 bytes  of what is kept
//	  stored    4 bytes  of the data
//	  digest   32 bytes  BLAKE3-256 of what is kept
//	footer    count (4 bytes), BLAKE3-256 of the index (32 bytes), and the magic again
//
// A stretch of records is a stretch of an answer: it is handed out as it lies, by the system alone where that can ([Travels]).
//
// Versions 2 (without S2) and 3 have the head of the index, without the offset, before each record. They are read as well, and no longer
// written.
//
// The footer stands at the end so that a pack is written in one pass; a pack that was cut off has none, and is refused whole.
const (
	magic      = "KTPACK04"
	magicV3    = "KTPACK03"
	magicV2    = "KTPACK02"
	headSize   = 1 + 1 + 4 + 4 + 32
	indexSize  = 8 + headSize
	footerSize = 4 + 32 + len(magic)
	maxRecords = 1 << 20
)

// Kinds of record.
const (
	Chunk    = 0
	Manifest = 1
	Node     = 2
	Handoff  = 3
	Branch   = 4 // as a release, it never travels: who brings content brings no history
	Release  = 5
)

// Codecs.
const (
	Plain = 0
	Zstd  = 1
	S2    = 2 // the block format of package s2 of klauspost/compress; docs/formats.md has what it is
)

// ErrDamaged is wrapped by every error about content that is not what it should be.
var ErrDamaged = errors.New("damaged")

// A Record is one piece of content as it is stored and as it travels. Size is 1 to chunk.Max bytes.
type Record struct {
	Kind   uint8
	Digest chunk.Digest
	Codec  uint8
	Size   int
	Data   []byte
}

// An Entry says where in a pack the data of one record lies.
type Entry struct {
	Kind   uint8
	Digest chunk.Digest
	Codec  uint8
	Size   int
	Stored int
	Offset int64
}

// A Writer writes one pack. Not safe for concurrent use.
type Writer struct {
	w       io.Writer
	offset  int64
	entries []Entry
	head    []byte
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
		return fmt.Errorf("a pack holds at most %d records", maxRecords)
	}
	e := Entry{Kind: r.Kind, Digest: r.Digest, Codec: r.Codec, Size: r.Size, Stored: len(r.Data)}
	p.head = AppendHead(p.head[:0], r)
	p.write(p.head)
	e.Offset = p.offset
	p.write(r.Data)
	p.entries = append(p.entries, e)
	return p.err
}

// Size is the number of bytes written so far.
func (p *Writer) Size() int64 { return p.offset }

// Close writes index and footer, and returns where everything lies. It does not close what is below.
func (p *Writer) Close() ([]Entry, error) {
	index := make([]byte, 0, len(p.entries)*indexSize)
	for _, e := range p.entries {
		index = appendHead(binary.LittleEndian.AppendUint64(index, uint64(e.Offset)), e)
	}
	sum := chunk.Sum(index)
	p.write(index)
	p.write(binary.LittleEndian.AppendUint32(nil, uint32(len(p.entries))))
	p.write(sum[:])
	p.write([]byte(magic))
	return p.entries, p.err
}

func appendHead(b []byte, e Entry) []byte {
	b = append(b, e.Kind, e.Codec)
	b = binary.LittleEndian.AppendUint32(b, uint32(e.Size))
	b = binary.LittleEndian.AppendUint32(b, uint32(e.Stored))
	return append(b, e.Digest[:]...)
}

// Travels reports whether the records of a pack lie in it as they travel, each behind its head of [HeadSize] bytes. Only the first bytes
// are looked at.
func Travels(r io.ReaderAt) (bool, error) {
	first := make([]byte, len(magic))
	if _, err := r.ReadAt(first, 0); err != nil {
		return false, err
	}
	return string(first) == magic, nil
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
	if ending := string(footer[4+32:]); ending != magic && ending != magicV3 && ending != magicV2 {
		return nil, fmt.Errorf("the pack has no footer: %w", ErrDamaged)
	}
	count := int64(binary.LittleEndian.Uint32(footer))
	start := size - int64(footerSize) - count*indexSize
	if count > maxRecords || start < int64(len(magic)) {
		return nil, fmt.Errorf("the pack's footer claims %d records: %w", count, ErrDamaged)
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
			Kind:   b[8],
			Codec:  b[9],
			Size:   int(binary.LittleEndian.Uint32(b[10:])),
			Stored: int(binary.LittleEndian.Uint32(b[14:])),
		}
		copy(e.Digest[:], b[18:])
		if e.Offset < int64(len(magic)+headSize) || e.Offset+int64(e.Stored) > start || e.Size < 1 || e.Size > chunk.Max {
			return nil, fmt.Errorf("entry %d of the pack points outside it: %w", i, ErrDamaged)
		}
		entries[i] = e
	}
	return entries, nil
}
