package media

import (
	"math"
	"strconv"
	"strings"
)

// Bounds of what aperture macros may have: primitives of one, corners of all apertures that are made of them, and nesting of what is
// worked out.
const (
	maxPrimitives   = 2000
	maxMacroCorners = 1_000_000
	maxNesting      = 50
)

// shape is a piece of an aperture, in millimetres around its middle; what is not on takes away what the pieces before it have drawn.
type shape struct {
	on bool
	at [][2]float64
}

// macro makes the pieces of an aperture of what its definition says (Gerber format specification, 4.5) and the numbers it is called with.
func (g *gerber) macro(definition []string, arguments []string) ([]shape, error) {
	if len(definition) > maxPrimitives {
		return nil, unreadable("one of its apertures has too many parts")
	}
	variables := map[int]float64{}
	for i, a := range arguments {
		v, err := strconv.ParseFloat(strings.TrimSpace(a), 64)
		if err != nil {
			return nil, unreadable("an aperture is called with what is no number: %s", clean(a[:min(len(a), 40)]))
		}
		variables[i+1] = v
	}
	var list []shape
	for _, statement := range definition {
		statement = strings.ReplaceAll(strings.TrimSpace(statement), " ", "")
		if name, value, ok := strings.Cut(statement, "="); ok && strings.HasPrefix(name, "$") {
			n, err := strconv.Atoi(name[1:])
			if err != nil {
				return nil, unreadable("a macro of its apertures is damaged")
			}
			if variables[n], err = workOut(value, variables); err != nil {
				return nil, err
			}
			continue
		}
		if statement == "" || statement[0] == '0' {
			continue // a comment
		}
		var v []float64
		for _, field := range strings.Split(statement, ",") {
			n, err := workOut(field, variables)
			if err != nil {
				return nil, err
			}
			v = append(v, n)
		}
		pieces, err := primitive(v)
		if err != nil {
			return nil, err
		}
		for i := range pieces {
			for k := range pieces[i].at {
				pieces[i].at[k][0] *= g.scale
				pieces[i].at[k][1] *= g.scale
			}
			if g.macroCorners += len(pieces[i].at); g.macroCorners > maxMacroCorners {
				return nil, unreadable("its apertures have too many corners")
			}
		}
		list = append(list, pieces...)
	}
	return list, nil
}

// primitive is one part of a macro, by its code.
func primitive(v []float64) ([]shape, error) {
	get := func(i int) float64 {
		if i < len(v) && math.Abs(v[i]) < 1e6 {
			return v[i]
		}
		return 0
	}
	// turned turns corners around the middle of the aperture.
	turned := func(on bool, at [][2]float64, degrees float64) []shape {
		sin, cos := math.Sincos(degrees * math.Pi / 180)
		for i, p := range at {
			at[i] = [2]float64{p[0]*cos - p[1]*sin, p[0]*sin + p[1]*cos}
		}
		return []shape{{on, at}}
	}
	box := func(x, y, w, h float64) [][2]float64 {
		return [][2]float64{{x - w/2, y - h/2}, {x + w/2, y - h/2}, {x + w/2, y + h/2}, {x - w/2, y + h/2}}
	}
	on := get(1) != 0
	switch int(get(0)) {
	case 1: // circle: exposure, diameter, middle
		return turned(on, round(get(3), get(4), math.Abs(get(2))/2), get(5)), nil
	case 2, 20: // line: exposure, width, from, to
		dx, dy := get(5)-get(3), get(6)-get(4)
		length := math.Hypot(dx, dy)
		if length == 0 {
			return nil, nil
		}
		ux, uy := -dy/length*get(2)/2, dx/length*get(2)/2
		return turned(on, [][2]float64{{get(3) + ux, get(4) + uy}, {get(5) + ux, get(6) + uy}, {get(5) - ux, get(6) - uy},
			{get(3) - ux, get(4) - uy}}, get(7)), nil
	case 21: // rectangle: exposure, width, height, middle
		return turned(on, box(get(4), get(5), get(2), get(3)), get(6)), nil
	case 22: // rectangle: exposure, width, height, lower left corner
		return turned(on, box(get(4)+get(2)/2, get(5)+get(3)/2, get(2), get(3)), get(6)), nil
	case 4: // outline: exposure, number of edges, corners
		n := int(get(2)) + 1
		if n < 3 || 3+2*n > len(v) {
			return nil, unreadable("an outline of its apertures has not as many corners as it says")
		}
		at := make([][2]float64, n)
		for i := range at {
			at[i] = [2]float64{get(3 + 2*i), get(4 + 2*i)}
		}
		return turned(on, at, get(3+2*n)), nil
	case 5: // regular polygon: exposure, corners, middle, diameter
		n := int(get(2))
		if n < 3 || n > 100 {
			return nil, unreadable("a polygon of its apertures has %d corners", n)
		}
		at := make([][2]float64, n)
		for i := range at {
			sin, cos := math.Sincos(2 * math.Pi * float64(i) / float64(n))
			at[i] = [2]float64{get(3) + get(5)/2*cos, get(4) + get(5)/2*sin}
		}
		return turned(on, at, get(6)), nil
	case 6: // target: drawn as its outermost ring
		return append(turned(true, round(get(1), get(2), get(3)/2), get(9)), turned(false, round(get(1), get(2), get(3)/2-get(4)), get(9))...),
			nil
	case 7: // thermal: middle, outer and inner diameter, gap
		x, y, outer, gap := get(1), get(2), get(3), get(5)
		list := append(turned(true, round(x, y, outer/2), get(6)), turned(false, round(x, y, get(4)/2), get(6))...)
		list = append(list, turned(false, box(x, y, outer, gap), get(6))...)
		return append(list, turned(false, box(x, y, gap, outer), get(6))...), nil
	}
	return nil, unreadable("a part of its apertures is of no kind that is known (%g)", get(0))
}

// workOut works out a number with variables, + - x / and brackets.
func workOut(text string, variables map[int]float64) (float64, error) {
	p := &sum{text: text, variables: variables}
	v, ok := p.terms(0)
	if !ok || p.at != len(text) || math.IsNaN(v) || math.IsInf(v, 0) {
		return 0, unreadable("a macro of its apertures is damaged: %s", clean(text[:min(len(text), 40)]))
	}
	return v, nil
}

type sum struct {
	text      string
	at        int
	variables map[int]float64
}

func (p *sum) next(any string) byte {
	if p.at < len(p.text) && strings.IndexByte(any, p.text[p.at]) >= 0 {
		p.at++
		return p.text[p.at-1]
	}
	return 0
}

func (p *sum) terms(depth int) (float64, bool) {
	v, ok := p.factors(depth)
	for ok {
		var w float64
		switch p.next("+-") {
		case '+':
			w, ok = p.factors(depth)
			v += w
		case '-':
			w, ok = p.factors(depth)
			v -= w
		default:
			return v, true
		}
	}
	return 0, false
}

func (p *sum) factors(depth int) (float64, bool) {
	v, ok := p.one(depth)
	for ok {
		var w float64
		switch p.next("xX/") {
		case 'x', 'X':
			w, ok = p.one(depth)
			v *= w
		case '/':
			w, ok = p.one(depth)
			v /= w
		default:
			return v, true
		}
	}
	return 0, false
}

func (p *sum) one(depth int) (float64, bool) {
	if depth > maxNesting {
		return 0, false
	}
	switch p.next("+-($") {
	case '-':
		v, ok := p.one(depth + 1)
		return -v, ok
	case '+':
		return p.one(depth + 1)
	case '(':
		v, ok := p.terms(depth + 1)
		return v, ok && p.next(")") == ')'
	case '$':
		n, err := strconv.Atoi(p.digits("0123456789"))
		return p.variables[n], err == nil
	}
	v, err := strconv.ParseFloat(p.digits("0123456789."), 64)
	return v, err == nil
}

func (p *sum) digits(any string) string {
	start := p.at
	for p.next(any) != 0 {
	}
	return p.text[start:p.at]
}
