// Package media reads assets as people see them: textures, models, sounds, structured text, texts, tables, and the bytes of anything else.
// Of one content it gives facts and pictures, of two what is different between them, measured and drawn.
//
// A reader gets what somebody sent and trusts none of it: it is bounded in memory by what the limits here say, gives an error that wraps
// ErrUnreadable where the content is at fault, and may be stopped at any time. A reader that fails all the same (a panic, or no end) must
// not take anything else with it: the service runs readers in a process of their own.
package media

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"math"
	"path"
	"sort"
	"strings"

	"github.com/dustin/go-humanize"
)

// ErrUnreadable is wrapped where a content is not what its name says, or is damaged; the rest of the error says why, in words.
var ErrUnreadable = errors.New("can't be read")

func unreadable(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrUnreadable, fmt.Sprintf(format, args...))
}

// Limits of what is read, in bytes and pixels. A picture with more than MaxPixels is drawn and measured made smaller.
const (
	MaxPixels  = 17 << 20
	MaxDecoded = 70 << 20
	maxText    = 16 << 20
	maxModel   = 512 << 20
	maxSound   = 1 << 30
)

// Subject is one content under its name. Size is in bytes.
type Subject struct {
	Name    string
	Size    int64
	Content io.ReaderAt
}

func (s Subject) reader() *io.SectionReader { return io.NewSectionReader(s.Content, 0, s.Size) }

// read reads all of it, where it has no more than limit bytes.
func (s Subject) read(limit int64) ([]byte, error) {
	if s.Size > limit {
		return nil, unreadable("it has %s, and up to %s are looked into", humanize.IBytes(uint64(s.Size)), humanize.IBytes(uint64(limit)))
	}
	data := make([]byte, s.Size)
	_, err := io.ReadFull(s.reader(), data)
	return data, err
}

func (s Subject) ext() string { return strings.ToLower(path.Ext(s.Name)) }

// Fact is one thing that can be said of a content, for people.
type Fact struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Report is what a content is. Trouble says why it could not be read, and is empty where it could. Files names what was drawn of it.
type Report struct {
	Kind    string   `json:"kind"`
	Format  string   `json:"format,omitempty"`
	Facts   []Fact   `json:"facts"`
	Trouble string   `json:"trouble,omitempty"`
	Files   []string `json:"files"`
	Normal  bool     `json:"normal,omitempty"`
	Table   *Table   `json:"table,omitempty"`
	// Lengths of a sound in seconds, and of a picture or a document in pixels.
	Seconds float64 `json:"seconds,omitempty"`
	Width   int     `json:"width,omitempty"`
	Height  int     `json:"height,omitempty"`
	Pages   int     `json:"pages,omitempty"`
	// Print is the print of a picture or a sound (see [PrintOf]), as 16 hex digits.
	Print string `json:"print,omitempty"`
	// Frame is what whole.png shows of a circuit, in the drawing's own units: x at the left edge, y at the upper one, x at the right one, y
	// at the lower one. Parts, there, are the boxes around its parts, and Nets where each of its nets has its first pin; not those of one
	// with more than MaxParts.
	Frame []float64 `json:"frame,omitempty"`
	Parts []Extent  `json:"parts,omitempty"`
	Nets  []Extent  `json:"nets,omitempty"`
	// Bounds of a model in its own units: the least x, y and z, then the greatest.
	Bounds []float64 `json:"bounds,omitempty"`
}

// MaxParts is up to how many parts and nets each a report names.
const MaxParts = 5000

// Extent is what a thing on a drawing lies between. At has four: the least x and y, then the greatest.
type Extent struct {
	Name string    `json:"name"`
	At   []float64 `json:"at"`
}

// Pair is a fact before and after.
type Pair struct {
	Name    string `json:"name"`
	Before  string `json:"before"`
	After   string `json:"after"`
	Changed bool   `json:"changed,omitempty"`
}

// Words for what happened to a part of an asset.
const (
	Came   = "added"
	Went   = "removed"
	Became = "changed"
	Moved  = "moved"
)

// Change is one part that is different: a part of a schematic, an object of a level, a cell of a table. Distance is how far it moved, in
// the units of the content.
type Change struct {
	Change   string  `json:"change"`
	What     string  `json:"what"`
	Name     string  `json:"name"`
	Before   string  `json:"before,omitempty"`
	After    string  `json:"after,omitempty"`
	Distance float64 `json:"distance,omitempty"`
}

// What names of files begin with that were drawn of one of two contents.
const (
	Before = "before-"
	After  = "after-"
)

// MaxChanges is how many changes a comparison lists; Left says how many there are besides.
const MaxChanges = 2000

// Comparison is what is different between two contents. Measures are about both at once. Before and After are what each is.
type Comparison struct {
	Kind     string   `json:"kind"`
	Same     bool     `json:"same,omitempty"`
	Before   Report   `json:"before"`
	After    Report   `json:"after"`
	Facts    []Pair   `json:"facts"`
	Measures []Fact   `json:"measures"`
	Changes  []Change `json:"changes"`
	Left     int      `json:"changes_left,omitempty"`
	Rows     []Row    `json:"rows,omitempty"`
	RowsLeft int      `json:"rows_left,omitempty"`
	Table    *Matched `json:"table,omitempty"`
	Strip    *Strip   `json:"strip,omitempty"`
	Files    []string `json:"files"`
	// Frame is what the drawings of both circuits show, as in Report.
	Frame []float64 `json:"frame,omitempty"`
}

// Limit is the most bytes that a content of a name may have to be looked into.
func Limit(name string) int64 {
	switch KindOf(name) {
	case Texture, Model:
		return maxModel
	case Sound:
		return maxSound
	}
	return maxText
}

// Unread is the report of a content that was not looked into.
func Unread(name string, size int64, why string) Report {
	r := Report{Kind: KindOf(name), Facts: []Fact{{"size", humanize.IBytes(uint64(size))}}, Files: []string{}}
	if r.Kind != Other {
		r.Trouble = why
	}
	return r
}

// UnreadPair is the comparison of two contents that were not looked into.
func UnreadPair(before string, sizeBefore int64, after string, sizeAfter int64, why string) Comparison {
	c := Comparison{Kind: KindOf(after), Before: Unread(before, sizeBefore, why), After: Unread(after, sizeAfter, why), Measures: []Fact{},
		Changes: []Change{}, Files: []string{}}
	c.Facts = pair(c.Before.Facts, c.After.Facts)
	return c
}

// Drawn are files that can be made of contents, by name: pictures as PNG, meshes as mesh.go describes, sounds as WAV.
type Drawn map[string]Drawing

// Drawing is one of them. A picture is not encoded before it is asked for.
type Drawing struct {
	picture image.Image // nil where data is all there is
	data    []byte
}

// Bytes are the file.
func (d Drawing) Bytes() ([]byte, error) {
	if d.picture == nil {
		return d.data, nil
	}
	return encoded(d.picture)
}

// Small is a picture as PNGs that fit into edges x edges pixels, one for each of edges, which are in pixels and come largest first. One
// that is smaller stays as large as it is.
func (d Drawing) Small(edges ...int) (list [][]byte, err error) {
	m := d.picture
	for _, edge := range edges {
		m = smaller(m, edge)
		data, err := encoded(m)
		if err != nil {
			return nil, err
		}
		list = append(list, data)
	}
	return list, nil
}

func encoded(m image.Image) ([]byte, error) {
	var out bytes.Buffer
	encoder := png.Encoder{CompressionLevel: png.BestSpeed}
	err := encoder.Encode(&out, m)
	return out.Bytes(), err
}

func (d Drawn) names() []string {
	list := make([]string, 0, len(d))
	for name := range d {
		list = append(list, name)
	}
	sort.Strings(list)
	return list
}

func (d Drawn) png(name string, m image.Image) { d[name] = Drawing{picture: m} }

// seen is one content that a reader understood.
type seen interface {
	// report says what it is, and draws it.
	report(d Drawn) (Report, error)
	// compare says what is different in another one, which is of the same type and is the later one.
	compare(after seen, c *Comparison, d Drawn) error
}

// open reads a content with the reader of its kind.
func open(s Subject) (seen, error) {
	switch KindOf(s.Name) {
	case Texture:
		return readPicture(s)
	case Model:
		return readModel(s)
	case Sound:
		return readSound(s)
	case Schematic, Board:
		return readCircuit(s)
	case Document:
		return readDocument(s)
	case Data:
		return readData(s)
	case Tabular:
		return readTable(s)
	case Text:
		return readText(s)
	}
	return readText(s) // what is a text all the same is shown as one
}

// Look says what a content is, and draws it. An error is one of reading Content; what is wrong with the content itself is the report's
// Trouble.
func Look(s Subject) (Report, Drawn, error) {
	d := Drawn{}
	r := Report{Kind: KindOf(s.Name), Facts: []Fact{}}
	one, err := open(s)
	if err == nil {
		var full Report
		if full, err = one.report(d); err == nil {
			r = full
		}
	}
	if err = r.troubled(s, err); err != nil {
		return r, nil, err
	}
	r.Facts = append(r.Facts, Fact{"size", humanize.IBytes(uint64(s.Size))})
	r.Files = d.names()
	return r, d, nil
}

// troubled notes what is wrong with a content, and passes on what is wrong with reading it.
func (r *Report) troubled(s Subject, err error) error {
	if err == nil {
		return nil
	}
	if !errors.Is(err, ErrUnreadable) {
		return err
	}
	if KindOf(s.Name) == Other && errors.Is(err, errNoText) {
		return nil // it does not claim to be anything
	}
	r.Trouble = strings.TrimPrefix(err.Error(), ErrUnreadable.Error()+": ")
	return nil
}

// Compare says what is different between two contents, and draws it. The kind is that of the later one; where the earlier one is of
// another kind, or one of them can't be read, what can be said of each is said. What is drawn of each has [Before] or [After] before its
// name.
func Compare(before, after Subject) (Comparison, Drawn, error) {
	d := Drawn{}
	c := Comparison{Kind: KindOf(after.Name), Facts: []Pair{}, Measures: []Fact{}, Changes: []Change{}}
	first, err1 := open(before)
	second, err2 := open(after)
	for _, x := range []struct {
		s    Subject
		one  seen
		err  error
		side string
		into *Report
	}{{before, first, err1, Before, &c.Before}, {after, second, err2, After, &c.After}} {
		own := Drawn{}
		*x.into = Report{Kind: KindOf(x.s.Name), Facts: []Fact{}}
		if x.err == nil {
			var full Report
			if full, x.err = x.one.report(own); x.err == nil {
				*x.into = full
			}
		}
		if err := x.into.troubled(x.s, x.err); err != nil {
			return c, nil, err
		}
		x.into.Facts = append(x.into.Facts, Fact{"size", humanize.IBytes(uint64(x.s.Size))})
		x.into.Files = own.names()
		for name, drawing := range own {
			d[x.side+name] = drawing
		}
	}
	c.Facts = pair(c.Before.Facts, c.After.Facts)
	if err1 == nil && err2 == nil && sameType(first, second) {
		if err := first.compare(second, &c, d); err != nil && !errors.Is(err, ErrUnreadable) {
			return c, nil, err
		}
	}
	if len(c.Changes) > MaxChanges {
		c.Left = len(c.Changes) - MaxChanges
		c.Changes = c.Changes[:MaxChanges]
	}
	c.Files = d.names()
	return c, d, nil
}

func sameType(a, b seen) bool { return fmt.Sprintf("%T", a) == fmt.Sprintf("%T", b) }

// pair lays facts side by side, in the order of the later ones.
func pair(before, after []Fact) []Pair {
	old := map[string]string{}
	for _, f := range before {
		old[f.Name] = f.Value
	}
	list := make([]Pair, 0, len(after))
	for _, f := range after {
		list = append(list, Pair{f.Name, old[f.Name], f.Value, old[f.Name] != f.Value})
		delete(old, f.Name)
	}
	for _, f := range before {
		if v, ok := old[f.Name]; ok {
			list = append(list, Pair{f.Name, v, "", true})
		}
	}
	return list
}

func number(n int) string { return humanize.Comma(int64(n)) }

// rounded is a number for people: four digits that mean something.
func rounded(v float64) string {
	if v == 0 || math.IsNaN(v) || math.IsInf(v, 0) {
		return strings.TrimPrefix(fmt.Sprint(v), "-0")
	}
	digits := min(6, max(0, 3-int(math.Floor(math.Log10(math.Abs(v))))))
	text := humanize.CommafWithDigits(math.Round(v*math.Pow10(digits))/math.Pow10(digits), digits)
	if strings.Contains(text, ".") {
		text = strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
	}
	if text == "0" || text == "-0" {
		return fmt.Sprintf("%.2g", v)
	}
	return text
}

func percent(share float64) string {
	switch p := 100 * share; {
	case p > 0 && p < 0.01:
		return "under 0.01 %"
	case p < 100 && p > 99.99:
		return "over 99.99 %"
	default:
		return strings.TrimSuffix(strings.TrimSuffix(fmt.Sprintf("%.2f", p), "0"), ".0") + " %"
	}
}
