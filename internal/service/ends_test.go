package service_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/keeping"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/service/people"
	"kettletarn/internal/testbed"
)

// TestAnArchivedProjectIsOnlyLookedAt: nothing in it changes, and it comes back as it was.
func TestAnArchivedProjectIsOnlyLookedAt(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	fence := m.lock(m.tamsin, "a.png", 1)
	ok(t)(m.SetMember(ctx, m.odile, key, "rurik", model.Lead))
	for _, who := range []ground.Actor{m.tamsin, m.rurik} {
		_, err := m.Archive(ctx, who, key, true)
		testbed.Problem(t, err, model.NotAllowed)
	}
	hears, later := m.heard(m.viewer), m.change(m.tamsin, "a.png", 1, fence, "two")
	p, err := m.Archive(ctx, m.odile, key, true)
	if err != nil || p.Archived == nil {
		t.Fatalf("%+v, %v", p, err)
	}
	if said := hears("odile archived"); !strings.Contains(said, "odile archived brinelight: it is only looked at from now on") {
		t.Errorf("people hear %q", said)
	}
	for _, who := range []ground.Actor{m.tamsin, m.odile} {
		_, err := m.send(who, later)
		testbed.Problem(t, err, model.Archived)
		_, err = m.TakeLocks(ctx, who, key, locks.Wish{Workspace: m.space[who.Handle], Wants: []locks.Want{{Path: "a.png", Version: 1}}})
		testbed.Problem(t, err, model.Archived)
	}
	ok(t)(m.Project(ctx, m.viewer, key))
	ok(t)(m.Locks(ctx, m.viewer, key, ""))
	p, err = m.Archive(ctx, m.odile, key, false)
	if err != nil || p.Archived != nil {
		t.Fatalf("%+v, %v", p, err)
	}
	ok(t)(m.send(m.tamsin, later)) // the lock is as it was
}

// TestADeletedProjectComesBack: for its days of grace; then it is gone for good, and the record keeps who deleted it.
func TestADeletedProjectComesBack(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	_, err := m.DeleteProject(ctx, m.odile, key, "brinelght")
	testbed.Problem(t, err, model.BadRequest)
	_, err = m.DeleteProject(ctx, m.tamsin, key, key)
	testbed.Problem(t, err, model.NotAllowed)
	d, err := m.DeleteProject(ctx, m.odile, key, key)
	if err != nil || d.By != "odile" || d.Goes.Sub(d.Deleted) != ground.DefaultGrace {
		t.Fatalf("%+v, %v", d, err)
	}
	for _, who := range []ground.Actor{m.odile, m.tamsin} {
		_, err := m.Project(ctx, who, key)
		testbed.Problem(t, err, model.NotFound)
		if list, err := m.Deleted(ctx, who); err != nil || len(list) != 1 || list[0].Key != key {
			t.Errorf("%+v, %v", list, err)
		}
		if list, err := m.Projects(ctx, who); err != nil || len(list) != 0 {
			t.Errorf("%+v, %v", list, err)
		}
	}
	_, err = m.StartProject(ctx, m.tamsin, key)
	testbed.Problem(t, err, model.Taken)
	_, err = m.RestoreProject(ctx, m.tamsin, key)
	testbed.Problem(t, err, model.NotAllowed)
	stranger, _ := m.Person(t, "stranger")
	_, err = m.RestoreProject(ctx, stranger, key)
	testbed.Problem(t, err, model.NotFound)
	if c, err := m.Collect(ctx, keeping.CollectOptions{}); err != nil || c.Projects != 0 {
		t.Errorf("it is gone before its time: %+v, %v", c, err)
	}
	ok(t)(m.RestoreProject(ctx, m.odile, key))
	ok(t)(m.Locks(ctx, m.tamsin, key, ""))
	_, err = m.RestoreProject(ctx, m.odile, key)
	testbed.Problem(t, err, model.NotFound)

	ok(t)(m.DeleteProject(ctx, m.odile, key, key))
	m.sql(`update projects set goes = now() - interval '1 second'`)
	if c, err := m.Collect(ctx, keeping.CollectOptions{}); err != nil || c.Projects != 1 || c.Packs == 0 {
		t.Errorf("%+v, %v", c, err)
	}
	_, err = m.RestoreProject(ctx, m.odile, key)
	testbed.Problem(t, err, model.NotFound)
	steward, err := m.AddPerson(ctx, "steward", testbed.Passphrase, true)
	if err != nil {
		t.Fatal(err)
	}
	actor, err := m.Authenticate(ctx, steward)
	if err != nil {
		t.Fatal(err)
	}
	all, err := m.Deeds(ctx, actor, "", people.DeedQuery{About: "project"})
	if err != nil || !slices.ContainsFunc(all.Record, func(d model.Deed) bool {
		return strings.Contains(d.Text,
			"odile deleted brinelight")
	}) ||
		!slices.ContainsFunc(all.Record, func(d model.Deed) bool { return strings.Contains(d.Text, "brinelight was removed for good") }) {
		t.Errorf("%+v, %v", all, err)
	}
}

// TestTheRecordOfEverything: everything that was done, by who, what and when; what concerns credentials is for leads.
func TestTheRecordOfEverything(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "levels/a.png", 0, 0, "one")))
	m.lock(m.rurik, "levels/a.png", 1)
	ok(t)(m.NewToken(ctx, m.odile, key, model.TokenRequest{Label: "the build", Role: model.Viewer, Days: 1}))
	texts := func(who ground.Actor, q people.DeedQuery) []string {
		t.Helper()
		out, err := m.Deeds(ctx, who, key, q)
		if err != nil {
			t.Fatal(err)
		}
		list := make([]string, len(out.Record))
		for i, d := range out.Record {
			list[i] = d.Text
		}
		return list
	}
	lead, all := texts(m.odile, people.DeedQuery{}), texts(m.tamsin, people.DeedQuery{})
	for _, want := range []string{"odile made the token the build, as viewer", "odile added tamsin as artist"} {
		if !slices.Contains(lead, want) || slices.Contains(all, want) {
			t.Errorf("%q is for leads: %q, %q", want, lead, all)
		}
	}
	if !slices.ContainsFunc(all, func(s string) bool { return strings.HasPrefix(s, "h1 by tamsin") }) ||
		!slices.Contains(all, "rurik took the lock of levels/a.png") {
		t.Errorf("%q", all)
	}
	for q, want := range map[people.DeedQuery]string{{About: "locks"}: "rurik took the lock of levels/a.png",
		{Person: "rurik", About: "locks"}: "rurik took the lock of levels/a.png", {Path: "levels",
			About: "locks"}: "rurik took the lock of levels/a.png"} {
		if got := texts(m.tamsin, q); len(got) != 1 || got[0] != want {
			t.Errorf("%+v: %q", q, got)
		}
	}
	for _, q := range []people.DeedQuery{{Path: "level"}, {Until: time.Now().Add(-time.Hour)}, {Since: time.Now().Add(time.Hour)},
		{About: "reviews"}} {
		if got := texts(m.odile, q); len(got) != 0 {
			t.Errorf("%+v: %q", q, got)
		}
	}
	// Page by page it is the same.
	var paged []string
	for before := int64(0); ; {
		page, err := m.Deeds(ctx, m.odile, key, people.DeedQuery{Before: before, Limit: 2})
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range page.Record {
			paged = append(paged, d.Text)
		}
		if before = page.Next; before == 0 {
			break
		}
	}
	if !slices.Equal(paged, lead) {
		t.Errorf("%q\n%q", paged, lead)
	}
	_, err := m.Deeds(ctx, m.odile, key, people.DeedQuery{About: "weather"})
	testbed.Problem(t, err, model.BadRequest)
	_, err = m.Deeds(ctx, m.odile, "", people.DeedQuery{})
	testbed.Problem(t, err, model.NotAllowed)
}
