package media

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math"

	"golang.org/x/image/vector"
)

// The colours of what is drawn here: those of the console, on its dark ground. Came and went are told apart by shape as well: what came is
// filled, what went is an outline.
var (
	ground   = color.RGBA{0x19, 0x21, 0x25, 0xff}
	gridLine = color.RGBA{0x2b, 0x38, 0x3e, 0xff}
	plain    = color.RGBA{0x8d, 0x9a, 0x9b, 0xff}
	came     = color.RGBA{0xe0, 0x9a, 0x60, 0xff}
	went     = color.RGBA{0xa6, 0xd8, 0xe0, 0xff}
)

// canvas is a picture that one draws on in coordinates of one's own. All of it is opaque, and of the type that is drawn on fastest.
type canvas struct {
	*image.RGBA
	// view maps a place to pixels.
	view func(x, y float64) (float64, float64)
	// shows is the stretch that it shows: x at the left edge, y at the upper one, x at the right one, y at the lower one.
	shows []float64
}

func newCanvas(w, h int) *canvas {
	c := &canvas{RGBA: image.NewRGBA(image.Rect(0, 0, w, h))}
	for y := range h {
		for x := range w {
			c.SetRGBA(x, y, ground)
		}
	}
	return c
}

// fit makes a canvas for what lies between two corners, with its longer side edge pixels long; up says that y grows upwards.
func fit(minX, minY, maxX, maxY float64, edge int, up bool) *canvas {
	const margin = 24
	w, h := math.Max(maxX-minX, 1e-9), math.Max(maxY-minY, 1e-9)
	if w/h > 50 {
		h = w / 50
	}
	if h/w > 50 {
		w = h / 50
	}
	scale := float64(edge-2*margin) / math.Max(w, h)
	c := newCanvas(int(w*scale)+2*margin, int(h*scale)+2*margin)
	c.view = func(x, y float64) (float64, float64) {
		py := (y - minY) * scale
		if up {
			py = (maxY - y) * scale
		}
		return margin + (x-minX)*scale, margin + py
	}
	left, top := minX-margin/scale, minY-margin/scale
	right, bottom := left+float64(c.Rect.Dx())/scale, top+float64(c.Rect.Dy())/scale
	if up {
		top = maxY + margin/scale
		bottom = top - float64(c.Rect.Dy())/scale
	}
	c.shows = []float64{left, top, right, bottom}
	return c
}

// polygon fills what lies within corners, given in pixels; several outlines at once leave holes where they run against each other.
func (c *canvas) polygon(ink color.RGBA, outlines ...[][2]float64) {
	lowX, lowY, highX, highY := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, corners := range outlines {
		for _, p := range corners {
			lowX, highX, lowY, highY = math.Min(lowX, p[0]), math.Max(highX, p[0]), math.Min(lowY, p[1]), math.Max(highY, p[1])
		}
	}
	b := c.Bounds()
	area := image.Rect(int(math.Max(lowX, -1e6)), int(math.Max(lowY, -1e6)), int(math.Min(highX, 1e6))+2,
		int(math.Min(highY, 1e6))+2).Intersect(b)
	if area.Empty() {
		return
	}
	r := vector.NewRasterizer(area.Dx(), area.Dy())
	limit := func(v float64) float32 { return float32(math.Max(-1e5, math.Min(1e5, v))) }
	for _, corners := range outlines {
		for i, p := range corners {
			x, y := limit(p[0]-float64(area.Min.X)), limit(p[1]-float64(area.Min.Y))
			if i == 0 {
				r.MoveTo(x, y)
			} else {
				r.LineTo(x, y)
			}
		}
		r.ClosePath()
	}
	r.Draw(c.RGBA, area, image.NewUniform(ink), image.Point{})
}

// line draws a line of a width in pixels between two points in pixels, with round ends.
func (c *canvas) line(ink color.RGBA, width, x0, y0, x1, y1 float64) {
	dx, dy := x1-x0, y1-y0
	length := math.Hypot(dx, dy)
	if math.IsNaN(length) || length > 1e6 {
		return
	}
	r := math.Max(width/2, 0.5)
	if length < 1e-6 {
		c.disc(ink, x0, y0, r)
		return
	}
	ux, uy := dx/length*r, dy/length*r
	corners := make([][2]float64, 0, 14)
	start := math.Atan2(uy, ux)
	for k := range 7 {
		a := start - math.Pi/2 + math.Pi*float64(k)/6
		corners = append(corners, [2]float64{x1 + r*math.Cos(a), y1 + r*math.Sin(a)})
	}
	for k := range 7 {
		a := start + math.Pi/2 + math.Pi*float64(k)/6
		corners = append(corners, [2]float64{x0 + r*math.Cos(a), y0 + r*math.Sin(a)})
	}
	c.polygon(ink, corners)
}

func circle(x, y, r float64) [][2]float64 {
	n := int(math.Min(64, math.Max(10, r*2)))
	corners := make([][2]float64, n)
	for i := range corners {
		a := 2 * math.Pi * float64(i) / float64(n)
		corners[i] = [2]float64{x + r*math.Cos(a), y + r*math.Sin(a)}
	}
	return corners
}

func (c *canvas) disc(ink color.RGBA, x, y, r float64) { c.polygon(ink, circle(x, y, r)) }

// ring is a circle of a width.
func (c *canvas) ring(ink color.RGBA, x, y, r, width float64) {
	inner := circle(x, y, math.Max(0, r-width))
	for i, j := 0, len(inner)-1; i < j; i, j = i+1, j-1 {
		inner[i], inner[j] = inner[j], inner[i]
	}
	c.polygon(ink, circle(x, y, r), inner)
}

// maxNamed is how many of the things that came, went or moved have their names on a plan.
const maxNamed = 60

// plan draws things with places from above: those that stayed as small squares, those that came filled, those that went as rings, and
// where something moved a line from where it was to where it is. Without before, all are as they are.
func plan(before, after []object) image.Image {
	old := map[string]object{}
	minX, minY, maxX, maxY := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	spot := func(o object) (float64, float64) {
		if len(o.at) > 2 { // with three, the second is height
			return o.at[0], o.at[2]
		}
		return o.at[0], o.at[1]
	}
	for _, list := range [][]object{before, after} {
		for _, o := range list {
			x, y := spot(o)
			if math.Abs(x) < 1e9 && math.Abs(y) < 1e9 {
				minX, maxX, minY, maxY = math.Min(minX, x), math.Max(maxX, x), math.Min(minY, y), math.Max(maxY, y)
			}
		}
	}
	for _, o := range before {
		old[o.name] = o
	}
	if math.IsInf(minX, 1) {
		minX, minY, maxX, maxY = 0, 0, 1, 1
	}
	c := fit(minX, minY, maxX, maxY, 900, false)
	for i := range 11 {
		x, y := c.view(minX+(maxX-minX)*float64(i)/10, minY+(maxY-minY)*float64(i)/10)
		c.line(gridLine, 1, x, 8, x, float64(c.Bounds().Dy()-8))
		c.line(gridLine, 1, 8, y, float64(c.Bounds().Dx()-8), y)
	}
	names := 0
	name := func(ink color.RGBA, x, y float64, text string) {
		if names++; names <= maxNamed && len(text) < 40 {
			c.write(ink, min(int(x)+9, c.Bounds().Dx()-7*len(text)), max(int(y)-5, 12), text)
		}
	}
	for _, o := range after {
		x, y := c.view(spot(o))
		was, there := old[o.name]
		delete(old, o.name)
		switch {
		case before == nil || there && distance(was.at, o.at) == 0:
			c.polygon(plain, [][2]float64{{x - 3.5, y - 3.5}, {x + 3.5, y - 3.5}, {x + 3.5, y + 3.5}, {x - 3.5, y + 3.5}})
		case there:
			fx, fy := c.view(spot(was))
			c.line(came, 2, fx, fy, x, y)
			c.ring(went, fx, fy, 5, 1.8)
			c.disc(came, x, y, 5)
			name(came, x, y, o.name)
		default:
			c.disc(came, x, y, 6)
			name(came, x, y, o.name)
		}
	}
	for _, o := range before {
		if _, gone := old[o.name]; gone {
			x, y := c.view(spot(o))
			c.ring(went, x, y, 7, 2.2)
			name(went, x, y, o.name)
		}
	}
	return c.RGBA
}

// Beside lays pictures side by side, each at most edge pixels high and wide, in a PNG.
func Beside(edge int, pictures ...[]byte) ([]byte, error) {
	const gap = 12
	var list []image.Image
	width, height := gap, 0
	for _, data := range pictures {
		whole, err := png.Decode(bytes.NewReader(data))
		if err != nil {
			return nil, err
		}
		m := smaller(whole, edge)
		list = append(list, m)
		width += m.Bounds().Dx() + gap
		height = max(height, m.Bounds().Dy())
	}
	c := newCanvas(width, height+2*gap)
	x := gap
	for _, m := range list {
		draw.Draw(c.RGBA, image.Rect(x, gap, x+m.Bounds().Dx(), gap+m.Bounds().Dy()), m, m.Bounds().Min, draw.Over)
		x += m.Bounds().Dx() + gap
	}
	return encoded(c.RGBA)
}
