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

// Format is the version of the record; Brought that of one that stands for a commit of a git history and says so; Merged that of one with
// two parents.
const (
	Format  = 1
	Brought = 2
	Merged  = 3
)

// ErrInvalid is wrapped by errors about records that are not well-formed.
var ErrInvalid = errors.New("not a well-formed handoff")

// A Parent is the handoff that another follows. The first of a project has none, one that brings a branch into another has two: that of its
// own branch first.
type Parent struct {
	_      struct{} `cbor:",toarray"`
	Number int
	Digest chunk.Digest
}

// A Handoff is the record. Root is that of the tree that it leads to; At is in microseconds of the Unix epoch. Commit is the id of the
// commit that it stands for, where it was brought in from a git history; Signed its author's name, where that is nobody known here and
// Author is whoever brought it in.
type Handoff struct {
	_       struct{} `cbor:",toarray"`
	Format  int      // set by Encode
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
	Commit  string
	Signed  string
}

// record is the form of formats 1 and 3; Handoff itself is that of format 2.
type record struct {
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
	c.Parents, c.Tasks = append([]Parent{}, h.Parents...), append([]string{}, h.Tasks...)
	if c.Format = Brought; c.Commit != "" || c.Signed != "" {
		data := canonical.Encode(c)
		return data, chunk.Sum(data)
	}
	format := Format
	if len(c.Parents) > 1 {
		format = Merged
	}
	data := canonical.Encode(record{Format: format, Project: c.Project, Number: c.Number, Branch: c.Branch, Parents: c.Parents, Root: c.Root,
		Author: c.Author, At: c.At, Note: c.Note, Tasks: c.Tasks, Stage: c.Stage})
	return data, chunk.Sum(data)
}

var decode = canonical.Decoder(64)

// arrayOf11 is the first byte of a record of formats 1 and 3: an array of 11 items.
const arrayOf11 = 0x80 | 11

// Decode reads a record. The error wraps ErrInvalid.
func Decode(data []byte) (*Handoff, error) {
	if len(data) > chunk.Max {
		return nil, fmt.Errorf("a handoff of %d bytes: %w", len(data), ErrInvalid)
	}
	var h Handoff
	if len(data) > 0 && data[0] == arrayOf11 {
		var r record
		if err := decode(data, &r); err != nil {
			return nil, fmt.Errorf("%w: %v", ErrInvalid, err)
		}
		h = Handoff{Format: r.Format, Project: r.Project, Number: r.Number, Branch: r.Branch, Parents: r.Parents, Root: r.Root, Author: r.Author,
			At: r.At, Note: r.Note, Tasks: r.Tasks, Stage: r.Stage}
	} else if err := decode(data, &h); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrInvalid, err)
	}
	wants := Format
	if len(h.Parents) > 1 {
		wants = Merged
	}
	if h.Commit != "" || h.Signed != "" {
		wants = Brought
	}
	if h.Format != wants || h.Number < 1 || h.Project == "" || h.Author == "" || len(h.Parents) > 2 {
		return nil, fmt.Errorf("a handoff of format %d with number %d: %w", h.Format, h.Number, ErrInvalid)
	}
	return &h, nil
}
