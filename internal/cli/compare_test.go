package cli

import (
	"bytes"
	"strings"
	"testing"

	textlines "kettletarn/internal/core/lines"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
)

// printed is what a function prints.
func printed(f func(*app)) string {
	var out bytes.Buffer
	f(&app{out: &out, errs: &out})
	return out.String()
}

func TestAComparisonIsPrinted(t *testing.T) {
	c := media.Comparison{
		Kind:  media.Schematic,
		Facts: []media.Pair{{Name: "parts", Before: "14", After: "14"}, {Name: "revision", Before: "A", After: "B", Changed: true}},
		Measures: []media.Fact{
			{Name: "parts added", Value: "1"},
		},
		Changes: []media.Change{
			{Change: media.Came, What: "part", Name: "D2", After: "ESD array"},
			{Change: media.Became, What: "net", Name: "LAMP", Before: "U1.6", After: "U1.21"},
			{Change: media.Moved, What: "gull", Name: "gull-4", Before: "0, 0", After: "3, 4", Distance: 5},
		},
	}
	want := `  parts     14
  revision  A   →  B

  parts added  1

  added    part  D2      ESD array
  changed  net   LAMP    U1.6 → U1.21
  moved    gull  gull-4  0, 0 → 3, 4  (by 5)
`
	if got := printed(func(a *app) { a.printComparison(c) }); got != want {
		t.Errorf("prints\n%s\nwant\n%s", got, want)
	}
	same := printed(func(a *app) { a.printComparison(media.Comparison{Same: true}) })
	if !strings.Contains(same, "Nothing that can be seen or heard is different") {
		t.Errorf("prints %q", same)
	}
	// What is in a file can't get at a terminal, and a list that is long is cut, with a way to all of it.
	c = media.Comparison{Before: media.Report{Trouble: "bad\x1b[31m start"}, Left: 500}
	for range 80 {
		c.Changes = append(c.Changes, media.Change{Change: media.Came, What: "part", Name: "R1"})
	}
	long := printed(func(a *app) { a.printComparison(c) })
	if strings.Contains(long, "\x1b") || !strings.Contains(long, "The earlier one can't be read: bad") ||
		!strings.Contains(long, "and 520 more: --json has them") || strings.Count(long, "R1") != 60 {
		t.Errorf("prints\n%s", long)
	}
}

func TestLinesSideBySide(t *testing.T) {
	before := []string{"one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve"}
	after := append([]string{}, before...)
	after[1] = "2"
	after = append(after[:10], "twelve", "thirteen")
	var rows []media.Row
	for _, r := range textlines.Compare(before, after) {
		if r.Kind != textlines.Same || r.Before < 4 || r.Before > 9 {
			rows = append(rows, r)
		}
	}
	got := printed(func(a *app) { a.printRows(media.Comparison{Rows: rows, RowsLeft: 3}) })
	want := []string{"      1     1   one", "      2       - two", "            2 + 2", "      3     3   three", "      ⋮     ⋮",
		"     10    10   ten", "     11       - eleven", "     12    11   twelve", "           12 + thirteen", "  … and 3 more lines"}
	if lines := strings.Split(strings.TrimSpace(got), "\n"); len(lines) != len(want) {
		t.Fatalf("prints %d lines, want %d:\n%s", len(lines), len(want), got)
	}
	for _, line := range want {
		if !strings.Contains(got, strings.TrimRight(line, " ")) {
			t.Errorf("%q is not in\n%s", line, got)
		}
	}
}

func TestAStripOfBytes(t *testing.T) {
	for _, c := range []struct {
		parts []media.Stretch
		want  string
	}{
		{[]media.Stretch{{Size: 100, Same: true}}, "··········"},
		{[]media.Stretch{{Size: 100}}, "██████████"},
		{[]media.Stretch{{Size: 50, Same: true}, {Size: 10}, {Size: 40, Same: true}}, "·····█····"},
		{[]media.Stretch{{Size: 99, Same: true}, {Size: 1}}, "·········█"}, // a single byte is seen
		{nil, "··········"},
	} {
		s := &media.Strip{Parts: c.parts}
		for _, p := range c.parts {
			s.After += p.Size
		}
		if got := stripWords(s, 10); got != c.want {
			t.Errorf("%v is %s, want %s", c.parts, got, c.want)
		}
	}
	c := media.Comparison{Kind: media.Other, Strip: &media.Strip{After: 4 << 20, Changed: 1 << 20,
		Parts: []media.Stretch{{Size: 3 << 20, Same: true}, {Size: 1 << 20}}}}
	if got := printed(func(a *app) { a.printComparison(c) }); !strings.Contains(got, "1.0 MiB of 4.0 MiB are not as before:") {
		t.Errorf("prints %q", got)
	}
}

func TestARollbackIsPrinted(t *testing.T) {
	changes := []model.RollbackChange{
		{Path: "a.png", Change: "back", Version: 3, To: 1, Size: 2048}, {Path: "b.png", Change: "returns", To: 2, Size: 100},
		{Path: "c.png", MovedFrom: "kept/c.png", Change: "moves", Version: 1, Size: 5}, {Path: "d.png", Change: "goes", Version: 2},
	}
	answer := &model.RollbackAnswer{Note: "Back to quay-walk (h3)", Changes: changes,
		HeadsUps: []model.HeadsUp{{Handle: "rurik", Path: "a.png", Workspace: "rurik-pc"}}}
	preview := printed(func(a *app) { a.printRollback(answer, true) })
	for _, want := range []string{"This would be a handoff of 4 assets: Back to quay-walk (h3)", "as in v1", "was v3", "returns as in v2",
		"kept/c.png → c.png", "back to where it was", "goes: it was not there", "heads-up: rurik has unsent changes to a.png, in rurik-pc"} {
		if !strings.Contains(preview, want) {
			t.Errorf("%q is not in\n%s", want, preview)
		}
	}
	if strings.Contains(preview, "now v") {
		t.Errorf("a preview says which versions there are:\n%s", preview)
	}
	answer.Handoff = &model.Handoff{Number: 7, About: model.About{Note: "Why\n\nBack to quay-walk (h3)"},
		Assets: []model.HandoffAsset{{Path: "a.png", Version: 4}, {Path: "b.png", Version: 3}, {Path: "d.png", Version: 3}}}
	done := printed(func(a *app) { a.printRollback(answer, false) })
	for _, want := range []string{"h7: Why. Nothing was deleted.", "was v3, now v4", "was gone, now v3"} {
		if !strings.Contains(done, want) {
			t.Errorf("%q is not in\n%s", want, done)
		}
	}
	if strings.Contains(done, "was v2, now") {
		t.Errorf("what went has a version now:\n%s", done)
	}
}

func TestWhatIsBetweenTwoStatesIsPrinted(t *testing.T) {
	b := model.Between{From: model.Handoff{}, To: model.Handoff{Number: 9, Milestones: []string{"first-light"}}}
	if got := printed(func(a *app) { a.printBetween(b) }); !strings.Contains(got, "From the start to h9 (first-light)") ||
		!strings.Contains(got, "Nothing is different.") {
		t.Errorf("prints\n%s", got)
	}
	b.Assets = []model.HandoffAsset{{Path: "a.png", Change: "new", Version: 1, Size: 10},
		{Path: "textures/b.png", Change: "edited", Before: 1, Version: 3, Size: 30, SizeBefore: 20}}
	b.Total = model.Tally{New: 1, Edited: 1, Size: 40, SizeBefore: 20}
	b.Folders = []model.Tally{{Name: "", New: 1, Size: 10}, {Name: "textures", Edited: 1, Size: 30, SizeBefore: 20}}
	b.Kinds = []model.Tally{{Name: "texture", New: 1, Edited: 1, Size: 40, SizeBefore: 20}}
	got := printed(func(a *app) { a.printBetween(b) })
	for _, want := range []string{"2 assets", "(at the root)", "textures", "+10 B", "v1 → v3"} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is not in\n%s", want, got)
		}
	}
}
