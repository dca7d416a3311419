package model

import (
	"fmt"
	"strings"
	"time"
)

// Refusal says why something was not done to one path, in words that a command and a page show unchanged. Reason is a stable
// word; Remedy says what to do.
type Refusal struct {
	Path    string `json:"path"`
	Reason  string `json:"reason"`
	Message string `json:"message"`
	Remedy  string `json:"remedy"`
}

// OlderVersion is the reason of a change that has the content of an older version.
const OlderVersion = "older-version"

// Refused is the error of a request that was understood, allowed, and not carried out, with every reason at once.
type Refused struct {
	Refusals []Refusal `json:"refusals"`
}

func (r *Refused) Error() string {
	lines := make([]string, len(r.Refusals))
	for i, one := range r.Refusals {
		lines[i] = one.Message + "; " + one.Remedy
	}
	return strings.Join(lines, "\n")
}

// Problem is the error of a request that could not be carried out as a whole. Type is a stable word (docs/protocol.md lists them).
// Missing names the chunks of a ChunksMissing, in hex, or the first thousand of them.
type Problem struct {
	Type    string
	Detail  string
	Remedy  string
	Missing []string
	// After is how long to wait before the same is tried again, 0 where that is not said.
	After time.Duration
}

func (p *Problem) Error() string {
	if p.Remedy == "" {
		return p.Detail
	}
	return p.Detail + "; " + p.Remedy
}

// Types of problem.
const (
	BadRequest      = "bad-request"
	NotSignedIn     = "not-signed-in"
	SignInExpired   = "sign-in-expired"
	InvitationOver  = "invitation-over"
	Archived        = "archived"
	Restored        = "restored"
	WrongPassphrase = "wrong-passphrase"
	NotAllowed      = "not-allowed"
	NotFound        = "not-found"
	Taken           = "taken"
	RefusedType     = "refused"
	TooLarge        = "too-large"
	TooMany         = "too-many-requests"
	DigestMismatch  = "digest-mismatch"
	ChunksMissing   = "chunks-missing"
	KeyReused       = "key-reused"
	MovedOn         = "moved-on" // what somebody decided about is otherwise by now
	KeyClosed       = "key-closed"
	DiskFull        = "disk-full"
	LimitReached    = "storage-limit"
	Damaged         = "damaged"
	Unavailable     = "unavailable"
	Internal        = "internal"
)

// NewProblem makes a Problem; detail is formatted.
func NewProblem(kind, remedy, detail string, args ...any) *Problem {
	return &Problem{Type: kind, Remedy: remedy, Detail: fmt.Sprintf(detail, args...)}
}
