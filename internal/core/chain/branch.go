package chain

import (
	"fmt"

	"kettletarn/internal/core/canonical"
	"kettletarn/internal/core/chunk"
)

// BranchFormat is the version of the record of a branch.
const BranchFormat = 1

// A Branch is what is known of a branch besides its handoffs, as of one of its states; the first branch of a project has no such record. Of
// several records of a branch, that with the greatest Turn counts. Made is in microseconds of the Unix epoch.
type Branch struct {
	_       struct{} `cbor:",toarray"`
	Format  int      // set by Encode
	Project string
	Name    string
	// From is the branch that it was made from, At the handoff that it began at.
	From string
	At   int
	// State is 0 for a live branch, 1 for one that is done, and 2 for one that is closed.
	State  int
	Why    string
	Person string
	Made   int64
	Turn   int
}

// Encode gives the record's bytes and their digest.
func (b *Branch) Encode() ([]byte, chunk.Digest) {
	c := *b
	c.Format = BranchFormat
	data := canonical.Encode(c)
	return data, chunk.Sum(data)
}

// DecodeBranch reads a record. The error wraps ErrInvalid.
func DecodeBranch(data []byte) (*Branch, error) {
	if len(data) > chunk.Max {
		return nil, fmt.Errorf("a branch of %d bytes: %w", len(data), ErrInvalid)
	}
	var b Branch
	if err := decode(data, &b); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrInvalid, err)
	}
	if b.Format != BranchFormat || b.Project == "" || b.Name == "" || b.From == "" || b.At < 1 || b.State < 0 || b.State > 2 || b.Turn < 1 {
		return nil, fmt.Errorf("a branch %q of format %d in state %d: %w", b.Name, b.Format, b.State, ErrInvalid)
	}
	return &b, nil
}
