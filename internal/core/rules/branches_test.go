package rules

import (
	"strings"
	"testing"
)

func TestRulesForBranches(t *testing.T) {
	r, err := Parse([]byte(`
[[branch]]
match = ["main", "release/*"]
direct = "lead"

[[branch]]
match = "release/*"
direct = "nobody"
from = ["main", "fix/*"]

[[branch]]
match = ["*", "!try/*", "!main", "!release/"]
from = "main"

[[branch]]
match = "main"
yes = 2
yes-by = "lead"
`))
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"only leads hand off directly",
		"nobody hands off directly; only main and fix/* come in", "only main comes in", "2 leads have to have said yes"} {
		if got := r.Branches[i].Says(); got != want {
			t.Errorf("rule %d says %q, not %q", i, got, want)
		}
	}
	for branch, want := range map[string][2]string{"main": {"lead", ""}, "Main": {"lead", ""}, "release/2": {"nobody", "main, fix/*"},
		"second-chapter": {"artist", "main"}, "try/this": {"artist", ""}} {
		b := r.ForBranch(branch)
		if b.Direct != want[0] || strings.Join(b.From, ", ") != want[1] {
			t.Errorf("%s: %+v", branch, b)
		}
	}
	if b := r.ForBranch("main"); b.Yes != 2 || b.YesRole != "lead" || b.Direct != "lead" || b.YesFrom.Line != 16 {
		t.Errorf("%+v", b)
	}
	release := r.ForBranch("release/2")
	for _, c := range []struct{ got, want string }{
		{r.ForBranch("main").MayHandOff("main", true), ""},
		{r.ForBranch("main").MayHandOff("main", false), `only leads hand off directly, by "main" in line 3 of tarn.toml`},
		{release.MayHandOff("release/2", true), `only gets what is merged into it, by "release/*" in line 7 of tarn.toml`},
		{r.ForBranch("x").MayHandOff("x", false), ""},
		{release.MayCome("Fix/bell", "release/2"), ""},
		{release.MayCome("second-chapter", "release/2"), "into release/2 come only main, fix/*, by"},
		{r.ForBranch("main").MayCome("anything", "main"), ""},
	} {
		if c.want == "" && c.got != "" || !strings.Contains(c.got, c.want) {
			t.Errorf("%q, want %q", c.got, c.want)
		}
	}
	for text, want := range map[string]string{
		"[[branch]]\nmatch = \"main\"":                             "line 1, column 3: this rule says neither",
		"[[branch]]\nmatch = \"main\"\ndirect = \"leads\"":         `this is "leads"; did you mean "lead"?`,
		"[[branch]]\nmatch = \"main\"\nyes = 21":                   "1 to 20",
		"[[branch]]\nmatch = \"main\"\nyes = 1\nyes-by = \"boss\"": "yes-by is one of",
		"[[branch]]\ndirect = \"lead\"":                            "it needs match",
		"[[branch]]\nmatch = \"main\"\nfrom = [1]":                 "line 3",
		"[[branch]]\nmatch = \"main\"\ndirekt = \"nobody\"":        `did you mean "direct"?`,
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
