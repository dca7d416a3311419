package rules

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/bmatcuk/doublestar/v4"
)

// What can be told of a pattern without trying it is what trying it tells.
func TestShortcutsOfPatterns(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	words := func(of []string, n int) (s string) {
		for range 1 + r.IntN(n) {
			s += of[r.IntN(len(of))]
		}
		return s
	}
	matched := 0
	for range 20_000 {
		p, err := compile(words([]string{"a", "b", ".", "*", "**", "/**/", "/", "?", "[ab]", "[!a]", `\*`, `\a`, "*.b"}, 5))
		if err != nil {
			continue
		}
		for range 10 {
			path := words([]string{"a", "b", ".", "a/", "b/", "*"}, 6)
			name := path[strings.LastIndexByte(path, '/')+1:]
			on := name
			if p.placed {
				on = path
			}
			want, err := doublestar.Match(p.glob, on)
			if got := p.match(path, name); got != want || err != nil {
				t.Fatalf("%q (%+v) and %q: %v, not %v, %v", p.text, p, path, got, want, err)
			}
			if want {
				matched++
			}
		}
	}
	if matched < 1000 {
		t.Errorf("only %d of them match", matched)
	}
}
