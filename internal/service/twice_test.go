package service_test

import (
	"fmt"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// TestWhatIsThereTwice: byte for byte, what takes the most first; what went, or was changed since, is not there any more.
func TestWhatIsThereTwice(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.rurik, m.change(m.rurik, "a.png", 0, 0, "rust rust"), m.change(m.rurik, "old/a.png", 0, 0, "rust rust"),
		m.change(m.rurik, "b.png", 0, 0, "kelp"), m.change(m.rurik, "c.png", 0, 0, "kelp"), m.change(m.rurik, "d.png", 0, 0, "kelp"),
		m.change(m.rurik, "e.png", 0, 0, ""), m.change(m.rurik, "f.png", 0, 0, ""), m.change(m.rurik, "g.png", 0, 0, "fog")))
	told := func(path string) string {
		t.Helper()
		found, err := m.Twice(t.Context(), m.viewer, key, path, 0)
		if err != nil {
			t.Fatal(err)
		}
		out := fmt.Sprintf("%d, %d bytes:", found.Total, found.Wasted)
		for _, c := range found.Contents {
			out += fmt.Sprintf(" %d of %d", c.Count, c.Size)
			for _, a := range c.Assets {
				out += " " + a.Path
			}
		}
		return out
	}
	if got := told(""); got != "2, 17 bytes: 2 of 9 a.png old/a.png 3 of 4 b.png c.png d.png" {
		t.Error(got)
	}
	if got := told("C.png"); got != "1, 0 bytes: 2 of 4 b.png d.png" {
		t.Error(got)
	}
	if got := told("g.png"); got != "0, 0 bytes:" {
		t.Error(got)
	}
	fence := m.lock(m.rurik, "b.png", 1)
	ok(t)(m.send(m.rurik, m.change(m.rurik, "b.png", 1, fence, "kelp, darker")))
	if got := told(""); got != "2, 13 bytes: 2 of 9 a.png old/a.png 2 of 4 c.png d.png" {
		t.Error(got)
	}
	_, err := m.Twice(t.Context(), m.viewer, key, "nowhere.png", 0)
	testbed.Problem(t, err, model.NotFound)
	outsider, _ := m.Person(t, "stranger")
	_, err = m.Twice(t.Context(), outsider, key, "", 0)
	testbed.Problem(t, err, model.NotFound)
}
