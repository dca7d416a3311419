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

func TestWhatIsNoPathIsFitted(t *testing.T) {
	for path, want := range map[string]string{
		"art/rust.png":       "art/rust.png",
		"art/a:b.png":        "art/a_b~f94831.png",
		"aux.png":            "aux_~",
		"deep/con":           "deep/con_~",
		"art /x.png":         "art_/x~",
		"end.":               "end_~",
		".git/config.png":    "_.git/config~",
		".tarn-x":            "_~06683a.tarn-x",
		"a\xff.png":          "a_~",
		"a\nb.png":           "a_b~",
		"a\\b.png":           "a_b~",
		"..":                 "._~",
		"nul .txt":           "nul_~",
		"\"quoted\" é ü.png": "_quoted_ é ü~",
	} {
		got := Fit(path)
		if !strings.HasPrefix(got, want) || Check(got) != nil {
			t.Errorf("%q becomes %q (%v), want %q", path, got, Check(got), want)
		}
	}
	if Fit("a:b.png") == Fit("a?b.png") || Fit("a:b.png") == "a_b.png" {
		t.Error("two paths stand for one")
	}
	long := strings.Repeat("é", 300) + ".png"
	if got := Fit(long); Check(got) != nil || !strings.HasSuffix(got, ".png") {
		t.Errorf("a long name becomes %q: %v", got, Check(got))
	}
	if got := Fit(strings.Repeat("folder/", 300) + "a.png"); Check(got) != nil {
		t.Errorf("a long path becomes %d bytes: %v", len(got), Check(got))
	}
	if got := Mark("Art/Rust.PNG"); Check(got) != nil || Fold(got) == Fold("Art/Rust.PNG") || !strings.HasSuffix(got, ".PNG") {
		t.Errorf("a mark makes %q", got)
	}
}

func FuzzFit(f *testing.F) {
	for _, p := range []string{"a/b.png", "con.x", " . ", "a\x00b", "~/~", "\u200d.git\u200d", "COM¹ .x", "tarn-w~1"} {
		f.Add(p)
	}
	f.Fuzz(func(t *testing.T, path string) {
		got := Fit(path)
		if p := Check(got); p != nil {
			t.Errorf("%q becomes %q: %v", path, got, p)
		}
		if (got == path) != (Check(path) == nil) {
			t.Errorf("%q becomes %q", path, got)
		}
	})
}

// TestOtherNamesOfWhatIsReserved: short names that Windows invents, and code points that HFS+ leaves out.
func TestOtherNamesOfWhatIsReserved(t *testing.T) {
	for _, path := range []string{"TARN-W~1", "tarn-w~12", "x/TARN-I~1", ".tarn-\u200cworkspace", ".Tarn-Incoming", "GIT~1", "git~2/config",
		".gi\u200dt", "GITATT~1", "GITMOD~1", "GI7D29~1", "gi7eba~4", ".gitattributes", "a/.GitModules", ".git\ufeff/x"} {
		if p := Check(path); p == nil || p.Reason != "path-reserved" {
			t.Errorf("%q: %v", path, p)
		}
	}
	for _, path := range []string{"tarn-w", "tarn-w~x", "git~", "gitatt~", ".gitignore", "x.git", "gitattributes"} {
		if p := Check(path); p != nil {
			t.Errorf("%q: %v", path, p)
		}
	}
	if Alias("A\u200cb/C") != Alias("ab/c") || Alias("a") == Alias("b") {
		t.Error("aliases")
	}
}

func TestBelow(t *testing.T) {
	for _, c := range []struct {
		path, folder string
		want         bool
	}{{"a/b", "a", true}, {"a", "a", true}, {"ab", "a", false}, {"a", "a/b", false}, {"a", "", true}, {"", "", true}, {"", "a", false}} {
		if got := Below(c.path, c.folder); got != c.want {
			t.Errorf("%q below %q: %v", c.path, c.folder, got)
		}
	}
}
