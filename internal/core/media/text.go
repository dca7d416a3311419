package media

import (
	"encoding/csv"
	"errors"
	"fmt"
	"image"
	"io"
	"strings"
	"unicode/utf8"

	"kettletarn/internal/core/lines"
)

// errNoText is the error of what is no text, and does not have to be.
var errNoText = fmt.Errorf("%w: %w", ErrUnreadable, lines.ErrNoText)

// Row is one line of two texts side by side.
type Row = lines.Row

// Limits of what is shown of texts and tables.
const (
	maxRows     = 5000
	nearby      = 3 // lines shown around a change
	maxColumns  = 40
	maxCells    = 400
	maxCellText = 300
)

type text struct{ lines []string }

func readText(s Subject) (seen, error) {
	if s.Size > lines.MaxSize {
		return nil, fmt.Errorf("%w: %w", ErrUnreadable, lines.ErrTooLarge)
	}
	data, err := s.read(lines.MaxSize)
	if err != nil {
		return nil, err
	}
	list, err := lines.Decode(data)
	switch {
	case errors.Is(err, lines.ErrNoText):
		return nil, errNoText
	case err != nil:
		return nil, fmt.Errorf("%w: %w", ErrUnreadable, err)
	}
	return &text{list}, nil
}

func (t *text) report(d Drawn) (Report, error) {
	words := 0
	for _, l := range t.lines {
		words += len(strings.Fields(l))
	}
	r := Report{Kind: Text, Format: "text", Facts: []Fact{{"lines", number(len(t.lines))}, {"words", number(words)}}}
	d.png("whole.png", t.drawn())
	return r, nil
}

func (t *text) drawn() image.Image {
	var list []lettered
	for _, l := range t.lines[:min(len(t.lines), maxLettered)] {
		list = append(list, lettered{text: l, ink: letters})
	}
	return letter(list)
}

func (t *text) compare(after seen, c *Comparison, d Drawn) error {
	rows := lines.Compare(t.lines, after.(*text).lines)
	count := map[string]int{}
	near := make([]bool, len(rows))
	for i, r := range rows {
		count[r.Kind]++
		if r.Kind != lines.Same {
			for k := max(0, i-nearby); k <= min(len(rows)-1, i+nearby); k++ {
				near[k] = true
			}
		}
	}
	c.Same = count[lines.Same] == len(rows)
	c.Measures = append(c.Measures, Fact{"lines added", number(count[lines.Added])}, Fact{"lines removed", number(count[lines.Removed])},
		Fact{"lines changed", number(count[lines.Changed])})
	for i, r := range rows {
		switch {
		case near[i] && len(c.Rows) < maxRows:
			c.Rows = append(c.Rows, r)
		case near[i]:
			c.RowsLeft++
		}
	}
	if c.Same {
		return nil
	}
	d.png("difference.png", letter(letteredRows(c.Rows)))
	return nil
}

// letteredRows are lines side by side as one under the other: those that went with a minus, those that came with a plus.
func letteredRows(rows []Row) (list []lettered) {
	for _, r := range rows[:min(len(rows), maxLettered)] {
		switch r.Kind {
		case lines.Same:
			list = append(list, lettered{text: r.Text, ink: plain})
		case lines.Removed:
			list = append(list, lettered{"-", r.Text, went, &onWent})
		case lines.Added:
			list = append(list, lettered{"+", r.Text, came, &onCame})
		default:
			list = append(list, lettered{"-", r.Old, went, &onWent}, lettered{"+", r.Text, came, &onCame})
		}
	}
	return list
}

// Table is the start of a table, as it is shown. Rows and Columns count all of it.
type Table struct {
	Heads   []string   `json:"heads"`
	Cells   [][]string `json:"cells"`
	Rows    int        `json:"rows"`
	Columns int        `json:"columns"`
}

// Matched are two tables laid over each other: the columns of the later one, and all rows of both, or those that changed where there are
// many. Left says how many rows are not in it.
type Matched struct {
	Heads []string     `json:"heads"`
	Rows  []MatchedRow `json:"rows"`
	Left  int          `json:"left,omitempty"`
}

// MatchedRow is one row: Change is what happened to it, or absent. Was has what stood in a cell before, by its column, where that is
// different.
type MatchedRow struct {
	Change string         `json:"change,omitempty"`
	Cells  []string       `json:"cells"`
	Was    map[int]string `json:"was,omitempty"`
}

func (m *Matched) add(row MatchedRow, all bool) {
	if row.Change == "" && !all || len(m.Rows) >= maxCells {
		m.Left++
		return
	}
	row.Cells = row.Cells[:min(len(row.Cells), maxColumns)]
	m.Rows = append(m.Rows, row)
}

type table struct {
	heads []string
	rows  [][]string
}

// readTable reads a table whose first row says what its columns are (RFC 4180; tabs where the name says so).
func readTable(s Subject) (seen, error) {
	data, err := s.read(maxText)
	if err != nil {
		return nil, err
	}
	data = []byte(strings.TrimPrefix(string(data), "\ufeff"))
	r := csv.NewReader(strings.NewReader(string(data)))
	r.FieldsPerRecord = -1
	r.LazyQuotes = true
	if s.ext() == ".tsv" {
		r.Comma = '\t'
	} else if first, _, _ := strings.Cut(string(data), "\n"); strings.Count(first, ";") > strings.Count(first, ",") {
		r.Comma = ';'
	}
	t := &table{}
	for {
		row, err := r.Read()
		if err == io.EOF {
			return t, nil
		}
		if err != nil {
			return nil, unreadable("it is no table: %v", err)
		}
		if len(t.rows) == lines.MaxLines {
			return nil, unreadable("it has more than %s rows", number(lines.MaxLines))
		}
		for i := range row {
			row[i] = cell(row[i])
		}
		if t.heads == nil {
			t.heads = row
		} else {
			t.rows = append(t.rows, row)
		}
	}
}

func cell(text string) string {
	if len(text) > maxCellText {
		text = text[:maxCellText] + "…"
	}
	return clean2(text)
}

// clean2 is clean for longer texts.
func clean2(text string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f || c >= 0x80 && c < 0xa0 {
			return ' '
		}
		return c
	}, strings.ToValidUTF8(text, "?"))
}

func (t *table) report(d Drawn) (Report, error) {
	shown := &Table{Heads: t.heads[:min(len(t.heads), maxColumns)], Cells: [][]string{}, Rows: len(t.rows), Columns: len(t.heads)}
	for _, row := range t.rows[:min(len(t.rows), maxCells)] {
		shown.Cells = append(shown.Cells, row[:min(len(row), maxColumns)])
	}
	if shown.Heads == nil {
		shown.Heads = []string{}
	}
	r := Report{Kind: Tabular, Format: "table", Table: shown, Facts: []Fact{{"rows", number(len(t.rows))}, {"columns", number(len(t.heads))}}}
	if list := t.objects(); spread(list) {
		d.png("whole.png", plan(nil, list))
	} else {
		d.png("whole.png", letter(t.lettered()))
	}
	return r, nil
}

// lettered is the start of a table with its columns below each other.
func (t *table) lettered() (list []lettered) {
	rows := append([][]string{t.heads}, t.rows[:min(len(t.rows), maxLettered)]...)
	var wide [maxColumns]int
	for _, row := range rows {
		for i, c := range row[:min(len(row), maxColumns)] {
			wide[i] = min(24, max(wide[i], utf8.RuneCountInString(c)))
		}
	}
	for i, row := range rows {
		var b strings.Builder
		for k, c := range row[:min(len(row), maxColumns)] {
			text := []rune(c)
			fmt.Fprintf(&b, "%-*s  ", wide[k], string(text[:min(len(text), 24)]))
		}
		ink := letters
		if i == 0 {
			ink = plain
		}
		list = append(list, lettered{text: b.String(), ink: ink})
	}
	return list
}

// key is what rows are known by: their first cell, where no two have the same, or else their place.
func (t *table) keys() ([]string, bool) {
	keys, seen := make([]string, len(t.rows)), map[string]bool{}
	for i, row := range t.rows {
		if len(row) == 0 || row[0] == "" || seen[row[0]] {
			return nil, false
		}
		seen[row[0]] = true
		keys[i] = row[0]
	}
	return keys, true
}

func (t *table) compare(after seen, c *Comparison, d Drawn) error {
	other := after.(*table)
	mine, ok1 := t.keys()
	theirs, ok2 := other.keys()
	if !ok1 || !ok2 {
		mine, theirs = places(len(t.rows)), places(len(other.rows))
	}
	old := map[string][]string{}
	for i, k := range mine {
		old[k] = t.rows[i]
	}
	m := &Matched{Heads: append([]string{}, other.heads[:min(len(other.heads), maxColumns)]...), Rows: []MatchedRow{}}
	all := len(mine)+len(theirs) <= maxCells
	for i, k := range theirs {
		was, there := old[k]
		delete(old, k)
		if !there {
			c.Changes = append(c.Changes, Change{Change: Came, What: "row", Name: k, After: strings.Join(other.rows[i], ", ")})
			m.add(MatchedRow{Change: Came, Cells: other.rows[i]}, all)
			continue
		}
		row := MatchedRow{Cells: other.rows[i]}
		for j, head := range other.heads {
			now, before := "", ""
			if j < len(other.rows[i]) {
				now = other.rows[i][j]
			}
			if at := column(t.heads, head, j); at >= 0 && at < len(was) {
				before = was[at]
			}
			if now == before {
				continue
			}
			c.Changes = append(c.Changes, Change{Change: Became, What: "cell", Name: k + ", " + head, Before: before, After: now})
			if row.Change = Became; row.Was == nil {
				row.Was = map[int]string{}
			}
			row.Was[j] = before
		}
		m.add(row, all)
	}
	for i, k := range mine {
		if _, gone := old[k]; gone {
			c.Changes = append(c.Changes, Change{Change: Went, What: "row", Name: k, Before: strings.Join(t.rows[i], ", ")})
			m.add(MatchedRow{Change: Went, Cells: t.rows[i]}, all)
		}
	}
	c.Table = m
	count := map[string]int{}
	for _, x := range c.Changes {
		count[x.Change]++
	}
	c.Measures = append(c.Measures, Fact{"rows added", number(count[Came])}, Fact{"rows removed", number(count[Went])},
		Fact{"cells changed", number(count[Became])})
	c.Same = len(c.Changes) == 0 && len(t.heads) == len(other.heads)
	if a, b := t.objects(), other.objects(); spread(a, b) {
		d.png("plan.png", plan(a, b))
	}
	return nil
}

func places(n int) []string {
	list := make([]string, n)
	for i := range list {
		list[i] = fmt.Sprintf("row %d", i+1)
	}
	return list
}

// column finds a column by its head, and where heads are of no use by its place.
func column(heads []string, head string, place int) int {
	if place < len(heads) && heads[place] == head { // also where two columns are called the same
		return place
	}
	for i, h := range heads {
		if h == head && head != "" {
			return i
		}
	}
	if place < len(heads) && heads[place] == "" {
		return place
	}
	return -1
}

// objects are the rows as things with a place, where the table has columns for one.
func (t *table) objects() []object {
	find := func(names ...string) int {
		for i, h := range t.heads {
			for _, n := range names {
				if strings.EqualFold(strings.TrimSpace(h), n) {
					return i
				}
			}
		}
		return -1
	}
	x, y := find("x", "pos_x", "pos x"), find("z", "pos_z")
	if y < 0 {
		y = find("y", "pos_y", "pos y")
	}
	if x < 0 || y < 0 {
		return nil
	}
	keys, ok := t.keys()
	if !ok {
		keys = places(len(t.rows))
	}
	var list []object
	for i, row := range t.rows {
		if x >= len(row) || y >= len(row) {
			continue
		}
		if px, py, ok := parsePair(row[x], row[y]); ok {
			list = append(list, object{name: keys[i], at: []float64{px, py}})
		}
	}
	return list
}
