package service_test

import (
	"testing"

	"github.com/google/uuid"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// TestAKitIsUsedOnce: the same key again is the same handoff; what is refused, or only looked at, brings nothing.
func TestAKitIsUsedOnce(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.odile, m.change(m.odile, "tarn.toml", 0, 0, "[[kit]]\nname = \"lamp-parts\"\nmatch = \"*.glb\"\n"),
		m.change(m.odile, "lamp.glb", 0, 0, noise(3, 5000))))
	ok(t)(m.ReleaseKit(ctx, m.odile, key, model.KitReleaseRequest{Kit: "lamp-parts", Note: "Lamp"}))
	_, err := m.ReleaseKit(ctx, m.tamsin, key, model.KitReleaseRequest{Kit: "lamp-parts", Note: "Lamp"})
	testbed.Problem(t, err, model.NotAllowed)
	ok(t)(m.StartProject(ctx, m.odile, "undertow"))
	w, err := m.AddWorkspace(ctx, m.odile, "undertow", "there")
	if err != nil {
		t.Fatal(err)
	}
	q := model.KitRequest{Kit: key + "/lamp-parts", Dir: "parts/lamp", Workspace: w.ID}
	packs := func() int {
		return m.one(`select count(*) from packs k join projects p on p.id = k.project_id where p.key = 'undertow' and not k.history`)
	}
	look := q
	look.Preview = true
	ok(t)(m.ChangeKit(ctx, m.odile, "undertow", look, uuid.NewString()))
	bad := q
	bad.Workspace = uuid.NewString()
	if _, err := m.ChangeKit(ctx, m.odile, "undertow", bad, uuid.NewString()); err == nil {
		t.Error("a workspace that is none takes a kit")
	}
	bad = q
	bad.Kit += "@1"
	_, err = m.ChangeKit(ctx, m.odile, "undertow", bad, uuid.NewString())
	testbed.Problem(t, err, model.BadRequest)
	if n := packs(); n != 0 {
		t.Errorf("what was not done left %d packs", n)
	}
	again := uuid.NewString()
	first, err := m.ChangeKit(ctx, m.odile, "undertow", q, again)
	if err != nil || first.Handoff == nil || first.Handoff.Number != 1 || packs() == 0 {
		t.Fatalf("%+v, %v", first, err)
	}
	if second, err := m.ChangeKit(ctx, m.odile, "undertow", q, again); err != nil || second.Handoff == nil || second.Handoff.Number != 1 {
		t.Errorf("the same key again: %+v, %v", second, err)
	}
	_, err = m.ChangeKit(ctx, m.odile, "undertow", q, uuid.NewString())
	testbed.Problem(t, err, model.Taken)
	// Whoever may not look at the maker's project learns nothing of its kits.
	stranger, _ := m.Person(t, "stranger")
	_, err = m.ChangeKit(ctx, stranger, "undertow", q, uuid.NewString())
	testbed.Problem(t, err, model.NotFound)
}
