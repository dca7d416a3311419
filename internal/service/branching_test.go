package service_test

import (
	"fmt"
	"strings"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/keeping"
	"kettletarn/internal/service/locks"
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

// TestLocksAskEveryLiveBranch: a lock is refused where another live branch has a version that the one at hand was not made from.
func TestLocksAskEveryLiveBranch(t *testing.T) {
	m := newTeam(t, nil)
	note := handoffs.Send{About: model.About{Note: "a pass"}}
	m.as(m.tamsin, note, m.change(m.tamsin, "a.png", 0, 0, "a1"), m.change(m.tamsin, "b.png", 0, 0, "b1"), m.change(m.tamsin, "c.png", 0, 0,
		"c1"))
	m.addBranch("apart", "")
	m.addBranch("still", "")
	take := func(actor ground.Actor, path string, version int, wish locks.Wish) error {
		t.Helper()
		wish.Workspace, wish.Wants = m.space[actor.Handle], []locks.Want{{Path: path, Version: version}}
		g, err := m.TakeLocks(t.Context(), actor, key, wish)
		if err == nil && len(g.Locks) == 1 {
			m.giveBack(actor, path)
		}
		return err
	}
	fine := func(what string, err error) {
		t.Helper()
		if err != nil {
			t.Errorf("%s: %v", what, err)
		}
	}
	// The branches have nothing of their own yet.
	fine("nothing is apart", take(m.rurik, "a.png", 1, locks.Wish{}))
	m.goTo(m.tamsin, "apart")
	m.as(m.tamsin, note, m.change(m.tamsin, "a.png", 1, m.lock(m.tamsin, "a.png", 1), "a2"))
	fine("the newest of all", take(m.tamsin, "a.png", 2, locks.Wish{}))
	fine("another asset", take(m.rurik, "b.png", 1, locks.Wish{}))
	for _, wish := range []locks.Wish{{}, {WillUpdate: true}} {
		err := take(m.rurik, "a.png", 1, wish)
		reason(t, err, "apart")
		if r := testbed.Refused(t, err)[0]; !strings.Contains(r.Message, "apart has version 2") {
			t.Errorf("%+v", r)
		}
	}
	// Taken knowingly, everyone sees it; and then there are two lines.
	g := ok2[locks.Grant](t)(m.TakeLocks(t.Context(), m.rurik, key, locks.Wish{Workspace: m.space["rurik"], Diverge: true,
		Wants: []locks.Want{{Path: "a.png", Version: 1}}}))
	if g.Locks[0].Diverged != 1 {
		t.Errorf("%+v", g.Locks[0])
	}
	if held, err := m.Locks(t.Context(), m.odile, key, "a.png"); err != nil || len(held) != 1 || held[0].Diverged != 1 {
		t.Errorf("%+v, %v", held, err)
	}
	m.as(m.rurik, note, m.change(m.rurik, "a.png", 1, g.Locks[0].Fence, "a3"))
	reason(t, take(m.rurik, "a.png", 3, locks.Wish{}), "apart")
	reason(t, take(m.tamsin, "a.png", 2, locks.Wish{}), "apart")
	reason(t, take(m.tamsin, "a.png", 1, locks.Wish{}), "behind")
	// A branch of the branch has the same line; so it is named with it.
	m.addBranch("further", "apart")
	if r := testbed.Refused(t, take(m.rurik, "a.png", 3, locks.Wish{}))[0]; !strings.Contains(r.Message, "1 more") {
		t.Errorf("%+v", r)
	}
	// Those that are done count, those that are closed do not.
	for _, name := range []string{"apart", "further"} {
		ok(t)(m.SetBranchState(t.Context(), m.tamsin, key, name, model.Done))
	}
	reason(t, take(m.rurik, "a.png", 3, locks.Wish{}), "apart")
	for _, name := range []string{"apart", "further"} {
		ok(t)(m.SetBranchState(t.Context(), m.tamsin, key, name, model.Closed))
	}
	fine("they are closed", take(m.rurik, "a.png", 3, locks.Wish{}))
	ok(t)(m.SetBranchState(t.Context(), m.tamsin, key, "further", model.Live))
	reason(t, take(m.rurik, "a.png", 3, locks.Wish{}), "apart")
	// What was deleted elsewhere is newer there, too.
	m.goTo(m.tamsin, "still")
	m.as(m.tamsin, note, handoffs.Change{Path: "c.png", Base: 1, Gone: true, Fence: m.lock(m.tamsin, "c.png", 1)})
	if r := testbed.Refused(t, take(m.rurik, "c.png", 1, locks.Wish{}))[0]; r.Reason != "apart" || !strings.Contains(r.Message, "deleted it") {
		t.Errorf("%+v", r)
	}
}

func ok2[T any](t *testing.T) func(T, error) T {
	return func(v T, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

// TestBranchesHaveTheirAssetsAtPlacesOfTheirOwn: a move on one branch leaves the other where it is; names that are free on a branch are
// free there; and a branch from an old state finds its assets where they were then.
func TestBranchesHaveTheirAssetsAtPlacesOfTheirOwn(t *testing.T) {
	m := newTeam(t, nil)
	note := handoffs.Send{About: model.About{Note: "a pass"}}
	m.as(m.tamsin, note, m.change(m.tamsin, "a.png", 0, 0, "a1"), m.change(m.tamsin, "b.png", 0, 0, "b1"))
	m.addBranch("apart", "")
	id := func(at, path string) (id int) {
		t.Helper()
		return m.one(`select v.asset_id from versions v join handoffs h on h.project_id = v.project_id and h.number = v.handoff
			join branches b on b.id = h.branch_id where v.path = $1 and ($2 = '' or b.name = $2) order by v.handoff desc limit 1`, path, at)
	}
	a := id("", "a.png")
	// On the branch it goes elsewhere; on main its next version is that of the same asset.
	m.goTo(m.rurik, "apart")
	m.as(m.rurik, note, handoffs.Change{Path: "far/a.png", MovedFrom: "a.png", Base: 1, Fence: m.lock(m.rurik, "a.png", 1),
		Content: m.content(m.rurik, []byte("a1")).Content, Size: 2})
	m.as(m.tamsin, note, m.change(m.tamsin, "b.png", 1, m.lock(m.tamsin, "b.png", 1), "b2"))
	g := ok2[locks.Grant](t)(m.TakeLocks(t.Context(), m.tamsin, key, locks.Wish{Workspace: m.space["tamsin"], Diverge: true,
		Wants: []locks.Want{{Path: "a.png", Version: 1}}}))
	m.as(m.tamsin, note, m.change(m.tamsin, "a.png", 1, g.Locks[0].Fence, "a3"))
	if got := id("main", "a.png"); got != a || id("apart", "far/a.png") != a {
		t.Errorf("the asset %d is %d on main and %d on the branch", a, got, id("apart", "far/a.png"))
	}
	// Its old name is free on the branch, and its new name on main; both are other assets.
	m.as(m.rurik, note, m.change(m.rurik, "a.png", 0, 0, "another"))
	m.as(m.tamsin, note, m.change(m.tamsin, "far/a.png", 0, 0, "yet another"))
	fresh := id("apart", "a.png")
	if fresh == a || id("main", "far/a.png") == a {
		t.Errorf("%d and %d are the asset %d", fresh, id("main", "far/a.png"), a)
	}
	for at, want := range map[string]string{"main": "a.png=v3 b.png=v2 far/a.png=v1", "apart": "a.png=v1 b.png=v1 far/a.png=v2"} {
		if got := m.held(at); got != want {
			t.Errorf("%s has %s, want %s", at, got, want)
		}
	}
	// What is asked for by its path is that of the branch that one is on.
	if g, err := m.take(m.rurik, locks.Wish{}, "a.png"); err != nil || len(g.Locks) != 1 {
		t.Errorf("%+v, %v", g, err)
	}
	if n := m.one(`select count(*) from assets where holder_id is not null and id = $1`, fresh); n != 1 {
		t.Error("another asset of that name was locked")
	}
	// A branch from the beginning has what was at its place then, and goes on from there.
	m.addBranch("early", "h1")
	m.goTo(m.odile, "early")
	g = ok2[locks.Grant](t)(m.TakeLocks(t.Context(), m.odile, key, locks.Wish{Workspace: m.space["odile"], Diverge: true,
		Wants: []locks.Want{{Path: "a.png", Version: 1}}}))
	m.as(m.odile, note, m.change(m.odile, "a.png", 1, g.Locks[0].Fence, "a4"))
	if got := id("early", "a.png"); got != a {
		t.Errorf("on the branch from before the move it is %d, want %d", got, a)
	}
	if out, err := m.Verify(t.Context(), keeping.VerifyOptions{}); err != nil || len(out.Findings) != 0 {
		t.Errorf("%+v, %v", out.Findings, err)
	}
}

// held is what a state holds, with versions.
func (m *team) held(at string) string {
	m.Helper()
	page, err := m.Changes(m.Context(), m.odile, key, history.Changes{At: at})
	if err != nil {
		m.Fatal(err)
	}
	var out []string
	for _, a := range page.Assets {
		out = append(out, fmt.Sprintf("%s=v%d", a.Path, a.Newest))
	}
	return strings.Join(out, " ")
}
