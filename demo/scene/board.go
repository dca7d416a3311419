package scene

import (
	"bytes"
	"fmt"
	"math"
	"strings"
)

// part is one part of the controller: what it is called, what it is, where it lies on the board, and what its pins are connected to.
type part struct {
	ref, value, package_ string
	x, y                 float64
	nets                 []string
}

// parts are those of revision A. Pass 1 changes three values. Pass 2 goes back to those of A, protects the cable's data lines with another
// part, drops a resistor that nobody needs, and moves the lamp to another pin and place.
func parts(pass int) []part {
	gnd, vcc, bus := "GND", "+3V3", "VBUS"
	list := []part{
		{"U1", "MCU-32", "QFN-32", 46, 27, []string{vcc, "CRANK_A", "CRANK_B", "DIAL", "SWITCH", "LAMP", "", gnd, "USB_P", "USB_N", "", "",
			"RESET", "", "", gnd, vcc, "", "", "", "", "", "", gnd, "", "", "", "", "", "", "", vcc}},
		{"U2", "LDO-3V3", "SOT-23-5", 22, 13, []string{bus, gnd, bus, "", vcc}},
		{"J1", "USB-C", "USB-C-8", 46, 5, []string{gnd, bus, "CC1", "USB_P", "USB_N", "CC2", bus, gnd}},
		{"SW1", "Brass switch", "TH-3", 12, 44, []string{vcc, "SWITCH", gnd}},
		{"RV1", "Dial 10k", "TH-3", 74, 44, []string{vcc, "DIAL", gnd}},
		{"ENC1", "Crank encoder", "TH-5", 43, 47, []string{"CRANK_A", gnd, "CRANK_B", vcc, gnd}},
		{"C1", "10u", "0603", 15, 13, []string{bus, gnd}},
		{"C2", "100n", "0402", 37, 22, []string{vcc, gnd}},
		{"C3", "100n", "0402", 55, 22, []string{vcc, gnd}},
		{"R1", "5k1", "0402", 36, 8, []string{"CC1", gnd}},
		{"R2", "5k1", "0402", 56, 8, []string{"CC2", gnd}},
		{"R3", "330R", "0402", 66, 18, []string{"LAMP", "LAMP_K"}},
		{"D1", "LED amber", "0603", 72, 18, []string{"LAMP_K", gnd}},
		{"R4", "10k", "0402", 34, 34, []string{"RESET", vcc}},
	}
	switch {
	case pass == 1:
		list[1].value, list[6].value, list[11].value = "LDO-3V0", "22u", "470R"
	case pass > 1:
		list[11].x, list[12].x, list[11].y, list[12].y = 66, 74, 24, 24
		list[0].nets = append([]string{}, list[0].nets...)
		list[0].nets[5], list[0].nets[20] = "", "LAMP"
		list[13] = part{"D2", "ESD array", "SOT-23-5", 62, 11, []string{"USB_P", gnd, "USB_N", bus, ""}}
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

// number is that of a part, the same in all passes.
func (p part) number() int {
	n := 0
	for _, c := range p.ref {
		n = n*37 + int(c)
	}
	return n
}

// lead is where a pin of a symbol is, from its middle, with y upwards; out is -1 where it points to the left.
func (p part) lead(pin int) (x, y, out float64) {
	if len(p.nets) == 2 {
		return -5.08 + 10.16*float64(pin), 0, -1 + 2*float64(pin)
	}
	half := (len(p.nets) + 1) / 2
	if pin < half {
		return -10.16, 2.54 * (float64(half-1)/2 - float64(pin)), -1
	}
	return 10.16, 2.54 * (float64(pin-half) - float64(half-1)/2), 1
}

// body is what is drawn of a symbol.
func (p part) body() string {
	half := float64((len(p.nets)+1)/2)*1.27 + 1.27
	switch {
	case p.ref[0] == 'R' && len(p.nets) == 2:
		return "(rectangle (start -2.54 1.02) (end 2.54 -1.02))"
	case p.ref[0] == 'C':
		return "(polyline (pts (xy -0.6 2) (xy -0.6 -2))) (polyline (pts (xy 0.6 2) (xy 0.6 -2))) (polyline (pts (xy -2.54 0) (xy -0.6 0))) " +
			"(polyline (pts (xy 0.6 0) (xy 2.54 0)))"
	case p.ref[0] == 'D' && len(p.nets) == 2:
		return "(polyline (pts (xy -2.54 0) (xy -1.5 0) (xy -1.5 1.6) (xy 1.3 0) (xy -1.5 -1.6) (xy -1.5 0))) (polyline (pts (xy 1.3 1.6) (xy " +
			"1.3 -1.6))) (polyline (pts (xy 1.3 0) (xy 2.54 0)))"
	}
	return fmt.Sprintf("(rectangle (start -7.62 %.2f) (end 7.62 %.2f))", half, -half)
}

// Schematic is in the S-expression format of the free EDA suite in Debian.
func Schematic(pass int) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "(kicad_sch (version 20211123) (generator eeschema)\n  (uuid %s)\n  (paper \"A4\")\n", uuid("sheet", 0))
	fmt.Fprintf(&b, "  (title_block (title \"tidepad\") (rev \"%c\") (company \"Gull & Saltpan\"))\n  (lib_symbols\n", 'A'+rune(min(pass, 1)))
	for _, p := range parts(pass) {
		fmt.Fprintf(&b, "    (symbol \"tidepad:%s\" (in_bom yes) (on_board yes)\n      (property \"Reference\" \"%s\" (id 0) (at 0 2.54 0))\n  "+
			"    (property \"Value\" \"%s\" (id 1) (at 0 -2.54 0))\n      (symbol \"%s_0_1\" %s)\n      (symbol \"%s_1_1\"\n", p.ref, p.ref, p.value,
			p.ref, p.body(), p.ref)
		for pin := range p.nets {
			x, y, out := p.lead(pin)
			turn := 0
			if out > 0 {
				turn = 180
			}
			fmt.Fprintf(&b, "        (pin passive line (at %.2f %.2f %d) (length 2.54) (name \"P%d\") (number \"%d\"))\n", x, y, turn, pin+1, pin+1)
		}
		b.WriteString("      )\n    )\n")
	}
	b.WriteString("  )\n")
	places := map[string][2]float64{"U1": {127, 88.9}, "U2": {58.42, 40.64}, "J1": {209.55, 45.72}, "SW1": {58.42, 132.08},
		"RV1": {203.2, 132.08}, "ENC1": {127, 144.78},
		"C1": {38.1, 60.96}, "C2": {106.68, 40.64}, "C3": {106.68, 53.34}, "R1": {160.02, 33.02}, "R2": {160.02, 45.72}, "R3": {193.04, 88.9},
		"D1": {241.3, 88.9}, "R4": {58.42, 88.9}, "D2": {209.55, 66.04}}
	for _, p := range parts(pass) {
		at := places[p.ref]
		n := p.number()
		fmt.Fprintf(&b, "  (symbol (lib_id \"tidepad:%s\") (at %.2f %.2f 0) (unit 1)\n    (uuid %s)\n    (property \"Reference\" \"%s\" (id 0) "+
			"(at %.2f %.2f 0))\n    (property \"Value\" \"%s\" (id 1) (at %.2f %.2f 0))\n    (property \"Footprint\" \"tidepad:%s\" (id 2) (at "+
			"%.2f %.2f 0))\n  )\n",
			p.ref, at[0], at[1], uuid("part", n), p.ref, at[0], at[1]-7.62, p.value, at[0], at[1]+7.62, p.package_, at[0], at[1])
		for pin, net := range p.nets {
			if net == "" {
				continue
			}
			x, y, out := p.lead(pin)
			x0, y0 := at[0]+x, at[1]-y
			x1 := x0 + out*5.08
			fmt.Fprintf(&b, "  (wire (pts (xy %.2f %.2f) (xy %.2f %.2f)) (uuid %s))\n", x0, y0, x1, y0, uuid("wire", n*64+pin))
			fmt.Fprintf(&b, "  (label \"%s\" (at %.2f %.2f %d) (uuid %s))\n", net, x1, y0, 90-90*int(out), uuid("label", n*64+pin))
		}
	}
	b.WriteString(")\n")
	return []byte(b.String())
}

// pad is one of a footprint: where it lies on the board, and how large it is; round ones go through it.
type pad struct {
	x, y, w, h float64
	through    bool
	net        string
}

func (p part) pads() (list []pad) {
	add := func(pin int, x, y, w, h float64, through bool) {
		list = append(list, pad{p.x + x, p.y + y, w, h, through, p.nets[pin]})
	}
	n := len(p.nets)
	for pin := range p.nets {
		i := float64(pin)
		switch {
		case strings.HasPrefix(p.package_, "TH-"):
			add(pin, (i-float64(n-1)/2)*2.54*1.5, 0, 1.8, 1.8, true)
		case strings.HasPrefix(p.package_, "USB"):
			add(pin, (i-3.5)*1.1, 0, 0.6, 1.6, false)
		case strings.HasPrefix(p.package_, "QFN"):
			along := float64(pin%8)*0.8 - 2.8
			switch pin / 8 {
			case 0:
				add(pin, -3.9, along, 1, 0.42, false)
			case 1:
				add(pin, along, 3.9, 0.42, 1, false)
			case 2:
				add(pin, 3.9, -along, 1, 0.42, false)
			default:
				add(pin, -along, -3.9, 0.42, 1, false)
			}
		case n == 5:
			if pin < 3 {
				add(pin, -1.3, (i-1)*0.95, 1, 0.6, false)
			} else {
				add(pin, 1.3, (3.5-i)*1.9, 1, 0.6, false)
			}
		default:
			add(pin, (i*2-1)*0.9, 0, 0.9, 1, false)
		}
	}
	return list
}

// track is a piece of copper from one place to another, on the top or at the bottom; via says that a hole is at its end.
type track struct {
	x0, y0, x1, y1 float64
	bottom, via    bool
	net            string
}

// tracks connect the pads of each net one after the other: across on the top, up and down at the bottom. Ground is a plane and has none.
func tracks(pass int) (list []track) {
	byNet := map[string][]pad{}
	var names []string
	for _, p := range parts(pass) {
		for _, q := range p.pads() {
			if q.net == "" || q.net == "GND" {
				continue
			}
			if byNet[q.net] == nil {
				names = append(names, q.net)
			}
			byNet[q.net] = append(byNet[q.net], q)
		}
	}
	for _, name := range names {
		pads := byNet[name]
		for i := 1; i < len(pads); i++ {
			a, z := pads[i-1], pads[i]
			list = append(list, track{a.x, a.y, z.x, a.y, false, true, name}, track{z.x, a.y, z.x, z.y, true, true, name})
		}
	}
	return list
}

// outline is the edge of the board, with corners cut.
var outline = [][2]float64{{3, 0}, {85, 0}, {88, 3}, {88, 51}, {85, 54}, {3, 54}, {0, 51}, {0, 3}, {3, 0}}

// mounting is how wide the holes for the screws are, in mm.
func mounting(pass int) float64 { return 3.2 - 0.5*float64(pass/2) }

// Board is the layout that belongs to the schematic.
func Board(pass int) []byte {
	var b strings.Builder
	b.WriteString("(kicad_pcb (version 20211014) (generator pcbnew)\n  (general (thickness 1.6))\n  (paper \"A4\")\n  (layers (0 \"F.Cu\" " +
		"signal) (31 \"B.Cu\" signal) (37 \"F.SilkS\" user) (44 \"Edge.Cuts\" user))\n  (net 0 \"\")\n")
	nets := map[string]int{}
	for _, p := range parts(pass) {
		for _, net := range p.nets {
			if net != "" && nets[net] == 0 {
				nets[net] = len(nets) + 1
				fmt.Fprintf(&b, "  (net %d \"%s\")\n", nets[net], net)
			}
		}
	}
	for _, p := range parts(pass) {
		fmt.Fprintf(&b, "  (footprint \"tidepad:%s\" (layer \"F.Cu\") (tstamp %s) (at %.2f %.2f)\n    (fp_text reference \"%s\" (at 0 -2) "+
			"(layer \"F.SilkS\"))\n    (fp_text value \"%s\" (at 0 2) (layer \"F.SilkS\"))\n", p.package_, uuid("part", p.number()), p.x, p.y, p.ref,
			p.value)
		w, h := p.extent()
		fmt.Fprintf(&b, "    (fp_rect (start %.2f %.2f) (end %.2f %.2f) (layer \"F.SilkS\") (width 0.12))\n", -w, -h, w, h)
		for pin, q := range p.pads() {
			kind, layers := "smd rect", `"F.Cu"`
			if q.through {
				kind, layers = "thru_hole circle", `"*.Cu"`
			}
			net := ""
			if q.net != "" {
				net = fmt.Sprintf(" (net %d \"%s\")", nets[q.net], q.net)
			}
			fmt.Fprintf(&b, "    (pad \"%d\" %s (at %.2f %.2f) (size %.2f %.2f) (layers %s)%s)\n", pin+1, kind, q.x-p.x, q.y-p.y, q.w, q.h, layers,
				net)
		}
		b.WriteString("  )\n")
	}
	for i, t := range tracks(pass) {
		layer := "F.Cu"
		if t.bottom {
			layer = "B.Cu"
		}
		fmt.Fprintf(&b, "  (segment (start %.2f %.2f) (end %.2f %.2f) (width 0.25) (layer \"%s\") (net %d) (tstamp %s))\n", t.x0, t.y0, t.x1,
			t.y1, layer, nets[t.net], uuid("track", i))
		if t.via {
			fmt.Fprintf(&b, "  (via (at %.2f %.2f) (size 0.7) (drill 0.3) (layers \"F.Cu\" \"B.Cu\") (net %d))\n", t.x1, t.y1, nets[t.net])
		}
	}
	for i := range len(outline) - 1 {
		fmt.Fprintf(&b, "  (gr_line (start %.2f %.2f) (end %.2f %.2f) (layer \"Edge.Cuts\") (width 0.1) (tstamp %s))\n", outline[i][0],
			outline[i][1], outline[i+1][0], outline[i+1][1], uuid("edge", i))
	}
	b.WriteString(")\n")
	return []byte(b.String())
}

// extent is how far a part reaches from its middle.
func (p part) extent() (w, h float64) {
	for _, q := range p.pads() {
		w, h = max(w, q.x-p.x+q.w/2, p.x-q.x+q.w/2), max(h, q.y-p.y+q.h/2, p.y-q.y+q.h/2)
	}
	return w + 0.4, h + 0.4
}

// Gerber is one fabrication layer (RS-274X). Its y grows upwards.
func Gerber(layer string, pass int) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "G04 tidepad %s revision "+
		"%c*\n%%FSLAX46Y46*%%\n%%MOMM*%%\n%%LPD*%%\n%%ADD10C,0.250000*%%\n%%ADD11C,0.120000*%%\n%%ADD12C,0.700000*%%\n", layer,
		'A'+rune(min(pass, 1)))
	next, known := 13, map[string]int{}
	var body strings.Builder
	at := func(x, y float64) string {
		return fmt.Sprintf("X%dY%d", int(math.Round(x*1e6)), int(math.Round((54-y)*1e6)))
	}
	flash := func(q pad, grow float64) {
		shape := fmt.Sprintf("R,%.6fX%.6f", q.w+grow, q.h+grow)
		if q.through {
			shape = fmt.Sprintf("C,%.6f", q.w+grow)
		}
		if known[shape] == 0 {
			known[shape] = next
			fmt.Fprintf(&b, "%%ADD%d%s*%%\n", next, shape)
			next++
		}
		fmt.Fprintf(&body, "D%d*\n%sD03*\n", known[shape], at(q.x, q.y))
	}
	line := func(points ...[2]float64) {
		for i, p := range points {
			fmt.Fprintf(&body, "%sD0%d*\n", at(p[0], p[1]), 2-min(i, 1))
		}
	}
	switch layer {
	case "edge":
		body.WriteString("D11*\n")
		line(outline...)
	case "silk-top":
		body.WriteString("D11*\n")
		for _, p := range parts(pass) {
			w, h := p.extent()
			line([2]float64{p.x - w, p.y - h}, [2]float64{p.x + w, p.y - h}, [2]float64{p.x + w, p.y + h}, [2]float64{p.x - w, p.y + h},
				[2]float64{p.x - w, p.y - h})
		}
	default:
		bottom, grow := strings.Contains(layer, "bottom"), 0.0
		if strings.HasPrefix(layer, "mask") {
			grow = 0.1
		}
		for _, p := range parts(pass) {
			for _, q := range p.pads() {
				if q.through || !bottom {
					flash(q, grow)
				}
			}
		}
		if grow > 0 {
			break
		}
		body.WriteString("D12*\n")
		for _, t := range tracks(pass) {
			if t.via {
				fmt.Fprintf(&body, "%sD03*\n", at(t.x1, t.y1))
			}
		}
		body.WriteString("D10*\n")
		for _, t := range tracks(pass) {
			if t.bottom == bottom {
				line([2]float64{t.x0, t.y0}, [2]float64{t.x1, t.y1})
			}
		}
	}
	return []byte(b.String() + "G01*\n" + body.String() + "M02*\n")
}

// Drill is the drill file.
func Drill(pass int) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "M48\nMETRIC,TZ\nT1C0.300\nT2C0.900\nT3C%.3f\n%%\nT1\n", mounting(pass))
	for _, t := range tracks(pass) {
		if t.via {
			fmt.Fprintf(&b, "X%.3fY%.3f\n", t.x1, 54-t.y1)
		}
	}
	b.WriteString("T2\n")
	for _, p := range parts(pass) {
		for _, q := range p.pads() {
			if q.through {
				fmt.Fprintf(&b, "X%.3fY%.3f\n", q.x, 54-q.y)
			}
		}
	}
	b.WriteString("T3\nX4.000Y4.000\nX84.000Y4.000\nX84.000Y50.000\nX4.000Y50.000\nM30\n")
	return []byte(b.String())
}

// PartsList is the list of parts as CSV.
func PartsList(pass int) []byte {
	var b strings.Builder
	b.WriteString("reference,value,package,pins\n")
	for _, p := range parts(pass) {
		fmt.Fprintf(&b, "%s,%s,%s,%d\n", p.ref, p.value, p.package_, len(p.nets))
	}
	return []byte(b.String())
}

// Step is the enclosure's outside as a box (ISO 10303-21): points, edges and faces.
func Step(pass int) []byte {
	var b strings.Builder
	b.WriteString("ISO-10303-21;\nHEADER;\nFILE_DESCRIPTION(('tidepad enclosure'),'2;1');\nFILE_NAME('enclosure.step','',('bastien'),('Gull " +
		"& Saltpan'),'','','');\nFILE_SCHEMA(('AUTOMOTIVE_DESIGN'));\nENDSEC;\nDATA;\n")
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

// DataSheet is a PDF of two pages: what it is, and a drawing with its sizes.
func DataSheet(pass int) []byte {
	high := 36 + 4*pass
	first := fmt.Sprintf("BT /F1 24 Tf 60 770 Td (tidepad) Tj /F1 13 Tf 0 -22 Td (Data sheet, revision %c) Tj /F1 11 Tf 0 -40 Td (A "+
		"controller with a crank, a dial and a brass switch.) Tj", 'A'+rune(min(pass, 1)))
	for _, row := range [][2]string{{"Supply", "5 V by USB-C, 60 mA"}, {"Logic", "3.3 V"}, {"Crank", "24 steps a turn, two phases"},
		{"Dial", "10 kOhm, 280 degrees"}, {"Switch", "brass, 10 A, 50,000 cycles"},
		{"Lamp", []string{"amber, 330 Ohm", "amber, 470 Ohm", "amber, 330 Ohm"}[min(pass, 2)]}, {"Box", fmt.Sprintf("92 x 58 x %d mm", high)}} {
		first += fmt.Sprintf(" 0 -24 Td (%s) Tj 120 0 Td (%s) Tj -120 0 Td", row[0], row[1])
	}
	first += " 0 -40 Td (Gull & Saltpan) Tj ET 0.6 w"
	for i := range 8 {
		first += fmt.Sprintf(" 60 %d m 520 %d l S", 700-24*i, 700-24*i)
	}
	h := 5 * float64(high)
	second := fmt.Sprintf("1.2 w 70 420 460 %.1f re S 0.5 w 70 400 m 530 400 l S 560 420 m 560 %.1f l S BT /F1 11 Tf 285 386 Td (92 mm) Tj "+
		"280 %.1f Td (%d mm) Tj ET ", h, 420+h, 34+h/2, high) +
		fmt.Sprintf("0.75 0.45 0.2 RG 2 w 130 %.1f m 130 %.1f l S 110 %.1f 40 12 re S 0.2 0.35 0.45 RG 440 %.1f 50 26 re S 280 %.1f 40 8 re S "+
			"BT /F1 14 Tf 70 760 Td (Seen from the front) Tj ET", 420+h, 460+h, 460+h, 420+h, 420+h)
	objects := []string{
		"<< /Type /Catalog /Pages 2 0 R >>", "<< /Type /Pages /Kids [3 0 R 4 0 R] /Count 2 >>",
		"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 5 0 R /Resources << /Font << /F1 7 0 R >> >> >>",
		"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 6 0 R /Resources << /Font << /F1 7 0 R >> >> >>",
		fmt.Sprintf("<< /Length %d >>\nstream\n%s\nendstream", len(first), first),
		fmt.Sprintf("<< /Length %d >>\nstream\n%s\nendstream", len(second), second),
		"<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>",
		fmt.Sprintf("<< /Title (tidepad data sheet, revision %c) >>", 'A'+rune(min(pass, 1))),
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
	fmt.Fprintf(&b, "trailer << /Size %d /Root 1 0 R /Info 8 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(objects)+1, start)
	return b.Bytes()
}
