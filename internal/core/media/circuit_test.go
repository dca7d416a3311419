package media

import (
	"fmt"
	"image"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// sheetOf is a schematic of two resistors in a row, with a label on the wire between them.
func sheetOf(value, label string, wire bool) []byte {
	between := `(wire (pts (xy 20 10) (xy 30 10)))`
	if !wire {
		between = ""
	}
	return []byte(`(kicad_sch (version 20211123) (lib_symbols (symbol "a:R" (symbol "R_0_1" (rectangle (start -1 1) (end 1 -1)))
(symbol "R_1_1"
		(pin passive line (at -5 0 0) (length 4) (name "1") (number "1")) (pin passive line (at 5 0 180) (length 4) (name "2") (number "2")))))
		` + between + ` (label "` + label + `" (at 25 10 0))
		(symbol (lib_id "a:R") (at 15 10 0) (property "Reference" "R1") (property "Value" "` + value + `") (property "Footprint" "0402"))
		(symbol (lib_id "a:R") (at 35 10 0) (property "Reference" "R2") (property "Value" "1k") (property "Footprint" "0402")))`)
}

func TestSchematicsTellPartsAndNets(t *testing.T) {
	a := of("a.kicad_sch", sheetOf("10k", "MID", true))
	facts(t, a, "parts=2", "nets=1")
	c, d := compared(t, a, of("b.kicad_sch", sheetOf("12k", "CENTRE", true)))
	if got := changes(c); got != "changed R1: 10k, 0402 > 12k, 0402\nadded CENTRE:  > R1.2 R2.1\nremoved MID: R1.2 R2.1 > " {
		t.Error(got)
	}
	if d["difference.png"] == nil || fact(c.Measures, "parts changed") != "1" || c.Same {
		t.Errorf("%+v", c.Measures)
	}
	// Without the wire nothing is connected any more.
	c, d = compared(t, a, of("b.kicad_sch", sheetOf("10k", "MID", false)))
	if got := changes(c); got != "removed MID: R1.2 R2.1 > " || fact(c.Measures, "lines gone") != "1" {
		t.Error(got, c.Measures)
	}
	// The wire that went is drawn in dashes: there and not there along its way.
	m := decoded(t, d["difference.png"])
	on, off := 0, 0
	y, most := 0, 0
	for row := range m.Bounds().Dy() {
		n := 0
		for x := range m.Bounds().Dx() {
			if m.NRGBAAt(x, row) == color.NRGBA(went) {
				n++
			}
		}
		if n > most {
			y, most = row, n
		}
	}
	for x := m.Bounds().Dx() * 45 / 100; x < m.Bounds().Dx()*55/100; x++ {
		hit := false
		for dy := -4; dy <= 4; dy++ {
			hit = hit || m.NRGBAAt(x, y+dy) == color.NRGBA(went)
		}
		if hit {
			on++
		} else {
			off++
		}
	}
	if on == 0 || off == 0 {
		t.Errorf("%d columns are drawn, %d are not", on, off)
	}
	if c, _ = compared(t, a, a); !c.Same {
		t.Error(changes(c))
	}
}

func boardOf(x float64, width string) []byte {
	return []byte(fmt.Sprintf(`(kicad_pcb (version 20211014) (layers (0 "F.Cu" signal) (44 "Edge.Cuts" user)) (net 1 "GND")
		(footprint "a:0402" (layer "F.Cu") (at %g 10 90) (fp_text reference "C1" (at 0 0)) (fp_text value "1u" (at 0 0))
			(pad "1" smd rect (at -1 0 90) (size 0.5 0.6) (layers "F.Cu") (net 1 "GND"))
(pad "2" smd circle (at 1 0) (size 0.6 0.6) (layers "F.Cu")))
		(segment (start 5 5) (end 30 5) (width %s) (layer "F.Cu") (net 1)) (via (at 30 5) (size 0.8) (drill 0.4) (layers "F.Cu" "B.Cu"))
		(gr_rect (start 0 0) (end 40 25) (layer "Edge.Cuts") (width 0.1))
(gr_arc (start 10 20) (mid 12 22) (end 14 20) (layer "Edge.Cuts") (width 0.1)))`, x, width))
}

func TestBoardsTellPartsLayersAndSize(t *testing.T) {
	a := of("a.kicad_pcb", boardOf(20, "0.2"))
	facts(t, a, "parts=1", "nets=1", "layers=2: F.Cu, Edge.Cuts", "size of the board=40 x 25 mm")
	c, d := compared(t, a, of("b.kicad_pcb", boardOf(22, "0.3")))
	if got := changes(c); got != "moved C1: 20, 10, 90 > 22, 10, 90" || d["layer-F-Cu.png"] == nil {
		t.Error(got, sorted(d))
	}
}

const layer = `G04 a layer*
%FSLAX46Y46*%
%MOMM*%
%ADD10C,0.500000*%
%ADD11R,2.000000X1.000000*%
G01*
D10*
X0Y0D02*
X10000000Y0D01*
G75*
G03*
X10000000Y10000000I0J5000000D01*
G01*
D11*
X5000000Y5000000D03*
G36*
X20000000Y0D02*
X25000000Y0D01*
X25000000Y5000000D01*
X20000000Y0D01*
G37*
M02*
`

func TestGerberLayersAreDrawn(t *testing.T) {
	a := of("top.gbr", []byte(layer))
	facts(t, a, "format=Gerber, RS-274X", "apertures=2", "lines and flashes=4", "extent=25 x 10 mm")
	_, d := look(t, a)
	m := decoded(t, d["whole.png"])
	// 1280 pixels of 25.25 mm and two margins of 24: y grows upwards.
	at := func(x, y float64) color.NRGBA {
		scale := (1280 - 48) / 25.25
		return m.NRGBAAt(int(24+(x+0.25)*scale), m.Bounds().Dy()-int(24+(y+0.25)*scale))
	}
	for name, p := range map[string][2]float64{"the line": {5, 0}, "the arc": {15, 5}, "the flash": {5.8, 5.3}, "the area": {24, 2}} {
		if at(p[0], p[1]) == color.NRGBA(ground) {
			t.Errorf("%s is not drawn", name)
		}
	}
	for name, p := range map[string][2]float64{"beside the flash": {5, 6}, "outside the area": {21, 4}, "inside the arc": {12, 5}} {
		if at(p[0], p[1]) != color.NRGBA(ground) {
			t.Errorf("something is drawn %s", name)
		}
	}
	c, _ := compared(t, a, of("top.gbr", []byte(strings.Replace(layer, "X5000000Y5000000D03*", "X6000000Y5000000D03*", 1))))
	if fact(c.Measures, "lines drawn anew") != "1" || fact(c.Measures, "lines gone") != "1" {
		t.Errorf("%+v", c.Measures)
	}
	// In inches, and with the point written out, it is the same.
	inches := "%FSLAX24Y24*%\n%MOIN*%\n%ADD10C,0.0100*%\nD10*\nX0Y0D02*\nX10000Y0D01*\nM02*\n"
	facts(t, of("a.gbr", []byte(inches)), "extent=25.4 x 0 mm")
}

// filled tells which places of a drawing of ours are drawn on; x and y run from 0 to 1 over what is drawn, without the margins.
func filled(m *image.NRGBA, x, y float64) bool {
	w, h := float64(m.Bounds().Dx()-48), float64(m.Bounds().Dy()-48)
	return m.NRGBAAt(int(24+x*w), int(24+y*h)) != color.NRGBA(ground)
}

// Another program draws a layer the same, and what it writes of it is read the same.
func TestGerberAsAnotherProgramHasIt(t *testing.T) {
	text := `%FSLAX46Y46*%
%MOMM*%
%ADD10C,0.800000*%
%ADD11R,4.000000X2.000000*%
%ADD12O,6.000000X2.000000*%
%ADD13C,3.000000*%
%AMRR*
0 A rectangle with round corners, as layout programs write it*
4,1,4,$2,$3,$4,$5,$6,$7,$8,$9,$2,$3,0*
1,1,$1+$1,$2,$3*
1,1,$1+$1,$4,$5*
1,1,$1+$1,$6,$7*
1,1,$1+$1,$8,$9*
20,1,$1+$1,$2,$3,$4,$5,0*
20,1,$1+$1,$4,$5,$6,$7,0*
20,1,$1+$1,$6,$7,$8,$9,0*
20,1,$1+$1,$8,$9,$2,$3,0*%
%AMTH*
$3=($1+$1)/2x1.0*
5,1,6,0,0,$3,30*
1,0,$2,0,0*
21,1,$2x0.5,0.4,0,0,45*%
%ADD14RR,0.5X-2X1X-2X-1X2X-1X2X1*%
%ADD15TH,4X2.4*%
G01*
D10*
X0Y0D02*
X40000000Y0D01*
X40000000Y20000000D01*
G75*
G03*
X20000000Y20000000I-10000000J0D01*
G02*
X0Y20000000I-10000000J0D01*
G01*
X0Y0D01*
D11*
X10000000Y10000000D03*
D12*
X30000000Y8000000D03*
D13*
X20000000Y10000000D03*
D14*
X10000000Y15000000D03*
D15*
X15000000Y5000000D03*
G36*
X24000000Y13000000D02*
X36000000Y13000000D01*
X36000000Y17000000D01*
X24000000Y17000000D01*
X24000000Y13000000D01*
G37*
%LPC*%
G36*
X27000000Y14000000D02*
X33000000Y14000000D01*
X33000000Y16000000D01*
X27000000Y16000000D01*
X27000000Y14000000D01*
G37*
M02*
`
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "in.gbr"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	made(t, dir, "gerbv", "-x", "png", "-D", "600", "-B", "0", "-f", "#ffffffff", "-b", "#000000", "-o", "theirs.png", "in.gbr")
	made(t, dir, "gerbv", "-x", "rs274x", "-o", "again.gbr", "in.gbr")
	theirs := decoded(t, read(t, filepath.Join(dir, "theirs.png")))
	for _, name := range []string{"in.gbr", "again.gbr"} {
		r, d := look(t, subject(t, filepath.Join(dir, name)))
		var w, h float64
		if _, err := fmt.Sscanf(fact(r.Facts, "extent"), "%f x %f mm", &w, &h); err != nil || math.Abs(w-40) > 0.02 || math.Abs(h-30) > 0.02 {
			t.Errorf("%s: extent %s", name, fact(r.Facts, "extent"))
		}
		ours := decoded(t, d["whole.png"])
		off, inked, n := 0, 0, 0
		for y := 2; y < theirs.Bounds().Dy()-2; y += 2 {
			for x := 2; x < theirs.Bounds().Dx()-2; x += 2 {
				a := theirs.NRGBAAt(x, y).R > 127
				b := filled(ours, float64(x)/float64(theirs.Bounds().Dx()), float64(y)/float64(theirs.Bounds().Dy()))
				if n++; a {
					inked++
				}
				if a != b {
					off++
				}
			}
		}
		if inked < n/20 || off*100 > n*2 {
			t.Errorf("%s: %d of %d places are drawn otherwise, of which the other program draws on %d", name, off, n, inked)
		}
	}
}

func TestMacrosOfAperturesAreWorkedOut(t *testing.T) {
	variables := map[int]float64{1: 3, 2: -0.5}
	for text, want := range map[string]float64{"1": 1, "$1+$2": 2.5, "$1x$2": -1.5, "1-2-3": -4, "8/2/2": 2, "-(1+2)x3": -9, "1+2x3": 7,
		"-$2": 0.5, "$9": 0, "(((4)))": 4, "1.5X2": 3} {
		if got, err := workOut(text, variables); err != nil || got != want {
			t.Errorf("%s is %g, want %g (%v)", text, got, want, err)
		}
	}
	for _, text := range []string{"", "1+", "(1", "1)", "$", "$x", "a", "1/0", "1..2", strings.Repeat("(", 500) + "1" +
		strings.Repeat(")", 500), strings.Repeat("-", 500) + "1"} {
		if v, err := workOut(text, nil); err == nil {
			t.Errorf("%.20s is %g", text, v)
		}
	}
	for _, v := range [][]float64{{4, 1, 50, 0, 0}, {5, 1, 2, 0, 0, 1}, {5, 1, 1e9, 0, 0, 1}, {99}} {
		if list, err := primitive(v); err == nil {
			t.Errorf("%v is %v", v, list)
		}
	}
	head := "%FSLAX46Y46*%\n%MOMM*%\n"
	for name, text := range map[string]string{
		"damaged":    head + "%AMA*1,1,$1+,0,0*%\n%ADD10A,1*%\nM02*\n",
		"no number":  head + "%AMA*1,1,$1,0,0*%\n%ADD10A,x*%\nM02*\n",
		"very many":  head + "%AMA*" + strings.Repeat("1,1,1,0,0*", 3000) + "%\n%ADD10A,1*%\nM02*\n",
		"many times": head + "%AMA*" + strings.Repeat("1,1,1,0,0*", 1900) + "%\n" + strings.Repeat("%ADD10A,1*%\n", 100) + "M02*\n",
	} {
		if r, _ := look(t, of("a.gbr", []byte(text))); r.Trouble == "" {
			t.Errorf("%s: %+v", name, r)
		}
	}
}

func TestDrillFilesOfAnotherProgram(t *testing.T) {
	dir := t.TempDir()
	text := "M48\nMETRIC,TZ\nT1C0.900\nT2C3.200\n%\nT1\nX4.000Y4.000\nX10.000Y4.000\nT2\nX20.500Y9.000\nM30\n"
	if err := os.WriteFile(filepath.Join(dir, "in.drl"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	made(t, dir, "gerbv", "-x", "drill", "-o", "again.drl", "in.drl") // in inches, with the point left out
	r, _ := look(t, subject(t, filepath.Join(dir, "again.drl")))
	var w, h float64
	if _, err := fmt.Sscanf(fact(r.Facts, "extent"), "%f x %f mm", &w, &h); err != nil || math.Abs(w-(16.5+2.05)) > 0.05 ||
		math.Abs(h-(5+2.05)) > 0.05 || fact(r.Facts, "holes") != "3" || fact(r.Facts, "tools") != "2" {
		t.Errorf("%+v", r.Facts)
	}
	// Zeros left out at the end instead of at the beginning.
	for head, place := range map[string]string{"METRIC,TZ": "X1000Y20500", "METRIC,LZ": "X001Y0205", "METRIC": "X1.0Y20.5",
		"INCH,LZ": "X000394Y008071"} {
		facts := func(p string) string {
			r, _ := look(t, of("a.drl", []byte("M48\n"+head+"\nT1C1\n%\nT1\nX0Y0\n"+p+"\nM30\n")))
			return fact(r.Facts, "extent")
		}
		var w, h float64
		if _, err := fmt.Sscanf(facts(place), "%f x %f mm", &w, &h); err != nil {
			t.Errorf("%s: %v", head, err)
			continue
		}
		wide := 1.0 // the hole's own width
		if strings.HasPrefix(head, "INCH") {
			wide = 25.4
		}
		if math.Abs(w-wide-1) > 0.02 || math.Abs(h-wide-20.5) > 0.02 {
			t.Errorf("%s: %s is at %g, %g", head, place, w-wide, h-wide)
		}
	}
}

func TestDrillFiles(t *testing.T) {
	text := "M48\nMETRIC,TZ\nT1C0.800\nT2C3.2\n%\nG90\nT1\nX10.0Y5.0\nX20.0Y5.0\nT2\nX3.0Y3.0\nX10.0Y20.0G85X15.0Y20.0\nM30\n"
	facts(t, of("a.drl", []byte(text)), "holes=4", "tools=2", "holes of 0.8 mm=2", "holes of 3.2 mm=2")
	c, _ := compared(t, of("a.drl", []byte(text)), of("b.drl", []byte(strings.Replace(text, "X20.0Y5.0\n", "", 1))))
	if fact(c.Measures, "lines gone") != "1" {
		t.Errorf("%+v", c.Measures)
	}
}

func TestDamagedCircuitsSayWhy(t *testing.T) {
	for name, text := range map[string]string{"cut.kicad_sch": "(kicad_sch (version 1)", "text.kicad_sch": "hello",
		"deep.kicad_pcb": strings.Repeat("(a ", 5000), "other.kicad_pcb": "(module a)", "end.kicad_pcb": "(kicad_pcb))", "no.gbr": "hello",
		"bad.gbr": "%FSLAX46Y46*%\nX1.2.3D01*", "size.gbr": "%FSLAX46Y46*%\n%ADD10C,1e99*%", "no.drl": "hello", "tool.drl": "M48\nT1Cx\n",
		"place.drl": "M48\nT1C1\nXY\n"} {
		if r, _ := look(t, of(name, []byte(text))); r.Trouble == "" {
			t.Errorf("%s: %+v", name, r)
		}
	}
}

func FuzzCircuits(f *testing.F) {
	f.Add(uint8(0), sheetOf("10k", "MID", true))
	f.Add(uint8(1), boardOf(20, "0.2"))
	f.Add(uint8(2), []byte(layer))
	f.Add(uint8(2), []byte("%FSLAX46Y46*%\n%MOMM*%\n%AMTH*"+
		"$3=($1-$2)/2x1.0*7,0,0,$1,$2,$3,30*21,1,$2x0.5,0.4,0,0,45*5,1,6,0,0,1,0*%\n%ADD15TH,4X2.4*%\nD15*\nX15000000Y5000000D03*\nM02*\n"))
	f.Add(uint8(3), []byte("M48\nMETRIC\nT1C0.8\n%\nT1\nX1000Y2000\n"))
	names := []string{"a.kicad_sch", "a.kicad_pcb", "a.gbr", "a.drl"}
	f.Fuzz(func(t *testing.T, kind uint8, data []byte) {
		s := of(names[int(kind)%len(names)], data)
		if r, _ := look(t, s); r.Trouble == "" {
			if c, _ := compared(t, s, s); !c.Same {
				t.Errorf("it is not the same as itself: %s %v", changes(c), c.Measures)
			}
		}
	})
}
