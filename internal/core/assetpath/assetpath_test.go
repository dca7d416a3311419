package assetpath

import (
	"strings"
	"testing"
	"unicode/utf8"
)

func TestCheck(t *testing.T) {
	for path, reason := range map[string]string{
		"levels/harbour.glb":        "",
		"ünïcode/日本語.png":           "",
		"a b/c (final).wav":         "",
		".gitignore":                "",
		"tarn.toml":                 "",
		"console.png":               "",
		"":                          "path-empty",
		"/etc/passwd":               "path-absolute",
		"../up.png":                 "path-outside",
		"a/../../b":                 "path-outside",
		"a//b":                      "path-malformed",
		"a/":                        "path-malformed",
		".git/config":               "path-reserved",
		"sub/.GIT/config":           "path-reserved",
		".g\u200cit/config":         "path-reserved",
		"GIT~1/config":              "path-reserved",
		".git./x":                   "path-trailing",
		".git::$INDEX_ALLOCATION/x": "path-character",
		".tarn-workspace":           "path-reserved",
		"a/.Tarn-Incoming/x":        "path-reserved",
		"a:stream":                  "path-character",
		`a\b`:                       "path-character",
		"C:/x":                      "path-character",
		"trailing.":                 "path-trailing",
		"trailing /x":               "path-trailing",
		"new\nline":                 "path-control-character",
		"abc\u202egnp.exe":          "path-control-character",
		"NUL":                       "path-device",
		"a/con.png":                 "path-device",
		"COM¹.txt":                  "path-device",
		"aux .txt":                  "path-device",
		strings.Repeat("n", 300):    "path-too-long",
		strings.Repeat("abc/", 300): "path-too-long",
		"bad\xffutf8":               "path-not-text",
	} {
		got := ""
		if p := Check(path); p != nil {
			got = p.Reason
			if p.Message == "" || p.Remedy == "" {
				t.Errorf("Check(%q): the problem %q says too little", path, got)
			}
		}
		if got != reason {
			t.Errorf("Check(%q) = %q, want %q", path, got, reason)
		}
	}
}

func TestFoldMeetsWhatASystemWouldMix(t *testing.T) {
	for _, pair := range [][2]string{
		{"Levels/Harbour.GLB", "levels/harbour.glb"},
		{"caf\u00e9.png", "cafe\u0301.png"},
		{"STRASSE.png", "straße.png"},
		{"ΣΊΣΥΦΟΣ", "σίσυφος"},
	} {
		if Fold(pair[0]) != Fold(pair[1]) {
			t.Errorf("%q and %q fold apart: %q, %q", pair[0], pair[1], Fold(pair[0]), Fold(pair[1]))
		}
	}
	if Fold("a.png") == Fold("b.png") {
		t.Error("two different names fold together")
	}
}

func TestFolders(t *testing.T) {
	if got := strings.Join(Folders("a/b/c.png"), " "); got != "a a/b" {
		t.Errorf("Folders = %q", got)
	}
	if got := Folders("top.png"); len(got) != 0 {
		t.Errorf("Folders of a file at the root = %q", got)
	}
}

func FuzzCheck(f *testing.F) {
	for _, s := range []string{"a/b", ".git", "..", "NUL", "é", "a\x00b", ".g\u200dit"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, path string) {
		if Check(path) != nil {
			return
		}
		folded := Fold(path)
		if Fold(folded) != folded {
			t.Errorf("folding %q twice gives %q, then %q", path, folded, Fold(folded))
		}
		for _, part := range strings.Split(folded, "/") {
			if part == "" || part == "." || part == ".." || part == ".git" || strings.HasPrefix(part, ReservedPrefix) {
				t.Errorf("%q is legal and folds to %q", path, folded)
			}
		}
		if !utf8.ValidString(path) || len(path) > MaxPath || strings.ContainsAny(path, "\\:\x00\n") {
			t.Errorf("%q is legal", path)
		}
	})
}
