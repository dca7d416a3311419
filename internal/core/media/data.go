package media

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"sort"
	"strconv"
	"strings"
)

// maxObjects and maxDepth bound what is taken from structured text.
const (
	maxObjects = 200_000
	maxDepth   = 200
)

// object is a thing in a level or in other structured text: what has a name or an id, or a place. at is its place, of two or three
// numbers; props are the rest of it. name is unique.
type object struct {
	what  string
	name  string
	at    []float64
	props map[string]string
}

// data is structured text, as the objects in it.
type data struct {
	format  string
	objects []object
	text    *text
}

func readData(s Subject) (seen, error) {
	raw, err := s.read(maxText)
	if err != nil {
		return nil, err
	}
	d := &data{}
	switch trimmed := bytes.TrimLeft(raw, "\ufeff \t\r\n"); {
	case len(trimmed) > 0 && (trimmed[0] == '{' || trimmed[0] == '['):
		d.format = "JSON"
		d.objects, err = jsonObjects(raw)
	case len(trimmed) > 0 && trimmed[0] == '<':
		d.format = "XML"
		d.objects, err = xmlObjects(raw)
	default:
		return readText(s)
	}
	if err != nil {
		return nil, unreadable("its %s is damaged: %v", d.format, err)
	}
	if one, err := readText(s); err == nil {
		d.text, _ = one.(*text)
	}
	return d, nil
}

// gather collects objects under names that are unique.
type gather struct {
	list  []object
	names map[string]int
}

func (g *gather) add(o object) error {
	if len(g.list) == maxObjects {
		return fmt.Errorf("it has more than %s objects", number(maxObjects))
	}
	if g.names == nil {
		g.names = map[string]int{}
	}
	g.names[o.name]++
	if n := g.names[o.name]; n > 1 {
		o.name = fmt.Sprintf("%s (%d)", o.name, n)
	}
	g.list = append(g.list, o)
	return nil
}

func jsonObjects(raw []byte) ([]object, error) {
	decoder := json.NewDecoder(bytes.NewReader(bytes.TrimPrefix(raw, []byte("\ufeff"))))
	decoder.UseNumber()
	var top any
	if err := decoder.Decode(&top); err != nil {
		return nil, err
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("there is more behind its end")
	}
	g := &gather{}
	// from is where the owner stands: what it has is told from there.
	var walk func(v any, path, from string, depth int, owner *object) error
	walk = func(v any, path, from string, depth int, owner *object) error {
		if depth > maxDepth {
			return errors.New("it is nested too deeply")
		}
		switch v := v.(type) {
		case map[string]any:
			own := owner
			name, named := title(v)
			at, placed := jsonPlace(v)
			if own == nil || named || placed {
				o := object{what: whatKind(v, path), name: path, at: at, props: map[string]string{}}
				if named {
					o.name = name
				}
				if o.name == "" {
					o.name = "the whole"
				}
				own, from = &o, path
			}
			keys := make([]string, 0, len(v))
			for k := range v {
				keys = append(keys, k)
			}
			sort.Strings(keys)
			for _, k := range keys {
				if at != nil && placeKeys[strings.ToLower(k)] {
					continue
				}
				if err := walk(v[k], join(path, k), from, depth+1, own); err != nil {
					return err
				}
			}
			if own != owner {
				return g.add(*own)
			}
		case []any:
			if simple(v) && owner != nil {
				text, _ := json.Marshal(v)
				owner.props[within(path, from)] = cell(string(text))
				return nil
			}
			for i, one := range v {
				if err := walk(one, fmt.Sprintf("%s[%d]", path, i), from, depth+1, owner); err != nil {
					return err
				}
			}
		default:
			if owner == nil {
				return nil
			}
			owner.props[within(path, from)] = cell(fmt.Sprint(v))
		}
		return nil
	}
	err := walk(top, "", "", 0, nil)
	return g.list, err
}

// within is a path as it is told from another one.
func within(path, from string) string { return strings.TrimPrefix(strings.TrimPrefix(path, from), ".") }

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

// whatKind is what an object says that it is, or else the name of the list that it is in.
func whatKind(v map[string]any, path string) string {
	for _, k := range []string{"kind", "type", "class"} {
		if word, ok := v[k].(string); ok && word != "" && len(word) <= 40 {
			return cell(word)
		}
	}
	return lastWord(path)
}

func lastWord(path string) string {
	path = path[strings.LastIndex(path, ".")+1:]
	path, _, _ = strings.Cut(path, "[")
	return path
}

func simple(list []any) bool {
	for _, v := range list {
		switch v.(type) {
		case map[string]any, []any:
			return false
		}
	}
	return len(list) <= 64
}

// title is what an object is called.
func title(v map[string]any) (string, bool) {
	for _, k := range []string{"id", "name", "uid", "Name", "ID"} {
		switch t := v[k].(type) {
		case string:
			if t != "" {
				return cell(t), true
			}
		case json.Number:
			if name, ok := v["name"].(string); ok && name != "" {
				return cell(name) + " #" + t.String(), true
			}
			return "#" + t.String(), true
		}
	}
	return "", false
}

var placeKeys = map[string]bool{"x": true, "y": true, "z": true, "position": true, "translation": true, "pos": true, "at": true}

func jsonPlace(v map[string]any) ([]float64, bool) {
	for _, k := range []string{"position", "translation", "pos", "at"} {
		switch t := v[k].(type) {
		case []any:
			if len(t) == 2 || len(t) == 3 {
				at := make([]float64, len(t))
				for i := range t {
					n, ok := t[i].(json.Number)
					if !ok {
						return nil, false
					}
					at[i], _ = n.Float64()
				}
				return at, true
			}
		case map[string]any:
			return jsonPlace(t)
		}
	}
	var at []float64
	for _, k := range []string{"x", "y", "z"} {
		if n, ok := v[k].(json.Number); ok {
			f, _ := n.Float64()
			at = append(at, f)
		}
	}
	return at, len(at) >= 2
}

func xmlObjects(raw []byte) ([]object, error) {
	decoder := xml.NewDecoder(bytes.NewReader(raw))
	decoder.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	g := &gather{}
	var path []string
	var text []*strings.Builder
	var open []*object
	for {
		token, err := decoder.Token()
		if err == io.EOF {
			if len(path) > 0 {
				return nil, io.ErrUnexpectedEOF
			}
			return g.list, nil
		}
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.StartElement:
			if len(path) == maxDepth {
				return nil, errors.New("it is nested too deeply")
			}
			path = append(path, t.Name.Local)
			text = append(text, &strings.Builder{})
			o := &object{what: t.Name.Local, name: strings.Join(path, "/"), props: map[string]string{}}
			attributes := map[string]string{}
			for _, a := range t.Attr {
				attributes[strings.ToLower(a.Name.Local)] = a.Value
			}
			if x, y, ok := parsePair(attributes["x"], attributes["y"]); ok {
				o.at = []float64{x, y}
				if z, err := strconv.ParseFloat(attributes["z"], 64); err == nil {
					o.at = append(o.at, z)
				}
			}
			if name := attributes["name"]; name != "" {
				o.name = t.Name.Local + " " + cell(name)
			}
			if id := attributes["id"]; id != "" {
				o.name += " #" + cell(id)
			}
			for _, a := range t.Attr {
				if k := a.Name.Local; o.at == nil || !placeKeys[strings.ToLower(k)] {
					o.props[k] = cell(a.Value)
				}
			}
			open = append(open, o)
		case xml.CharData:
			if n := len(text); n > 0 && text[n-1].Len() < 10*maxCellText {
				text[n-1].Write(t)
			}
		case xml.EndElement:
			n := len(path) - 1
			o := open[n]
			if words := strings.TrimSpace(text[n].String()); words != "" {
				o.props["text"] = cell(words)
			}
			if len(o.props) > 0 || o.at != nil {
				if err := g.add(*o); err != nil {
					return nil, err
				}
			}
			path, text, open = path[:n], text[:n], open[:n]
		}
	}
}

func parsePair(a, b string) (x, y float64, ok bool) {
	x, err1 := strconv.ParseFloat(strings.TrimSpace(a), 64)
	y, err2 := strconv.ParseFloat(strings.TrimSpace(b), 64)
	return x, y, err1 == nil && err2 == nil && !math.IsNaN(x+y) && !math.IsInf(x+y, 0)
}

func (d *data) report(drawn Drawn) (Report, error) {
	kinds, placed := map[string]int{}, []object{}
	for _, o := range d.objects {
		kinds[o.what]++
		if len(o.at) >= 2 {
			placed = append(placed, o)
		}
	}
	r := Report{Kind: Data, Format: d.format, Facts: []Fact{{"format", d.format}, {"objects", number(len(d.objects))},
		{"with a place", number(len(placed))}}}
	names := make([]string, 0, len(kinds))
	for k := range kinds {
		names = append(names, k)
	}
	sort.Slice(names, func(i, j int) bool {
		return kinds[names[i]] > kinds[names[j]] || kinds[names[i]] == kinds[names[j]] && names[i] < names[j]
	})
	for i, k := range names {
		if k != "" && i < 8 {
			r.Facts = append(r.Facts, Fact{"of " + k, number(kinds[k])})
		}
	}
	if spread(placed) {
		drawn.png("whole.png", plan(nil, placed))
	} else if d.text != nil {
		drawn.png("whole.png", d.text.drawn())
	}
	return r, nil
}

func (d *data) compare(after seen, c *Comparison, drawn Drawn) error {
	other := after.(*data)
	if d.text != nil && other.text != nil {
		if err := d.text.compare(other.text, c, drawn); err != nil {
			return err
		}
	}
	return compareObjects(d.objects, other.objects, c, drawn)
}

// compareObjects tells which objects came, went, moved and changed, and draws a plan of those with a place.
func compareObjects(before, after []object, c *Comparison, d Drawn) error {
	old := make(map[string]object, len(before))
	for _, o := range before {
		old[o.name] = o
	}
	count := map[string]int{}
	change := func(x Change) {
		count[x.Change]++
		c.Changes = append(c.Changes, x)
	}
	for _, o := range after {
		was, there := old[o.name]
		delete(old, o.name)
		if !there {
			change(Change{Change: Came, What: o.what, Name: o.name, After: placeWords(o.at)})
			continue
		}
		if far := distance(was.at, o.at); far > 0 {
			change(Change{Change: Moved, What: o.what, Name: o.name, Before: placeWords(was.at), After: placeWords(o.at), Distance: far})
		}
		for _, k := range keysOf(was.props, o.props) {
			if was.props[k] != o.props[k] {
				change(Change{Change: Became, What: o.what, Name: o.name + ", " + k, Before: was.props[k], After: o.props[k]})
			}
		}
	}
	for _, o := range before {
		if _, gone := old[o.name]; gone {
			change(Change{Change: Went, What: o.what, Name: o.name, Before: placeWords(o.at)})
		}
	}
	c.Measures = append(c.Measures, Fact{"objects added", number(count[Came])}, Fact{"objects removed", number(count[Went])},
		Fact{"objects moved", number(count[Moved])}, Fact{"values changed", number(count[Became])})
	c.Same = len(c.Changes) == 0
	a, b := placedOnly(before), placedOnly(after)
	if !spread(a, b) {
		return nil
	}
	d.png("plan.png", plan(a, b))
	return nil
}

func placedOnly(list []object) (out []object) {
	for _, o := range list {
		if len(o.at) >= 2 {
			out = append(out, o)
		}
	}
	return out
}

// spread tells whether things lie at more than one place.
func spread(lists ...[]object) bool {
	var first []float64
	for _, list := range lists {
		for _, o := range list {
			if first == nil {
				first = o.at
			}
			if len(o.at) != len(first) || distance(first, o.at) > 0 {
				return true
			}
		}
	}
	return false
}

func keysOf(a, b map[string]string) []string {
	seen := map[string]bool{}
	var list []string
	for _, m := range []map[string]string{a, b} {
		for k := range m {
			if !seen[k] {
				seen[k] = true
				list = append(list, k)
			}
		}
	}
	sort.Strings(list)
	return list
}

func distance(a, b []float64) float64 {
	if len(a) != len(b) {
		return 0
	}
	sum := 0.0
	for i := range a {
		sum += (a[i] - b[i]) * (a[i] - b[i])
	}
	return math.Sqrt(sum)
}

func placeWords(at []float64) string {
	words := make([]string, len(at))
	for i, v := range at {
		words[i] = rounded(v)
	}
	return strings.Join(words, ", ")
}
