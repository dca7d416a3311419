package service_test

import (
	"fmt"
	"strings"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// TestViews: everybody keeps their own; those of the team are artists' to keep and to remove.
func TestViews(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	keep := func(name string, team bool, query string) {
		t.Helper()
		if _, err := m.KeepView(ctx, m.rurik, key, name, model.ViewRequest{Team: team, Folder: "textures", Query: query}); err != nil {
			t.Fatal(err)
		}
	}
	keep("Mine", false, "lock=by:rurik")
	keep("To do", true, "kind=texture&remarked=true")
	keep("MINE", false, "lock=by:rurik&order=date")
	list := func() string {
		t.Helper()
		var b strings.Builder
		views, err := m.Views(ctx, m.viewer, key)
		if err != nil {
			t.Fatal(err)
		}
		mine, err := m.Views(ctx, m.rurik, key)
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range mine {
			fmt.Fprintf(&b, "%s %t %s?%s by %s; ", v.Name, v.Team, v.Folder, v.Query, v.By)
		}
		fmt.Fprintf(&b, "others see %d", len(views))
		return b.String()
	}
	if got := list(); got != "MINE false textures?lock=by:rurik&order=date by rurik; "+
		"To do true textures?kind=texture&remarked=true by rurik; others see 1" {
		t.Error(got)
	}
	_, err := m.KeepView(ctx, m.viewer, key, "x", model.ViewRequest{Team: true})
	testbed.Problem(t, err, model.NotAllowed)
	testbed.Problem(t, m.RemoveView(ctx, m.viewer, key, "to do", true), model.NotAllowed)
	testbed.Problem(t, m.RemoveView(ctx, m.viewer, key, "mine", false), model.NotFound)
	for _, name := range []string{"", "  ", strings.Repeat("x", 61), "a\nb"} {
		_, err := m.KeepView(ctx, m.rurik, key, name, model.ViewRequest{})
		testbed.Problem(t, err, model.BadRequest)
	}
	for _, query := range []string{"%zz", strings.Repeat("x", 2001)} {
		_, err := m.KeepView(ctx, m.rurik, key, "x", model.ViewRequest{Query: query})
		testbed.Problem(t, err, model.BadRequest)
	}
	if err := m.RemoveView(ctx, m.tamsin, key, "TO DO", true); err != nil {
		t.Error(err)
	}
	if got := list(); !strings.HasSuffix(got, "others see 0") || !strings.HasPrefix(got, "MINE") {
		t.Error(got)
	}
}
