// Package chain is the record of a handoff that its digest covers: who handed off what state, on top of which handoff. The digest
// of the newest one vouches for the whole history. The format is in docs/formats.md.
package chain

import (
	"errors"
	"fmt"
	"time"

	"kettletarn/internal/core/canonical"
	"kettletarn/internal/core/chunk"
)

// Format is the version of the record.
const Format = 1

// ErrInvalid is wrapped by errors about records that are not well-formed.
var ErrInvalid = errors.New("not a well-formed handoff")

// A Parent is the handoff that another follows. The first of a project has none.
type Parent struct {
	_      struct{} `cbor:",toarray"`
	Number int
	Digest chunk.Digest
}

// A Handoff is the record. Root is that of the tree that it leads to; At is in microseconds of the Unix epoch.
type Handoff struct {
	_       struct{} `cbor:",toarray"`
	Format  int
	Project string
	Number  int
	Branch  string
	Parents []Parent
	Root    chunk.Digest
	Author  string
	At      int64
	Note    string
	Tasks   []string
	Stage   string
}

// Time is when it was handed off.
func (h *Handoff) Time() time.Time { return time.UnixMicro(h.At).UTC() }

// Encode gives the record's bytes and their digest, which names the handoff.
func (h *Handoff) Encode() ([]byte, chunk.Digest) {
	c := *h
	c.Format = Format
	c.Parents, c.Tasks = append([]Parent{}, h.Parents...), append([]string{}, h.Tasks...)
	data := canonical.Encode(c)
	return data, chunk.Sum(data)
}

var decode = canonical.Decoder(64)

// Decode reads a record. The error wraps ErrInvalid.
func Decode(data []byte) (*Handoff, error) {
	var h Handoff
	if len(data) > chunk.Max {
		return nil, fmt.Errorf("a handoff of %d bytes: %w", len(data), ErrInvalid)
	}
	if err := decode(data, &h); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrInvalid, err)
	}
	if h.Format != Format || h.Number < 1 || h.Project == "" || h.Author == "" {
		return nil, fmt.Errorf("a handoff of format %d with number %d: %w", h.Format, h.Number, ErrInvalid)
	}
	return &h, nil
}
