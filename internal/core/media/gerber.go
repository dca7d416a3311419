package media

import (
	"fmt"
	"math"
	"path"
	"sort"
	"strconv"
	"strings"
)

// readGerber reads a layer in RS-274X (Ucamco, "The Gerber Layer Format Specification", 2023.08): lines, arcs, flashes, regions, and
// apertures made of macros. Blocks and step-and-repeat are left out: what they repeat is drawn once.
func readGerber(s Subject) (seen, error) {
	data, err := s.read(64 << 20)
	if err != nil {
		return nil, err
	}
	name := strings.TrimSuffix(path.Base(s.Name), path.Ext(s.Name))
	g := &gerber{circuit: &circuit{kind: Board, format: "Gerber, RS-274X", up: true}, layer: clean(name), scale: 25.4, digits: 6,
		apertures: map[string]aperture{}, macros: map[string][]string{}, mode: 1}
	commands := 0
	for rest := string(data); rest != ""; {
		rest = strings.TrimLeft(rest, " \t\r\n")
		if rest == "" {
			break
		}
		extended := rest[0] == '%'
		end := strings.IndexByte(rest, '*')
		if extended {
			if end = strings.IndexByte(rest[1:], '%'); end >= 0 {
				end++
			}
		}
		if end < 0 {
			if g.ended {
				break
			}
			return nil, unreadable("it was cut off, or it is no Gerber file")
		}
		word := rest[:end]
		rest = rest[end+1:]
		if commands++; commands > maxExpressions {
			return nil, unreadable("it has too many commands")
		}
		if extended {
			parts := strings.Split(strings.Trim(word, "%"), "*")
			if name, ok := strings.CutPrefix(strings.TrimSpace(parts[0]), "AM"); ok {
				if len(g.macros) > 10_000 {
					return nil, unreadable("it has too many macros")
				}
				g.macros[name] = parts[1:]
				continue
			}
			for _, part := range parts {
				if err := g.extended(strings.TrimSpace(part)); err != nil {
					return nil, err
				}
			}
			continue
		}
		if err := g.command(strings.TrimSpace(word)); err != nil {
			return nil, err
		}
	}
	if !g.known {
		return nil, unreadable("it does not say how its numbers are written: it is no Gerber file")
	}
	c := g.circuit
	c.facts = append(c.facts, Fact{"apertures", number(len(g.apertures))}, Fact{"lines and flashes", number(len(c.strokes))})
	g.measure()
	return c, nil
}

type aperture struct {
	shape  byte
	width  float64
	height float64
	made   []shape // of a macro
}

type gerber struct {
	*circuit
	layer     string
	scale     float64 // to millimetres
	digits    int     // behind the point
	before    int     // digits before the point, where zeros at the end are left out, and else 0
	clear     bool    // whether what is drawn takes away
	known     bool
	ended     bool
	apertures map[string]aperture
	macros    map[string][]string
	// macroCorners is how many corners all apertures that are made of macros have.
	macroCorners int
	tool         aperture
	at           [2]float64
	mode         int // 1 straight, 2 clockwise, 3 the other way
	last         int // the operation of the command before: 1, 2 or 3
	region       bool
	outline      [][2]float64
}

func (g *gerber) extended(word string) error {
	switch {
	case strings.HasPrefix(word, "FS"):
		if len(word) > 3 && word[3] == 'I' {
			return unreadable("its places are told from one another, which newer files never do")
		}
		if len(word) > 5 && word[2] == 'T' && word[5] >= '0' && word[5] <= '9' {
			g.before = int(word[5] - '0')
		}
		if i := strings.IndexByte(word, 'X'); i >= 0 && i+2 < len(word) && word[i+2] >= '0' && word[i+2] <= '9' {
			g.digits, g.known = int(word[i+2]-'0'), true
		}
	case strings.HasPrefix(word, "IPNEG"):
		g.facts = append(g.facts, Fact{"polarity", "negative: what is drawn is what is taken away"})
	case strings.HasPrefix(word, "LP"):
		g.clear = word == "LPC"
	case strings.HasPrefix(word, "MOIN"):
		g.scale = 25.4
	case strings.HasPrefix(word, "MOMM"):
		g.scale = 1
	case strings.HasPrefix(word, "ADD"):
		n := 3
		for n < len(word) && word[n] >= '0' && word[n] <= '9' {
			n++
		}
		name, rest, _ := strings.Cut(word[n:], ",")
		a := aperture{shape: 'C', width: 0.2 / g.scale}
		if len(name) == 1 && strings.Contains("CROP", name) {
			a.shape = name[0]
			sizes := strings.Split(rest, "X")
			a.width, _ = strconv.ParseFloat(sizes[0], 64)
			if a.height = a.width; len(sizes) > 1 && a.shape != 'C' && a.shape != 'P' {
				a.height, _ = strconv.ParseFloat(sizes[1], 64)
			}
		} else if definition, ok := g.macros[name]; ok {
			var arguments []string
			if rest != "" {
				arguments = strings.Split(rest, "X")
			}
			made, err := g.macro(definition, arguments)
			if err != nil {
				return err
			}
			a.made = made
		}
		if a.width < 0 || a.width > 1e4 || a.width != a.width || a.height != a.height || a.height < 0 || a.height > 1e4 ||
			len(g.apertures) > 10000 {
			return unreadable("one of its apertures has no size")
		}
		a.width, a.height = a.width*g.scale, a.height*g.scale
		g.apertures[word[3:n]] = a
	}
	return nil
}

// command reads a word: codes, coordinates, and an operation.
func (g *gerber) command(word string) error {
	if strings.HasPrefix(word, "G04") || strings.HasPrefix(word, "G4 ") {
		return nil
	}
	to, offset := g.at, [2]float64{}
	operation, moved := 0, false
	for i := 0; i < len(word); {
		letter := word[i]
		j := i + 1
		for j < len(word) && (word[j] >= '0' && word[j] <= '9' || word[j] == '-' || word[j] == '+' || word[j] == '.') {
			j++
		}
		text := word[i+1 : j]
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || math.Abs(n) > 1e15 {
			return unreadable("a command in it is damaged: %s", clean(word[:min(len(word), 40)]))
		}
		length := n * g.scale
		if !strings.Contains(text, ".") {
			length *= math.Pow10(padding(text, g.before, g.digits) - g.digits)
		}
		switch letter {
		case 'X':
			to[0], moved = length, true
		case 'Y':
			to[1], moved = length, true
		case 'I':
			offset[0] = length
		case 'J':
			offset[1] = length
		case 'G':
			switch int(n) {
			case 1, 2, 3:
				g.mode = int(n)
			case 36:
				g.region, g.outline = true, nil
			case 37:
				g.region = false
				if err := g.close(); err != nil {
					return err
				}
			case 70:
				g.scale = 25.4
			case 71:
				g.scale = 1
			}
		case 'D':
			if n < 10 {
				operation = int(n)
			} else {
				g.tool = g.apertures[strconv.Itoa(int(n))]
			}
		case 'M':
			g.ended = g.ended || n == 2 || n == 0
		case 'N':
		default:
			return unreadable("a command in it is damaged: %s", clean(word[:min(len(word), 40)]))
		}
		i = j
	}
	if operation == 0 && moved {
		operation = g.last
	}
	if operation == 0 {
		return nil
	}
	g.last = operation
	return g.do(operation, to, offset)
}

// padding is how many zeros were left out at the end of a number that has so many digits before and behind the point; none where before is
// 0.
func padding(text string, before, behind int) int {
	if before == 0 {
		return 0
	}
	return max(0, before+behind-len(strings.TrimLeft(text, "+-")))
}

func (g *gerber) do(operation int, to, offset [2]float64) error {
	from := g.at
	g.at = to
	switch operation {
	case 1:
		line := [][2]float64{from, to}
		if g.mode != 1 {
			x, y := from[0]+offset[0], from[1]+offset[1]
			a, b := math.Atan2(from[1]-y, from[0]-x), math.Atan2(to[1]-y, to[0]-x)
			sweep := b - a
			if g.mode == 2 && sweep >= 0 {
				sweep -= 2 * math.Pi
			}
			if g.mode == 3 && sweep <= 0 {
				sweep += 2 * math.Pi
			}
			line = arc(x, y, math.Hypot(from[0]-x, from[1]-y), a, sweep)
		}
		if g.region {
			if len(g.outline) > maxCorners {
				return unreadable("one of its areas has too many corners")
			}
			g.outline = append(g.outline, line...)
			return nil
		}
		return g.draw(stroke{layer: g.layer, width: math.Max(g.tool.width, 0.01), clear: g.clear, at: line})
	case 2:
		if g.region {
			return g.close()
		}
	case 3:
		for _, piece := range g.tool.made {
			at := make([][2]float64, len(piece.at))
			for i, p := range piece.at {
				at[i] = [2]float64{p[0] + to[0], p[1] + to[1]}
			}
			if err := g.draw(stroke{layer: g.layer, fill: true, clear: g.clear == piece.on, at: at}); err != nil {
				return err
			}
		}
		if g.tool.made == nil {
			return g.draw(stroke{layer: g.layer, fill: true, clear: g.clear, at: g.flash(to)})
		}
	}
	return nil
}

// close ends an outline of a region.
func (g *gerber) close() error {
	outline := g.outline
	g.outline = nil
	if len(outline) < 3 {
		return nil
	}
	return g.draw(stroke{layer: g.layer, fill: true, clear: g.clear, at: outline})
}

func (g *gerber) flash(p [2]float64) [][2]float64 {
	w, h := math.Max(g.tool.width, 0.02)/2, math.Max(g.tool.height, 0.02)/2
	switch g.tool.shape {
	case 'R':
		return [][2]float64{{p[0] - w, p[1] - h}, {p[0] + w, p[1] - h}, {p[0] + w, p[1] + h}, {p[0] - w, p[1] + h}}
	case 'O':
		r := math.Min(w, h)
		at := arc(p[0]+w-r, p[1]+h-r, r, 0, math.Pi/2)
		at = append(at, arc(p[0]-w+r, p[1]+h-r, r, math.Pi/2, math.Pi/2)...)
		at = append(at, arc(p[0]-w+r, p[1]-h+r, r, math.Pi, math.Pi/2)...)
		return append(at, arc(p[0]+w-r, p[1]-h+r, r, 3*math.Pi/2, math.Pi/2)...)
	}
	return round(p[0], p[1], w)
}

// measure says how large what is drawn is.
func (c *circuit) measure() {
	if len(c.strokes) == 0 {
		return
	}
	for _, s := range c.strokes {
		c.edge(s.at)
	}
	c.sized = false
	c.facts = append(c.facts, Fact{"extent", fmt.Sprintf("%s x %s mm", rounded(c.outline[2]-c.outline[0]),
		rounded(c.outline[3]-c.outline[1]))})
}

// readDrill reads a drill file (IPC-NC-349, known as Excellon): tools, holes and slots.
func readDrill(s Subject) (seen, error) {
	data, err := s.read(32 << 20)
	if err != nil {
		return nil, err
	}
	c := &circuit{kind: Board, format: "drill file", up: true}
	tools, counts := map[string]float64{}, map[string]int{}
	scale, before, digits, tool := 25.4, 0, 4, "" // before: as padding has it
	var at [2]float64
	started := false
	for line := range strings.Lines(string(data)) {
		line = strings.ToUpper(strings.TrimSpace(line))
		line, _, _ = strings.Cut(line, ";")
		switch {
		case line == "M48":
			started = true
		case strings.HasPrefix(line, "METRIC"), line == "M71":
			if scale, digits = 1, 3; strings.Contains(line, "LZ") {
				before = 3
			}
		case strings.HasPrefix(line, "INCH"), line == "M72":
			if scale, digits = 25.4, 4; strings.Contains(line, "LZ") {
				before = 2
			}
		case strings.HasPrefix(line, "T") && strings.Contains(line, "C") && !started:
			return nil, unreadable("it has tools before its head")
		case strings.HasPrefix(line, "T") && strings.Contains(line, "C"):
			name, size, _ := strings.Cut(line[1:], "C")
			size = strings.TrimRight(size, "FSBHZ")
			if i := strings.IndexAny(size, "FSBHZ"); i >= 0 {
				size = size[:i]
			}
			d, err := strconv.ParseFloat(size, 64)
			if err != nil || d <= 0 || d > 1000 || len(tools) > 1000 {
				return nil, unreadable("a tool in it has no size")
			}
			if i := strings.IndexAny(name, "FSBHZ"); i >= 0 {
				name = name[:i]
			}
			tools[strings.TrimLeft(name, "0")] = d // its unit may be told later
		case strings.HasPrefix(line, "T"):
			tool = strings.TrimLeft(line[1:], "0")
		case strings.HasPrefix(line, "X"), strings.HasPrefix(line, "Y"):
			first, second, slot := strings.Cut(line, "G85")
			if at, err = drillPlace(first, at, scale, before, digits); err != nil {
				return nil, err
			}
			d := math.Max(tools[tool]*scale, 0.05)
			counts[tool]++
			hole := stroke{layer: fmt.Sprintf("%s mm", rounded(d)), fill: true, at: round(at[0], at[1], d/2)}
			if slot {
				from := at
				if at, err = drillPlace(second, at, scale, before, digits); err != nil {
					return nil, err
				}
				hole = stroke{layer: hole.layer, width: d, at: [][2]float64{from, at}}
			}
			if err := c.draw(hole); err != nil {
				return nil, err
			}
		}
	}
	if !started {
		return nil, unreadable("it has no head of a drill file")
	}
	names := make([]string, 0, len(tools))
	for n := range tools {
		names = append(names, n)
	}
	sort.Slice(names, func(i, j int) bool { return tools[names[i]] < tools[names[j]] })
	c.facts = append(c.facts, Fact{"holes", number(len(c.strokes))}, Fact{"tools", number(len(tools))})
	for i, n := range names {
		if i < 12 {
			c.facts = append(c.facts, Fact{fmt.Sprintf("holes of %s mm", rounded(tools[n]*scale)), number(counts[n])})
		}
	}
	c.measure()
	return c, nil
}

func drillPlace(text string, at [2]float64, scale float64, before, digits int) ([2]float64, error) {
	for text != "" {
		axis := strings.IndexByte("XY", text[0])
		j := 1
		for j < len(text) && text[j] != 'X' && text[j] != 'Y' {
			j++
		}
		n, err := strconv.ParseFloat(text[1:j], 64)
		if axis < 0 || err != nil || math.Abs(n) > 1e12 {
			return at, unreadable("a place in it is damaged: %s", clean(text[:min(len(text), 40)]))
		}
		if !strings.Contains(text[1:j], ".") {
			n *= math.Pow10(padding(text[1:j], before, digits) - digits)
		}
		at[axis] = n * scale
		text = text[j:]
	}
	return at, nil
}
