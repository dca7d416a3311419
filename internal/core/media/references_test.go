package media

import (
	"bytes"
	"encoding/binary"
	"sort"
	"strings"
	"testing"
)

func glb(text string) string {
	b := []byte("glTF\x02\x00\x00\x00\x00\x00\x00\x00")
	b = binary.LittleEndian.AppendUint32(b, uint32(len(text)))
	return string(append(append(b, "JSON"...), text...))
}

func TestReferences(t *testing.T) {
	gltf := `{"buffers":[{"uri":"lamp.bin"},{"uri":"data:application/octet-stream;base64,AA"}],` +
		`"images":[{"uri":"../textures/rust%20albedo.png"},{"bufferView":1}]}`
	for _, c := range []struct{ name, text, want string }{
		{"lamp.gltf", gltf, "../textures/rust albedo.png|lamp.bin"},
		{"LAMP.GLB", glb(gltf), "../textures/rust albedo.png|lamp.bin"},
		{"lamp.obj", "# x\nmtllib lamp.mtl\r\nv 0 0 0\nusemtl rust\n", "lamp.mtl"},
		{"lamp.mtl", "newmtl rust\nKd 1 1 1\nmap_Kd tex\\rust albedo.png\nmap_Bump -bm 0.5 rust-normal.png\n",
			"rust-normal.png|tex/rust albedo.png"},
		{"tide.x_sch", `(sheet (property "Sheetname" "power") (property "Sheetfile" "power.x_sch" (at 1 2)))`, "power.x_sch"},
		{"tide.x_pcb", `(footprint "crank" (model "${PRJ}/shapes/crank.step" (at (xyz 0 0 0))))`, "shapes/crank.step"},
		{"harbour.tmx", `<map><tileset source="quay.tsx"/><imagelayer><image source="sky.png"/></imagelayer></map>`, "quay.tsx|sky.png"},
		{"harbour.tmj", `{"tilesets":[{"source":"quay.tsj"}],"layers":[{"image":"sky.png","name":"x"}]}`, "quay.tsj|sky.png"},
		{"notes.txt", "mtllib x", ""},
		{"far.gltf", `{"images":[{"uri":"https://example.org/x.png"}]}`, ""},
	} {
		got, err := References(c.name, strings.NewReader(c.text))
		sort.Strings(got)
		if err != nil || strings.Join(got, "|") != c.want {
			t.Errorf("%s names %q, %v; want %q", c.name, got, err, c.want)
		}
		if HasReferences(c.name) == (c.name == "notes.txt") {
			t.Errorf("HasReferences(%s) is wrong", c.name)
		}
	}
}

func FuzzReferences(f *testing.F) {
	f.Add("a.glb", []byte(glb(`{"images":[{"uri":"x"}]}`)))
	f.Add("a.x_sch", []byte(`(property "Sheetfile" "a\"b")`))
	f.Add("a.tmx", []byte(`<map source="x">`))
	f.Add("a.mtl", []byte("map_Kd - \n"))
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		list, _ := References(name, bytes.NewReader(data))
		for _, l := range list {
			if l == "" || strings.ContainsAny(l, "\x00\n\\") {
				t.Fatalf("%q names %q", data, l)
			}
		}
	})
}
