package scene

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
)

type vec [3]float64

// mesh collects triangles with a colour for each part.
type mesh struct {
	name   string
	colour rgb
	at     vec // where its node stands
	pos    []vec
	index  []uint32
}

// surface adds a grid of (m+1) x (n+1) points of a parametric surface.
func (k *mesh) surface(m, n int, at func(s, t float64) vec) {
	base := uint32(len(k.pos))
	for i := range m + 1 {
		for j := range n + 1 {
			k.pos = append(k.pos, at(float64(i)/float64(m), float64(j)/float64(n)))
		}
	}
	row := uint32(n + 1)
	for i := range uint32(m) {
		for j := range uint32(n) {
			a := base + i*row + j
			k.index = append(k.index, a, a+row, a+1, a+1, a+row, a+row+1)
		}
	}
}

// lathe turns a profile of (radius, height) around the upright axis.
func lathe(name string, colour rgb, sides int, move vec, profile ...[2]float64) *mesh {
	k := &mesh{name: name, colour: colour}
	k.surface(len(profile)-1, sides, func(s, t float64) vec {
		p := profile[int(math.Round(s*float64(len(profile)-1)))]
		return vec{move[0] + p[0]*math.Cos(t*2*math.Pi), move[1] + p[1], move[2] + p[0]*math.Sin(t*2*math.Pi)}
	})
	return k
}

// hull is a rowing boat.
func hull(length, beam float64, sections int) *mesh {
	k := &mesh{name: "hull", colour: hex(0x7a5b3a)}
	k.surface(sections, 12, func(s, t float64) vec {
		x := s*2 - 1
		fine := math.Pow(1-math.Pow(math.Abs(x), 2.4), 0.8)
		angle := (t - 0.5) * math.Pi * 0.95
		return vec{x * length / 2, -math.Cos(angle)*beam*0.45*fine + 0.12*x*x*length, math.Sin(angle) * beam / 2 * fine}
	})
	return k
}

// ground is the floor of a level.
func ground(edge float64, cells int, seed uint32, pass int) *mesh {
	k := &mesh{name: "ground", colour: hex(0x49564e)}
	k.surface(cells, cells, func(s, t float64) vec {
		h := 6*layered(s, t, 5, 5, seed) - 3.2
		h -= float64(pass) * 0.8 * math.Exp(-30*((s-0.6)*(s-0.6)+(t-0.4)*(t-0.4)))
		return vec{(s - 0.5) * edge, h, (t - 0.5) * edge}
	})
	return k
}

// Model makes a glTF binary (version 2.0) of a prop. Later passes change its shape: a chimney for the lamp, a ring for the buoy, a gallery
// for the lighthouse, a bench more for the boat.
func Model(name string, pass int) []byte {
	n := 24
	brass, iron, wood := hex(0xb08a3e), hex(0x4a5357), hex(0x7a5b3a)
	var parts []*mesh
	switch name {
	case "lamp":
		high := 0.35 * float64(min(pass, 2))
		parts = []*mesh{
			lathe("foot", iron, n, vec{}, [2]float64{0, 0}, [2]float64{0.5, 0}, [2]float64{0.5, 0.1}, [2]float64{0.18, 0.2}, [2]float64{0.12, 0.6}),
			lathe("burner", brass, n, vec{}, [2]float64{0.12, 0.6}, [2]float64{0.3, 0.7}, [2]float64{0.3, 0.8}, [2]float64{0.22, 0.85}),
			lathe("lens", hex(0xbfe0da), n, vec{}, [2]float64{0.22, 0.85}, [2]float64{0.4, 1.1}, [2]float64{0.4, 1.5}, [2]float64{0.22, 1.75}),
			lathe("hood", brass, n, vec{}, [2]float64{0.22, 1.75}, [2]float64{0.46, 1.8}, [2]float64{0.1, 2.1 + high}, [2]float64{0, 2.2 + high})}
		if pass > 0 {
			parts = append(parts, lathe("handle", iron, n, vec{0.62, 1.2, 0}, [2]float64{0.04, 0}, [2]float64{0.1, 0.1}, [2]float64{0.1, 0.3},
				[2]float64{0.04, 0.4}))
		}
	case "buoy":
		parts = []*mesh{
			lathe("float", hex(0xa8452c), n, vec{}, [2]float64{0, -0.9}, [2]float64{0.5, -0.7}, [2]float64{0.9, 0}, [2]float64{0.8, 0.3},
				[2]float64{0.2, 0.45}),
			lathe("mast", iron, 8, vec{}, [2]float64{0.06, 0.4}, [2]float64{0.05, 1.6}),
			lathe("bell", brass, n, vec{0, 0.9, 0}, [2]float64{0.28, 0}, [2]float64{0.24, 0.1}, [2]float64{0.16, 0.35}, [2]float64{0, 0.42})}
		if pass > 0 {
			parts = append(parts, lathe("ring", iron, n, vec{0, 0.45, 0}, [2]float64{0.7, 0}, [2]float64{0.75, 0.05}, [2]float64{0.7, 0.1}))
		}
	case "rowing-boat":
		parts = []*mesh{hull(4.2, 1.5, 16+8*pass)}
		for i := range 2 + pass {
			b := &mesh{name: fmt.Sprintf("bench-%d", i+1), colour: wood}
			x := -0.9 + 0.9*float64(i)
			b.surface(1, 1, func(s, t float64) vec { return vec{x + 0.3*s, 0.05, 1.1 * (t - 0.5)} })
			parts = append(parts, b)
		}
	case "winch":
		parts = []*mesh{
			lathe("drum", iron, n, vec{}, [2]float64{0.5, 0}, [2]float64{0.5, 0.08}, [2]float64{0.3, 0.1}, [2]float64{0.3, 0.8},
				[2]float64{0.5, 0.82}, [2]float64{0.5, 0.9}),
			lathe("crank", brass, 12, vec{0.7, 0.3, 0}, [2]float64{0.05, 0}, [2]float64{0.05, 0.5 + 0.2*float64(pass)})}
	default:
		parts = []*mesh{
			lathe("tower", hex(0xd8d2c2), n, vec{}, [2]float64{3, 0}, [2]float64{2.2, 8}, [2]float64{1.8, 14}, [2]float64{2.3, 14.2},
				[2]float64{2.3, 14.5}),
			lathe("lantern", hex(0xbfe0da), n, vec{}, [2]float64{1.3, 14.5}, [2]float64{1.3, 17}),
			lathe("roof", hex(0x8a3f1d), n, vec{}, [2]float64{1.7, 17}, [2]float64{0.2, 18.4}, [2]float64{0, 19})}
		if pass > 0 {
			parts = append(parts, lathe("gallery", iron, n, vec{}, [2]float64{2.3, 13.9}, [2]float64{3.4, 14.1}, [2]float64{3.4, 15.2},
				[2]float64{3.3, 15.2}, [2]float64{3.3, 14.2}))
		}
	}
	return glb(name, parts...)
}

// Level makes a glTF binary of a level: its ground and what stands on it, each with a place of its own. Each pass adds two posts, moves
// two, and takes a crate away.
func Level(name string, pass int) []byte {
	seed := uint32(len(name) * 13)
	parts := []*mesh{ground(80, 96, seed, pass)}
	for i := range 6 + 2*pass {
		a := float64(i) * 2.4
		post := lathe(fmt.Sprintf("post-%02d", i+1), hex(0x5a4631), 8, vec{}, [2]float64{0.3, 0}, [2]float64{0.28, 4.5}, [2]float64{0, 4.6})
		if post.at = (vec{20 * math.Cos(a), -2, 20 * math.Sin(a)}); i < 2*pass && i < 4 {
			post.at[0] += 6.5
			post.at[2] -= 4
		}
		parts = append(parts, post)
	}
	for i := range max(0, 5-pass) {
		crate := lathe(fmt.Sprintf("crate-%d", i+1), hex(0x7a5b3a), 4, vec{}, [2]float64{0, 0}, [2]float64{1.1, 0}, [2]float64{1.1, 1.5},
			[2]float64{0, 1.5})
		crate.at = vec{-28 + 5*float64(i), -2, 24 - 2.5*float64(i%2)}
		parts = append(parts, crate)
	}
	jetty := &mesh{name: "jetty", colour: hex(0x7a5b3a), at: vec{30, -0.8, -6 - 5*float64(pass)}}
	jetty.surface(1, 1, func(s, t float64) vec { return vec{14 * (s - 0.5), 0, 4 * (t - 0.5)} })
	return glb(name, append(parts, jetty)...)
}

// glb writes meshes as one glTF 2.0 binary.
func glb(name string, parts ...*mesh) []byte {
	type m = map[string]any
	var bin bytes.Buffer
	var views, accessors, meshes, nodes, colours []any
	var order []int
	add := func(data any, count, component int, kind string, target int, bounds m) int {
		start := bin.Len()
		_ = binary.Write(&bin, binary.LittleEndian, data)
		views = append(views, m{"buffer": 0, "byteOffset": start, "byteLength": bin.Len() - start, "target": target})
		a := m{"bufferView": len(views) - 1, "componentType": component, "count": count, "type": kind}
		for k, v := range bounds {
			a[k] = v
		}
		accessors = append(accessors, a)
		return len(accessors) - 1
	}
	for i, k := range parts {
		points, normals := make([]float32, 0, len(k.pos)*3), make([]float32, 0, len(k.pos)*3)
		low, high := vec{1e9, 1e9, 1e9}, vec{-1e9, -1e9, -1e9}
		for p, n := range k.normals() {
			for c := range 3 {
				points, normals = append(points, float32(k.pos[p][c])), append(normals, float32(n[c]))
				low[c], high[c] = math.Min(low[c], float64(float32(k.pos[p][c]))), math.Max(high[c], float64(float32(k.pos[p][c])))
			}
		}
		pos := add(points, len(k.pos), 5126, "VEC3", 34962, m{"min": low, "max": high})
		nor := add(normals, len(k.pos), 5126, "VEC3", 34962, nil)
		idx := add(k.index, len(k.index), 5125, "SCALAR", 34963, nil)
		colours = append(colours, m{"name": k.name, "pbrMetallicRoughness": m{"baseColorFactor": []float64{k.colour.r, k.colour.g, k.colour.b, 1},
			"metallicFactor": 0.1, "roughnessFactor": 0.7}})
		meshes = append(meshes, m{"name": k.name, "primitives": []any{m{"attributes": m{"POSITION": pos, "NORMAL": nor}, "indices": idx,
			"material": i}}})
		node := m{"name": k.name, "mesh": i}
		if k.at != (vec{}) {
			node["translation"] = k.at
		}
		nodes = append(nodes, node)
		order = append(order, i)
	}
	doc, err := json.Marshal(m{"asset": m{"version": "2.0", "generator": "Gull & Saltpan scene maker"}, "scene": 0,
		"scenes": []any{m{"name": name, "nodes": order}},
		"nodes":  nodes, "meshes": meshes, "materials": colours, "accessors": accessors, "bufferViews": views,
		"buffers": []any{m{"byteLength": bin.Len()}}})
	if err != nil {
		panic(err)
	}
	for len(doc)%4 != 0 {
		doc = append(doc, ' ')
	}
	for bin.Len()%4 != 0 {
		bin.WriteByte(0)
	}
	var out bytes.Buffer
	for _, v := range []any{[]byte("glTF"), uint32(2), uint32(12 + 8 + len(doc) + 8 + bin.Len()), uint32(len(doc)), []byte("JSON"), doc,
		uint32(bin.Len()), []byte("BIN\x00"), bin.Bytes()} {
		_ = binary.Write(&out, binary.LittleEndian, v)
	}
	return out.Bytes()
}

// normals are those of the triangles around each point, in order of the points.
func (k *mesh) normals() []vec {
	sum := make([]vec, len(k.pos))
	for i := 0; i+2 < len(k.index); i += 3 {
		a, b, c := k.pos[k.index[i]], k.pos[k.index[i+1]], k.pos[k.index[i+2]]
		n := cross(sub(b, a), sub(c, a))
		for _, j := range k.index[i : i+3] {
			for x := range 3 {
				sum[j][x] += n[x]
			}
		}
	}
	for i, n := range sum {
		if l := math.Sqrt(n[0]*n[0] + n[1]*n[1] + n[2]*n[2]); l > 1e-12 {
			sum[i] = vec{n[0] / l, n[1] / l, n[2] / l}
		} else {
			sum[i] = vec{0, 1, 0}
		}
	}
	return sum
}

func sub(a, b vec) vec { return vec{a[0] - b[0], a[1] - b[1], a[2] - b[2]} }

func cross(a, b vec) vec {
	return vec{a[1]*b[2] - a[2]*b[1], a[2]*b[0] - a[0]*b[2], a[0]*b[1] - a[1]*b[0]}
}

// Enclosure is the controller's box as a binary STL: an open box with a wall.
func Enclosure(half string, pass int) []byte {
	k := &mesh{}
	w, d, h, wall := 92.0, 58.0, 18.0+2*float64(pass), 2.4
	box := func(x0, y0, z0, x1, y1, z1 float64) {
		corner := func(i int) vec {
			pick := func(bit int, a, b float64) float64 {
				if i>>bit&1 == 1 {
					return b
				}
				return a
			}
			return vec{pick(0, x0, x1), pick(1, y0, y1), pick(2, z0, z1)}
		}
		for _, f := range [][4]int{{0, 2, 3, 1}, {4, 5, 7, 6}, {0, 1, 5, 4}, {2, 6, 7, 3}, {0, 4, 6, 2}, {1, 3, 7, 5}} {
			base := uint32(len(k.pos))
			for _, c := range f {
				k.pos = append(k.pos, corner(c))
			}
			k.index = append(k.index, base, base+1, base+2, base, base+2, base+3)
		}
	}
	box(0, 0, 0, w, d, wall)
	box(0, 0, 0, wall, d, h)
	box(w-wall, 0, 0, w, d, h)
	box(0, 0, 0, w, wall, h)
	box(0, d-wall, 0, w, d, h)
	if half == "top" {
		box(14, 14, 0, 30, 30, wall+1.2)
	}
	var out bytes.Buffer
	head := make([]byte, 80)
	copy(head, "tidepad enclosure "+half)
	out.Write(head)
	_ = binary.Write(&out, binary.LittleEndian, uint32(len(k.index)/3))
	for i := 0; i < len(k.index); i += 3 {
		a, b, c := k.pos[k.index[i]], k.pos[k.index[i+1]], k.pos[k.index[i+2]]
		n := cross(sub(b, a), sub(c, a))
		l := math.Sqrt(n[0]*n[0] + n[1]*n[1] + n[2]*n[2])
		for _, v := range []vec{{n[0] / l, n[1] / l, n[2] / l}, a, b, c} {
			_ = binary.Write(&out, binary.LittleEndian, [3]float32{float32(v[0]), float32(v[1]), float32(v[2])})
		}
		_ = binary.Write(&out, binary.LittleEndian, uint16(0))
	}
	return out.Bytes()
}
