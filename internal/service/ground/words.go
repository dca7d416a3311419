package ground

import (
	"regexp"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/text"
)

// MaxPaths is how many paths one request may name; MaxNote the bytes of a handoff's note, MaxWord those of a note or a reason with a lock.
const (
	MaxPaths = 125_000
	MaxNote  = 64 << 10
	MaxWord  = 1000
)

// MaxWanted is how many lost chunks are asked back at once.
const MaxWanted = 1000

// Spare is how many bytes of the store a send leaves free: what it brings takes a little more than its content.
const Spare = 16 << 20

// MaxRows is how many rows of a list one request gets.
const MaxRows = 5000

// Rows is how many rows a request gets that asks for limit of them.
func Rows(limit int) int {
	if limit <= 0 || limit > MaxRows {
		return MaxRows
	}
	return limit
}

// NewID is a fresh UUID.
func NewID() string { return uuid.NewString() }

// ValidID reports whether an id is a UUID in its usual form.
func ValidID(id string) bool { return uuid.Validate(id) == nil && len(id) == 36 }

// Printable is what somebody named, fit for a message: in one line, of 80 bytes at most.
func Printable(s string) string {
	if len(s) > 80 {
		s = strings.ToValidUTF8(s[:80], "") + "…"
	}
	return text.Line(s)
}

// CheckWord looks at what people say beside a lock.
func CheckWord(what, words string) error {
	return Written(what, words, MaxWord, true)
}

// Written looks at what people write, on its way in: with lines, it may have several.
func Written(what, words string, most int, lines bool) error {
	if wrong := text.Check(words, most, lines); wrong != "" {
		return model.NewProblem(model.BadRequest, "write it in plain words, or shorter", "%s %s", what, wrong)
	}
	return nil
}

// FirstLine is the first line of a note, of 200 bytes at most.
func FirstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	if len(line) > 200 {
		line = strings.ToValidUTF8(line[:200], "") + "…"
	}
	return line
}

// SortedKeys are the keys of a map, in order.
func SortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

// AddHeadsUps adds to assets who else has unsent changes to them.
func AddHeadsUps(assets []model.Asset, heads []model.HeadsUp, workspace string) {
	at := map[string]int{}
	for i, a := range assets {
		at[a.Path] = i
	}
	for _, h := range heads {
		if i, ok := at[h.Path]; ok && h.WorkspaceID != workspace {
			assets[i].HeadsUp = append(assets[i].HeadsUp, h)
		}
	}
}

// Again is the way out of a sign-in that does not hold.
const Again = "sign in again with tarn sign-in"

// Handles are what people may be called.
var Handles = regexp.MustCompile(`^[a-z][a-z0-9-]{0,31}$`)

// CommitID is the full id of a commit of git, SHA-1 or SHA-256.
var CommitID = regexp.MustCompile(`^[0-9a-f]{40}([0-9a-f]{24})?$`)

// Within keeps a time that somebody claims within what a database and people can take.
func Within(t time.Time) time.Time {
	if t.Year() < 1970 || t.Year() > 9998 {
		return time.Unix(0, 0).UTC()
	}
	return t.UTC()
}
