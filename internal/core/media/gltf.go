package media

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"strings"
)

// gltf is what is read of a glTF 2.0 file (Khronos, version 2.0.1).
type gltf struct {
	Asset       struct{ Version string }
	Scene       *int
	Scenes      []struct{ Nodes []int }
	Nodes       []gltfNode
	Meshes      []struct{ Primitives []gltfPrimitive }
	Accessors   []gltfAccessor
	BufferViews []struct {
		Buffer, ByteOffset, ByteLength, ByteStride int
	}
	Buffers []struct {
		URI        string
		ByteLength int
	}
	Materials          []struct{ Name string }
	Images             []struct{ URI, Name string }
	ExtensionsRequired []string
}

type gltfNode struct {
	Name        string
	Mesh        *int
	Children    []int
	Matrix      []float64
	Translation []float64
	Rotation    []float64
	Scale       []float64
}

type gltfPrimitive struct {
	Attributes map[string]int
	Indices    *int
	Mode       *int
}

type gltfAccessor struct {
	BufferView, ComponentType, Count, ByteOffset int
	Type                                         string
	Sparse                                       json.RawMessage
}

const (
	glbJSON = 0x4e4f534a
	glbBin  = 0x004e4942
)

func readGLTF(s Subject) (seen, error) {
	data, err := s.read(maxModel)
	if err != nil {
		return nil, err
	}
	m := &mesh{format: "glTF 2.0", unit: "m", up: 'y'}
	text, binary_, err := glbParts(data)
	if err != nil {
		return nil, err
	}
	if binary_ != nil || len(text) != len(data) {
		m.format += ", binary"
	}
	var g gltf
	if err := json.Unmarshal(text, &g); err != nil {
		return nil, unreadable("what it says of itself is damaged: %v", err)
	}
	if !strings.HasPrefix(g.Asset.Version, "2.") {
		return nil, unreadable("glTF 2.0 is read; this is version %q", clean(g.Asset.Version))
	}
	r := &gltfReader{gltf: g, mesh: m, binary: binary_}
	return m, r.read()
}

// glbParts takes a file apart into its text and its binary part, where it has one.
func glbParts(data []byte) (text, bin []byte, err error) {
	if len(data) < 12 || string(data[:4]) != "glTF" {
		return data, nil, nil
	}
	if int64(binary.LittleEndian.Uint32(data[8:])) > int64(len(data)) {
		return nil, nil, unreadable("it was cut off: it says that it has %s bytes, and has %s", number(int(binary.LittleEndian.Uint32(data[8:]))),
			number(len(data)))
	}
	for rest := data[12:]; len(rest) >= 8; {
		n, kind := int64(binary.LittleEndian.Uint32(rest)), binary.LittleEndian.Uint32(rest[4:])
		if n > int64(len(rest)-8) {
			return nil, nil, unreadable("it was cut off")
		}
		part := rest[8 : 8+n]
		switch {
		case kind == glbJSON && text == nil:
			text = part
		case kind == glbBin && bin == nil:
			bin = part
		}
		rest = rest[8+n:]
	}
	if text == nil {
		return nil, nil, unreadable("it has no description in it")
	}
	return text, bin, nil
}

type gltfReader struct {
	gltf
	mesh    *mesh
	binary  []byte
	buffers [][]byte
	gather  gather
	visits  int
}

func (r *gltfReader) read() error {
	m := r.mesh
	m.meshes = len(r.Meshes)
	for _, x := range r.Materials {
		m.materials = append(m.materials, clean(x.Name))
	}
	for i, x := range r.Images {
		name := clean(x.URI)
		if strings.HasPrefix(x.URI, "data:") || name == "" {
			if name = clean(x.Name); name == "" {
				name = fmt.Sprintf("inside (%d)", i+1)
			}
		}
		m.textures = append(m.textures, name)
	}
	for _, mesh := range r.Meshes {
		for _, p := range mesh.Primitives {
			if at, ok := p.Attributes["POSITION"]; ok && at >= 0 && at < len(r.Accessors) {
				m.declared += r.Accessors[at].Count
			}
		}
	}
	for _, x := range r.ExtensionsRequired {
		if strings.Contains(x, "compression") {
			m.apart = "packed with " + clean(x) + ", which is not unpacked here"
			return nil
		}
	}
	for i, b := range r.Buffers {
		switch {
		case b.URI == "" && i == 0 && r.binary != nil:
			r.buffers = append(r.buffers, r.binary)
		case strings.HasPrefix(b.URI, "data:"):
			_, code, _ := strings.Cut(b.URI, ",")
			data, err := base64.StdEncoding.DecodeString(code)
			if err != nil {
				return unreadable("a part that is written into it is damaged")
			}
			r.buffers = append(r.buffers, data)
		default:
			m.apart = "in " + clean(b.URI) + " beside it"
			return nil
		}
	}
	roots := []int{}
	switch scene := 0; {
	case len(r.Scenes) > 0:
		if r.Scene != nil {
			scene = *r.Scene
		}
		if scene < 0 || scene >= len(r.Scenes) {
			return unreadable("its scene is not there")
		}
		roots = r.Scenes[scene].Nodes
	default:
		for i := range r.Nodes {
			roots = append(roots, i)
		}
	}
	for _, i := range roots {
		if err := r.node(i, identity, 0); err != nil {
			return err
		}
	}
	m.nodes = r.gather.list
	return nil
}

// matrix is 4 x 4, column after column.
type matrix [16]float64

var identity = matrix{0: 1, 5: 1, 10: 1, 15: 1}

func (a matrix) times(b matrix) (c matrix) {
	for i := range 4 {
		for j := range 4 {
			for k := range 4 {
				c[4*j+i] += a[4*k+i] * b[4*j+k]
			}
		}
	}
	return c
}

func (n gltfNode) matrix() matrix {
	if len(n.Matrix) == 16 {
		return matrix(n.Matrix)
	}
	t, q, s := [3]float64{}, [4]float64{3: 1}, [3]float64{1, 1, 1}
	copy(t[:], n.Translation)
	copy(q[:], n.Rotation)
	copy(s[:], n.Scale)
	x, y, z, w := q[0], q[1], q[2], q[3]
	return matrix{
		(1 - 2*(y*y+z*z)) * s[0], 2 * (x*y + z*w) * s[0], 2 * (x*z - y*w) * s[0], 0,
		2 * (x*y - z*w) * s[1], (1 - 2*(x*x+z*z)) * s[1], 2 * (y*z + x*w) * s[1], 0,
		2 * (x*z + y*w) * s[2], 2 * (y*z - x*w) * s[2], (1 - 2*(x*x+y*y)) * s[2], 0,
		t[0], t[1], t[2], 1,
	}
}

func (r *gltfReader) node(i int, above matrix, depth int) error {
	if i < 0 || i >= len(r.Nodes) {
		return unreadable("a node of it is not there")
	}
	// A node has one parent; where a damaged file says otherwise, its tree is not followed for ever.
	if r.visits++; depth > maxDepth || r.visits > maxObjects {
		return unreadable("its nodes go round in a circle, or are too many")
	}
	n := r.Nodes[i]
	at := above.times(n.matrix())
	name := clean(n.Name)
	if name == "" {
		name = fmt.Sprintf("node %d", i)
	}
	o := object{what: "node", name: name, at: []float64{at[12], at[13], at[14]}, props: map[string]string{}}
	if n.Mesh != nil {
		o.what = "mesh"
	}
	if len(n.Rotation) == 4 {
		o.props["rotation"] = placeWords(n.Rotation)
	}
	if len(n.Scale) == 3 {
		o.props["scale"] = placeWords(n.Scale)
	}
	if err := r.gather.add(o); err != nil {
		return unreadable("%v", err)
	}
	if n.Mesh != nil {
		if *n.Mesh < 0 || *n.Mesh >= len(r.Meshes) {
			return unreadable("a mesh of it is not there")
		}
		for _, p := range r.Meshes[*n.Mesh].Primitives {
			if err := r.primitive(p, at); err != nil {
				return err
			}
		}
	}
	for _, c := range n.Children {
		if err := r.node(c, at, depth+1); err != nil {
			return err
		}
	}
	return nil
}

func (r *gltfReader) primitive(p gltfPrimitive, at matrix) error {
	position, ok := p.Attributes["POSITION"]
	mode := 4
	if p.Mode != nil {
		mode = *p.Mode
	}
	if !ok || mode < 4 {
		return nil
	}
	m := r.mesh
	base := uint32(len(m.at) / 3)
	get, n, err := r.accessor(position, "VEC3", 5126)
	if err != nil {
		return err
	}
	for i := range n {
		raw := get(i)
		var v [3]float64
		for c := range v {
			v[c] = float64(math.Float32frombits(binary.LittleEndian.Uint32(raw[4*c:])))
		}
		var w [3]float32
		for c := range w {
			w[c] = float32(at[c]*v[0] + at[4+c]*v[1] + at[8+c]*v[2] + at[12+c])
		}
		if err := m.add(w[0], w[1], w[2]); err != nil {
			return err
		}
	}
	corner := func(i int) uint32 { return base + uint32(i) }
	if p.Indices != nil {
		if *p.Indices < 0 || *p.Indices >= len(r.Accessors) {
			return unreadable("a list of corners of it is not there")
		}
		kind := r.Accessors[*p.Indices].ComponentType
		var one func(int) []byte
		if one, n, err = r.accessor(*p.Indices, "SCALAR", kind); err != nil {
			return err
		}
		corner = func(i int) uint32 {
			raw := one(i)
			switch kind {
			case 5121:
				return base + uint32(raw[0])
			case 5123:
				return base + uint32(binary.LittleEndian.Uint16(raw))
			}
			// Beyond what uint32 holds, it is not there either.
			if k := uint64(base) + uint64(binary.LittleEndian.Uint32(raw)); k <= math.MaxUint32 {
				return uint32(k)
			}
			return math.MaxUint32
		}
	}
	switch mode {
	case 4:
		for i := 0; i+2 < n; i += 3 {
			if err := m.triangle(corner(i), corner(i+1), corner(i+2)); err != nil {
				return err
			}
		}
	case 5:
		for i := 0; i+2 < n; i++ {
			if err := m.triangle(corner(i), corner(i+1+i%2), corner(i+2-i%2)); err != nil {
				return err
			}
		}
	case 6:
		for i := 1; i+1 < n; i++ {
			if err := m.triangle(corner(0), corner(i), corner(i+1)); err != nil {
				return err
			}
		}
	}
	return nil
}

// accessor gives the elements of an accessor, and how many there are, checked to lie within their buffer.
func (r *gltfReader) accessor(i int, kind string, component int) (get func(int) []byte, n int, err error) {
	bad := unreadable("a list of numbers in it is damaged")
	if i < 0 || i >= len(r.Accessors) {
		return nil, 0, bad
	}
	a := r.Accessors[i]
	size := map[int]int{5121: 1, 5123: 2, 5125: 4, 5126: 4}[component]
	if kind == "VEC3" {
		size *= 3
	}
	if a.Type != kind || a.ComponentType != component || size == 0 || len(a.Sparse) > 0 || a.Count < 0 || a.ByteOffset < 0 ||
		a.BufferView < 0 || a.BufferView >= len(r.BufferViews) {
		return nil, 0, bad
	}
	v := r.BufferViews[a.BufferView]
	if v.Buffer < 0 || v.Buffer >= len(r.buffers) || v.ByteOffset < 0 || v.ByteLength < 0 || v.ByteStride < 0 {
		return nil, 0, bad
	}
	stride := size
	if v.ByteStride > 0 {
		stride = v.ByteStride
	}
	data := r.buffers[v.Buffer]
	if int64(v.ByteOffset)+int64(v.ByteLength) > int64(len(data)) || stride < size {
		return nil, 0, bad
	}
	data = data[v.ByteOffset:][:v.ByteLength]
	if a.Count > 0 && (a.Count > maxVertices*4 || int64(a.ByteOffset)+int64(a.Count-1)*int64(stride)+int64(size) > int64(len(data))) {
		return nil, 0, bad
	}
	return func(i int) []byte { return data[a.ByteOffset+i*stride:][:size] }, a.Count, nil
}
