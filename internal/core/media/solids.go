package media

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"math"
	"strconv"
	"strings"
)

// readSTL reads STL, binary (80 bytes of anything, a count, 50 bytes a triangle) or ASCII.
func readSTL(s Subject) (seen, error) {
	data, err := s.read(maxModel)
	if err != nil {
		return nil, err
	}
	m := &mesh{up: 'z', meshes: 1}
	if n := len(data); n >= 84 {
		count := int64(binary.LittleEndian.Uint32(data[80:]))
		if int64(n) == 84+50*count {
			m.format = "STL, binary"
			for i := range int(count) {
				at := data[84+50*i+12:]
				for k := range 3 {
					var v [3]float32
					for c := range v {
						v[c] = math.Float32frombits(binary.LittleEndian.Uint32(at[12*k+4*c:]))
					}
					if err := m.add(v[0], v[1], v[2]); err != nil {
						return nil, err
					}
				}
				if err := m.triangle(uint32(3*i), uint32(3*i+1), uint32(3*i+2)); err != nil {
					return nil, err
				}
			}
			m.declared = len(m.at) / 3
			return m, nil
		}
	}
	if !bytes.HasPrefix(bytes.TrimSpace(data[:min(len(data), 100)]), []byte("solid")) {
		return nil, unreadable("it is no STL file, or it was cut off: it has not as many triangles as it says")
	}
	m.format = "STL, text"
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, 1<<16)
	ended := false
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		switch {
		case len(words) == 4 && words[0] == "vertex":
			v, ok := numbers(words[1:])
			if !ok {
				return nil, unreadable("a place in it is no number")
			}
			if err := m.add(v[0], v[1], v[2]); err != nil {
				return nil, err
			}
		case len(words) > 0 && words[0] == "endfacet":
			n := uint32(len(m.at) / 3)
			if n != uint32(len(m.triangles))+3 {
				return nil, unreadable("a triangle in it has not three corners")
			}
			if err := m.triangle(n-3, n-2, n-1); err != nil {
				return nil, err
			}
		case len(words) > 0 && words[0] == "endsolid":
			ended = true
		}
	}
	if lines.Err() != nil || !ended {
		return nil, unreadable("it ends early")
	}
	m.declared = len(m.at) / 3
	return m, nil
}

func numbers(words []string) (v [3]float32, ok bool) {
	for i := range v {
		if i >= len(words) {
			return v, false
		}
		f, err := strconv.ParseFloat(words[i], 32)
		if err != nil {
			return v, false
		}
		v[i] = float32(f)
	}
	return v, true
}

// readOBJ reads the faces of a Wavefront OBJ file (specification 3.0, appendix B1); curves and surfaces are left out.
func readOBJ(s Subject) (seen, error) {
	if s.Size > maxModel {
		return nil, unreadable("it is larger than what is looked into")
	}
	m := &mesh{format: "OBJ", up: 'y'}
	materials, libraries := map[string]bool{}, map[string]bool{}
	lines := bufio.NewScanner(s.reader())
	lines.Buffer(nil, 1<<20)
	groups := 0
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) == 0 {
			continue
		}
		switch words[0] {
		case "v":
			v, ok := numbers(words[1:])
			if !ok {
				return nil, unreadable("a place in it is no number")
			}
			if err := m.add(v[0], v[1], v[2]); err != nil {
				return nil, err
			}
		case "f":
			if err := m.face(words[1:]); err != nil {
				return nil, err
			}
		case "o", "g":
			groups++
		case "usemtl":
			materials[clean(strings.Join(words[1:], " "))] = true
		case "mtllib":
			libraries[clean(strings.Join(words[1:], " "))] = true
		}
	}
	if err := lines.Err(); err != nil {
		return nil, unreadable("a line of it is too long")
	}
	if len(m.at) == 0 {
		return nil, unreadable("it has no vertices")
	}
	m.meshes, m.declared, m.materials, m.textures = max(1, groups), len(m.at)/3, sorted(materials), sorted(libraries)
	return m, nil
}

// face cuts a face into triangles that share its first corner. Corners count from 1, or backwards from the last one.
func (m *mesh) face(words []string) error {
	if len(words) < 3 {
		return unreadable("a face in it has fewer than three corners")
	}
	n := len(m.at) / 3
	corners := make([]uint32, len(words))
	for i, w := range words {
		w, _, _ = strings.Cut(w, "/")
		k, err := strconv.Atoi(w)
		if err != nil || k == 0 || k > n || k < -n {
			return unreadable("a face in it has a corner that is not there")
		}
		if corners[i] = uint32(k - 1); k < 0 {
			corners[i] = uint32(n + k)
		}
	}
	for i := 1; i+1 < len(corners); i++ {
		if err := m.triangle(corners[0], corners[i], corners[i+1]); err != nil {
			return err
		}
	}
	return nil
}
