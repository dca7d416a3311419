package cli

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/dustin/go-humanize"

	"kettletarn/internal/core/assetpath"
)

func size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

func count(n int) string { return humanize.Comma(int64(n)) }

func plural(n int, noun string) string {
	if n != 1 {
		noun += "s"
	}
	return count(n) + " " + noun
}

// when is a time for people: how long ago, and from a week on the day.
func when(t time.Time) string {
	d := time.Since(t)
	if d > 7*24*time.Hour {
		return t.Local().Format("2 Jan 2006")
	}
	if d < time.Minute {
		return "just now"
	}
	return humanize.Time(t)
}

func whenPtr(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return when(*t)
}

// table prints columns as wide as they need to be. A head that starts with ">" is set to the right.
type table struct {
	out   io.Writer
	heads []string
	rows  [][]string
}

func newTable(out io.Writer, heads ...string) *table { return &table{out: out, heads: heads} }

func (t *table) row(cells ...string) {
	for i := range cells {
		cells[i] = assetpath.Printable(cells[i])
	}
	t.rows = append(t.rows, cells)
}

func (t *table) print() {
	widths := make([]int, len(t.heads))
	right := make([]bool, len(t.heads))
	heads := make([]string, len(t.heads))
	for i, h := range t.heads {
		heads[i], right[i] = strings.CutPrefix(h, ">")
		widths[i] = utf8.RuneCountInString(heads[i])
	}
	for _, r := range t.rows {
		for i, c := range r {
			widths[i] = max(widths[i], utf8.RuneCountInString(c))
		}
	}
	line := func(cells []string) {
		var b strings.Builder
		for i, c := range cells {
			gap := strings.Repeat(" ", widths[i]-utf8.RuneCountInString(c))
			if right[i] {
				b.WriteString(gap + c)
			} else {
				b.WriteString(c + gap)
			}
			b.WriteString("  ")
		}
		fmt.Fprintln(t.out, strings.TrimRight(b.String(), " "))
	}
	if strings.Join(heads, "") != "" {
		line(heads)
	}
	for _, r := range t.rows {
		line(r)
	}
}

func firstLine(s string, most int) string {
	s, _, _ = strings.Cut(s, "\n")
	if utf8.RuneCountInString(s) > most {
		s = string([]rune(s)[:most-1]) + "…"
	}
	return s
}
