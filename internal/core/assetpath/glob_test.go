package assetpath

import (
	"regexp"
	"strings"
	"testing"

	"github.com/bmatcuk/doublestar/v4"
)

func TestGlob(t *testing.T) {
	for _, c := range []struct {
		pattern string
		yes, no []string
	}{
		{"*.png", []string{"a.png", "textures/rust.png", "A.PNG"}, []string{"a.png.txt", "apng"}},
		{"levels/**", []string{"levels/a", "levels/a/b.json"}, []string{"old/levels/a", "levelsx/a"}},
		{"textures/*-albedo.png", []string{"textures/rust-albedo.png"}, []string{"textures/old/rust-albedo.png"}},
		{"**/h?.wav", []string{"h1.wav", "sounds/h2.wav"}, []string{"sounds/h12.wav"}},
		{"a+b(*).txt", []string{"a+b(1).txt"}, []string{"aab1.txt"}},
	} {
		re := regexp.MustCompile(Glob(c.pattern))
		for _, p := range c.yes {
			if !re.MatchString(Fold(p)) {
				t.Errorf("%s does not match %s", c.pattern, p)
			}
		}
		for _, p := range c.no {
			if re.MatchString(Fold(p)) {
				t.Errorf("%s matches %s", c.pattern, p)
			}
		}
	}
}

func FuzzGlob(f *testing.F) {
	f.Add("a/**/b*.png", "a/c/d/bx.png")
	f.Add("*?x", "yx")
	f.Fuzz(func(t *testing.T, pattern, path string) {
		re, err := regexp.Compile(Glob(pattern))
		if err != nil {
			t.Fatalf("%q: %v", pattern, err)
		}
		// Held against another reading of patterns, where both have the same signs.
		folded := Fold(strings.ToValidUTF8(strings.TrimPrefix(pattern, "./"), "\uFFFD"))
		if strings.ContainsAny(pattern, "[]{}\\\n") || strings.ContainsAny(path, "\n") || !strings.Contains(pattern, "/") ||
			strings.HasPrefix(pattern, "./") || strings.Contains(strings.ReplaceAll(folded, "**/", ""), "**") || Check(path) != nil {
			return
		}
		for _, part := range strings.Split(folded, "/") {
			if part != "**" && strings.Contains(part, "**") {
				return
			}
		}
		want, err := doublestar.Match(folded, Fold(path))
		if err == nil && want != re.MatchString(Fold(path)) {
			t.Errorf("%q on %q: %v", pattern, path, !want)
		}
	})
}
