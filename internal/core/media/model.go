package media

import (
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"maps"
	"math"
	"slices"
	"strings"
)

// Limits of a model: vertices and triangles that are taken in, and triangles that go into a mesh to be turned around.
const (
	maxVertices  = 12 << 20
	maxTriangles = 12 << 20
	maxTurned    = 2 << 20
)

// mesh is what a model is made of, as triangles. unit names the unit of its lengths, "" where the file says nothing.
type mesh struct {
	format    string
	unit      string
	up        byte // the axis that points upwards: y or z
	at        []float32
	triangles []uint32
	meshes    int
	materials []string
	textures  []string
	declared  int // vertices that the file has
	nodes     []object
	apart     string // why there is no geometry in it
}

func readModel(s Subject) (seen, error) {
	switch s.ext() {
	case ".glb", ".gltf":
		return readGLTF(s)
	case ".obj":
		return readOBJ(s)
	}
	return readSTL(s)
}

// add adds a corner, and refuses too many.
func (m *mesh) add(x, y, z float32) error {
	if len(m.at) >= 3*maxVertices {
		return unreadable("it has more than %s vertices", number(maxVertices))
	}
	for _, v := range [3]float32{x, y, z} {
		if math.IsNaN(float64(v)) || math.IsInf(float64(v), 0) || math.Abs(float64(v)) > 1e15 {
			return unreadable("a place in it is no number")
		}
	}
	m.at = append(m.at, x, y, z)
	return nil
}

func (m *mesh) triangle(a, b, c uint32) error {
	if n := uint32(len(m.at) / 3); a >= n || b >= n || c >= n {
		return unreadable("a triangle in it has a corner that is not there")
	}
	if len(m.triangles) >= 3*maxTriangles {
		return unreadable("it has more than %s triangles", number(maxTriangles))
	}
	m.triangles = append(m.triangles, a, b, c)
	return nil
}

func (m *mesh) corner(i uint32) [3]float64 {
	return [3]float64{float64(m.at[3*i]), float64(m.at[3*i+1]), float64(m.at[3*i+2])}
}

func (m *mesh) bounds() (low, high [3]float64) {
	low, high = [3]float64{math.Inf(1), math.Inf(1), math.Inf(1)}, [3]float64{math.Inf(-1), math.Inf(-1), math.Inf(-1)}
	for _, i := range m.triangles {
		p := m.corner(i)
		for k := range p {
			low[k], high[k] = math.Min(low[k], p[k]), math.Max(high[k], p[k])
		}
	}
	if len(m.triangles) == 0 {
		return [3]float64{}, [3]float64{}
	}
	return low, high
}

// watertight tells whether every edge is that of two triangles that run along it in opposite directions. Corners at one place are one.
func (m *mesh) watertight() string {
	if len(m.triangles) == 0 {
		return "no surface"
	}
	if len(m.triangles) > 3*maxTurned {
		return "too large to tell"
	}
	place := map[[3]float32]uint32{}
	same := make([]uint32, len(m.at)/3)
	for i := range same {
		key := [3]float32{m.at[3*i] + 0, m.at[3*i+1] + 0, m.at[3*i+2] + 0}
		first, there := place[key]
		if !there {
			first = uint32(i)
			place[key] = first
		}
		same[i] = first
	}
	edges := make(map[[2]uint32]int, len(m.triangles))
	for t := 0; t < len(m.triangles); t += 3 {
		for k := range 3 {
			a, b := same[m.triangles[t+k]], same[m.triangles[t+(k+1)%3]]
			if a != b {
				edges[[2]uint32{a, b}]++
			}
		}
	}
	open := 0
	for e, n := range edges {
		if edges[[2]uint32{e[1], e[0]}] != n {
			open++
		}
	}
	if open == 0 {
		return "yes"
	}
	return fmt.Sprintf("no, %s open edges", number(open))
}

func (m *mesh) report(d Drawn) (Report, error) {
	r := Report{Kind: Model, Format: m.format}
	low, high := m.bounds()
	unit := m.unit
	if unit == "" {
		unit = "(no unit in the file)"
	}
	r.Facts = []Fact{{"format", m.format}, {"vertices", number(m.declared)}, {"triangles", number(len(m.triangles) / 3)},
		{"meshes", number(m.meshes)}}
	if len(m.triangles) > 0 {
		r.Bounds = append(low[:], high[:]...)
		r.Facts = append(r.Facts, Fact{"bounds", fmt.Sprintf("%s x %s x %s %s", rounded(high[0]-low[0]), rounded(high[1]-low[1]),
			rounded(high[2]-low[2]), unit)}, Fact{"watertight", m.watertight()})
	}
	r.Facts = append(r.Facts, Fact{"materials", listed(m.materials)}, Fact{"textures", listed(m.textures)})
	if m.apart != "" {
		r.Facts = append(r.Facts, Fact{"geometry", m.apart})
		return r, nil
	}
	if len(m.triangles) == 0 {
		return r, nil
	}
	if len(m.triangles) <= 3*maxTurned {
		d["mesh.bin"] = Drawing{data: m.encode()}
	}
	shaded, _ := m.render(viewOf(m), 640)
	d.png("whole.png", shaded)
	return r, nil
}

func listed(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	text := fmt.Sprint(len(names))
	if shown := strings.Join(names[:min(len(names), 6)], ", "); shown != "" {
		text += ": " + shown
	}
	if len(names) > 6 {
		text += ", …"
	}
	return text
}

// encode is the mesh for a page: "TMSH", then little-endian: version 1, the numbers of vertices and triangles as uint32, 1 where z points
// upwards and else 0, three float32 a vertex, three uint32 a triangle.
func (m *mesh) encode() []byte {
	out := make([]byte, 0, 20+4*len(m.at)+4*len(m.triangles))
	out = append(out, "TMSH"...)
	up := uint32(0)
	if m.up == 'z' {
		up = 1
	}
	for _, v := range []uint32{1, uint32(len(m.at) / 3), uint32(len(m.triangles) / 3), up} {
		out = binary.LittleEndian.AppendUint32(out, v)
	}
	for _, v := range m.at {
		out = binary.LittleEndian.AppendUint32(out, math.Float32bits(v))
	}
	for _, v := range m.triangles {
		out = binary.LittleEndian.AppendUint32(out, v)
	}
	return out
}

// view is a camera far away: three directions, and what it has in the middle and how much around.
type view struct {
	right, over, towards [3]float64
	middle               [3]float64
	reach                float64
}

// viewOf looks at meshes from the front, a little from the right and from above.
func viewOf(list ...*mesh) view {
	low, high := [3]float64{math.Inf(1), math.Inf(1), math.Inf(1)}, [3]float64{math.Inf(-1), math.Inf(-1), math.Inf(-1)}
	for _, m := range list {
		a, b := m.bounds()
		for k := range a {
			low[k], high[k] = math.Min(low[k], a[k]), math.Max(high[k], b[k])
		}
	}
	v := view{}
	turn, tilt := 0.6, 0.5
	st, ct, su, cu := math.Sin(turn), math.Cos(turn), math.Sin(tilt), math.Cos(tilt)
	v.right = [3]float64{ct, 0, -st}
	v.towards = [3]float64{st * cu, su, ct * cu}
	v.over = [3]float64{-st * su, cu, -ct * su}
	if list[0].up == 'z' { // y forward, z up
		for _, axis := range []*[3]float64{&v.right, &v.over, &v.towards} {
			*axis = [3]float64{axis[0], -axis[2], axis[1]}
		}
	}
	for k := range v.middle {
		v.middle[k] = (low[k] + high[k]) / 2
	}
	// So that all corners of what is around them are in the picture.
	for i := range 8 {
		d := [3]float64{}
		for k := range d {
			if d[k] = low[k] - v.middle[k]; i>>k&1 == 1 {
				d[k] = high[k] - v.middle[k]
			}
		}
		v.reach = math.Max(v.reach, math.Max(math.Abs(dot(d, v.right)), math.Abs(dot(d, v.over))))
	}
	v.reach = math.Max(v.reach, 1e-9)
	return v
}

func dot(a, b [3]float64) float64 { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }

// render draws the mesh, with how far towards the camera each pixel lies, in pixels; -Inf where nothing is.
func (m *mesh) render(v view, edge int) (*image.RGBA, []float32) {
	c := newCanvas(edge, edge)
	depth := make([]float32, edge*edge)
	for i := range depth {
		depth[i] = float32(math.Inf(-1))
	}
	scale := float64(edge) / 2.12 / v.reach
	type seenAt struct{ x, y, z float64 }
	project := func(p [3]float64) seenAt {
		d := [3]float64{p[0] - v.middle[0], p[1] - v.middle[1], p[2] - v.middle[2]}
		return seenAt{float64(edge)/2 + dot(d, v.right)*scale, float64(edge)/2 - dot(d, v.over)*scale, dot(d, v.towards) * scale}
	}
	light := [3]float64{}
	for k := range light {
		light[k] = -0.35*v.right[k] + 0.55*v.over[k] + 0.76*v.towards[k]
	}
	for t := 0; t < len(m.triangles); t += 3 {
		p, q, r := m.corner(m.triangles[t]), m.corner(m.triangles[t+1]), m.corner(m.triangles[t+2])
		n := [3]float64{}
		e, f := [3]float64{q[0] - p[0], q[1] - p[1], q[2] - p[2]}, [3]float64{r[0] - p[0], r[1] - p[1], r[2] - p[2]}
		n[0], n[1], n[2] = e[1]*f[2]-e[2]*f[1], e[2]*f[0]-e[0]*f[2], e[0]*f[1]-e[1]*f[0]
		length := math.Sqrt(dot(n, n))
		if length == 0 {
			continue
		}
		shade := 0.2 + 0.8*math.Abs(dot(n, light))/length
		ink := color.RGBA{uint8(214 * shade), uint8(206 * shade), uint8(190 * shade), 255}
		a, b, z := project(p), project(q), project(r)
		area := (b.x-a.x)*(z.y-a.y) - (b.y-a.y)*(z.x-a.x)
		if math.Abs(area) < 1e-12 {
			continue
		}
		x0, x1 := max(0, int(math.Floor(min(a.x, b.x, z.x)))), min(edge-1, int(math.Ceil(max(a.x, b.x, z.x))))
		y0, y1 := max(0, int(math.Floor(min(a.y, b.y, z.y)))), min(edge-1, int(math.Ceil(max(a.y, b.y, z.y))))
		for y := y0; y <= y1; y++ {
			for x := x0; x <= x1; x++ {
				px, py := float64(x)+0.5, float64(y)+0.5
				u := ((b.x-px)*(z.y-py) - (b.y-py)*(z.x-px)) / area
				w := ((z.x-px)*(a.y-py) - (z.y-py)*(a.x-px)) / area
				if u < 0 || w < 0 || u+w > 1 {
					continue
				}
				i := y*edge + x
				if d := float32(u*a.z + w*b.z + (1-u-w)*z.z); d > depth[i] {
					depth[i] = d
					c.SetRGBA(x, y, ink)
				}
			}
		}
	}
	return c.RGBA, depth
}

func (m *mesh) compare(after seen, c *Comparison, d Drawn) error {
	other := after.(*mesh)
	if len(m.nodes)+len(other.nodes) > 1 {
		if err := compareObjects(m.nodes, other.nodes, c, d); err != nil {
			return err
		}
	}
	c.Measures = append([]Fact{{"vertices", gained(m.declared, other.declared)},
		{"triangles", gained(len(m.triangles)/3, len(other.triangles)/3)}}, c.Measures...)
	c.Same = len(c.Changes) == 0 && sameFloats(m.at, other.at) &&
		fmt.Sprint(m.materials, m.textures) == fmt.Sprint(other.materials, other.textures)
	if len(m.triangles) == 0 || len(other.triangles) == 0 {
		return nil
	}
	// Both from one place: what only one has is marked, by shape as well as by colour.
	v := viewOf(m, other)
	_, had := m.render(v, 640)
	picture, has := other.render(v, 640)
	for i := range has {
		x, y := i%640, i/640
		switch nearer := float64(has[i]) - float64(had[i]); {
		case nearer > 1: // pixels: what is nearer than before came
			picture.SetRGBA(x, y, came)
		case nearer < -1 && (x+y)%8 < 4:
			picture.SetRGBA(x, y, went)
		case !math.IsInf(float64(has[i]), -1):
			p := picture.RGBAAt(x, y)
			picture.SetRGBA(x, y, color.RGBA{p.R / 2, p.G / 2, p.B / 2, 255})
		}
	}
	d.png("difference.png", picture)
	return nil
}

func sameFloats(a, b []float32) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

func gained(before, after int) string {
	switch n := after - before; {
	case n > 0:
		return number(n) + " more"
	case n < 0:
		return number(-n) + " fewer"
	}
	return "as many"
}

func sorted[V any](names map[string]V) []string { return slices.Sorted(maps.Keys(names)) }
