package scene

import (
	"bytes"
	"fmt"
	"strings"
)

// part is one part of the controller.
type part struct {
	ref, value, package_ string
	x, y                 float64
	pins                 int
}

// parts are those of revision A; pass 1 changes three of them.
func parts(pass int) []part {
	list := []part{
		{"U1", "MCU-48", "QFN-48", 46, 30, 48}, {"U2", "LDO-3V3", "SOT-23-5", 20, 14, 5}, {"J1", "USB-C", "USB-C-16", 46, 3, 16},
		{"SW1", "Brass switch", "TH-TOGGLE", 12, 44, 3}, {"RV1", "Dial 10k", "TH-POT", 72, 44, 3}, {"ENC1", "Crank encoder", "TH-ENC", 42, 48, 5},
		{"C1", "10u", "0603", 24, 14, 2}, {"C2", "100n", "0402", 40, 24, 2}, {"C3", "100n", "0402", 52, 24, 2},
		{"R1", "5k1", "0402", 38, 8, 2}, {"R2", "5k1", "0402", 54, 8, 2}, {"R3", "330R", "0402", 66, 20, 2}, {"D1", "LED amber", "0603", 70, 20, 2},
	}
	if pass > 0 {
		list[1].value, list[6].value, list[11].value = "LDO-3V0", "22u", "470R"
	}
	return list
}

// uuid is a made-up identifier that stays the same.
func uuid(kind string, n int) string {
	h := uint32(2166136261)
	for _, c := range kind {
		h = (h ^ uint32(c)) * 16777619
	}
	return fmt.Sprintf("%08x-7e1d-4a20-9b3c-%012x", h+uint32(n)*2654435761, uint64(n)*0x9e3779b97f4a&0xffffffffffff)
}

// Schematic is in the S-expression format of the free EDA suite in Debian.
func Schematic(pass int) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "(kicad_sch (version 20211123) (generator eeschema)\n  (uuid %s)\n  (paper \"A4\")\n", uuid("sheet", 0))
	fmt.Fprintf(&b, "  (title_block (title \"tidepad\") (rev \"%c\") (company \"Gull & Saltpan\"))\n  (lib_symbols\n", 'A'+rune(pass))
	for _, p := range parts(pass) {
		fmt.Fprintf(&b, "    (symbol \"tidepad:%s\" (in_bom yes) (on_board yes)\n      (property \"Reference\" \"%s\" (id 0) (at 0 2.54 0))\n      (property \"Value\" \"%s\" (id 1) (at 0 -2.54 0))\n      (symbol \"%s_0_1\" (rectangle (start -5.08 5.08) (end 5.08 -5.08)))\n      (symbol \"%s_1_1\"\n", p.ref, p.ref, p.value, p.ref, p.ref)
		for pin := range p.pins {
			fmt.Fprintf(&b, "        (pin passive line (at %.2f %.2f 0) (length 2.54) (name \"P%d\") (number \"%d\"))\n", -7.62+15.24*float64(pin%2), 5.08-2.54*float64(pin/2), pin+1, pin+1)
		}
		b.WriteString("      )\n    )\n")
	}
	b.WriteString("  )\n")
	for i, p := range parts(pass) {
		x, y := 40+float64(i%4)*50.8, 40+float64(i/4)*38.1
		fmt.Fprintf(&b, "  (symbol (lib_id \"tidepad:%s\") (at %.2f %.2f 0) (unit 1)\n    (uuid %s)\n    (property \"Reference\" \"%s\" (id 0) (at %.2f %.2f 0))\n    (property \"Value\" \"%s\" (id 1) (at %.2f %.2f 0))\n    (property \"Footprint\" \"tidepad:%s\" (id 2) (at %.2f %.2f 0))\n  )\n",
			p.ref, x, y, uuid("part", i), p.ref, x, y-7.62, p.value, x, y+7.62, p.package_, x, y)
		if i > 0 {
			fmt.Fprintf(&b, "  (wire (pts (xy %.2f %.2f) (xy %.2f %.2f)) (uuid %s))\n", x-7.62, y, x-15.24, y, uuid("wire", i))
			fmt.Fprintf(&b, "  (label \"NET%02d\" (at %.2f %.2f 0) (uuid %s))\n", i%6+1, x-15.24, y, uuid("label", i))
		}
	}
	b.WriteString(")\n")
	return []byte(b.String())
}

// Board is the layout that belongs to the schematic.
func Board(pass int) []byte {
	var b strings.Builder
	b.WriteString("(kicad_pcb (version 20211014) (generator pcbnew)\n  (general (thickness 1.6))\n  (paper \"A4\")\n  (layers (0 \"F.Cu\" signal) (31 \"B.Cu\" signal) (37 \"F.SilkS\" user) (44 \"Edge.Cuts\" user))\n  (net 0 \"\")\n")
	for n := 1; n <= 6; n++ {
		fmt.Fprintf(&b, "  (net %d \"NET%02d\")\n", n, n)
	}
	for i, p := range parts(pass) {
		fmt.Fprintf(&b, "  (footprint \"tidepad:%s\" (layer \"F.Cu\") (tstamp %s) (at %.2f %.2f)\n    (fp_text reference \"%s\" (at 0 -2) (layer \"F.SilkS\"))\n    (fp_text value \"%s\" (at 0 2) (layer \"F.SilkS\"))\n", p.package_, uuid("part", i), p.x, p.y, p.ref, p.value)
		for pin := range p.pins {
			fmt.Fprintf(&b, "    (pad \"%d\" smd rect (at %.2f %.2f) (size 0.5 0.3) (layers \"F.Cu\") (net %d \"NET%02d\"))\n", pin+1, float64(pin%2)*2-1, float64(pin/2)*0.5-float64(p.pins)*0.125, (i+pin)%6+1, (i+pin)%6+1)
		}
		b.WriteString("  )\n")
	}
	for i, p := range parts(pass) {
		fmt.Fprintf(&b, "  (segment (start %.2f %.2f) (end %.2f %.2f) (width 0.2) (layer \"F.Cu\") (net %d) (tstamp %s))\n", p.x, p.y, 46.0, 30.0, i%6+1, uuid("track", i))
	}
	corners := [][2]float64{{0, 0}, {88, 0}, {88, 54}, {0, 54}, {0, 0}}
	for i := range 4 {
		fmt.Fprintf(&b, "  (gr_line (start %.2f %.2f) (end %.2f %.2f) (layer \"Edge.Cuts\") (width 0.1) (tstamp %s))\n", corners[i][0], corners[i][1], corners[i+1][0], corners[i+1][1], uuid("edge", i))
	}
	b.WriteString(")\n")
	return []byte(b.String())
}

// Gerber is one fabrication layer (RS-274X).
func Gerber(layer string, pass int) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "G04 tidepad %s revision %c*\n%%FSLAX46Y46*%%\n%%MOMM*%%\n%%ADD10C,0.200000*%%\n%%ADD11R,0.500000X0.300000*%%\nG01*\nD10*\n", layer, 'A'+rune(pass))
	at := func(v float64) int { return int(v * 1e6) }
	switch layer {
	case "edge":
		for i, c := range [][2]float64{{0, 0}, {88, 0}, {88, 54}, {0, 54}, {0, 0}} {
			draw := 1 // with the pen down
			if i == 0 {
				draw = 2
			}
			fmt.Fprintf(&b, "X%dY%dD0%d*\n", at(c[0]), at(c[1]), draw)
		}
	default:
		for _, p := range parts(pass) {
			fmt.Fprintf(&b, "X%dY%dD02*\nX%dY%dD01*\n", at(p.x), at(p.y), at(46), at(30))
		}
		b.WriteString("D11*\n")
		for _, p := range parts(pass) {
			for pin := range p.pins {
				fmt.Fprintf(&b, "X%dY%dD03*\n", at(p.x+float64(pin%2)*2-1), at(p.y+float64(pin/2)*0.5))
			}
		}
	}
	b.WriteString("M02*\n")
	return []byte(b.String())
}

// Drill is the drill file.
func Drill(pass int) []byte {
	var b strings.Builder
	b.WriteString("M48\nMETRIC,TZ\nT1C0.900\nT2C3.200\n%\nT1\n")
	for _, p := range parts(pass) {
		if strings.HasPrefix(p.package_, "TH-") {
			for pin := range p.pins {
				fmt.Fprintf(&b, "X%.3fY%.3f\n", p.x+2.54*float64(pin), p.y)
			}
		}
	}
	b.WriteString("T2\nX4.000Y4.000\nX84.000Y4.000\nX84.000Y50.000\nX4.000Y50.000\nM30\n")
	return []byte(b.String())
}

// PartsList is the list of parts as CSV.
func PartsList(pass int) []byte {
	var b strings.Builder
	b.WriteString("reference,value,package,pins\n")
	for _, p := range parts(pass) {
		fmt.Fprintf(&b, "%s,%s,%s,%d\n", p.ref, p.value, p.package_, p.pins)
	}
	return []byte(b.String())
}

// Step is the enclosure's outside as a box (ISO 10303-21): points, edges and faces.
func Step(pass int) []byte {
	var b strings.Builder
	b.WriteString("ISO-10303-21;\nHEADER;\nFILE_DESCRIPTION(('tidepad enclosure'),'2;1');\nFILE_NAME('enclosure.step','',('bastien'),('Gull & Saltpan'),'','','');\nFILE_SCHEMA(('AUTOMOTIVE_DESIGN'));\nENDSEC;\nDATA;\n")
	id := 0
	put := func(format string, args ...any) int {
		id++
		fmt.Fprintf(&b, "#%d=%s;\n", id, fmt.Sprintf(format, args...))
		return id
	}
	size := [3]float64{92, 58, 36 + 4*float64(pass)}
	var vertex [8]int
	for i := range 8 {
		p := put("CARTESIAN_POINT('',(%.2f,%.2f,%.2f))", float64(i&1)*size[0], float64(i>>1&1)*size[1], float64(i>>2)*size[2])
		vertex[i] = put("VERTEX_POINT('',#%d)", p)
	}
	var faces []string
	for axis := range 3 {
		for side := range 2 {
			u, v := 1<<((axis+1)%3), 1<<((axis+2)%3)
			base := side << axis
			ring := []int{base, base | u, base | u | v, base | v}
			var points []string
			for _, c := range ring {
				points = append(points, fmt.Sprintf("#%d", vertex[c]-1))
			}
			loop := put("POLY_LOOP('',(%s))", strings.Join(points, ","))
			bound := put("FACE_OUTER_BOUND('',#%d,.T.)", loop)
			faces = append(faces, fmt.Sprintf("#%d", put("FACE('',(#%d))", bound)))
		}
	}
	shell := put("CLOSED_SHELL('',(%s))", strings.Join(faces, ","))
	put("FACETED_BREP('enclosure',#%d)", shell)
	b.WriteString("ENDSEC;\nEND-ISO-10303-21;\n")
	return []byte(b.String())
}

// DataSheet is a PDF of one page.
func DataSheet(pass int) []byte {
	text := fmt.Sprintf("BT /F1 22 Tf 60 760 Td (tidepad data sheet, revision %c) Tj /F1 12 Tf 0 -36 Td (Controller with a crank, a dial and a brass switch.) Tj 0 -18 Td (Supply 5 V by USB-C, 60 mA. Box 92 x 58 x %d mm.) Tj 0 -18 Td (Gull & Saltpan) Tj ET", 'A'+rune(pass), 36+4*pass)
	objects := []string{
		"<< /Type /Catalog /Pages 2 0 R >>", "<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
		"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R /Resources << /Font << /F1 5 0 R >> >> >>",
		fmt.Sprintf("<< /Length %d >>\nstream\n%s\nendstream", len(text), text), "<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>",
	}
	var b bytes.Buffer
	b.WriteString("%PDF-1.4\n")
	var at []int
	for i, o := range objects {
		at = append(at, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", i+1, o)
	}
	start := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(objects)+1)
	for _, o := range at {
		fmt.Fprintf(&b, "%010d 00000 n \n", o)
	}
	fmt.Fprintf(&b, "trailer << /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(objects)+1, start)
	return b.Bytes()
}
