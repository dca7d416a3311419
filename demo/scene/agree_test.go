package scene

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"sort"
	"strings"
	"testing"

	"kettletarn/internal/core/media"
)

func looked(t *testing.T, name string, data []byte) media.Report {
	t.Helper()
	r, _, err := media.Look(media.Subject{Name: name, Size: int64(len(data)), Content: bytes.NewReader(data)})
	if err != nil || r.Trouble != "" {
		t.Fatalf("%s: %v, %s", name, err, r.Trouble)
	}
	return r
}

func differences(t *testing.T, name string, before, after []byte) []media.Change {
	t.Helper()
	c, _, err := media.Compare(media.Subject{Name: name, Size: int64(len(before)), Content: bytes.NewReader(before)},
		media.Subject{Name: name, Size: int64(len(after)), Content: bytes.NewReader(after)})
	if err != nil || c.Before.Trouble+c.After.Trouble != "" {
		t.Fatalf("%s: %v, %s %s", name, err, c.Before.Trouble, c.After.Trouble)
	}
	return c.Changes
}

func said(list []media.Fact, name string) string {
	for _, f := range list {
		if f.Name == name {
			return f.Value
		}
	}
	return ""
}

// words are changes of one kind of thing, without where it lies.
func words(list []media.Change, what string) string {
	var out []string
	for _, c := range list {
		if c.What == what && c.Change != media.Moved {
			out = append(out, strings.TrimSpace(c.Change+" "+c.Name+" "+c.Before+">"+c.After))
		}
	}
	sort.Strings(out)
	return strings.Join(out, "\n")
}

// The schematic, the board, the parts list and what is made for the factory tell one story in every pass.
func TestTheControllerAgreesWithItself(t *testing.T) {
	for pass := range 3 {
		sheet, board := looked(t, "a.kicad_sch", Schematic(pass)), looked(t, "a.kicad_pcb", Board(pass))
		for _, name := range []string{"parts", "nets"} {
			if a, b := said(sheet.Facts, name), said(board.Facts, name); a != b || a == "" {
				t.Errorf("pass %d: the schematic has %s %s, the board %s", pass, a, name, b)
			}
		}
		rows, err := csv.NewReader(bytes.NewReader(PartsList(pass))).ReadAll()
		if err != nil || fmt.Sprint(len(rows)-1) != said(sheet.Facts, "parts") {
			t.Errorf("pass %d: %d parts are listed, %v", pass, len(rows)-1, err)
		}
		through, vias, surface := 0, 0, 0
		for _, p := range parts(pass) {
			for _, q := range p.pads() {
				if q.through {
					through++
				} else {
					surface++
				}
			}
		}
		for _, track := range tracks(pass) {
			if track.via {
				vias++
			}
		}
		drill := looked(t, "a.drl", Drill(pass))
		if got := said(drill.Facts, "holes"); got != fmt.Sprint(through+vias+4) {
			t.Errorf("pass %d: %s holes, and %d pins, %d vias and 4 screws", pass, got, through, vias)
		}
		if got, want := strings.Count(string(Gerber("copper-top", pass)), "D03*"), through+surface+vias; got != want {
			t.Errorf("pass %d: %d flashes on top, want %d", pass, got, want)
		}
		if got, want := strings.Count(string(Gerber("mask-bottom", pass)), "D03*"), through; got != want {
			t.Errorf("pass %d: %d openings at the bottom, want %d", pass, got, want)
		}
	}
}

// From pass to pass, parts and nets change in the schematic as they do on the board.
func TestRevisionsAgree(t *testing.T) {
	for _, passes := range [][2]int{{0, 1}, {0, 2}, {1, 2}} {
		sheet := differences(t, "a.kicad_sch", Schematic(passes[0]), Schematic(passes[1]))
		board := differences(t, "a.kicad_pcb", Board(passes[0]), Board(passes[1]))
		for _, what := range []string{"part", "net"} {
			if a, b := words(sheet, what), words(board, what); a != b {
				t.Errorf("from pass %d to %d: in the schematic\n%s\nand on the board\n%s", passes[0], passes[1], a, b)
			}
		}
	}
	if got := words(differences(t, "a.kicad_sch", Schematic(0), Schematic(1)), "part"); strings.Count(got, "\n") != 2 ||
		!strings.Contains(got, "LDO-3V0") {
		t.Errorf("the second pass changes\n%s", got)
	}
}

func TestLevelsAndPropsChangeVisibly(t *testing.T) {
	count := func(list []media.Change, how string) (n int) {
		for _, c := range list {
			if c.Change == how {
				n++
			}
		}
		return n
	}
	level := differences(t, "a.glb", Level("harbour", 0), Level("harbour", 1))
	if count(level, media.Came) != 2 || count(level, media.Went) != 1 || count(level, media.Moved) != 3 {
		t.Errorf("%+v", level)
	}
	things := differences(t, "a.json", Things(0), Things(1))
	if count(things, media.Came) != 2 || count(things, media.Went) != 1 || count(things, media.Moved) != 3 {
		t.Errorf("%+v", things)
	}
	for _, name := range []string{"lamp", "buoy", "rowing-boat", "lighthouse"} {
		if added := differences(t, name+".glb", Model(name, 0), Model(name, 1)); count(added, media.Came) != 1 {
			t.Errorf("%s: %+v", name, added)
		}
	}
	for _, name := range []string{"fog-horn", "oar-stroke", "hull-creak", "gull-call", "buoy-bell"} {
		if bytes.Equal(Sound(name, 0), Sound(name, 1)) {
			t.Errorf("%s sounds the same in two passes", name)
		}
	}
	sheet := looked(t, "a.pdf", DataSheet(1))
	if said(sheet.Facts, "pages") != "2" || said(sheet.Facts, "title") != "tidepad data sheet, revision B" {
		t.Errorf("%+v", sheet.Facts)
	}
}
