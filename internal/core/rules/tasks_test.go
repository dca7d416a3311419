package rules

import (
	"strings"
	"testing"
)

func TestTaskLinks(t *testing.T) {
	r, err := Parse([]byte(`
[[task]]
match = "*"
link = "https://tasks.example/all/{task}"

[[task]]
match = "BRL-*"
link = "https://tasks.example/brinelight?id={task}&of=1"
`))
	if err != nil {
		t.Fatal(err)
	}
	for task, want := range map[string]string{
		"BRL-112":      "https://tasks.example/brinelight?id=BRL-112&of=1",
		"brl-7":        "https://tasks.example/brinelight?id=brl-7&of=1",
		"TID-31":       "https://tasks.example/all/TID-31",
		"a/../b?x=1&y": "https://tasks.example/all/a%2F..%2Fb%3Fx=1&y",
	} {
		if got := FollowTask(r.Tasks, task); got != want {
			t.Errorf("%s leads to %s, want %s", task, got, want)
		}
	}
	if got := FollowTask(r.Tasks[1:], "TID-31"); got != "" {
		t.Errorf("TID-31 leads to %s", got)
	}
	for text, want := range map[string]string{
		"[[task]]\nmatch = \"BRL-*\"\nlink = \"javascript:alert(1)//{task}\"": "line 3, column 1: link is an address",
		"[[task]]\nmatch = \"BRL-*\"\nlink = \"https://tasks.example/\"":      "{task}",
		"[[task]]\nlink = \"https://tasks.example/{task}\"":                   "match is how",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q in it", text, err, want)
		}
	}
}
