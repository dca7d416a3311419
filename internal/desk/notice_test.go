package desk

import (
	"testing"

	"kettletarn/internal/workspace/watching"
)

func TestNoticesLeadToTheirPages(t *testing.T) {
	for want, n := range map[string]watching.Notice{
		"/p/brinelight/asset/textures/rust%20%231.png": {Paths: []string{"textures/rust #1.png"}, Handoff: 4},
		"/p/brinelight/handoffs/4":                     {Paths: []string{"a.png", "b.png"}, Handoff: 4},
		"/desk":                                        {Paths: []string{"a.png", "b.png"}},
	} {
		if got := pageOf("brinelight", n); got != want || ownPage(got) != want {
			t.Errorf("%+v leads to %s, want %s", n, got, want)
		}
	}
}
