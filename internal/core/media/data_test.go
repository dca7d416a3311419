package media

import (
	"fmt"
	"image/color"
	"strings"
	"testing"
)

func changes(c Comparison) string {
	var list []string
	for _, x := range c.Changes {
		text := fmt.Sprintf("%s %s: %s > %s", x.Change, x.Name, x.Before, x.After)
		if x.Distance > 0 {
			text += fmt.Sprintf(" (%g)", x.Distance)
		}
		list = append(list, text)
	}
	return strings.Join(list, "\n")
}

func TestLevelsTellWhatIsDifferent(t *testing.T) {
	before := `{"title":"Harbour","tide":3,"things":[{"id":"post-1","x":0,"y":0},{"id":"post-2","x":10,"y":0,"lit":false},{"id":"gull",` +
		`"position":[1,2,3]}]}`
	after := `{"title":"Harbour","tide":4,"things":[{"id":"post-2","x":13,"y":4,"lit":true},{"id":"gull","position":[1,2,3]},{"id":"bell",` +
		`"x":5,"y":5}]}`
	c, d := compared(t, of("harbour.json", []byte(before)), of("harbour.json", []byte(after)))
	got := changes(c)
	for _, line := range []string{"moved post-2: 10, 0 > 13, 4 (5)", "added bell:  > 5, 5", "removed post-1: 0, 0 > ",
		"changed the whole, tide: 3 > 4"} {
		if !strings.Contains(got, line) {
			t.Errorf("%q is not in\n%s", line, got)
		}
	}
	if d["plan.png"] == nil || fact(c.Measures, "objects moved") != "1" || len(c.Rows) == 0 {
		t.Errorf("%+v", c.Measures)
	}
	if !strings.Contains(got, "changed post-2, lit: false > true") || len(c.Changes) != 5 {
		t.Error(got)
	}
	c, _ = compared(t, of("a.json", []byte(before)), of("b.json", []byte(before)))
	if !c.Same {
		t.Error(changes(c))
	}
}

func TestMapsInXML(t *testing.T) {
	before := `<map width="10"><objectgroup name="lamps"><object id="1" name="lamp" x="0" y="0"/><object id="2" x="5" y="5"/></objectgroup>` +
		`<data>1,2,3</data></map>`
	after := strings.NewReplacer(`x="0" y="0"`, `x="3" y="4"`, `1,2,3`, `1,2,4`, `<object id="2" x="5" y="5"/>`, "").Replace(before)
	c, d := compared(t, of("a.tmx", []byte(before)), of("b.tmx", []byte(after)))
	got := changes(c)
	for _, line := range []string{"moved object lamp #1: 0, 0 > 3, 4 (5)", "removed map/objectgroup/object #2: 5, 5 > ",
		"changed map/data, text: 1,2,3 > 1,2,4"} {
		if !strings.Contains(got, line) {
			t.Errorf("%q is not in\n%s", line, got)
		}
	}
	if d["plan.png"] == nil {
		t.Error("no plan")
	}
}

// What came is filled, what went is a ring, and a line leads from where something was.
func TestThePlan(t *testing.T) {
	c, d := compared(t, of("a.csv", []byte("id,x,y\nstays,0,0\nfar,10,10\nmoves,0,10\nwent,10,0\n")),
		of("b.csv", []byte("id,x,y\nstays,0,0\nfar,10,10\nmoves,5,5\ncame,10,5\n")))
	m := decoded(t, d["plan.png"])
	edge := float64(m.Bounds().Dx())
	at := func(x, y float64) (int, int) {
		return int(24 + x/10*(edge-48)), int(24 + y/10*(edge-48))
	}
	for name, place := range map[string]struct {
		x, y float64
		want any
	}{"stays": {0, 0, color.NRGBA(plain)}, "came": {10, 5, color.NRGBA(came)}, "moved to": {5, 5, color.NRGBA(came)},
		"the middle of what went": {10, 0, nil}} {
		x, y := at(place.x, place.y)
		if p := m.NRGBAAt(x, y); place.want != nil && p != place.want || place.want == nil && (p == color.NRGBA(came) || p == color.NRGBA(went)) {
			t.Errorf("%s is %v", name, p)
		}
	}
	if x, y := at(2.5, 7.5); m.NRGBAAt(x, y).R < 150 {
		t.Errorf("the way is %v", m.NRGBAAt(x, y))
	}
	x, y := at(10, 0)
	if p := m.NRGBAAt(x-6, y); p != color.NRGBA(went) {
		t.Errorf("the ring of what went is %v", p)
	}
	if len(c.Changes) != 4 {
		t.Errorf("%+v", c.Changes)
	}
}

func TestTables(t *testing.T) {
	before, after := "part,value,count\nR1,10k,1\nR2,10k,1\nC1,100n,2\n", "part,value,count\nR1,12k,1\nC1,100n,2\nC2,1u,1\n"
	c, _ := compared(t, of("parts.csv", []byte(before)), of("parts.csv", []byte(after)))
	if got := changes(c); got != "changed R1, value: 10k > 12k\nadded C2:  > C2, 1u, 1\nremoved R2: R2, 10k, 1 > " {
		t.Error(got)
	}
	r, _ := look(t, of("parts.csv", []byte(before)))
	if r.Table == nil || r.Table.Rows != 3 || r.Table.Columns != 3 || r.Table.Cells[2][1] != "100n" || fact(r.Facts, "rows") != "3" {
		t.Errorf("%+v", r)
	}
	r, _ = look(t, of("a.csv", []byte("a;b\n1;2,5\n")))
	if r.Table.Columns != 2 || r.Table.Cells[0][1] != "2,5" {
		t.Errorf("%+v", r.Table)
	}
}

func TestTextsAndTheRest(t *testing.T) {
	c, _ := compared(t, of("a.txt", []byte("one\ntwo\nthree\n")), of("b.txt", []byte("one\ntwo and\nthree\nfour\n")))
	if fact(c.Measures, "lines changed") != "1" || fact(c.Measures, "lines added") != "1" || len(c.Rows) != 4 || c.Rows[1].Old != "two" {
		t.Errorf("%+v", c)
	}
	r, _ := look(t, of("a.blend", []byte{0, 1, 2, 255}))
	if r.Kind != Other || r.Trouble != "" || fact(r.Facts, "size") != "4 B" {
		t.Errorf("%+v", r)
	}
	if r, _ = look(t, of("notes.log", []byte("plain text all the same\n"))); r.Format != "text" {
		t.Errorf("%+v", r)
	}
	strip := StripOf([]Piece[string]{{"a", 10}, {"b", 20}, {"c", 5}}, []Piece[string]{{"a", 10}, {"x", 7}, {"y", 3}, {"c", 5}})
	if fmt.Sprint(strip.Parts) != "[{10 true} {10 false} {5 true}]" || strip.Changed != 10 || strip.Before != 35 || strip.After != 25 {
		t.Errorf("%+v", strip)
	}
}

func TestDamagedDataSaysWhy(t *testing.T) {
	deep := strings.Repeat(`{"a":`, 5000) + "1" + strings.Repeat("}", 5000)
	for name, data := range map[string]string{"cut.json": `{"a": [1, 2`, "more.json": `{} {}`, "deep.json": deep, "open.xml": "<map><a>",
		"wrong.tmx": "<a></b>", "deep.xml": strings.Repeat("<a>", 5000), "entity.xml": `<!DOCTYPE a [<!ENTITY b "bb">]><a>&b;</a>`} {
		if r, _ := look(t, of(name, []byte(data))); r.Trouble == "" {
			t.Errorf("%s: %+v", name, r)
		}
	}
	if r, _ := look(t, of("a.txt", []byte("a\x00b"))); r.Trouble == "" {
		t.Errorf("%+v", r)
	}
}

func FuzzData(f *testing.F) {
	f.Add(uint8(0), []byte(`{"things":[{"id":1,"x":2,"y":3,"z":4}],"a":{"position":{"x":1,"y":2}}}`))
	f.Add(uint8(1), []byte(`<map><object id="1" x="2" y="3">text</object></map>`))
	f.Add(uint8(2), []byte("id,x,z\na,1,2\nb,3,4\n"))
	f.Add(uint8(3), []byte("plain\ntext"))
	names := []string{"a.json", "a.xml", "a.csv", "a.txt", "a.tsv"}
	f.Fuzz(func(t *testing.T, kind uint8, data []byte) {
		s := of(names[int(kind)%len(names)], data)
		if r, _ := look(t, s); r.Trouble == "" {
			if c, _ := compared(t, s, s); !c.Same {
				t.Errorf("it is not the same as itself: %s", changes(c))
			}
		}
	})
}

// TestXMLOfOtherPrograms: text before, between and behind children at every level.
func TestXMLOfOtherPrograms(t *testing.T) {
	for name, content := range map[string]string{
		"a.xml": "<?xml version=\"1.0\"?>\n<level>\n  before\n  <lamp name=\"north\" x=\"1\" y=\"2\">some\n    <glass>clear<tint>red</tint> " +
			"after</glass>\n  more</lamp>\n  <buoy/>\n</level>\n",
		"a.tmx": "<map version=\"1.10\" width=\"2\" height=\"1\"><properties>\n<property name=\"mood\" value=\"cold\"/></properties>\n<layer " +
			"id=\"1\" name=\"ground\"><data encoding=\"csv\">\n1,2\n</data></layer>\n</map>",
		"b.xml": "<a>" + strings.Repeat("text<b>", 100) + strings.Repeat("</b>text", 100) + "</a>",
	} {
		r, _, err := Look(Subject{Name: name, Size: int64(len(content)), Content: strings.NewReader(content)})
		if err != nil || r.Trouble != "" {
			t.Errorf("%s: %q, %v", name, r.Trouble, err)
		}
	}
}
