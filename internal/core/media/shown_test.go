package media

import (
	"fmt"
	"image/color"
	"strings"
	"testing"
)

// inks counts the pixels of a drawing that have a colour.
func inks(t *testing.T, data []byte, want color.RGBA) (n int) {
	t.Helper()
	m := decoded(t, data)
	for y := range m.Bounds().Dy() {
		for x := range m.Bounds().Dx() {
			if m.NRGBAAt(x, y) == color.NRGBA(want) {
				n++
			}
		}
	}
	return n
}

func TestEveryKindHasAPicture(t *testing.T) {
	for _, s := range []Subject{of("a.txt", []byte("one\ntwo\n")), of("a.csv", []byte("key,value\ndrag,0.4\n")),
		of("a.json", []byte(`{"tide": 1}`)), of("a.toml", []byte("a = 1")),
		of("things.json", []byte(`[{"id":"a","x":1,"y":2},{"id":"b","x":3,"y":4}]`)), of("a.kicad_sch", sheetOf("10k", "MID", true)),
		of("a.obj", []byte(cube(1, false))), of("a.wav", tone(8000, 1, 0.2, 440, 0.5))} {
		r, d := look(t, s)
		if r.Trouble != "" || d["whole.png"] == nil {
			t.Errorf("%s: %+v", s.Name, r)
		}
	}
	if _, d := look(t, of("a.bin", []byte{0, 1, 2, 3})); len(d) > 0 {
		t.Errorf("of bytes is drawn %v", sorted(d))
	}
}

func TestTextsAreDrawnWithWhatChanged(t *testing.T) {
	before, after := of("a.txt", []byte("same\nold line\nsame too\n")), of("a.txt", []byte("same\nnew line\nsame too\nand more\n"))
	c, d := compared(t, before, after)
	if len(c.Rows) != 4 || inks(t, d["difference.png"], came) == 0 || inks(t, d["difference.png"], went) == 0 ||
		inks(t, d["difference.png"], onCame) < 1000 || inks(t, d["difference.png"], onWent) < 500 {
		t.Errorf("%+v: %d %d", c.Rows, inks(t, d["difference.png"], came), inks(t, d["difference.png"], went))
	}
	if same, drawn := compared(t, before, before); !same.Same || drawn["difference.png"] != nil {
		t.Errorf("%+v, %v", same, sorted(drawn))
	}
	// However long lines and texts are, the picture is not.
	long := of("a.txt", []byte(strings.Repeat(strings.Repeat("wide ", 2000)+"\n", 300)))
	_, d = look(t, long)
	if b := decoded(t, d["whole.png"]).Bounds(); b.Dx() > 800 || b.Dy() > 900 {
		t.Errorf("a long text is drawn as %v", b)
	}
}

func TestTablesAreLaidOverEachOther(t *testing.T) {
	c, _ := compared(t, of("a.csv", []byte("ref,value,note\nR1,10k,\nR2,1k,keep\nC1,100n,\n")),
		of("a.csv", []byte("ref,value,note\nR1,12k,\nC1,100n,moved\nD1,LED,new\n")))
	if c.Table == nil || len(c.Table.Rows) != 4 {
		t.Fatalf("%+v", c.Table)
	}
	var got []string
	for _, row := range c.Table.Rows {
		got = append(got, fmt.Sprintf("%s %s %v", row.Change, row.Cells[0], row.Was))
	}
	if want := "changed R1 map[1:10k]; changed C1 map[2:]; added D1 map[]; removed R2 map[]"; strings.Join(got, "; ") != want {
		t.Errorf("%s, want %s", strings.Join(got, "; "), want)
	}
	if fact(c.Measures, "cells changed") != "2" || fact(c.Measures, "rows added") != "1" || fact(c.Measures, "rows removed") != "1" {
		t.Errorf("%+v", c.Measures)
	}
	// A column that came, and one that is somewhere else now.
	c, _ = compared(t, of("a.csv", []byte("ref,value\nR1,10k\n")), of("a.csv", []byte("ref,footprint,value\nR1,0402,10k\n")))
	if got := changes(c); got != "changed R1, footprint:  > 0402" {
		t.Error(got)
	}
	// Of a large table only what changed is in it.
	rows := func(other int) Subject {
		var b strings.Builder
		b.WriteString("n,v\n")
		for i := range 3000 {
			v := i
			if i == other {
				v = -1
			}
			fmt.Fprintf(&b, "%d,%d\n", i, v)
		}
		return of("a.csv", []byte(b.String()))
	}
	if c, _ = compared(t, rows(-1), rows(1500)); len(c.Table.Rows) != 1 || c.Table.Left != 2999 || c.Table.Rows[0].Was[1] != "1500" {
		t.Errorf("%+v", c.Table)
	}
}

func TestAStripIsDrawn(t *testing.T) {
	s := StripOf([]Piece[string]{{"a", 50}, {"b", 30}, {"c", 20}}, []Piece[string]{{"a", 50}, {"x", 10}, {"y", 20}, {"c", 20}})
	if s.Before != 100 || s.After != 100 || s.Changed != 30 || len(s.Parts) != 3 || s.Parts[1].Size != 30 || s.Parts[1].Same {
		t.Fatalf("%+v", s)
	}
	data, err := s.Draw()
	if err != nil {
		t.Fatal(err)
	}
	changed, same := inks(t, data, came), inks(t, data, plain)
	// 30 of 100 are copper, and those reach further up and down: 68 lines high instead of 28.
	if share := float64(changed) / 68 / (float64(changed)/68 + float64(same)/28); share < 0.28 || share > 0.32 {
		t.Errorf("%.3f of it is marked", share)
	}
	empty, err := StripOf[string](nil, nil).Draw()
	if err != nil || inks(t, empty, came) != 0 {
		t.Errorf("%v", err)
	}
}

// A drawing is bounded in the work that it takes; what is left out of it is said on it.
func TestDrawingsAreBounded(t *testing.T) {
	// Each line covers the whole drawing.
	wide := "%FSLAX46Y46*%\n%MOMM*%\n%ADD10C,90.0*%\nD10*\n" + strings.Repeat("X0Y0D02*\nX9000000Y9000000D01*\n", 2000) + "M02*\n"
	r, d := look(t, of("a.gbr", []byte(wide)))
	if r.Trouble != "" || inks(t, d["whole.png"], went) < 100 {
		t.Errorf("%q, %d pixels say that something is left out", r.Trouble, inks(t, d["whole.png"], went))
	}
	many := "%FSLAX46Y46*%\n%MOMM*%\n%ADD10C,1*%\nD10*\n" + strings.Repeat("X0Y0D03*\n", 300_000) + "M02*\n"
	if r, _ := look(t, of("a.gbr", []byte(many))); !strings.Contains(r.Trouble, "more lines than are looked into") {
		t.Errorf("%+v", r)
	}
}

func TestNumbersAreRounded(t *testing.T) {
	for v, want := range map[float64]string{0: "0", 79.375: "79.38", 70.5555: "70.56", 2.99999: "3", 1234.56: "1,235", 0.000123456: "0.000123",
		12: "12", -5.25: "-5.25", 99.9999: "100", 1e-9: "1e-09"} {
		if got := rounded(v); got != want {
			t.Errorf("%g is %s, want %s", v, got, want)
		}
	}
	for share, want := range map[float64]string{0: "0 %", 1: "100 %", 0.5: "50 %", 0.4351: "43.51 %", 0.00001: "under 0.01 %",
		0.99999: "over 99.99 %"} {
		if got := percent(share); got != want {
			t.Errorf("%g is %s, want %s", share, got, want)
		}
	}
}

func TestKindsOfNames(t *testing.T) {
	for name, want := range map[string]string{"a.PNG": Texture, "a.tar.gz": Other, "noending": Other, "x/y.kicad_pcb": Board, "a.gtl": Board,
		"a.ogg": Sound, "a.pdf": Document, "a.tmx": Data, "readme.md": Text, "parts.tsv": Tabular} {
		if got := KindOf(name); got != want {
			t.Errorf("%s is %s, want %s", name, got, want)
		}
	}
	for _, kind := range Kinds {
		if KindPattern(kind) == "" {
			t.Errorf("nothing finds a %s by its name", kind)
		}
	}
	if KindPattern("painting") != "" {
		t.Error("a painting is a kind")
	}
}
