package rules

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"
)

func parsed(t *testing.T, text string) *Rules {
	t.Helper()
	r, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

const studio = `presets = ["game", "sound"]
otherwise = "code"
point-out = "2 MB"

[[rule]]
match = ["text/", "!text/raw/"]
kind = "asset"
lock = "free"

[[rule]]
match = "/levels/"
lock = "on-edit"

[[rule]]
match = "/cache/keep/sky.png"
kind = "asset"

[[rule]]
match = "/art-sources/"
kind = "ignored"
`

func TestTheLastRuleThatAnswersDecides(t *testing.T) {
	r := parsed(t, studio)
	if r.PointOut != 2_000_000 || r.Otherwise != Code {
		t.Errorf("point-out %d, otherwise %s", r.PointOut, r.Otherwise)
	}
	for path, want := range map[string]string{
		"textures/rust.png":         "asset required",
		"textures/RUST.PNG":         "asset required",
		"textures/cache/rust.png":   "ignored required",
		"cache/keep/sky.png":        "asset required",
		"cache/keep/sea.png":        "ignored required",
		"levels/harbour.glb":        "asset on-edit",
		"src/levels/harbour.glb":    "asset required",
		"text/keeper.txt":           "asset free",
		"text/raw/keeper.txt":       "code required",
		"sounds/horn.wav":           "asset required",
		"sounds/horn.wav.pk":        "ignored required",
		"main.go":                   "code required",
		"art-sources/rust.png":      "ignored required",
		"art-sources/a/b/rust.flac": "ignored required",
		"tarn.toml":                 "asset free",
		"tarn.pin":                  "code required",
		"a/.gitignore":              "code required",
		"textures/.DS_Store":        "ignored required",
	} {
		if d := r.Decide(path); d.Kind+" "+d.Lock != want {
			t.Errorf("%s is %s %s by %s, want %s", path, d.Kind, d.Lock, d.KindBy, want)
		}
	}
}

func TestADecisionNamesItsLine(t *testing.T) {
	r := parsed(t, studio)
	for path, want := range map[string]string{
		"levels/harbour.glb": `"/levels/" in line 11 of tarn.toml`,
		"text/keeper.txt":    `"text/" in line 6 of tarn.toml`,
		"main.go":            "what holds where no rule says otherwise",
	} {
		if d := r.Decide(path); d.LockBy.String() != want {
			t.Errorf("%s by %s, want %s", path, d.LockBy, want)
		}
	}
	if d := r.Decide("cache/x.png"); !strings.Contains(d.KindBy.String(), `"cache/" in line`) ||
		!strings.Contains(d.KindBy.String(), "preset sound") {
		t.Errorf("cache/x.png by %s", d.KindBy)
	}
	if d := r.Decide("main.go"); d.Covered {
		t.Error("main.go is covered")
	}
}

func TestShutFolders(t *testing.T) {
	r := parsed(t, studio)
	for folder, want := range map[string]bool{"cache": false, "cache/keep": false, "cache/keep/deep": true, "cache/other": true,
		"textures/cache": true, "textures": false, "art-sources": true, "src": false} {
		if _, shut := r.Shut(folder); shut != want {
			t.Errorf("%s: shut is %v", folder, shut)
		}
	}
}

func TestTheRulesFileIsNeverIgnored(t *testing.T) {
	r := parsed(t, "[[rule]]\nmatch = [\"*.toml\", \"*\"]\nkind = \"ignored\"\nlock = \"required\"\n")
	if d := r.Decide(File); d.Kind != Asset || d.Lock != Free {
		t.Errorf("the rules file is %s, %s", d.Kind, d.Lock)
	}
}

func TestErrorsSayWhereAndWhatWasMeant(t *testing.T) {
	for text, want := range map[string]string{
		"\n\npresets = [":                          "line 3",
		"otherwise = 5":                            "line 1, column",
		"preset = [\"game\"]":                      `line 1, column 1: the key "preset" is not known; did you mean "presets"?`,
		"presets = [\n  \"game\",\n  \"sonud\"\n]": `line 3, column 3: there is no preset "sonud"; did you mean "sound"?`,
		"otherwise = \"assets\"": `line 1, column 1: otherwise is one of asset, code, ignored; this is ` +
			`"assets"; did you mean "asset"?`,
		"[[rule]]\nmatch = \"a\"":                             "line 1, column 3: this rule says neither",
		"[[rule]]\nkind = \"asset\"":                          "it needs match",
		"[[rule]]\nmatch = [\"a\", \"[x\"]\nkind = \"asset\"": "line 2, column 15: the pattern is not a pattern",
		"[[rule]]\nmatch = \"a\"\nknid = \"asset\"":           `line 3, column 1: the key "rule.knid" is not known; did you mean "kind"?`,
		"[[rule]]\nmatch = \"a\"\nlock = \"on_edit\"": `line 3, column 1: lock is one of required, on-edit, free; this is "on_edit"; ` +
			`did you mean "on-edit"?`,
		"[[rule]]\nmatch = [\"a\\n\"]\nkind = \"code\"":         "line break",
		"[[rule]]\nmatch = [1]\nkind = \"code\"":                "a text in quotes",
		"point-out = \"much\"":                                  "point-out is a size",
		"[[set]]\nmatch = \"a\"\nby = \"name\"":                 "line 3, column 1: by is one of stem, folder",
		"ignore = [\"cache/\"]":                                 "[[rule]]",
		"# much\n" + strings.Repeat("#", MaxSize):               "larger than",
		"[[rule]]\nkind=\"code\"\nmatch = [" + many(2001) + "]": "2001 patterns",
	} {
		_, err := Parse([]byte(text))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("Parse(%.60q): %v\nwant it to mention %s", text, err, want)
		}
	}
}

func many(n int) string { return strings.TrimSuffix(strings.Repeat(`"a",`, n), ",") }

func TestInclude(t *testing.T) {
	for _, path := range []string{"cache/keep me.png", `a/[b]*?.png`, `quote"d.png`, "plain.png", `it's "both".png`} {
		text := Include([]byte("[[rule]]\nmatch = \"*\"\nkind = \"ignored\"\n"), path)
		r := parsed(t, string(text))
		if d := r.Decide(path); d.Kind != Asset {
			t.Errorf("%s is %s with\n%s", path, d.Kind, text)
		}
		if d := r.Decide(path + "x"); d.Kind != Ignored {
			t.Errorf("%sx is %s", path, d.Kind)
		}
	}
}

func TestPresets(t *testing.T) {
	names := []string{}
	for _, p := range Presets() {
		names = append(names, p.Name)
		if p.About == "" || len(p.rules) < 2 {
			t.Errorf("preset %s: %q, %d rules", p.Name, p.About, len(p.rules))
		}
	}
	if strings.Join(names, " ") != "board enclosure game sound" {
		t.Errorf("presets are %v", names)
	}
	got := Propose([]string{"a.png", "b/c.wav", "README.md", "main.go"})
	if strings.Join(got, " ") != "game sound" {
		t.Errorf("proposed are %v", got)
	}
	r := parsed(t, Compose(names, Code))
	for path, want := range map[string]string{"board/tide.kicad_sch": Asset, "fabrication/drill.drl": Asset, "enclosure/top.stl": Asset,
		"board/tide.kicad_sch-bak": Ignored,
		"simulation/out.raw":       Ignored, "src/main.c": Code, "parts.csv": Asset, "logs/today.log": Ignored} {
		if d := r.Decide(path); d.Kind != want {
			t.Errorf("%s is %s by %s, want %s", path, d.Kind, d.KindBy, want)
		}
	}
}

func TestTogether(t *testing.T) {
	r := parsed(t, "[[set]]\nmatch = [\"models/\", \"textures/\"]\nby = \"stem\"\n[[set]]\nmatch = \"boards/\"\nby = \"folder\"\n")
	all := []string{"models/lamp.glb", "models/lamp-albedo.png", "models/lamp_normal.png", "models/lamppost.glb", "models/buoy.glb",
		"boards/a/x.sch", "boards/a/x.brd", "boards/b/y.sch", "text/lamp.txt",
		"textures/rust-albedo.png", "textures/rust-normal.png", "textures/brine-albedo.png", "models/rowing-boat.glb",
		"models/rowing-boat-albedo.png"}
	for given, want := range map[string]string{
		"models/lamp-albedo.png": "models/lamp-albedo.png models/lamp.glb models/lamp_normal.png",
		"models/lamppost.glb":    "models/lamppost.glb",
		"boards/a/x.sch":         "boards/a/x.brd boards/a/x.sch",
		"text/lamp.txt":          "text/lamp.txt",

		"textures/rust-normal.png":  "textures/rust-albedo.png textures/rust-normal.png",
		"textures/brine-albedo.png": "textures/brine-albedo.png",
		"models/rowing-boat.glb":    "models/rowing-boat-albedo.png models/rowing-boat.glb",
	} {
		if got := strings.Join(r.Together([]string{given}, all), " "); got != want {
			t.Errorf("together with %s are %s, want %s", given, got, want)
		}
	}
}

// TestGitIgnoreFilesAreReadAsGitReadsThem asks a real git about random patterns and paths.
func TestGitIgnoreFilesAreReadAsGitReadsThem(t *testing.T) {
	dir := t.TempDir()
	git := func(in string, args ...string) string {
		c := exec.Command("git", args...)
		c.Dir, c.Stdin = dir, strings.NewReader(in)
		out, err := c.Output()
		if code, ok := err.(*exec.ExitError); err != nil && (!ok || code.ExitCode() != 1) {
			t.Fatalf("git %v: %v", args, err)
		}
		return string(out)
	}
	git("", "init", "-q")
	random := rand.New(rand.NewPCG(4, 2))
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	for round := range 40 {
		var lines, paths []string
		for range 1 + random.IntN(5) {
			lines = append(lines, pick("", "", "!")+pick("", "", "/", "**/")+pick("a", "b", "*.x", "a*", "?", "[ab]", "{a}", "c d", `\#e`)+pick("",
				"", "/b", "/*", "/**", "/**/c")+pick("", "", "/", " "))
		}
		for range 60 {
			p := pick("a", "b", "ab", "c", "{a}", "#e", "c d")
			for random.IntN(2) == 0 && len(p) < 12 {
				p += "/" + pick("a", "b", "c", "f.x", "c d")
			}
			paths = append(paths, p)
		}
		if err := os.WriteFile(filepath.Join(dir, ".gitignore"), []byte(strings.Join(lines, "\n")), 0o644); err != nil {
			t.Fatal(err)
		}
		hidden := map[string]bool{}
		for _, line := range strings.Split(git(strings.Join(paths, "\n"), "check-ignore", "--no-index", "--stdin"), "\n") {
			hidden[strings.Trim(line, `"`)] = true
		}
		g := ParseGitIgnore("", []byte(strings.Join(lines, "\n")))
		for _, path := range paths {
			if got := hiddenOnTheWay(g, path); got != hidden[path] {
				t.Errorf("round %d, %q: %s is hidden: %v, and git says %v", round, lines, path, got, hidden[path])
			}
		}
	}
}

// hiddenOnTheWay asks for each folder on the way, as a walk does.
func hiddenOnTheWay(g *GitIgnore, path string) bool {
	for i, r := range path {
		if r == '/' {
			if hidden, _, _ := g.Look(path[:i], true); hidden {
				return true
			}
		}
	}
	hidden, _, _ := g.Look(path, false)
	return hidden
}

func TestOriginsAreWhole(t *testing.T) {
	g := ParseGitIgnore("art", []byte("# x\n\n*.wav\n"))
	hidden, said, by := g.Look("art/a/horn.wav", false)
	if !hidden || !said || !reflect.DeepEqual(by, Origin{In: "art/.gitignore", Line: 3, Pattern: "*.wav"}) {
		t.Errorf("%v %v %+v", hidden, said, by)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(studio), "a/b/c")
	f.Add([]byte("[[rule]]\nmatch=[\"**/a[!b]\", \"!{x}\"]\nkind=\"asset\"\n[[set]]\nmatch=\"*\"\nby=\"stem\""), "A/é.png")
	f.Fuzz(func(t *testing.T, text []byte, path string) {
		ParseGitIgnore("", text).Look(path, false)
		r, err := Parse(text)
		if err != nil {
			return
		}
		d := r.Decide(path)
		if d.Kind != Asset && d.Kind != Code && d.Kind != Ignored || d.Lock != Required && d.Lock != OnEdit && d.Lock != Free {
			t.Fatalf("%q: %+v", path, d)
		}
		if folder, _, ok := strings.Cut(path, "/"); ok && folder != "" {
			if _, shut := r.Shut(folder); shut && d.Kind != Ignored {
				t.Fatalf("%s is shut, and %s in it is %s by %v", folder, path, d.Kind, d.KindBy)
			}
		}
		r.Together([]string{path}, []string{path, path + "-x"})
		if _, err := Parse(Include(text, "a/b.png")); err != nil && !strings.Contains(err.Error(), "patterns") &&
			!strings.Contains(err.Error(), "larger") {
			t.Fatalf("with an exception it can't be read any more: %v\n%s", err, text)
		}
	})
}

func ExampleRules_Decide() {
	r, _ := Parse([]byte("[[rule]]\nmatch = \"/levels/\"\nlock = \"on-edit\"\n"))
	d := r.Decide("levels/harbour.glb")
	fmt.Println(d.Kind, d.Lock, d.LockBy)
	// Output: asset on-edit "/levels/" in line 2 of tarn.toml
}

func TestWhatTheRulesSayOfLocks(t *testing.T) {
	r := parsed(t, "[locks]\noffer-for = \"30 minutes\"\nanswer-within = \"1 hour\"\nforgotten-after = \"2 weeks\"\nwhen-behind = \"warn\"\n")
	if want := (Locks{OfferFor: 30 * time.Minute, AnswerWithin: time.Hour, ForgottenAfter: 14 * 24 * time.Hour,
		BehindWarns: true}); r.Locks != want {
		t.Errorf("%+v", r.Locks)
	}
	if r := parsed(t, "[locks]\nforgotten-after = \"never\"\n"); r.Locks.ForgottenAfter != 0 || r.Locks.OfferFor != DefaultLocks.OfferFor {
		t.Errorf("%+v", r.Locks)
	}
	for text, want := range map[string]string{
		"[locks]\noffer-for = \"never\"\n":        `line 2, column 1: offer-for is a time between a minute and a year`,
		"[locks]\noffer-for = \"5\"\n":            `this is "5"`,
		"[locks]\noffer-for = \"0 days\"\n":       `this is "0 days"`,
		"[locks]\noffer-for = \"-1 days\"\n":      `this is "-1 days"`,
		"[locks]\nanswer-within = \"60 weeks\"\n": `this is "60 weeks"`,
		"[locks]\nwhen-behind = \"ask\"\n":        "line 2, column 1",
		"[locks]\nofer-for = \"1 day\"\n":         "offer-for",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// TestAShutFolderStaysShut: a rule that names no place does not open a folder that is left out as a whole; one that names it does.
func TestAShutFolderStaysShut(t *testing.T) {
	r, err := Parse([]byte("otherwise = \"code\"\n[[rule]]\nmatch = \"cache/\"\nkind = \"ignored\"\n[[rule]]\nmatch = \"*.png\"\nkind = " +
		"\"asset\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"cache/x.png": Ignored, "deep/cache/x.png": Ignored, "cache/deep/x.png": Ignored, "x.png": Asset,
		"caches/x.png": Asset} {
		if got := r.Decide(path).Kind; got != want {
			t.Errorf("%s is %s, want %s", path, got, want)
		}
	}
	if _, shut := r.Shut("cache"); !shut {
		t.Error("the folder is looked into")
	}
	if r, err = Parse([]byte("[[rule]]\nmatch = \"cache/\"\nkind = \"ignored\"\n" +
		"[[rule]]\nmatch = \"/cache/kept/*.png\"\nkind = \"asset\"\n")); err != nil {
		t.Fatal(err)
	}
	if got := r.Decide("cache/kept/x.png").Kind; got != Asset {
		t.Errorf("named by its place, it is %s", got)
	}
}

// TestPresetsNamedAgainAndAgain cost what they cost once.
func TestPresetsNamedAgainAndAgain(t *testing.T) {
	once, err := Parse([]byte("presets = [\"game\"]\n"))
	if err != nil {
		t.Fatal(err)
	}
	often, err := Parse([]byte("presets = [" + strings.Repeat("\"game\",", 30_000) + "]\n"))
	if err != nil || len(often.List) != len(once.List) {
		t.Errorf("%d rules, want %d, %v", len(often.List), len(once.List), err)
	}
}
