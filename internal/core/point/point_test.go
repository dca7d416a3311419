package point

import (
	"testing"
	"time"
)

func TestParse(t *testing.T) {
	zone := time.FixedZone("there", 2*3600)
	for text, want := range map[string]Point{
		"h40":                  {Handoff: 40},
		"":                     {},
		"newest":               {},
		"first-light":          {Name: "first-light"},
		"2026-03-02":           {Time: time.Date(2026, 3, 2, 23, 59, 59, 999999000, zone)},
		"2026-03-02 15:04":     {Time: time.Date(2026, 3, 2, 15, 4, 0, 0, zone)},
		"2026-03-02T15:04:05Z": {Time: time.Date(2026, 3, 2, 15, 4, 5, 0, time.UTC)},
		"h0":                   {Name: "h0"},
		"rurik/rust-2":         {Name: "rurik/rust-2"},
		"h2147483647":          {Handoff: 2147483647},
	} {
		got, err := Parse(text, zone)
		if err != nil || got.Handoff != want.Handoff || got.Name != want.Name || !got.Time.Equal(want.Time) {
			t.Errorf("%q: %+v, %v; want %+v", text, got, err, want)
		}
	}
	for _, text := range []string{"../up", "a b", "-x", "v3", "a\x1b[2J", "name//with", "/name", "name/", "name/.with"} {
		if p, err := Parse(text, time.UTC); err == nil {
			t.Errorf("%q is taken for %+v", text, p)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"h40", "first-light", "2026-03-02", "2026-03-02 15:04", "newest", "V2", "é"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Parse(text, time.UTC)
		if err != nil {
			return
		}
		again, err := Parse(p.String(), time.FixedZone("elsewhere", -7*3600))
		if err != nil || again.Handoff != p.Handoff || again.Name != p.Name || !again.Time.Equal(p.Time) {
			t.Errorf("%q: %+v was told as %q and read as %+v, %v", text, p, p, again, err)
		}
		if p.Name != "" && CheckBranch(p.Name) != nil {
			t.Errorf("%q is no name", p.Name)
		}
	})
}
