package lines

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestMerging(t *testing.T) {
	cut := func(s string) []string {
		if s == "" {
			return nil
		}
		return strings.Split(s, " ")
	}
	for _, c := range []struct{ base, here, there, want, places string }{
		{"a b c", "a b c", "a b c", "a b c", ""},
		{"a b c", "a X c", "a b c", "a X c", ""},
		{"a b c", "a b c", "a b Y", "a b Y", ""},
		{"a b c d e", "X b c d e", "a b c d Y", "X b c d Y", ""},
		{"a b c", "a X c", "a X c", "a X c", ""},
		{"a b c", "a X c", "a Y c", "a X c", "1-2 X|Y"},
		{"a b c d", "a X c d", "a b Y d", "a X c d", "1-3 X c|b Y"}, // lines that touch
		{"a b c d e", "a X c d e", "a b c Y e", "a X c Y e", ""},
		{"a b c", "a c", "a b c d", "a c d", ""},
		{"a b c", "a c", "a B c", "a c", "1-2 |B"},
		{"", "a", "b", "a", "0-0 a|b"},
		{"a", "a b", "a b", "a b", ""},
		{"a", "a b", "a c", "a b", "1-1 b|c"},
		{"a b", "x a b", "a b y", "x a b y", ""},
		{"a b c", "", "a b c", "", ""},
		{"a b c", "", "a b X", "", "0-3 |a b X"},
		{"b a c b", "c b b", "b a c b", "c b b", ""},
	} {
		text, places := Merge(cut(c.base), cut(c.here), cut(c.there))
		var told []string
		for _, p := range places {
			told = append(told, fmt.Sprintf("%d-%d %s|%s", p.From, p.To, strings.Join(p.Here, " "), strings.Join(p.There, " ")))
		}
		if strings.Join(text, " ") != c.want || strings.Join(told, ", ") != c.places {
			t.Errorf("%s, %s and %s: %q with %q", c.base, c.here, c.there, text, told)
		}
	}
}

// TestMergesOfRandomTexts: one side alone comes whole; both sides the same way round have the same places; and what is edited far apart
// goes together as if one had made both edits.
func TestMergesOfRandomTexts(t *testing.T) {
	r := rand.New(rand.NewPCG(17, 3))
	edit := func(text []string, from, to int) []string {
		out := slices.Clone(text[:from])
		for i := from; i < to; i++ {
			switch r.IntN(4) {
			case 0:
			case 1:
				out = append(out, fmt.Sprint("new ", r.IntN(9)))
			case 2:
				out = append(out, text[i], fmt.Sprint("new ", r.IntN(9)))
			default:
				out = append(out, text[i])
			}
		}
		return append(out, text[to:]...)
	}
	clashed := 0
	for range 3000 {
		var base []string
		for range r.IntN(14) {
			base = append(base, fmt.Sprint("line ", r.IntN(6)))
		}
		here, there := edit(base, 0, len(base)), edit(base, 0, len(base))
		if got, places := Merge(base, here, base); !slices.Equal(got, here) || places != nil {
			t.Fatalf("%q and %q alone: %q, %v", base, here, got, places)
		}
		if got, places := Merge(base, base, there); !slices.Equal(got, there) || places != nil {
			t.Fatalf("%q and %q alone: %q, %v", base, there, got, places)
		}
		text, places := Merge(base, here, there)
		_, back := Merge(base, there, here)
		if len(places) != len(back) {
			t.Fatalf("%q, %q, %q: %d places, and the other way round %d", base, here, there, len(places), len(back))
		}
		for i, p := range places {
			if b := back[i]; p.From != b.From || p.To != b.To || !slices.Equal(p.Here, b.There) || !slices.Equal(p.There, b.Here) {
				t.Fatalf("%+v, and the other way round %+v", p, b)
			}
		}
		if len(places) > 0 {
			clashed++
		} else if other, _ := Merge(base, there, here); !slices.Equal(text, other) {
			t.Fatalf("%q, %q, %q: %q, and the other way round %q", base, here, there, text, other)
		}
	}
	if clashed < 200 {
		t.Errorf("only %d were decided by nobody", clashed)
	}
	for range 500 {
		var base []string
		for i := range 20 {
			base = append(base, fmt.Sprint("line ", i))
		}
		here := edit(base, 0, 8)
		there := edit(base, 11, 20)
		want := append(slices.Clone(here[:len(here)-12]), there[8:]...)
		if got, places := Merge(base, here, there); !slices.Equal(got, want) || places != nil {
			t.Fatalf("%q and %q: %q, %v", here, there, got, places)
		}
	}
}

func TestATextIsWrittenAsTheOtherWas(t *testing.T) {
	for _, like := range []string{"a\r\nb\r\n", "a\nb\n", "a\nb", "\ufeffa\r\nb", "", "a"} {
		text, err := Decode([]byte(like))
		if err != nil {
			t.Fatal(err)
		}
		if got := string(Encode(text, []byte(like))); got != like {
			t.Errorf("%q is written as %q", like, got)
		}
	}
}
