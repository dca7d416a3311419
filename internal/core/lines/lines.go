// Package lines compares texts line by line, and tells of each line of a text which of its versions changed it last. The comparison is
// that of package lcs of go-udiff (Myers, "An O(ND) Difference Algorithm and Its Variations", 1986), which gives up being the shortest one
// where two texts have next to nothing in common.
package lines

import (
	"errors"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/aymanbagabas/go-udiff/lcs"
	encoding "golang.org/x/text/encoding/unicode"
	"golang.org/x/text/encoding/unicode/utf32"
)

// Limits of a text: bytes, and lines.
const (
	MaxSize  = 4 << 20
	MaxLines = 100_000
)

// ErrNoText is the error of what is no text; ErrTooLarge of one that is over a limit.
var (
	ErrNoText   = errors.New("it is no text")
	ErrTooLarge = errors.New("the text has more than 4 MiB, or more than 100,000 lines")
)

// Decode reads a text in UTF-8, or in what its byte order mark says, and cuts it into lines without their ends.
func Decode(data []byte) ([]string, error) {
	if len(data) > MaxSize {
		return nil, ErrTooLarge
	}
	var err error
	switch {
	case len(data) >= 4 && (string(data[:4]) == "\xff\xfe\x00\x00" || string(data[:4]) == "\x00\x00\xfe\xff"):
		data, err = utf32.UTF32(utf32.LittleEndian, utf32.ExpectBOM).NewDecoder().Bytes(data)
	case len(data) >= 2 && (string(data[:2]) == "\xff\xfe" || string(data[:2]) == "\xfe\xff"):
		data, err = encoding.UTF16(encoding.LittleEndian, encoding.ExpectBOM).NewDecoder().Bytes(data)
	default:
		data = []byte(strings.TrimPrefix(string(data), "\ufeff"))
	}
	if err != nil || !utf8.Valid(data) || strings.ContainsRune(string(data), 0) {
		return nil, ErrNoText
	}
	return Split(string(data))
}

// Split cuts a text into lines without their ends (a line feed, with a carriage return or without).
func Split(text string) ([]string, error) {
	if text == "" {
		return nil, nil
	}
	list := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	if len(list) > MaxLines {
		return nil, ErrTooLarge
	}
	for i := range list {
		list[i] = strings.TrimSuffix(list[i], "\r")
	}
	return list, nil
}

// Origins finds out where the lines of a text come from. Start it with the text as it is, go back version by version, and ask.
type Origins struct {
	// Of has, for each line, how many versions back the one lies that changed it last; what is not found out yet is the last one looked at.
	Of []int
	// at is where each line is in the version that was looked at last, -1 where it was not there any more.
	at   []int
	text []string
	back int
}

// NewOrigins starts with a text.
func NewOrigins(text []string) *Origins {
	o := &Origins{Of: make([]int, len(text)), at: make([]int, len(text)), text: text}
	for i := range o.at {
		o.at[i] = i
	}
	return o
}

// Back takes the version before into account, and reports whether there are lines that are older still.
func (o *Origins) Back(before []string) (more bool) {
	o.back++
	to := make([]int, len(o.text)) // where each line of the present version was before, -1 for nowhere
	shift, next := 0, 0
	for _, d := range append(lcs.DiffLines(before, o.text),
		lcs.Diff{Start: len(before), End: len(before), ReplStart: len(o.text), ReplEnd: len(o.text)}) {
		for ; next < d.ReplStart; next++ {
			to[next] = next + shift
		}
		for ; next < d.ReplEnd; next++ {
			to[next] = -1
		}
		shift = d.End - d.ReplEnd
	}
	for i, at := range o.at {
		if at < 0 {
			continue
		}
		if o.at[i] = to[at]; o.at[i] >= 0 {
			o.Of[i] = o.back
			more = true
		}
	}
	o.text = before
	return more
}

// Kinds of row in a comparison.
const (
	Same    = "same"
	Removed = "removed"
	Added   = "added"
	Changed = "changed"
)

// Row is one line of two texts side by side. Before and After are its numbers from 1, 0 where it is only in the other; Old is there where
// it reads otherwise before. Marks and OldMarks are what is different within it: pairs of a start and an end in bytes.
type Row struct {
	Kind     string `json:"kind"`
	Before   int    `json:"before,omitempty"`
	After    int    `json:"after,omitempty"`
	Old      string `json:"old,omitempty"`
	Text     string `json:"text"`
	OldMarks []int  `json:"old_marks,omitempty"`
	Marks    []int  `json:"marks,omitempty"`
}

// Compare lays two texts side by side, all lines of both.
func Compare(before, after []string) (rows []Row) {
	i, j := 0, 0
	for _, d := range append(lcs.DiffLines(before, after),
		lcs.Diff{Start: len(before), End: len(before), ReplStart: len(after), ReplEnd: len(after)}) {
		for ; i < d.Start; i, j = i+1, j+1 {
			rows = append(rows, Row{Kind: Same, Before: i + 1, After: j + 1, Text: after[j]})
		}
		rows = append(rows, block(before, after, d)...)
		i, j = d.End, d.ReplEnd
	}
	return rows
}

// Follow says which line of a later text a line of an earlier one has become, both from 1; false where it is gone, or was never there.
func Follow(before, after []string, line int) (int, bool) {
	for _, r := range Compare(before, after) {
		if r.Before == line && line > 0 {
			return r.After, r.After > 0
		}
	}
	return 0, false
}

// block pairs the lines of a stretch that was replaced: those that have most in common first.
func block(before, after []string, d lcs.Diff) (rows []Row) {
	i, j := d.Start, d.ReplStart
	for i < d.End && j < d.ReplEnd {
		switch {
		case alike(before[i], after[j]):
			old, marks := within(before[i], after[j])
			rows = append(rows, Row{Kind: Changed, Before: i + 1, After: j + 1, Old: before[i], Text: after[j], OldMarks: old, Marks: marks})
			i, j = i+1, j+1
		case d.End-i > d.ReplEnd-j:
			rows = append(rows, Row{Kind: Removed, Before: i + 1, Text: before[i]})
			i++
		case d.End-i < d.ReplEnd-j:
			rows = append(rows, Row{Kind: Added, After: j + 1, Text: after[j]})
			j++
		default:
			rows = append(rows, Row{Kind: Removed, Before: i + 1, Text: before[i]}, Row{Kind: Added, After: j + 1, Text: after[j]})
			i, j = i+1, j+1
		}
	}
	for ; i < d.End; i++ {
		rows = append(rows, Row{Kind: Removed, Before: i + 1, Text: before[i]})
	}
	for ; j < d.ReplEnd; j++ {
		rows = append(rows, Row{Kind: Added, After: j + 1, Text: after[j]})
	}
	return rows
}

// words cuts a line into words, numbers, and single other characters.
func words(line string) (list []string) {
	for len(line) > 0 {
		first, n := utf8.DecodeRuneInString(line)
		if unicode.IsLetter(first) || unicode.IsDigit(first) {
			n = strings.IndexFunc(line, func(c rune) bool { return !unicode.IsLetter(c) && !unicode.IsDigit(c) })
			if n < 0 {
				n = len(line)
			}
		}
		list, line = append(list, line[:n]), line[n:]
	}
	return list
}

// maxWithin is the longest line, in bytes, within which changes are looked for.
const maxWithin = 4000

// alike reports whether one line may have been made from the other: a third of their words are the same.
func alike(a, b string) bool {
	if len(a) > maxWithin || len(b) > maxWithin {
		return false
	}
	x, y := words(strings.TrimSpace(a)), words(strings.TrimSpace(b))
	same := len(x)
	for _, d := range lcs.DiffLines(x, y) {
		same -= d.End - d.Start
	}
	return len(x) > 0 && 3*same >= max(len(x), len(y))
}

func within(a, b string) (old, marks []int) {
	x, y := words(a), words(b)
	starts := func(list []string) []int {
		at, out := 0, make([]int, 0, len(list)+1)
		for _, w := range list {
			out = append(out, at)
			at += len(w)
		}
		return append(out, at)
	}
	p, q := starts(x), starts(y)
	for _, d := range lcs.DiffLines(x, y) {
		if d.End > d.Start {
			old = append(old, p[d.Start], p[d.End])
		}
		if d.ReplEnd > d.ReplStart {
			marks = append(marks, q[d.ReplStart], q[d.ReplEnd])
		}
	}
	return old, marks
}
