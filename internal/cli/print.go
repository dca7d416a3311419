package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/dustin/go-humanize"
	"golang.org/x/term"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/text"
)

func size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

func count(n int) string { return humanize.Comma(int64(n)) }

func plural(n int, noun string, several ...string) string {
	if n != 1 {
		if noun += "s"; len(several) > 0 {
			noun = several[0]
		}
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

// span is a length of time for people.
func span(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

func whenPtr(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return when(*t)
}

// table prints columns as wide as they need to be, and no wider than the terminal. A head that starts with ">" is set to the right.
type table struct {
	out   io.Writer
	heads []string
	rows  [][]string
	width int // 0 for no limit
}

func newTable(out io.Writer, heads ...string) *table {
	return &table{out: out, heads: heads, width: terminalWidth(out)}
}

func (a *app) table(heads ...string) *table { return newTable(a.out, heads...) }

// terminalWidth is how many columns a terminal has, 0 for what is none.
func terminalWidth(out io.Writer) int {
	if w, ok := out.(*text.Writer); ok {
		out = w.Below()
	}
	f, ok := out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil || width < 40 {
		return 0
	}
	return width
}

func (t *table) row(cells ...string) {
	for i := range cells {
		cells[i] = assetpath.Printable(cells[i])
	}
	t.rows = append(t.rows, cells)
}

// under adds a line of its own below the last row, which no column is widened for.
func (t *table) under(line string) {
	t.rows = append(t.rows, []string{assetpath.Printable(line)})
}

// longCell is the most characters of a cell that a column is widened for where the width of the terminal is not known.
const longCell = 64

func (t *table) print() {
	widths := make([]int, len(t.heads))
	right := make([]bool, len(t.heads))
	heads := make([]string, len(t.heads))
	for i, h := range t.heads {
		heads[i], right[i] = strings.CutPrefix(h, ">")
		widths[i] = utf8.RuneCountInString(heads[i])
	}
	for _, r := range t.rows {
		if len(r) < len(heads) {
			continue
		}
		for i, c := range r {
			// Where nothing is shortened, one long path widens its own row and no other.
			if n := utf8.RuneCountInString(c); t.width > 0 || n <= longCell {
				widths[i] = max(widths[i], n)
			}
		}
	}
	t.fit(widths)
	line := func(cells []string) {
		var b strings.Builder
		for i, c := range cells {
			if t.width > 0 {
				c = shortened(c, widths[i])
			}
			gap := strings.Repeat(" ", max(0, widths[i]-utf8.RuneCountInString(c)))
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
		if len(r) < len(heads) {
			fmt.Fprintln(t.out, wrapped(r[0], t.width))
			continue
		}
		line(r)
	}
}

// wrapped breaks a long text between words where it is wider than width (0 for no limit); what goes on is indented a little more.
func wrapped(long string, width int) string {
	indent := long[:len(long)-len(strings.TrimLeft(long, " "))]
	var lines []string
	line := indent
	for _, word := range strings.Fields(long) {
		if width > 0 && strings.TrimSpace(line) != "" && utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) > width {
			lines = append(lines, line)
			line = indent + "  " + word
			continue
		}
		if strings.TrimSpace(line) != "" {
			line += " "
		}
		line += word
	}
	return strings.Join(append(lines, line), "\n")
}

// fit takes from the widest columns what the terminal has not.
func (t *table) fit(widths []int) {
	total := 2 * len(widths)
	for _, w := range widths {
		total += w
	}
	for t.width > 0 && total > t.width {
		widest := 0
		for i, w := range widths {
			if w > widths[widest] {
				widest = i
			}
		}
		if widths[widest] <= 12 {
			return
		}
		widths[widest]--
		total--
	}
}

// shortened leaves out the middle of a text: both ends of a path say more than its middle.
func shortened(s string, most int) string {
	runes := []rune(s)
	if len(runes) <= most || most < 3 {
		return s
	}
	head := (most - 1) / 3
	return string(runes[:head]) + "…" + string(runes[len(runes)-(most-1-head):])
}

func firstLine(s string, most int) string {
	s, _, _ = strings.Cut(s, "\n")
	if utf8.RuneCountInString(s) > most {
		s = string([]rune(s)[:most-1]) + "…"
	}
	return s
}
