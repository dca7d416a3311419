// Package text says, in one place, what of a text that somebody wrote may be shown: printed, drawn, mailed, put into a notice or a table.
// Control characters drive terminals, and marks of writing direction make a text look like another one; neither is taken on the way in,
// and neither leaves by any way out, wherever the text came from.
package text

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// Shown reports whether a character may be shown within a line. What may not: C0 and C1 controls, DEL, the line and paragraph separators,
// the marks that set the direction of writing (Unicode Standard Annex 9), marks without a width that hide in names, tags, and what is no
// character.
func Shown(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r <= 0x9f:
		return false
	case r < 0x600:
		return r != 0xad
	case r == '\u061c', r == '\u180e', r >= '\u200e' && r <= '\u200f', r >= '\u2028' && r <= '\u202e', r >= '\u2060' && r <= '\u206f',
		r == '\ufeff', r >= '\ufff0' && r <= '\uffff' && r != utf8.RuneError:
		return false
	}
	return r < 0xe0000
}

// Line is s as it may stand in one line: what may not be shown is U+FFFD.
func Line(s string) string { return clean(s, false) }

// Lines is Line for a text of several lines: line feeds, with the carriage return before them, and tabs stay.
func Lines(s string) string { return clean(s, true) }

func clean(s string, lines bool) string {
	if plain(s, lines) {
		return s
	}
	if lines && strings.Contains(s, "\r\n") {
		parts := strings.Split(s, "\r\n")
		for i := range parts {
			parts[i] = clean(parts[i], lines)
		}
		return strings.Join(parts, "\r\n")
	}
	return strings.Map(func(r rune) rune {
		if Shown(r) || lines && (r == '\n' || r == '\t') {
			return r
		}
		return utf8.RuneError
	}, s)
}

func plain(s string, lines bool) bool {
	for i, r := range s {
		if r == utf8.RuneError {
			if _, n := utf8.DecodeRuneInString(s[i:]); n == 1 {
				return false // broken UTF-8, and not U+FFFD itself
			}
		}
		if !Shown(r) && !(lines && (r == '\n' || r == '\t')) {
			return false
		}
	}
	return true
}

// Check says what is wrong with a text of at most so many bytes, "" for nothing; with lines, line feeds and tabs are taken.
func Check(s string, most int, lines bool) string {
	switch {
	case len(s) > most:
		return fmt.Sprintf("has %d bytes, and the limit is %d", len(s), most)
	case !utf8.ValidString(s):
		return "is not valid UTF-8"
	}
	for _, r := range s {
		if !Shown(r) && !(lines && (r == '\n' || r == '\t' || r == '\r')) {
			return fmt.Sprintf("has the character %U in it, which can't be shown", r)
		}
	}
	return ""
}

// JSON escapes, in a JSON text, the characters that may not be shown: the same value, and safe to print.
func JSON(data []byte) []byte {
	var out []byte
	from := 0
	for i := 0; i < len(data); {
		r, n := utf8.DecodeRune(data[i:])
		if r == '\n' || r == '\r' || r == '\t' || Shown(r) && (r != utf8.RuneError || n == 3) {
			i += n
			continue
		}
		out = append(out, data[from:i]...)
		switch {
		case n == 1 && r == utf8.RuneError:
			out = append(out, `\ufffd`...)
		case r > 0xffff:
			r -= 0x10000
			out = fmt.Appendf(out, `\u%04x\u%04x`, 0xd800+(r>>10), 0xdc00+(r&0x3ff))
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		i += n
		from = i
	}
	if from == 0 {
		return data
	}
	return append(out, data[from:]...)
}

// Writer passes on what is written to it as Lines. A character that comes in two pieces is put together again. Not safe for concurrent use.
type Writer struct {
	out  io.Writer
	rest []byte
}

// NewWriter makes a Writer before out.
func NewWriter(out io.Writer) *Writer { return &Writer{out: out} }

// Below is what the writer writes to.
func (w *Writer) Below() io.Writer { return w.out }

func (w *Writer) Write(p []byte) (int, error) {
	all := p
	if len(w.rest) > 0 {
		all = append(w.rest, p...)
		w.rest = nil
	}
	if cut := incomplete(all); cut < len(all) {
		w.rest = bytes.Clone(all[cut:])
		all = all[:cut]
	}
	if _, err := io.WriteString(w.out, Lines(string(all))); err != nil {
		return 0, err
	}
	return len(p), nil
}

// incomplete is where a character begins that is cut off at the end, or the length of p.
func incomplete(p []byte) int {
	if n := len(p); n > 0 && p[n-1] == '\r' {
		return n - 1 // a line feed may follow
	}
	for i := len(p) - 1; i >= 0 && i >= len(p)-utf8.UTFMax; i-- {
		if utf8.RuneStart(p[i]) {
			if !utf8.FullRune(p[i:]) {
				return i
			}
			break
		}
	}
	return len(p)
}

// Cell is a text as it may stand in a table that a spreadsheet reads: Lines, and with an apostrophe before whatever a spreadsheet would
// take for a formula, at its beginning or behind anything that some spreadsheet takes for the border of a cell.
func Cell(s string) string {
	s = Lines(s)
	if !strings.ContainsAny(s, "=+-@") {
		return s
	}
	var b strings.Builder
	border := true
	for _, r := range s {
		switch r {
		case '=', '+', '-', '@', '\uff1d', '\uff0b', '\uff0d', '\uff20':
			if border {
				b.WriteByte('\'')
			}
			border = false
		case ';', ',', '\t', '|', '\n', '\r', '"':
			border = true
		case ' ':
		default:
			border = false
		}
		b.WriteRune(r)
	}
	return b.String()
}
