package media

import (
	"testing"

	"kettletarn/internal/core/spot"
)

func TestSpotsAreFollowedToOtherVersions(t *testing.T) {
	report := func(name string, data []byte) Report {
		t.Helper()
		r, _ := look(t, of(name, data))
		return r
	}
	square, half := report("a.png", asPNG(t, scene(64, 64))), report("b.png", asPNG(t, scene(32, 32)))
	wide := report("c.png", asPNG(t, scene(64, 32)))
	board, widened := report("a.kicad_pcb", boardOf(20, "0.2")), report("b.kicad_pcb", boardOf(60, "0.2"))
	sheet := report("a.kicad_sch", sheetOf("1u", "VCC", true))
	small, large := report("a.obj", []byte(cube(1, false))), report("b.obj", []byte(cube(3, false)))
	broken := square
	broken.Trouble = "it ends too early"
	document := func(pages int) Report { return Report{Kind: Document, Pages: pages, Width: 2, Height: 3} }
	for _, x := range []struct {
		at, to  string
		was, is Report
	}{
		{"30%,45%", "30%,45%", square, half},
		{"30%,45%", "", square, wide},
		{"30%,45%", "", square, board},
		{"30%,45%", "", square, broken},
		{"page 2 30%,45%", "page 2 30%,45%", document(2), document(3)},
		{"page 3 30%,45%", "", document(3), document(2)},
		{"30%,45%", "30%,45%", document(3), document(2)},
		{"0:01.5", "0:01.5", Report{Kind: Sound, Seconds: 2}, Report{Kind: Sound, Seconds: 1.6}},
		{"0:01.5", "", Report{Kind: Sound, Seconds: 2}, Report{Kind: Sound, Seconds: 1.4}},
		{"1,0,0.5", "1,0,0.5", small, large},
		{"2.5,0,0", "", large, small},
		{"part C1", "part C1", board, widened},
		{"part C2", "", board, widened},
		{"net GND", "net GND", board, widened},
		{"net NONE", "", board, widened},
		{"part C1", "", board, sheet},
		{"line 3", "", square, half},
	} {
		at, err := spot.Parse(x.at)
		if err != nil {
			t.Fatal(err)
		}
		to, ok := Follow(at, x.was, x.is)
		if got := to.String(); ok != (x.to != "") || ok && got != x.to {
			t.Errorf("%s from %s to %s is %s, %v; want %q", x.at, x.was.Kind, x.is.Kind, got, ok, x.to)
		}
	}
}

// A drawing that has grown shows the same place of the sheet elsewhere on the picture; what a part lies between is on the picture, too.
func TestPlacesOnDrawingsAreThoseOfTheSheet(t *testing.T) {
	was, _ := look(t, of("a.kicad_pcb", boardOf(20, "0.2")))
	is, _ := look(t, of("b.kicad_pcb", boardOf(60, "0.2")))
	place := func(r Report, x, y float64) spot.Spot {
		return spot.Spot{Kind: spot.Place, X: (x - r.Frame[0]) / (r.Frame[2] - r.Frame[0]) * 100,
			Y: (y - r.Frame[1]) / (r.Frame[3] - r.Frame[1]) * 100}
	}
	got, ok := Follow(place(was, 30, 5), was, is)
	if want := place(is, 30, 5); !ok || max(got.X-want.X, want.X-got.X, got.Y-want.Y, want.Y-got.Y) > 0.001 {
		t.Errorf("%v, %v; want %v", got, ok, want)
	}
	if back, ok := Follow(place(is, 60, 10), is, was); ok {
		t.Errorf("what is outside of the sheet is at %v", back)
	}
	part := is.Parts[0]
	middle := place(is, (part.At[0]+part.At[2])/2, (part.At[1]+part.At[3])/2)
	for _, r := range []Report{is, func() Report { r, _ := look(t, of("a.kicad_sch", sheetOf("1u", "VCC", true))); return r }()} {
		if len(r.Nets) == 0 {
			t.Errorf("a %s has no nets", r.Kind)
		}
		for _, net := range r.Nets {
			if at := place(r, net.At[0], net.At[1]); len(net.At) != 4 || at.X < 0 || at.X > 100 || at.Y < 0 || at.Y > 100 {
				t.Errorf("a %s's net %+v is at %v", r.Kind, net, at)
			}
		}
	}
	if part.Name != "C1" || part.At[0] > 60 || part.At[2] < 60 || middle.X < 50 || middle.X > 100 || middle.Y < 0 || middle.Y > 100 {
		t.Errorf("%+v at %v", part, middle)
	}
}
