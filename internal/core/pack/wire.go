package pack

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"

	"kettletarn/internal/core/chunk"
)

// On the wire, records are a CBOR sequence (RFC 8742). Each is the array [kind, digest, codec, size, data]: unsigned numbers, and byte
// strings of definite length (RFC 8949). They are written and read here, and not by a general decoder, because every byte of every
// asset passes: compression goes right into the request, and a record is read into memory that is used again.

// Version 2 of this form has S2. Who reads records says so when asking (model.RecordsAccepted), and gets none otherwise.

// ErrMalformed is wrapped by errors about a sequence that is not one of records.
var ErrMalformed = errors.New("not a sequence of records")

// AppendEncoded appends the record of data to body, compressed where that helps. No chunk has more than chunk.Max bytes.
func AppendEncoded(body []byte, kind uint8, digest chunk.Digest, data []byte) []byte {
	start := len(body)
	body = AppendHead(body, Record{Kind: kind, Digest: digest, Size: len(data)})
	at := len(body)
	body, codec := compress(body, data)
	body[start+codecAt] = codec
	binary.BigEndian.PutUint32(body[at-4:], uint32(len(body)-at))
	return body
}

// AppendRecord appends a record to body as it is.
func AppendRecord(body []byte, r Record) []byte {
	return append(AppendHead(body, r), r.Data...)
}

// codecAt is where the codec stands in a record that this package wrote.
const codecAt = 1 + 1 + 2 + 32

// HeadSize is how many bytes the head of a record has that this package writes.
const HeadSize = 1 + 1 + 2 + 32 + 1 + 5 + 5

// AppendHead appends all of a record but its data, which has to follow.
func AppendHead(body []byte, r Record) []byte {
	body = append(body, 0x85, r.Kind, 0x58, 32)
	body = append(body, r.Digest[:]...)
	body = append(body, r.Codec, 0x1a)
	body = binary.BigEndian.AppendUint32(body, uint32(r.Size))
	body = append(body, 0x5a)
	return binary.BigEndian.AppendUint32(body, uint32(len(r.Data)))
}

// A Reader reads a sequence of records. Not safe for concurrent use.
type Reader struct {
	r   *bufio.Reader
	buf []byte
}

// NewReader reads from r.
func NewReader(r io.Reader) *Reader {
	d := readers.Get().(*Reader)
	d.r.Reset(r)
	return d
}

var readers = sync.Pool{New: func() any { return &Reader{r: bufio.NewReaderSize(nil, 64<<10)} }}

// Free gives the reader's memory back; nothing that came from it is valid any more. It is enough to forget a reader.
func (d *Reader) Free() { readers.Put(d) }

// Next returns the next record, whose data is valid until the next call, and io.EOF after the last one. An error wraps ErrMalformed
// where the bytes are not a record, and is io.ErrUnexpectedEOF where they end in the middle of one. Nothing is checked against a digest.
func (d *Reader) Next() (r Record, err error) {
	if _, err := d.r.Peek(1); err != nil {
		return r, err
	}
	if err := d.expect(4, 5, "an array of five"); err != nil {
		return r, err
	}
	if err := d.number(&r.Kind, Handoff, "a kind"); err != nil {
		return r, err
	}
	if err := d.expect(2, 32, "a digest of 32 bytes"); err != nil {
		return r, err
	}
	if _, err := io.ReadFull(d.r, r.Digest[:]); err != nil {
		return r, cutOff(err)
	}
	if err := d.number(&r.Codec, S2, "a codec"); err != nil {
		return r, err
	}
	size, err := d.head(0, chunk.Max, "a size")
	if err != nil {
		return r, err
	}
	stored, err := d.head(2, chunk.Max, "data")
	if err != nil {
		return r, err
	}
	if cap(d.buf) < int(stored) {
		d.buf = make([]byte, chunk.Max)
	}
	r.Size, r.Data = int(size), d.buf[:stored]
	_, err = io.ReadFull(d.r, r.Data)
	return r, cutOff(err)
}

func cutOff(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

func (d *Reader) expect(major byte, n uint64, what string) error {
	got, err := d.head(major, n, what)
	if err == nil && got != n {
		err = fmt.Errorf("%w: %s is expected", ErrMalformed, what)
	}
	return err
}

func (d *Reader) number(into *uint8, most uint64, what string) error {
	n, err := d.head(0, most, what)
	*into = uint8(n)
	return err
}

// head reads the head of an item of a major type and returns its argument.
func (d *Reader) head(major byte, most uint64, what string) (n uint64, err error) {
	first, err := d.r.ReadByte()
	if err != nil {
		return 0, cutOff(err)
	}
	if first>>5 != major {
		return 0, fmt.Errorf("%w: %s is expected", ErrMalformed, what)
	}
	if n = uint64(first & 31); n >= 24 {
		if n > 27 {
			return 0, fmt.Errorf("%w: %s of definite length is expected", ErrMalformed, what)
		}
		var b [8]byte
		width := 1 << (n - 24)
		if _, err := io.ReadFull(d.r, b[8-width:]); err != nil {
			return 0, cutOff(err)
		}
		n = binary.BigEndian.Uint64(b[:])
	}
	if n > most {
		return 0, fmt.Errorf("%w: %s of at most %d is expected", ErrMalformed, what, most)
	}
	return n, nil
}
