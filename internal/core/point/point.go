// Package point reads how people name a state of a project: by a handoff ("h40"), by a time ("2026-03-02", "2026-03-02 15:04"), or by the
// name of a milestone or a branch. "newest" is the state as it is now.
package point

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"kettletarn/internal/core/assetpath"
)

// Newest is the word for the state as it is now.
const Newest = "newest"

// MaxName is the longest name of a milestone or a branch, in bytes.
const MaxName = 60

// Point is a state that somebody named: one of the three is set, or none of them for the newest. What is meant by Time is the last handoff
// that was made up to then.
type Point struct {
	Handoff int
	Time    time.Time
	// Name is that of a milestone or of a branch: they share one space of names.
	Name string
}

// Handoff reads "h40".
func Handoff(text string) (number int, ok bool) { return Numbered(text, "h") }

// Numbered reads a letter and a number from 1 to 2^31-1, as in "h40" and "v3".
func Numbered(text, letter string) (number int, ok bool) {
	digits, ok := strings.CutPrefix(text, letter)
	if !ok || digits == "" || digits[0] == '0' {
		return 0, false
	}
	n, err := strconv.ParseUint(digits, 10, 31)
	return int(n), err == nil
}

var layouts = []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02T15:04"}

// Time reads a time: RFC 3339, or a day or a minute in the time zone of in. A day stands for its last moment where end is set, and else for
// its first.
func Time(text string, in *time.Location, end bool) (t time.Time, ok bool) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, true
	}
	for _, layout := range layouts {
		if t, err := time.ParseInLocation(layout, text, in); err == nil {
			return t, true
		}
	}
	t, err := time.ParseInLocation(time.DateOnly, text, in)
	if err == nil && end {
		t = t.AddDate(0, 0, 1).Add(-time.Microsecond)
	}
	return t, err == nil
}

// Parse reads what somebody typed. Days and minutes are in the time zone of in.
func Parse(text string, in *time.Location) (p Point, err error) {
	text = strings.TrimSpace(text)
	if text == Newest || text == "" {
		return p, nil
	}
	if n, ok := Handoff(text); ok {
		return Point{Handoff: n}, nil
	}
	if t, ok := Time(text, in, true); ok {
		return Point{Time: t}, nil
	}
	if err := CheckBranch(text); err != nil {
		return p, fmt.Errorf("%q names no state: take a handoff (h40), a day or time (2026-03-02, \"2026-03-02 15:04\"), a milestone or a branch",
			assetpath.Printable(text))
	}
	return Point{Name: text}, nil
}

// String is how a point goes over the wire; Parse reads it anywhere as the same.
func (p Point) String() string {
	switch {
	case p.Handoff > 0:
		return "h" + strconv.Itoa(p.Handoff)
	case p.Name != "":
		return p.Name
	case !p.Time.IsZero():
		return p.Time.UTC().Format(time.RFC3339Nano)
	}
	return Newest
}

// CheckName says what is wrong with the name of a milestone. Names are compared by Fold.
func CheckName(name string) error {
	if err := checkPart("a milestone", name); err != nil {
		return err
	}
	return checkTaken(name)
}

// CheckBranch says what is wrong with the name of a branch: it is made like that of a milestone, or of several with slashes between them.
func CheckBranch(name string) error {
	if len(name) > MaxName {
		return fmt.Errorf("a branch's name has 1 to %d bytes", MaxName)
	}
	for part := range strings.SplitSeq(name, "/") {
		if err := checkPart("a branch", part); err != nil {
			return err
		}
	}
	return checkTaken(name)
}

func checkPart(what, name string) error {
	switch {
	case name == "" || len(name) > MaxName || !utf8.ValidString(name):
		return fmt.Errorf("%s's name has 1 to %d bytes", what, MaxName)
	case strings.ContainsFunc(name, func(c rune) bool {
		return !unicode.IsLetter(c) && !unicode.IsDigit(c) && !unicode.IsMark(c) && !strings.ContainsRune("-_.", c)
	}):
		return fmt.Errorf("%s's name has letters, digits, hyphens, underscores and dots: first-light, vertical-slice.2", what)
	case strings.ContainsAny(name[:1], "-."):
		return fmt.Errorf("%s's name starts with a letter or a digit", what)
	}
	return nil
}

// checkTaken says what a name stands for already, wherever a state is named.
func checkTaken(name string) error {
	if _, ok := Handoff(strings.ToLower(name)); ok || Fold(name) == Newest {
		return fmt.Errorf("%s names a handoff already", name)
	}
	if _, ok := Numbered(strings.ToLower(name), "v"); ok {
		return fmt.Errorf("%s is how versions are named", name)
	}
	if _, ok := Time(name, time.UTC, false); ok {
		return fmt.Errorf("%s is a day", name)
	}
	return nil
}

// Fold maps a name to the form in which names are compared.
func Fold(name string) string { return assetpath.Fold(name) }
