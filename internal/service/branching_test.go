package service_test

import (
	"strings"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/testbed"
)

// goTo says that somebody's workspace is on a branch now.
func (m *team) goTo(actor ground.Actor, branch string) {
	m.Helper()
	m.sql("update workspaces set branch = '" + branch + "' where id = '" + m.space[actor.Handle] + "'")
}

func (m *team) addBranch(name, at string) model.Branch {
	m.Helper()
	b, err := m.AddBranch(m.Context(), m.tamsin, key, model.BranchRequest{Name: name, At: at, Why: "trying it out"})
	if err != nil {
		m.Fatal(err)
	}
	return b
}

func TestABranchGoesItsOwnWay(t *testing.T) {
	m := newTeam(t, nil)
	note := handoffs.Send{About: model.About{Note: "a pass"}}
	m.as(m.tamsin, note, m.change(m.tamsin, "levels/bell.json", 0, 0, "one"), m.change(m.tamsin, "a.png", 0, 0, "a"),
		m.change(m.tamsin, "b.png", 0, 0, "b"))
	m.as(m.tamsin, note, m.change(m.tamsin, "c.png", 0, 0, "c"))
	b := m.addBranch("second/chapter", "h1")
	if b.From != "main" || b.At != 1 || b.Head != 1 || b.State != model.Live || b.Person != "tamsin" || b.Assets != 3 || b.Ahead != 0 ||
		b.Behind != 1 || b.Why == "" {
		t.Errorf("%+v", b)
	}
	m.goTo(m.tamsin, "second/chapter")
	m.as(m.tamsin, note, m.change(m.tamsin, "levels/bell.json", 1, 0, "two"), m.change(m.tamsin, "new.png", 0, 0, "new"))
	m.as(m.tamsin, note, handoffs.Change{Path: "b.png", Base: 1, Gone: true})
	m.goTo(m.tamsin, "main")
	if got := m.state("main"); strings.Contains(got, "new.png") || !strings.Contains(got, "b.png") || !strings.Contains(got, "c.png") {
		t.Errorf("the first branch has %s", got)
	}
	if got := m.state("second/Chapter"); !strings.Contains(got, "new.png") || strings.Contains(got, "b.png") || strings.Contains(got,
		"c.png") {
		t.Errorf("the other has %s", got)
	}
	shown, err := m.Branch(t.Context(), m.odile, key, "second/chapter")
	if err != nil {
		t.Fatal(err)
	}
	if shown.Ahead != 2 || shown.Behind != 1 || shown.Since != 1 || *shown.Here != (model.BranchChanges{New: 1, Changed: 1, Gone: 1}) ||
		*shown.There != (model.BranchChanges{New: 1}) || shown.Clashing != 0 {
		t.Errorf("%+v here %+v there %+v", shown, shown.Here, shown.There)
	}
	// The same asset on both, in different ways, and on a branch of the branch nothing yet.
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "over"}}, m.change(m.tamsin, "a.png", 1, 0, "a2"))
	m.addBranch("third", "second/chapter")
	list, err := m.Branches(t.Context(), m.odile, key)
	if err != nil || len(list) != 3 || list[0].Name != "main" || list[0].From != "" || list[2].From != "second/chapter" || list[2].Head != 4 ||
		list[2].Ahead+list[2].Behind != 0 || list[1].Behind != 2 {
		t.Errorf("%+v, %v", list, err)
	}
}

func TestNamesOfBranches(t *testing.T) {
	m := newTeam(t, nil)
	testbed.Problem(t, second(m.AddBranch(t.Context(), m.tamsin, key, model.BranchRequest{Name: "early"})), model.NotFound)
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "a pass"}}, m.change(m.tamsin, "a.png", 0, 0, "a"))
	if _, err := m.AddMilestone(t.Context(), m.odile, key, model.MilestoneRequest{Name: "first-light"}); err != nil {
		t.Fatal(err)
	}
	m.addBranch("rev-c", "")
	for name, want := range map[string]string{"First-Light": model.Taken, "REV-C": model.Taken, "Main": model.Taken, "h12": model.BadRequest,
		"v3": model.BadRequest, "newest": model.BadRequest, "a//b": model.BadRequest, "/a": model.BadRequest, "a/": model.BadRequest,
		"a/-b": model.BadRequest, "a b": model.BadRequest, "2026-03-02": model.BadRequest, strings.Repeat("a", 61): model.BadRequest} {
		testbed.Problem(t, second(m.AddBranch(t.Context(), m.tamsin, key, model.BranchRequest{Name: name})), want)
	}
	testbed.Problem(t, second(m.AddMilestone(t.Context(), m.odile, key, model.MilestoneRequest{Name: "Rev-C"})), model.Taken)
	testbed.Problem(t, second(m.Branch(t.Context(), m.odile, key, "nobody")), model.NotFound)
	testbed.Problem(t, second(m.AddBranch(t.Context(), m.tamsin, key, model.BranchRequest{Name: "x", At: "nowhere"})), model.NotFound)
}

// second is the error of two results.
func second[T any](_ T, err error) error { return err }

func TestAClosedBranchTakesNothingMore(t *testing.T) {
	m := newTeam(t, nil)
	note := handoffs.Send{About: model.About{Note: "a pass"}}
	m.as(m.tamsin, note, m.change(m.tamsin, "a.png", 0, 0, "a"))
	m.addBranch("given-up", "")
	m.goTo(m.rurik, "given-up")
	m.as(m.rurik, note, m.change(m.rurik, "b.png", 0, 0, "b"))
	testbed.Problem(t, second(m.SetBranchState(t.Context(), m.rurik, key, "given-up", model.Closed)), model.NotAllowed)
	testbed.Problem(t, second(m.SetBranchState(t.Context(), m.odile, key, "main", model.Closed)), model.BadRequest)
	testbed.Problem(t, second(m.SetBranchState(t.Context(), m.odile, key, "given-up", "lost")), model.BadRequest)
	if b, err := m.SetBranchState(t.Context(), m.rurik, key, "given-up", model.Done); err != nil || b.State != model.Done {
		t.Fatalf("%+v, %v", b, err)
	}
	m.as(m.rurik, note, m.change(m.rurik, "c.png", 0, 0, "c"))
	if b, err := m.SetBranchState(t.Context(), m.odile, key, "Given-Up", model.Closed); err != nil || b.State != model.Closed {
		t.Fatalf("%+v, %v", b, err)
	}
	_, err := m.send(m.rurik, m.change(m.rurik, "d.png", 0, 0, "d"))
	testbed.Problem(t, err, model.Taken)
	if got := m.state("given-up"); !strings.Contains(got, "c.png") {
		t.Errorf("a closed branch has %s", got)
	}
	testbed.Problem(t, second(m.SetBranchState(t.Context(), m.rurik, key, "given-up", model.Live)), model.NotAllowed)
	if b, err := m.SetBranchState(t.Context(), m.tamsin, key, "given-up", model.Live); err != nil || b.State != model.Live {
		t.Fatalf("%+v, %v", b, err)
	}
	m.as(m.rurik, note, m.change(m.rurik, "d.png", 0, 0, "d"))
}
