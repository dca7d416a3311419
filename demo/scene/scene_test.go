package scene

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image/png"
	"strings"
	"testing"
)

// everything is one of each kind, by name and pass.
func everything(pass int) map[string][]byte {
	return map[string][]byte{
		"albedo.png": Albedo("rust", 48, pass), "normal.png": Normal("kelp", 48, pass), "roughness.png": Roughness("rust", 48, pass),
		"height.png": Height("rust", 48, pass),
		"sky.png":    Sky(32, pass), "dial.png": Dial(48, 12, 0.5, pass), "lamp.glb": Model("lamp", pass), "boat.glb": Model("rowing-boat", pass),
		"level.glb": Level("harbour", pass),
		"horn.wav":  Sound("fog-horn", pass), "oar.wav": Sound("oar-stroke", pass), "top.stl": Enclosure("top", pass), "box.step": Step(pass),
		"a.kicad_sch": Schematic(pass), "a.kicad_pcb": Board(pass),
		"top.gbr": Gerber("copper-top", pass), "a.drl": Drill(pass), "parts.csv": PartsList(pass), "sheet.pdf": DataSheet(pass),
		"keeper.txt": Dialogue("keeper", pass), "boat.csv": Tuning("boat", pass), "things.json": Things(pass),
	}
}

func TestTheSamePassGivesTheSameBytes(t *testing.T) {
	again := everything(1)
	for name, data := range everything(1) {
		if !bytes.Equal(data, again[name]) {
			t.Errorf("%s differs from one time to the next", name)
		}
	}
}

func TestPassesDiffer(t *testing.T) {
	first := everything(0)
	for name, data := range everything(1) {
		if bytes.Equal(data, first[name]) && name != "a.drl" {
			t.Errorf("%s is the same in two passes", name)
		}
	}
}

func TestFilesAreWhatTheirNamesSay(t *testing.T) {
	for name, data := range everything(1) {
		if err := wellFormed(name, data); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func wellFormed(name string, data []byte) error {
	_, kind, _ := strings.Cut(name, ".")
	switch kind {
	case "png":
		_, err := png.Decode(bytes.NewReader(data))
		return err
	case "glb":
		length, chunk := binary.LittleEndian.Uint32(data[8:]), binary.LittleEndian.Uint32(data[12:])
		var doc struct {
			Accessors []struct{ Count int }
			Buffers   []struct{ ByteLength int }
		}
		if err := json.Unmarshal(data[20:20+chunk], &doc); err != nil {
			return err
		}
		if string(data[:4]) != "glTF" || int(length) != len(data) || len(doc.Accessors) == 0 ||
			28+int(chunk)+doc.Buffers[0].ByteLength != len(data) {
			return fmt.Errorf("lengths do not agree: %d of %d bytes", length, len(data))
		}
	case "json":
		return json.Unmarshal(data, new(any))
	case "wav":
		if string(data[:4]) != "RIFF" || int(binary.LittleEndian.Uint32(data[4:])) != len(data)-8 ||
			int(binary.LittleEndian.Uint32(data[40:])) != len(data)-44 {
			return fmt.Errorf("the head does not agree with %d bytes", len(data))
		}
	case "stl":
		if want := 84 + 50*int(binary.LittleEndian.Uint32(data[80:])); want != len(data) {
			return fmt.Errorf("%d bytes, want %d", len(data), want)
		}
	case "kicad_sch", "kicad_pcb":
		depth := 0
		for _, c := range data {
			switch c {
			case '(':
				depth++
			case ')':
				depth--
			}
			if depth < 0 {
				return fmt.Errorf("more is closed than opened")
			}
		}
		if depth != 0 {
			return fmt.Errorf("%d parentheses stay open", depth)
		}
	case "step":
		if !bytes.HasPrefix(data, []byte("ISO-10303-21;")) || !bytes.HasSuffix(data, []byte("END-ISO-10303-21;\n")) {
			return fmt.Errorf("not an exchange structure")
		}
	case "pdf":
		at := bytes.LastIndex(data, []byte("startxref\n"))
		var start int
		if _, err := fmt.Sscanf(string(data[at:]), "startxref\n%d", &start); err != nil || !bytes.HasPrefix(data[start:], []byte("xref")) {
			return fmt.Errorf("the table is not at %d: %v", start, err)
		}
	case "gbr":
		if !bytes.HasSuffix(data, []byte("M02*\n")) || !bytes.Contains(data, []byte("%FSLAX46Y46*%")) {
			return fmt.Errorf("not RS-274X")
		}
	}
	if len(data) == 0 {
		return fmt.Errorf("it is empty")
	}
	return nil
}
