package media

import (
	"fmt"
	"image"
	"image/color"
	"math"
	"slices"
	"sort"
	"strings"

	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"
)

// circuit is a schematic, a board, or a layer of one for whoever makes it: parts, nets, and what is drawn. Lengths are in millimetres.
type circuit struct {
	kind    string
	format  string
	parts   map[string]part
	boxes   []Extent                   // of parts
	nets    map[string]map[string]bool // pins by net
	netAt   map[string][2]float64      // where a net has its first pin, by name
	layers  []string
	strokes []stroke
	corners int     // of all strokes
	texts   []named // what parts are called, beside them
	facts   []Fact
	outline [4]float64 // of a board: low x, low y, high x, high y
	sized   bool
	up      bool // whether y grows upwards
}

type part struct{ value, footprint, place string }

// stroke is a line of a width, or, with fill, an area; clear says that it takes away what was drawn before it.
type stroke struct {
	layer string
	width float64
	fill  bool
	clear bool
	at    [][2]float64
}

// Limits of what is drawn: lines, their corners, and how many pixels the areas around them may have in all in one drawing. What is beyond
// that last one is left out of the drawing, which then says so.
const (
	maxStrokes = 1_000_000
	maxCorners = 6_000_000
	maxPainted = 300_000_000
)

func (c *circuit) draw(s stroke) error {
	if c.corners += len(s.at); len(c.strokes) >= maxStrokes || c.corners > maxCorners {
		return unreadable("it has more lines than are looked into")
	}
	c.strokes = append(c.strokes, s)
	return nil
}

// key is the same for strokes that look the same, whichever way they run.
func (s stroke) key() string {
	at := s.at
	if n := len(at); n > 1 && (at[0][0] > at[n-1][0] || at[0][0] == at[n-1][0] && at[0][1] > at[n-1][1]) && !s.fill {
		at = make([][2]float64, n)
		for i := range at {
			at[i] = s.at[n-1-i]
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s %.4g %v %v", s.layer, s.width, s.fill, s.clear)
	for _, p := range at {
		fmt.Fprintf(&b, " %.4f,%.4f", p[0]+0, p[1]+0)
	}
	return b.String()
}

func (c *circuit) report(d Drawn) (Report, error) {
	r := Report{Kind: c.kind, Format: c.format, Facts: append([]Fact{{"format", c.format}}, c.facts...)}
	if c.parts != nil {
		r.Facts = append(r.Facts, Fact{"parts", number(len(c.parts))}, Fact{"nets", number(len(c.nets))})
	}
	if len(c.layers) > 0 {
		r.Facts = append(r.Facts, Fact{"layers", listed(c.layers)})
	}
	if c.sized {
		r.Facts = append(r.Facts, Fact{"size of the board",
			fmt.Sprintf("%s x %s mm", rounded(c.outline[2]-c.outline[0]), rounded(c.outline[3]-c.outline[1]))})
	}
	if len(c.strokes) == 0 {
		return r, nil
	}
	texts := c.captions(plain, nil)
	sheet := c.sheet(frameOf(texts, c.strokes), texts, byLayer, c.strokes)
	r.Frame = sheet.shows
	if len(c.boxes) <= MaxParts {
		r.Parts = c.boxes
	}
	if len(c.nets) <= MaxParts {
		for _, name := range sorted(c.nets) {
			p := c.netAt[name]
			r.Nets = append(r.Nets, Extent{name, []float64{p[0], p[1], p[0], p[1]}})
		}
	}
	d.png("whole.png", sheet.RGBA)
	return r, nil
}

// toneOf tells layers apart a little.
func toneOf(layer string) color.RGBA {
	switch {
	case strings.HasPrefix(layer, "B."), strings.Contains(layer, "bottom"):
		return color.RGBA{0x5c, 0x7f, 0x8a, 0xff}
	case strings.Contains(layer, "Edge"), strings.Contains(layer, "edge"):
		return color.RGBA{0xec, 0xe8, 0xde, 0xff}
	case strings.HasSuffix(layer, ".Cu"), strings.Contains(layer, "copper"), layer == "wire":
		return color.RGBA{0xc0, 0x8a, 0x5c, 0xff}
	}
	return plain
}

// style is how the strokes of a list are drawn.
type style struct {
	ink  func(stroke) color.RGBA
	dash bool
}

func inked(ink color.RGBA) func(stroke) color.RGBA { return func(stroke) color.RGBA { return ink } }

// cleared draws what takes away in the colour of the ground.
func cleared(ink func(stroke) color.RGBA) func(stroke) color.RGBA {
	return func(s stroke) color.RGBA {
		if s.clear {
			return ground
		}
		return ink(s)
	}
}

var (
	byLayer = []style{{ink: cleared(func(s stroke) color.RGBA { return toneOf(s.layer) })}}
	// What stayed, what went and what came. What went is told by its dashes, too.
	byFate = []style{{ink: cleared(inked(color.RGBA{0x63, 0x72, 0x77, 0xff}))}, {ink: inked(went), dash: true}, {ink: inked(came)}}
)

// frame is what a sheet shows: low x, low y, high x, high y.
type frame [4]float64

func frameOf(texts []caption, lists ...[]stroke) frame {
	var all []stroke
	for _, list := range lists {
		all = append(all, list...)
	}
	for _, t := range texts {
		all = append(all, stroke{at: [][2]float64{t.at}})
	}
	low, high, ok := around(all)
	if !ok {
		return frame{0, 0, 1, 1}
	}
	return frame{low[0], low[1], high[0], high[1]}
}

// sheet draws lists of strokes, each in its own style.
func (c *circuit) sheet(f frame, captions []caption, styles []style, lists ...[]stroke) *canvas {
	on := fit(f[0], f[1], f[2], f[3], 1280, c.up)
	zero, _ := on.view(0, 0)
	one, _ := on.view(1, 0)
	scale := one - zero
	painted, left := 0.0, 0
	for i, list := range lists {
		for _, s := range list {
			if painted += areaOf(s, scale); painted > maxPainted {
				left++
				continue
			}
			at := make([][2]float64, len(s.at))
			for k, p := range s.at {
				at[k][0], at[k][1] = on.view(p[0], p[1])
			}
			tone, dash := styles[i].ink(s), styles[i].dash
			width := math.Max(s.width*scale, 1.2)
			switch {
			case s.fill && !dash && len(at) > 2:
				on.polygon(tone, at)
			case s.fill:
				on.path(tone, 1.6, append(at, at[0]), dash)
			default:
				on.path(tone, width, at, dash)
			}
		}
	}
	for _, t := range captions {
		x, y := on.view(t.at[0], t.at[1])
		if t.left {
			x -= float64(7 * len(t.name))
		}
		on.write(t.ink, int(x), int(y)-t.row*13, t.name)
	}
	if left > 0 {
		on.write(went, 4, 14, number(left)+" more lines are not drawn")
	}
	return on
}

func (c *canvas) write(ink color.RGBA, x, y int, text string) {
	w := font.Drawer{Dst: c.RGBA, Src: image.NewUniform(ink), Face: basicfont.Face7x13, Dot: fixed.P(x, y)}
	w.DrawString(text)
}

// areaOf is how many pixels lie around each piece of a stroke, about: what drawing it takes.
func areaOf(s stroke, scale float64) (sum float64) {
	around := s.width*scale + 4
	if s.fill {
		low, high := s.at[0], s.at[0]
		for _, p := range s.at {
			low, high = [2]float64{math.Min(low[0], p[0]), math.Min(low[1], p[1])}, [2]float64{math.Max(high[0], p[0]), math.Max(high[1], p[1])}
		}
		return ((high[0]-low[0])*scale + around) * ((high[1]-low[1])*scale + around)
	}
	for i := 1; i < len(s.at); i++ {
		sum += (math.Abs(s.at[i][0]-s.at[i-1][0])*scale + around) * (math.Abs(s.at[i][1]-s.at[i-1][1])*scale + around)
	}
	return sum
}

// caption is a text on a drawing, so many rows above its place.
type caption struct {
	named
	ink color.RGBA
	row int
}

// maxCaptions is up to how many texts there is room for on a drawing.
const maxCaptions = 400

// captions are the texts in one ink, but for those that others has.
func (c *circuit) captions(ink color.RGBA, others *circuit) (list []caption) {
	had := map[string]bool{}
	if others != nil {
		for _, t := range others.texts {
			had[t.name+knot(t.at)] = true
		}
	}
	for _, t := range c.texts {
		if len(c.texts) <= maxCaptions && !had[t.name+knot(t.at)] {
			list = append(list, caption{t, ink, 0})
		}
	}
	return list
}

// path draws lines one behind the other, with gaps where dash is set.
func (c *canvas) path(ink color.RGBA, width float64, at [][2]float64, dash bool) {
	if len(at) == 1 {
		c.disc(ink, at[0][0], at[0][1], width/2)
		return
	}
	const on, off = 6.0, 5.0
	for i := 1; i < len(at); i++ {
		a, b := at[i-1], at[i]
		length := math.Hypot(b[0]-a[0], b[1]-a[1])
		if !dash || length < on {
			c.line(ink, width, a[0], a[1], b[0], b[1])
			continue
		}
		if length > 1e5 {
			continue
		}
		for t := 0.0; t < length; t += on + off {
			u := math.Min(t+on, length)
			c.line(ink, math.Min(width, 3), a[0]+(b[0]-a[0])*t/length, a[1]+(b[1]-a[1])*t/length, a[0]+(b[0]-a[0])*u/length,
				a[1]+(b[1]-a[1])*u/length)
		}
	}
}

func (c *circuit) compare(after seen, cmp *Comparison, d Drawn) error {
	other := after.(*circuit)
	if c.parts != nil && other.parts != nil {
		compareParts(c.parts, other.parts, cmp)
		compareNets(c.nets, other.nets, cmp)
	}
	count := map[string]int{}
	for _, x := range cmp.Changes {
		count[x.What+" "+x.Change]++
	}
	for _, what := range []string{"part", "net"} {
		for _, how := range []string{Came, Went, Became} {
			if c.parts != nil {
				cmp.Measures = append(cmp.Measures, Fact{what + "s " + how, number(count[what+" "+how])})
			}
		}
	}
	stayed, gone, fresh := split(c.strokes, other.strokes)
	cmp.Measures = append(cmp.Measures, Fact{"lines drawn anew", number(len(fresh))}, Fact{"lines gone", number(len(gone))})
	cmp.Same = len(cmp.Changes) == 0 && len(gone)+len(fresh) == 0
	if len(stayed)+len(gone)+len(fresh) == 0 {
		return nil
	}
	texts := other.captions(color.RGBA{0x8d, 0x9a, 0x9b, 0xff}, nil)
	for i, t := range texts {
		for _, n := range other.captions(came, c) {
			if n.name == t.name && n.at == t.at {
				texts[i].ink = came
			}
		}
	}
	taken := map[[2]float64]bool{}
	for _, t := range texts {
		taken[t.at] = true
	}
	for _, t := range c.captions(went, other) {
		if taken[t.at] {
			t.row = 1
		}
		texts = append(texts, t)
	}
	frame := frameOf(texts, stayed, gone, fresh)
	draw := func(name string, keep func(stroke) bool) {
		d.png(name, c.sheet(frame, texts, byFate, filter(stayed, keep), filter(gone, keep), filter(fresh, keep)).RGBA)
	}
	// Each by itself in the same frame, so that one can be laid over the other.
	was := c.sheet(frame, c.captions(plain, nil), byLayer, c.strokes)
	cmp.Frame = was.shows
	d.png("was.png", was.RGBA)
	d.png("is.png", c.sheet(frame, other.captions(plain, nil), byLayer, other.strokes).RGBA)
	draw("difference.png", func(stroke) bool { return true })
	changed := map[string]bool{}
	for _, s := range append(append([]stroke{}, gone...), fresh...) {
		if slices.Contains(c.layers, s.layer) || slices.Contains(other.layers, s.layer) {
			changed[s.layer] = true
		}
	}
	if c.kind != Board || len(c.layers) < 2 {
		return nil
	}
	for i, layer := range sorted(changed) {
		if i == 12 {
			break
		}
		name := "layer-" + strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' {
				return r
			}
			return '-'
		}, layer[:min(len(layer), 30)]) + ".png"
		draw(name, func(s stroke) bool { return s.layer == layer || strings.Contains(s.layer, "Edge") })
	}
	return nil
}

func filter(list []stroke, keep func(stroke) bool) (out []stroke) {
	for _, s := range list {
		if keep(s) {
			out = append(out, s)
		}
	}
	return out
}

// split tells strokes that are in both from those that are only in one.
func split(before, after []stroke) (stayed, gone, fresh []stroke) {
	had := make(map[string]int, len(before))
	for _, s := range before {
		had[s.key()]++
	}
	for _, s := range after {
		if k := s.key(); had[k] > 0 {
			had[k]--
			stayed = append(stayed, s)
		} else {
			fresh = append(fresh, s)
		}
	}
	for _, s := range before {
		if k := s.key(); had[k] > 0 {
			had[k]--
			gone = append(gone, s)
		}
	}
	return stayed, gone, fresh
}

func keysIn[V any](maps ...map[string]V) []string {
	names := map[string]bool{}
	for _, m := range maps {
		for k := range m {
			names[k] = true
		}
	}
	list := sorted(names)
	sort.SliceStable(list, func(i, j int) bool { return reference(list[i]) < reference(list[j]) })
	return list
}

// reference orders R2 before R10.
func reference(name string) string {
	i := strings.IndexAny(name, "0123456789")
	if i < 0 {
		return name
	}
	return fmt.Sprintf("%s%012s", name[:i], name[i:])
}

func compareParts(before, after map[string]part, c *Comparison) {
	words := func(p part) string { return strings.Join(compact(p.value, p.footprint), ", ") }
	for _, ref := range keysIn(before, after) {
		a, had := before[ref]
		b, has := after[ref]
		switch {
		case !had:
			c.Changes = append(c.Changes, Change{Change: Came, What: "part", Name: ref, After: words(b)})
		case !has:
			c.Changes = append(c.Changes, Change{Change: Went, What: "part", Name: ref, Before: words(a)})
		case a.value != b.value || a.footprint != b.footprint:
			c.Changes = append(c.Changes, Change{Change: Became, What: "part", Name: ref, Before: words(a), After: words(b)})
		case a.place != b.place:
			c.Changes = append(c.Changes, Change{Change: Moved, What: "part", Name: ref, Before: a.place, After: b.place})
		}
	}
}

func compact(list ...string) (out []string) {
	for _, s := range list {
		if s != "" {
			out = append(out, s)
		}
	}
	return out
}

func compareNets(before, after map[string]map[string]bool, c *Comparison) {
	pins := func(m map[string]bool) string { return strings.Join(sorted(m), " ") }
	for _, name := range keysIn(before, after) {
		a, had := before[name]
		b, has := after[name]
		switch {
		case !had:
			c.Changes = append(c.Changes, Change{Change: Came, What: "net", Name: name, After: pins(b)})
		case !has:
			c.Changes = append(c.Changes, Change{Change: Went, What: "net", Name: name, Before: pins(a)})
		case pins(a) != pins(b):
			only := func(x, y map[string]bool) string {
				rest := map[string]bool{}
				for p := range x {
					if !y[p] {
						rest[p] = true
					}
				}
				return pins(rest)
			}
			c.Changes = append(c.Changes, Change{Change: Became, What: "net", Name: name, Before: only(a, b), After: only(b, a)})
		}
	}
}

// round is what a round pad, a hole or a dot covers.
func round(x, y, r float64) [][2]float64 {
	at := make([][2]float64, 24)
	for i := range at {
		a := 2 * math.Pi * float64(i) / float64(len(at))
		at[i] = [2]float64{x + r*math.Cos(a), y + r*math.Sin(a)}
	}
	return at
}

// arc is a circle's arc as corners: round a middle, from an angle on, over a sweep.
func arc(x, y, r, from, sweep float64) [][2]float64 {
	n := int(math.Min(96, math.Max(4, math.Abs(sweep)*16)))
	at := make([][2]float64, n+1)
	for i := range at {
		a := from + sweep*float64(i)/float64(n)
		at[i] = [2]float64{x + r*math.Cos(a), y + r*math.Sin(a)}
	}
	return at
}

// arcThrough is the arc from a over b to c.
func arcThrough(a, b, c [2]float64) [][2]float64 {
	d := 2 * (a[0]*(b[1]-c[1]) + b[0]*(c[1]-a[1]) + c[0]*(a[1]-b[1]))
	if math.Abs(d) < 1e-12 {
		return [][2]float64{a, b, c}
	}
	sa, sb, sc := a[0]*a[0]+a[1]*a[1], b[0]*b[0]+b[1]*b[1], c[0]*c[0]+c[1]*c[1]
	x, y := (sa*(b[1]-c[1])+sb*(c[1]-a[1])+sc*(a[1]-b[1]))/d, (sa*(c[0]-b[0])+sb*(a[0]-c[0])+sc*(b[0]-a[0]))/d
	from := math.Atan2(a[1]-y, a[0]-x)
	turn := func(p [2]float64) float64 {
		t := math.Atan2(p[1]-y, p[0]-x) - from
		for t < 0 {
			t += 2 * math.Pi
		}
		return t
	}
	sweep := turn(c)
	if turn(b) > sweep {
		sweep -= 2 * math.Pi
	}
	return arc(x, y, math.Hypot(a[0]-x, a[1]-y), from, sweep)
}
