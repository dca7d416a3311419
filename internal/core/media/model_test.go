package media

import (
	"encoding/binary"
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// cube is a cube of a size, as an OBJ file; without its last face where open is set.
func cube(edge float64, open bool) string {
	var b strings.Builder
	b.WriteString("mtllib cube.mtl\no cube\n")
	for i := range 8 {
		fmt.Fprintf(&b, "v %g %g %g\n", edge*float64(i&1), edge*float64(i>>1&1), edge*float64(i>>2&1))
	}
	b.WriteString("usemtl brine\n")
	faces := []string{"1 3 4 2", "5 6 8 7", "1 2 6 5", "3 7 8 4", "1 5 7 3", "2 4 8 6"}
	if open {
		faces = faces[:5]
	}
	for _, f := range faces {
		b.WriteString("f " + f + "\n")
	}
	return b.String()
}

// Models that assimp wrote are read as what they were made from.
func TestModelsOfAnotherProgram(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "cube.obj"), []byte(cube(2, false)), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "cube.mtl"), []byte("newmtl brine\nKd 1 0 0\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	facts(t, subject(t, filepath.Join(dir, "cube.obj")), "format=OBJ", "vertices=8", "triangles=12", "watertight=yes", "materials=1: brine",
		"bounds=2 x 2 x 2 (no unit in the file)")
	for name, want := range map[string][]string{
		"glb2":  {"format=glTF 2.0, binary", "triangles=12", "watertight=yes", "bounds=2 x 2 x 2 m"},
		"gltf2": {"format=glTF 2.0", "geometry=in cube_0.bin beside it"},
		"stl":   {"format=STL, text", "triangles=12", "watertight=yes"},
		"stlb":  {"format=STL, binary", "triangles=12", "watertight=yes", "bounds=2 x 2 x 2 (no unit in the file)"},
		"obj":   {"format=OBJ", "triangles=12", "watertight=yes"},
	} {
		ending := map[string]string{"glb2": "glb", "gltf2": "gltf", "stl": "stl", "stlb": "stl", "obj": "obj"}[name]
		to := "made-" + name + "." + ending
		if name == "gltf2" {
			to = "cube.gltf"
		}
		made(t, dir, "assimp", "export", "cube.obj", to, "-f"+name)
		facts(t, subject(t, filepath.Join(dir, to)), want...)
	}
}

func TestModelsAreDrawnAndMeasured(t *testing.T) {
	r, d := look(t, of("a.obj", []byte(cube(2, false))))
	if r.Trouble != "" || d["mesh.bin"] == nil || string(d["mesh.bin"][:4]) != "TMSH" || binary.LittleEndian.Uint32(d["mesh.bin"][8:]) != 8 ||
		binary.LittleEndian.Uint32(d["mesh.bin"][12:]) != 12 {
		t.Errorf("%+v", r)
	}
	m := decoded(t, d["whole.png"])
	if p, q := m.NRGBAAt(320, 320), m.NRGBAAt(4, 4); p == color.NRGBA(ground) || q != color.NRGBA(ground) {
		t.Errorf("in the middle %v, in the corner %v", p, q)
	}
	facts(t, of("a.obj", []byte(cube(2, true))), "triangles=10", "watertight=no, 4 open edges")
	c, d := compared(t, of("a.obj", []byte(cube(2, false))), of("b.obj", []byte(cube(2.6, true))))
	if c.Same || fact(c.Measures, "triangles") != "2 fewer" || d["difference.png"] == nil {
		t.Errorf("%+v", c)
	}
	only, both := 0, 0
	drawn := decoded(t, d["difference.png"])
	for i := 0; i < len(drawn.Pix); i += 4 {
		switch p := drawn.Pix[i:]; {
		case p[0] == color.NRGBA(came).R && p[1] == color.NRGBA(came).G && p[2] == color.NRGBA(came).B:
			only++
		case p[0] != color.NRGBA(ground).R:
			both++
		}
	}
	if only == 0 || both == 0 {
		t.Errorf("%d places came, and %d are in both", only, both)
	}
	if c, _ = compared(t, of("a.obj", []byte(cube(2, false))), of("b.obj", []byte(cube(2, false)))); !c.Same {
		t.Errorf("%+v", c)
	}
}

// scenery is a glTF file with one triangle, placed by nodes.
func scenery(nodes string) []byte {
	var bin []byte
	for _, v := range []float32{0, 0, 0, 1, 0, 0, 0, 1, 0} {
		bin = binary.LittleEndian.AppendUint32(bin, math.Float32bits(v))
	}
	text := `{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[0]}],"nodes":[` + nodes + `],
"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],
		"accessors":[{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3"}],
"bufferViews":[{"buffer":0,"byteLength":36}],"buffers":[{"byteLength":36}],
		"materials":[{"name":"rust"}],"images":[{"uri":"rust.png"}]}`
	for len(text)%4 != 0 {
		text += " "
	}
	out := []byte("glTF\x02\x00\x00\x00")
	out = binary.LittleEndian.AppendUint32(out, uint32(12+8+len(text)+8+len(bin)))
	out = append(binary.LittleEndian.AppendUint32(out, uint32(len(text))), "JSON"...)
	out = append(out, text...)
	out = append(binary.LittleEndian.AppendUint32(out, uint32(len(bin))), "BIN\x00"...)
	return append(out, bin...)
}

func TestScenesTellWhatMoved(t *testing.T) {
	before := scenery(`{"name":"harbour","children":[1,2],"translation":[10,0,0]},{"name":"post","mesh":0,"translation":[1,0,2]},` +
		`{"name":"lamp","mesh":0}`)
	after := scenery(`{"name":"harbour","children":[1,2],"translation":[10,0,0]},{"name":"post","mesh":0,"translation":[4,0,6]},` +
		`{"name":"buoy","mesh":0,"scale":[2,2,2]}`)
	facts(t, of("a.glb", before), "bounds=2 x 1 x 2 m", "triangles=2", "materials=1: rust", "textures=1: rust.png", "meshes=1")
	c, d := compared(t, of("a.glb", before), of("a.glb", after))
	var got []string
	for _, x := range c.Changes {
		got = append(got, fmt.Sprintf("%s %s %g", x.Change, x.Name, x.Distance))
	}
	if strings.Join(got, "; ") != "moved post 5; added buoy 0; removed lamp 0" || d["plan.png"] == nil {
		t.Errorf("%q", got)
	}
}

func TestDamagedModelsSayWhy(t *testing.T) {
	good := scenery(`{"mesh":0}`)
	turn := scenery(`{"children":[0],"mesh":0}`)
	stl := make([]byte, 84)
	binary.LittleEndian.PutUint32(stl[80:], 1<<30)
	for name, data := range map[string][]byte{
		"cut.glb": good[:len(good)-20], "circle.glb": turn, "text.glb": []byte("no model"), "empty.stl": nil, "bomb.stl": stl,
		"bomb.obj": []byte("v 0 0 0\nf 1 1 9\n"), "nan.obj": []byte("v nan 0 0\n"), "no.obj": []byte("hello\n"),
		"bomb.gltf": []byte(`{"asset":{"version":"2.0"},"nodes":[{"mesh":0}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],` +
			`"accessors":[{"bufferView":0,"componentType":5126,"count":2000000000,"type":"VEC3"}],"bufferViews":[{"buffer":0,"byteLength":4}],` +
			`"buffers":[{"uri":"data:;base64,AAAAAA=="}]}`),
	} {
		if r, _ := look(t, of(name, data)); r.Trouble == "" {
			t.Errorf("%s: %+v", name, r)
		}
	}
}

func FuzzModels(f *testing.F) {
	f.Add(uint8(0), scenery(`{"mesh":0,"rotation":[0,0.7,0,0.7]}`))
	f.Add(uint8(1), []byte(cube(1, false)))
	f.Add(uint8(2), []byte("solid a\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\n"+
		"vertex 0 1 0\nendloop\nendfacet\nendsolid a\n"))
	f.Add(uint8(3), []byte(`{"asset":{"version":"2.0"}}`))
	names := []string{"a.glb", "a.obj", "a.stl", "a.gltf"}
	f.Fuzz(func(t *testing.T, kind uint8, data []byte) {
		s := of(names[int(kind)%len(names)], data)
		if r, _ := look(t, s); r.Trouble == "" {
			if c, _ := compared(t, s, s); !c.Same {
				t.Errorf("it is not the same as itself: %+v", c)
			}
		}
	})
}
