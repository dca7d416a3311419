package chain

import (
	"fmt"

	"kettletarn/internal/core/canonical"
	"kettletarn/internal/core/chunk"
)

// ReleaseFormat is the version of the record of a release.
const ReleaseFormat = 1

// A Release is a release of a kit: what matched the patterns in the state of a handoff, which is named with its digest. At is in
// microseconds of the Unix epoch.
type Release struct {
	_       struct{} `cbor:",toarray"`
	Format  int      // set by Encode
	Project string
	Kit     string
	// Number is 1 for the first release of the kit.
	Number  int
	Handoff Parent
	Match   []string
	Note    string
	Person  string
	At      int64
}

// Encode gives the record's bytes and their digest.
func (r *Release) Encode() ([]byte, chunk.Digest) {
	c := *r
	c.Format = ReleaseFormat
	data := canonical.Encode(c)
	return data, chunk.Sum(data)
}

// DecodeRelease reads a record. The error wraps ErrInvalid.
func DecodeRelease(data []byte) (*Release, error) {
	if len(data) > chunk.Max {
		return nil, fmt.Errorf("a release of %d bytes: %w", len(data), ErrInvalid)
	}
	var r Release
	if err := decode(data, &r); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrInvalid, err)
	}
	if r.Format != ReleaseFormat || r.Project == "" || r.Kit == "" || r.Number < 1 || r.Handoff.Number < 1 || len(r.Match) == 0 {
		return nil, fmt.Errorf("a release %d of a kit %q of format %d: %w", r.Number, r.Kit, r.Format, ErrInvalid)
	}
	return &r, nil
}
