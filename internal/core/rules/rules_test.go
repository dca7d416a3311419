package rules

import (
	"strings"
	"testing"
)

func TestIgnored(t *testing.T) {
	r, err := Parse([]byte(`ignore = ["cache/", "*.log", "!keep.log", "/top.png", "renders/**/*.tmp"]`))
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]bool{
		"cache/":              true,
		"levels/cache/":       true,
		"levels/cache/a.bin":  true,
		"cache":               false,
		"notes.log":           true,
		"deep/down/x.log":     true,
		"keep.log":            false,
		"top.png":             true,
		"sub/top.png":         false,
		"renders/a/b/c.tmp":   true,
		"levels/harbour.glb":  false,
		"textures/.DS_Store":  true,
		"textures/rust.png~":  true,
		"tarn.toml":           false,
		"textures/Thumbs.db":  true,
		"levels/thumbs/a.png": false,
	} {
		bare := strings.TrimSuffix(path, "/")
		if got := r.Ignored(bare, bare != path); got != want {
			t.Errorf("Ignored(%q) = %v", path, got)
		}
	}
}

func TestTheRulesFileIsNeverIgnored(t *testing.T) {
	r, err := Parse([]byte(`ignore = ["*.toml", "*"]`))
	if err != nil {
		t.Fatal(err)
	}
	if r.Ignored(File, false) {
		t.Error("the rules ignore themselves")
	}
}

func TestErrorsSayWhere(t *testing.T) {
	for text, want := range map[string]string{
		"\n\nignore = [":      "line 3",
		"ignore = 5":          "ignore",
		"ignroe = [\"a\"]":    "ignroe",
		"ignore = [\"a\\n\"]": "line break",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("Parse(%q): %v, want it to mention %q", text, err, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(`ignore = ["a", "!b", "**/c", "[x"]`), "a/b/c")
	f.Fuzz(func(t *testing.T, text []byte, path string) {
		r, err := Parse(text)
		if err == nil {
			r.Ignored(path, false)
		}
	})
}
