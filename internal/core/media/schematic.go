package media

import (
	"fmt"
	"math"
	"strings"
)

func readCircuit(s Subject) (seen, error) {
	switch s.ext() {
	case ".kicad_sch", ".kicad_pcb":
		data, err := s.read(64 << 20)
		if err != nil {
			return nil, err
		}
		e, err := parseExpression(data)
		if err != nil {
			return nil, err
		}
		switch e.name() {
		case "kicad_sch":
			return readSchematic(e)
		case "kicad_pcb":
			return readBoard(e)
		}
		return nil, unreadable("it is neither a schematic nor a board")
	case ".drl", ".xln", ".exc":
		return readDrill(s)
	}
	return readGerber(s)
}

// placement turns what a symbol's or a footprint's own coordinates say into those of the sheet.
type placement struct {
	x, y, turn float64 // degrees
	mirror     string
	down       bool // whether its own y grows upwards, and the sheet's downwards
}

func (p placement) at(x, y float64) [2]float64 {
	if p.down {
		y = -y
	}
	switch p.mirror {
	case "x":
		y = -y
	case "y":
		x = -x
	}
	a := -p.turn * math.Pi / 180
	sin, cos := math.Sin(a), math.Cos(a)
	return [2]float64{p.x + x*cos - y*sin, p.y + x*sin + y*cos}
}

// readSchematic reads a sheet: its parts, what its wires connect, and its lines.
func readSchematic(e *expression) (*circuit, error) {
	c := &circuit{kind: Schematic, format: "schematic, S-expression " + e.find("version").text(1), parts: map[string]part{},
		nets: map[string]map[string]bool{}}
	if title := e.find("title_block"); title != nil {
		c.facts = append(c.facts, Fact{"title", title.find("title").text(1)}, Fact{"revision", title.find("rev").text(1)})
	}
	library := map[string]*expression{}
	for _, s := range e.find("lib_symbols").all("symbol") {
		library[s.text(1)] = s
	}
	w := newWiring()
	for _, x := range e.all("wire", "bus", "polyline") {
		at := points(x.find("pts"))
		if err := c.draw(stroke{layer: x.name(), width: 0.15, at: at}); err != nil {
			return nil, err
		}
		if x.name() == "wire" {
			for i := 1; i < len(at); i++ {
				w.wires = append(w.wires, [2][2]float64{at[i-1], at[i]})
			}
		}
	}
	for _, x := range e.all("junction") {
		p := x.point("at")
		w.touch = append(w.touch, p)
		if err := c.draw(stroke{layer: "junction", fill: true, at: round(p[0], p[1], 0.5)}); err != nil {
			return nil, err
		}
	}
	for _, x := range e.all("label", "global_label", "hierarchical_label") {
		p := x.point("at")
		w.labels = append(w.labels, named{name: x.text(1), at: p})
		side := 1.0 // where its text lies
		if turn := x.find("at").number(3); turn == 180 || turn == 270 {
			side = -1
		}
		c.texts = append(c.texts, named{name: x.text(1), at: [2]float64{p[0] + 0.6*side, p[1] - 1.1}, left: side < 0})
		if err := c.draw(stroke{layer: "label " + x.text(1), width: 0.15,
			at: [][2]float64{{p[0], p[1]}, {p[0] + 0.8*side, p[1] - 0.8}, {p[0] + 2.5*side, p[1] - 0.8}}}); err != nil {
			return nil, err
		}
	}
	for _, x := range e.all("symbol") {
		at := x.find("at")
		p := placement{x: at.number(1), y: at.number(2), turn: at.number(3), mirror: x.find("mirror").text(1), down: true}
		ref := x.property("Reference")
		symbol := library[x.find("lib_id").text(1)]
		if !strings.HasPrefix(ref, "#") {
			c.parts[ref] = part{x.property("Value"), x.property("Footprint"), placeWords([]float64{p.x, p.y})}
		}
		first := len(c.strokes)
		if err := c.symbol(symbol, p, ref, x.property("Value"), w, 0); err != nil {
			return nil, err
		}
		if low, high, ok := around(c.strokes[first:]); ok && !strings.HasPrefix(ref, "#") {
			c.boxes = append(c.boxes, Extent{ref, []float64{low[0], low[1], high[0], high[1]}})
			c.texts = append(c.texts, named{name: strings.TrimSpace(ref + " " + x.property("Value")), at: [2]float64{low[0] + 2.6, low[1] - 0.8}})
		}
	}
	c.nets, c.netAt = w.nets()
	return c, nil
}

func points(e *expression) (at [][2]float64) {
	for _, p := range e.all("xy") {
		at = append(at, [2]float64{p.number(1), p.number(2)})
	}
	return at
}

// symbol draws a part of a library at its place, and notes where its pins are. What it stands for goes into the layer, so that a part
// whose value changed is drawn as changed.
func (c *circuit) symbol(e *expression, p placement, ref, value string, w *wiring, depth int) error {
	if e == nil || depth > 3 {
		return nil
	}
	layer := ref + " " + value
	for _, x := range e.list {
		if x.leaf {
			continue
		}
		var at [][2]float64
		switch x.name() {
		case "symbol":
			if err := c.symbol(x, p, ref, value, w, depth+1); err != nil {
				return err
			}
			continue
		case "rectangle":
			a, b := x.point("start"), x.point("end")
			at = [][2]float64{a, {b[0], a[1]}, b, {a[0], b[1]}, a}
		case "polyline":
			at = points(x.find("pts"))
		case "circle":
			m := x.point("center")
			at = arc(m[0], m[1], x.find("radius").number(1), 0, 2*math.Pi)
		case "arc":
			at = arcThrough(x.point("start"), x.point("mid"), x.point("end"))
		case "pin":
			from := x.find("at")
			a, length := from.number(3)*math.Pi/180, x.find("length").number(1)
			at = [][2]float64{{from.number(1), from.number(2)}, {from.number(1) + length*math.Cos(a), from.number(2) + length*math.Sin(a)}}
			w.pins = append(w.pins, named{name: ref + "." + x.find("number").text(1), at: p.at(at[0][0], at[0][1])})
			if strings.HasPrefix(ref, "#") { // a power symbol names its net
				w.labels = append(w.labels, named{name: value, at: p.at(at[0][0], at[0][1])})
			}
		default:
			continue
		}
		for i := range at {
			at[i] = p.at(at[i][0], at[i][1])
		}
		if err := c.draw(stroke{layer: layer, width: 0.2, at: at}); err != nil {
			return err
		}
	}
	return nil
}

type named struct {
	name string
	at   [2]float64
	left bool // whether the text ends at its place
}

// wiring finds out what is connected: wires join their ends, what lies on a wire (a junction, a label, the end of a wire at a junction),
// and pins at their ends; labels of one name are one.
type wiring struct {
	wires  [][2][2]float64
	touch  [][2]float64
	labels []named
	pins   []named
	parent map[string]string
}

func newWiring() *wiring { return &wiring{parent: map[string]string{}} }

func knot(p [2]float64) string { return fmt.Sprintf("%.2f,%.2f", p[0]+0, p[1]+0) }

func (w *wiring) root(k string) string {
	for w.parent[k] != "" && w.parent[k] != k {
		if up := w.parent[w.parent[k]]; up != "" {
			w.parent[k] = up
		}
		k = w.parent[k]
	}
	return k
}

func (w *wiring) join(a, b string) {
	if a, b = w.root(a), w.root(b); a != b {
		w.parent[a] = b
	}
}

func onWire(p [2]float64, wire [2][2]float64) bool {
	a, b := wire[0], wire[1]
	if p[0] < math.Min(a[0], b[0])-0.01 || p[0] > math.Max(a[0], b[0])+0.01 || p[1] < math.Min(a[1], b[1])-0.01 ||
		p[1] > math.Max(a[1], b[1])+0.01 {
		return false
	}
	return math.Abs((b[0]-a[0])*(p[1]-a[1])-(b[1]-a[1])*(p[0]-a[0])) < 0.01*math.Max(1, math.Hypot(b[0]-a[0], b[1]-a[1]))
}

// maxMeets bounds how often points are held against wires.
const maxMeets = 50_000_000

// nets are the pins of each net, and where the first of them is.
func (w *wiring) nets() (nets map[string]map[string]bool, netAt map[string][2]float64) {
	for _, wire := range w.wires {
		w.join(knot(wire[0]), knot(wire[1]))
	}
	on := append([][2]float64{}, w.touch...)
	for _, l := range w.labels {
		on = append(on, l.at)
	}
	if len(on)*len(w.wires) <= maxMeets {
		for _, p := range on {
			for _, wire := range w.wires {
				if onWire(p, wire) {
					w.join(knot(p), knot(wire[0]))
				}
			}
		}
	}
	names := map[string]string{}
	for _, l := range w.labels {
		w.join(knot(l.at), "label "+l.name)
	}
	for _, l := range w.labels {
		root := w.root(knot(l.at))
		if names[root] == "" || l.name < names[root] {
			names[root] = l.name
		}
	}
	byRoot := map[string]map[string]bool{}
	for _, p := range w.pins {
		root := w.root(knot(p.at))
		if byRoot[root] == nil {
			byRoot[root] = map[string]bool{}
		}
		byRoot[root][p.name] = true
	}
	at := map[string][2]float64{}
	for _, p := range w.pins {
		at[p.name] = p.at
	}
	nets, netAt = map[string]map[string]bool{}, map[string][2]float64{}
	for root, pins := range byRoot {
		name := names[root]
		if name == "" {
			if len(pins) < 2 {
				continue // a pin by itself
			}
			name = "net of " + sorted(pins)[0]
		}
		nets[name], netAt[name] = pins, at[sorted(pins)[0]]
	}
	return nets, netAt
}

// readBoard reads a board: its parts, what is connected to what, its layers, and its lines.
func readBoard(e *expression) (*circuit, error) {
	c := &circuit{kind: Board, format: "board, S-expression " + e.find("version").text(1), parts: map[string]part{},
		nets: map[string]map[string]bool{}, netAt: map[string][2]float64{}}
	if layers := e.find("layers"); layers != nil {
		for _, l := range layers.list {
			if !l.leaf {
				c.layers = append(c.layers, l.text(1))
			}
		}
	}
	for _, f := range e.all("footprint", "module") {
		if err := c.footprint(f); err != nil {
			return nil, err
		}
	}
	for _, x := range e.list {
		if x.leaf {
			continue
		}
		var err error
		layer, width := x.find("layer").text(1), math.Max(x.find("width").number(1), 0.05)
		switch x.name() {
		case "via":
			p := x.point("at")
			err = c.draw(stroke{layer: "via", fill: true, at: round(p[0], p[1], x.find("size").number(1)/2)})
		case "zone":
			for _, poly := range x.all("filled_polygon") {
				on := layer
				if l := poly.find("layer").text(1); l != "" {
					on = l
				}
				if err = c.draw(stroke{layer: on, width: 0.1, at: points(poly.find("pts"))}); err != nil {
					return nil, err
				}
			}
		default:
			if at := graphic(x, placement{}); at != nil {
				err = c.draw(stroke{layer: layer, width: width, at: at})
				if strings.Contains(layer, "Edge") {
					c.edge(at)
				}
			}
		}
		if err != nil {
			return nil, err
		}
	}
	return c, nil
}

// edge widens the outline of a board.
func (c *circuit) edge(at [][2]float64) {
	if !c.sized {
		c.outline, c.sized = [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}, true
	}
	for _, p := range at {
		c.outline = [4]float64{math.Min(c.outline[0], p[0]), math.Min(c.outline[1], p[1]), math.Max(c.outline[2], p[0]),
			math.Max(c.outline[3], p[1])}
	}
}

// graphic is a line, rectangle, circle or arc of a board or of a footprint, nil for anything else.
func graphic(x *expression, p placement) (at [][2]float64) {
	switch name := x.name(); strings.TrimPrefix(strings.TrimPrefix(name, "gr_"), "fp_") {
	case "line", "segment":
		at = [][2]float64{x.point("start"), x.point("end")}
	case "rect":
		a, b := x.point("start"), x.point("end")
		at = [][2]float64{a, {b[0], a[1]}, b, {a[0], b[1]}, a}
	case "circle":
		m, e := x.point("center"), x.point("end")
		at = arc(m[0], m[1], math.Hypot(e[0]-m[0], e[1]-m[1]), 0, 2*math.Pi)
	case "arc":
		if x.find("mid") == nil {
			return nil
		}
		at = arcThrough(x.point("start"), x.point("mid"), x.point("end"))
	case "poly":
		if at = points(x.find("pts")); len(at) > 0 {
			at = append(at, at[0])
		}
	}
	for i := range at {
		at[i] = p.at(at[i][0], at[i][1])
	}
	return at
}

func (c *circuit) footprint(f *expression) error {
	at := f.find("at")
	p := placement{x: at.number(1), y: at.number(2), turn: at.number(3)}
	ref, value := f.property("Reference"), f.property("Value")
	for _, t := range f.all("fp_text") {
		switch t.text(1) {
		case "reference":
			ref = t.text(2)
		case "value":
			value = t.text(2)
		}
	}
	c.parts[ref] = part{value, f.text(1), placeWords([]float64{p.x, p.y, p.turn})}
	first := len(c.strokes)
	defer func() { c.frame(ref, value, c.strokes[first:]) }()
	for _, x := range f.list {
		if x.leaf {
			continue
		}
		if x.name() == "pad" {
			if err := c.pad(x, p, ref, f.find("layer").text(1)); err != nil {
				return err
			}
			continue
		}
		if line := graphic(x, p); line != nil {
			if err := c.draw(stroke{layer: x.find("layer").text(1), width: math.Max(x.find("width").number(1), 0.08), at: line}); err != nil {
				return err
			}
		}
	}
	return nil
}

// frame draws a thin frame around what belongs to a part, with its name: where only its value changed, that is what changes in the picture.
func (c *circuit) frame(ref, value string, of []stroke) {
	low, high, ok := around(of)
	if !ok {
		return
	}
	const gap = 0.4
	name := strings.TrimSpace(ref + " " + value)
	a, b := [2]float64{low[0] - gap, low[1] - gap}, [2]float64{high[0] + gap, high[1] + gap}
	c.boxes = append(c.boxes, Extent{ref, []float64{a[0], a[1], b[0], b[1]}})
	c.texts = append(c.texts, named{name: name, at: [2]float64{a[0], a[1] - 0.3}})
	_ = c.draw(stroke{layer: "part " + name, width: 0.08, at: [][2]float64{a, {b[0], a[1]}, b, {a[0], b[1]}, a}})
}

// around is what strokes lie between; false where there are none.
func around(list []stroke) (low, high [2]float64, ok bool) {
	low, high = [2]float64{math.Inf(1), math.Inf(1)}, [2]float64{math.Inf(-1), math.Inf(-1)}
	for _, s := range list {
		for _, p := range s.at {
			for k := range p {
				low[k], high[k] = math.Min(low[k], p[k]-s.width/2), math.Max(high[k], p[k]+s.width/2)
			}
			ok = true
		}
	}
	return low, high, ok
}

func (c *circuit) pad(x *expression, p placement, ref, layer string) error {
	m, size := x.find("at"), x.find("size")
	w, h := size.number(1)/2, size.number(2)/2
	var at [][2]float64
	if shape := x.text(3); shape == "circle" || shape == "oval" && w == h {
		at = round(m.number(1), m.number(2), w)
	} else {
		a := (m.number(3) - p.turn) * math.Pi / 180
		for _, k := range [][2]float64{{-w, -h}, {w, -h}, {w, h}, {-w, h}} {
			at = append(at, [2]float64{m.number(1) + k[0]*math.Cos(a) + k[1]*math.Sin(a), m.number(2) - k[0]*math.Sin(a) + k[1]*math.Cos(a)})
		}
	}
	for i := range at {
		at[i] = p.at(at[i][0], at[i][1])
	}
	if l := x.find("layers").text(1); l != "" && !strings.HasPrefix(l, "*") {
		layer = l
	}
	if net := x.find("net"); net.text(2) != "" {
		name := net.text(2)
		if c.nets[name] == nil {
			c.nets[name], c.netAt[name] = map[string]bool{}, p.at(m.number(1), m.number(2))
		}
		c.nets[name][ref+"."+x.text(1)] = true
	}
	return c.draw(stroke{layer: layer, fill: true, at: at})
}
