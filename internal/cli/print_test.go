package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/point"
)

func TestTable(t *testing.T) {
	var out bytes.Buffer
	table := newTable(&out, "NAME", ">SIZE", "NOTE")
	table.row("fog.png", "9 B", "")
	table.row("ünïcode.png", "120 KiB", "with\ta tab\x1b[31m")
	table.print()
	want := "NAME            SIZE  NOTE\n" +
		"fog.png          9 B\n" +
		"ünïcode.png  120 KiB  with�a tab�[31m\n"
	if out.String() != want {
		t.Errorf("prints\n%s\nwant\n%s", out.String(), want)
	}
}

func TestWordsForPeople(t *testing.T) {
	for got, want := range map[string]string{
		size(0): "0 B", size(1536): "1.5 KiB", size(-1): "0 B",
		plural(1, "asset"): "1 asset", plural(1200, "asset"): "1,200 assets",
		when(time.Now()): "just now", when(time.Now().Add(-3 * time.Hour)): "3 hours ago", whenPtr(nil): "never",
		firstLine("one\ntwo", 20): "one", firstLine("abcdefgh", 5): "abcd…",
	} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if got := when(time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)); !strings.Contains(got, "2026") {
		t.Errorf("a time long ago is %q", got)
	}
}

func TestNumbered(t *testing.T) {
	for text, want := range map[string]int{"h40": 40, "h1": 1, "h0": 0, "h": 0, "40": 0, "v3": 0, "h-3": 0, "h+3": 0, "h3x": 0} {
		n, ok := point.Handoff(text)
		if ok != (want > 0) || ok && n != want {
			t.Errorf("%q is %d, %v", text, n, ok)
		}
	}
}

func TestWantsJSON(t *testing.T) {
	for args, want := range map[string]bool{"tarn status --json": true, "tarn status": false, "tarn send -m x -- --json": false,
		"tarn holders --json a": true} {
		if got := wantsJSON(strings.Fields(args)); got != want {
			t.Errorf("%s: %v", args, got)
		}
	}
}

func TestWrapped(t *testing.T) {
	for _, c := range []struct {
		text  string
		width int
		want  string
	}{
		{"    one two three", 0, "    one two three"},
		{"    one two three", 11, "    one two\n      three"},
		{"  averyveryverylongword and more", 10, "  averyveryverylongword\n    and\n    more"},
		{"", 10, ""},
	} {
		if got := wrapped(c.text, c.width); got != c.want {
			t.Errorf("%q in %d: %q, want %q", c.text, c.width, got, c.want)
		}
	}
}

// TestOneLongPath widens its own row and no other.
func TestOneLongPath(t *testing.T) {
	var out strings.Builder
	table := &table{out: &out, heads: []string{"PATH", ">SIZE"}}
	long := strings.Repeat("a/", 200) + "b.png"
	table.row("x.png", "1 B")
	table.row(long, "2 B")
	table.print()
	if want := "PATH   SIZE\nx.png   1 B\n" + long + "   2 B\n"; out.String() != want {
		t.Errorf("%q", out.String())
	}
}
