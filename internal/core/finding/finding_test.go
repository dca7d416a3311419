package finding

import (
	"slices"
	"strings"
	"testing"

	"kettletarn/internal/core/assetpath"
)

func TestWords(t *testing.T) {
	for text, want := range map[string]string{
		"textures/rust-albedo.PNG":          "albedo png rust textures",
		"4096 x 4096 pixels, 8 bit":         "4096 4k 8 bit pixels x",
		"triangles 204,311":                 "204311 204k triangles",
		"2,500,000 points":                  "2500000 2500k 3m points",
		"1,2 and 1,2345":                    "1 2 2345 2k and",
		"part R4 10k; net /power/3V3":       "10k 3v3 net part power r4",
		"Größe_ß":                           "grösse ss",
		"":                                  "",
		"' & | ! :* ( ) \x00 \xff <script>": "script",
	} {
		if got := strings.Join(Words(text), " "); got != want {
			t.Errorf("%q has the words %q, want %q", text, got, want)
		}
	}
	if got := Words(strings.Repeat("ab ", 10), strings.Repeat("x", 500)); len(got) != 2 || len(got[1]) > MaxWord {
		t.Errorf("%v", got)
	}
	if got := Query(Asked("Rust 4k rust")); got != "'rust':* & '4k':*" {
		t.Errorf("asked as %s", got)
	}
	if got := Asked(strings.Repeat("a b c d e f g h i j ", 3)); len(got) != MaxAsked {
		t.Errorf("%v", got)
	}
}

// FuzzWords: whatever a text is, its words are short, folded, and mean nothing in a question but themselves.
func FuzzWords(f *testing.F) {
	f.Add("textures/rust-albedo.png")
	f.Add("1,000,000' | 'x")
	f.Fuzz(func(t *testing.T, text string) {
		for _, w := range append(Words(text), Asked(text)...) {
			if w == "" || len(w) > MaxWord || strings.ContainsAny(w, "'\\ :&|!()\x00") {
				t.Errorf("%q has the word %q", text, w)
			}
			// The letters of Cherokee are folded into each other (golang.org/x/text/cases).
			if again := Words(w); !slices.Contains(again, w) && assetpath.Fold(w) == w {
				t.Errorf("%q has the word %q, which is made of %q", text, w, again)
			}
		}
	})
}
