package service_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/keeping"
	"kettletarn/internal/testbed"
)

const kitRules = "[[kit]]\nname = \"lamp-parts\"\nmatch = \"*.glb\"\n"

// reef starts the project undertow of rurik's, who may look into brinelight, which has released lamp-parts@1, and uses it in parts.
func (m *team) reef() {
	m.Helper()
	ctx := m.Context()
	ok(m)(m.send(m.odile, m.change(m.odile, "tarn.toml", 0, 0, kitRules), m.change(m.odile, "lamp.glb", 0, 0, "lamp"),
		m.change(m.odile, "post.glb", 0, 0, "post")))
	ok(m)(m.ReleaseKit(ctx, m.odile, key, model.KitReleaseRequest{Kit: "lamp-parts", Note: "Lamp"}))
	ok(m)(m.StartProject(ctx, m.rurik, "undertow"))
	ok(m)(m.ChangeKit(ctx, m.rurik, "undertow", model.KitRequest{Kit: key + "/lamp-parts", Dir: "parts", Workspace: model.KindConsole},
		uuid.NewString()))
}

// edit hands something in the use off, as rurik.
func (m *team) edit(path string, base int, text string) {
	m.Helper()
	c := testbed.Cut(m, []byte(text))
	ok(m)(m.StoreChunks(m.Context(), m.rurik, "undertow", testbed.From(c.Records)))
	ok(m)(m.Send(m.Context(), m.rurik, "undertow", handoffs.Send{Key: uuid.NewString(), Workspace: model.KindConsole, TakeFree: true,
		About: model.About{Note: "a pass"}, Changes: []handoffs.Change{{Path: path, Base: base, Content: c.Content, Size: c.Size}}}, nil))
}

// TestAnOfferGoesToTheMakers: as a branch and a review; with the rights of whoever offers, once for a key, and with nothing left behind
// where it is refused.
func TestAnOfferGoesToTheMakers(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	m.reef()
	offer := func(actor ground.Actor, once string) (model.KitOffer, error) {
		return m.OfferKit(ctx, actor, "undertow", model.KitOfferRequest{Dir: "parts", Why: "The hinge was off"}, once)
	}
	_, err := offer(m.rurik, uuid.NewString())
	testbed.Problem(t, err, model.BadRequest) // nothing is changed
	m.edit("parts/lamp.glb", 1, "lamp of the reef")
	m.edit("parts/own.glb", 0, "the team's own")

	// Somebody who may look at both, and hand off in one: not in the other.
	ok(t)(m.SetMember(ctx, m.rurik, "undertow", m.viewer.Handle, model.Artist))
	_, err = offer(m.viewer, uuid.NewString())
	testbed.Problem(t, err, model.NotAllowed)
	_, err = offer(m.tamsin, uuid.NewString())
	testbed.Problem(t, err, model.NotFound) // not hers to look at

	// A lock there is a lock; what it stopped leaves no open branch, and the next try takes that one up.
	m.lock(m.tamsin, "lamp.glb", 1)
	for range 2 {
		_, err = offer(m.rurik, uuid.NewString())
		if r := testbed.Refused(t, err); len(r) != 1 || !strings.Contains(r[0].Message, "tamsin") {
			t.Fatalf("%+v", r)
		}
	}
	branches, err := m.Branches(ctx, m.odile, key)
	if err != nil || len(branches) != 2 || branches[1].State != model.Closed {
		t.Fatalf("%+v, %v", branches, err)
	}
	m.giveBack(m.tamsin, "lamp.glb")
	once := uuid.NewString()
	got, err := offer(m.rurik, once)
	if err != nil || got.Branch != "undertow/lamp-parts" || got.Project != key || !slices.Equal(got.Paths, []string{"lamp.glb"}) ||
		!slices.Equal(got.Asked, []string{"odile"}) {
		t.Fatalf("%+v, %v", got, err)
	}
	if again, err := offer(m.rurik, once); err != nil || again.Handoff != got.Handoff || again.Review != got.Review {
		t.Errorf("the same key again: %+v, %v", again, err)
	}
	r, err := m.Review(ctx, m.odile, key, got.Review)
	if err != nil || r.Branch != got.Branch || !strings.Contains(r.Text, "From parts in undertow, where brinelight/lamp-parts@1 is used") {
		t.Errorf("%+v, %v", r, err)
	}
	second, err := offer(m.rurik, uuid.NewString())
	if err != nil || second.Branch != "undertow/lamp-parts-2" {
		t.Errorf("another offer: %+v, %v", second, err)
	}

	// Taken, it comes with the next release, and the use is as it came again.
	ok(t)(m.merge(m.odile, got.Branch, model.FirstBranch))
	ok(t)(m.ReleaseKit(ctx, m.odile, key, model.KitReleaseRequest{Kit: "lamp-parts", Note: "The hinge"}))
	answer, err := m.ChangeKit(ctx, m.rurik, "undertow", model.KitRequest{Dir: "parts", Workspace: model.KindConsole}, uuid.NewString())
	if err != nil || len(answer.Kept) != 0 || answer.Use.Release != 2 {
		t.Errorf("%+v, %v", answer, err)
	}
	if users, err := m.KitUsers(ctx, m.rurik, key, "lamp-parts"); err != nil || len(users.Uses) != 1 || len(users.Uses[0].Changed) != 0 {
		t.Errorf("%+v, %v", users, err)
	}
	if again, err := offer(m.rurik, once); err != nil || again.Handoff != got.Handoff || again.Review != got.Review {
		t.Errorf("the same key once it was taken: %+v, %v", again, err)
	}
}

// TestWhoUsesAKitAndHears: only those who may look learn of a use; a release is told where somebody belongs to both, without its note.
func TestWhoUsesAKitAndHears(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	m.reef()
	release := func() {
		t.Helper()
		ok(t)(m.ReleaseKit(ctx, m.odile, key, model.KitReleaseRequest{Kit: "lamp-parts", Note: "a secret of brinelight"}))
	}
	told := func() int {
		return m.one(`select count(*) from events e join projects p on p.id = e.project_id where p.key = 'undertow' and kind = 'kit.newer'
			and subject::text not like '%secret%'`)
	}
	users := func(actor ground.Actor) int {
		t.Helper()
		u, err := m.KitUsers(ctx, actor, key, "lamp-parts")
		if err != nil {
			t.Fatal(err)
		}
		return len(u.Uses)
	}
	if a, b := users(m.rurik), users(m.odile); a != 1 || b != 0 {
		t.Errorf("rurik sees %d uses, odile %d", a, b)
	}
	release()
	if n := told(); n != 1 {
		t.Errorf("it was told %d times", n)
	}
	behind := func() []model.KitUse {
		t.Helper()
		page, err := m.Changes(ctx, m.rurik, "undertow", history.Changes{WithLocks: true})
		if err != nil {
			t.Fatal(err)
		}
		return page.KitsBehind
	}
	if got := behind(); len(got) != 1 || got[0].Release != 1 || got[0].Newest != 2 || got[0].Dir != "parts" {
		t.Errorf("behind: %+v", got)
	}

	// Without rights in brinelight nothing new of it is learned, by no way; what is there stays.
	ok(t)(nil, m.RemoveMember(ctx, m.odile, key, "rurik"))
	release()
	if n := told(); n != 1 || len(behind()) != 0 {
		t.Errorf("told %d times; behind: %+v", n, behind())
	}
	kits, err := m.Kits(ctx, m.rurik, "undertow", "")
	if err != nil || len(kits.Uses) != 1 || kits.Uses[0].Newest != 0 || kits.Uses[0].Release != 1 {
		t.Errorf("%+v, %v", kits, err)
	}
	_, err = m.KitUsers(ctx, m.rurik, key, "lamp-parts")
	testbed.Problem(t, err, model.NotFound)
	_, err = m.KitState(ctx, m.rurik, key, "lamp-parts", 1, 0)
	testbed.Problem(t, err, model.NotFound)
	_, err = m.OfferKit(ctx, m.rurik, "undertow", model.KitOfferRequest{Dir: "parts", Why: "why"}, uuid.NewString())
	testbed.Problem(t, err, model.NotFound)
	for _, q := range []model.KitRequest{{Dir: "parts"}, {Dir: "parts", To: 1}, {Dir: "more", Kit: key + "/lamp-parts"}} {
		q.Workspace = model.KindConsole
		_, err = m.ChangeKit(ctx, m.rurik, "undertow", q, uuid.NewString())
		testbed.Problem(t, err, model.NotFound)
	}
}

// TestAnotherProjectOfTheSameKey gives nothing to those who used a kit of the one that had it before.
func TestAnotherProjectOfTheSameKey(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	m.reef()
	m.sql(`update projects set key = 'brinelight-old' where key = $1`, key)
	ok(t)(m.StartProject(ctx, m.rurik, key))
	c := testbed.Cut(t, []byte(kitRules))
	d := testbed.Cut(t, []byte("not what it was"))
	ok(t)(m.StoreChunks(ctx, m.rurik, key, testbed.From(slices.Concat(c.Records, d.Records))))
	ok(t)(m.Send(ctx, m.rurik, key, handoffs.Send{Key: uuid.NewString(), Workspace: model.KindConsole, About: model.About{Note: "anew"},
		Changes: []handoffs.Change{{Path: "tarn.toml", Content: c.Content, Size: c.Size}, {Path: "lamp.glb", Content: d.Content, Size: d.Size}}},
		nil))
	for range 2 {
		ok(t)(m.ReleaseKit(ctx, m.rurik, key, model.KitReleaseRequest{Kit: "lamp-parts", Note: "anew"}))
	}
	kits, err := m.Kits(ctx, m.rurik, "undertow", "")
	if err != nil || kits.Uses[0].Newest != 0 {
		t.Errorf("%+v, %v", kits, err)
	}
	_, err = m.ChangeKit(ctx, m.rurik, "undertow", model.KitRequest{Dir: "parts", Workspace: model.KindConsole}, uuid.NewString())
	testbed.Problem(t, err, model.Taken)
	if users, err := m.KitUsers(ctx, m.rurik, key, "lamp-parts"); err != nil || len(users.Uses) != 0 {
		t.Errorf("%+v, %v", users, err)
	}
}

// TestKitsComeBackFromThePacks: releases under their numbers, and uses.
func TestKitsComeBackFromThePacks(t *testing.T) {
	k := newKept(t)
	ctx := t.Context()
	k.reef()
	ok(t)(k.ReleaseKit(ctx, k.odile, key, model.KitReleaseRequest{Kit: "lamp-parts", Note: "More"}))
	before, err := k.KitState(ctx, k.odile, key, "lamp-parts", 2, 1)
	if err != nil {
		t.Fatal(err)
	}
	testbed.Eventually(t, "the history in packs", func() bool {
		return k.one(`select count(*) from kit_releases where not packed`)+k.one(`select count(*) from handoffs where not packed`) == 0
	})
	fresh, _ := k.empty()
	if _, err := fresh.Rebuild(ctx, "odile", func(string, int64, int64) {}); err != nil {
		t.Fatal(err)
	}
	odile := comesAgain(t, fresh)
	after, err := fresh.KitState(ctx, odile, key, "lamp-parts", 2, 1)
	if err != nil || after.Note != "More" || after.Person != "odile" || after.Digest != before.Digest || !after.At.Equal(before.At) ||
		len(after.Assets) != 2 {
		t.Errorf("%+v, %v; before %+v", after, err, before)
	}
	// Nobody has read the file of the use yet.
	if users, err := fresh.KitUsers(ctx, odile, key, "lamp-parts"); err != nil || len(users.Uses) != 1 || users.Uses[0].Newest != 2 {
		t.Errorf("%+v, %v", users, err)
	}
	if v, err := fresh.Verify(ctx, keeping.VerifyOptions{Deep: true}); err != nil || len(v.Findings) > 0 {
		t.Errorf("%+v, %v", v, err)
	}
}

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

// TestAKitOfAKit holds what came from another one as assets, without where those came from; and verify knows releases.
func TestAKitOfAKit(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	m.reef()
	rules := testbed.Cut(t, []byte(kitRules))
	ok(t)(m.StoreChunks(ctx, m.rurik, "undertow", testbed.From(rules.Records)))
	ok(t)(m.Send(ctx, m.rurik, "undertow", handoffs.Send{Key: uuid.NewString(), Workspace: model.KindConsole,
		About: model.About{Note: "a kit"}, Changes: []handoffs.Change{{Path: "tarn.toml", Content: rules.Content, Size: rules.Size}}}, nil))
	ok(t)(m.ReleaseKit(ctx, m.rurik, "undertow", model.KitReleaseRequest{Kit: "lamp-parts", Note: "What came"}))
	got, err := m.KitState(ctx, m.rurik, "undertow", "lamp-parts", 0, 0)
	if err != nil || len(got.Assets) != 2 || got.Assets[0].Path != "parts/lamp.glb" {
		t.Fatalf("%+v, %v", got, err)
	}
	// The first project uses what came from it: a ring, which goes round once a release.
	ok(t)(m.SetMember(ctx, m.rurik, "undertow", "odile", model.Viewer))
	ok(t)(m.ChangeKit(ctx, m.odile, key, model.KitRequest{Kit: "undertow/lamp-parts", Dir: "back", Workspace: model.KindConsole},
		uuid.NewString()))
	ok(t)(m.ReleaseKit(ctx, m.odile, key, model.KitReleaseRequest{Kit: "lamp-parts", Note: "All"}))
	if got, err := m.KitState(ctx, m.odile, key, "lamp-parts", 2, 0); err != nil || len(got.Assets) != 4 ||
		got.Assets[0].Path != "back/parts/lamp.glb" || got.Assets[0].Change != "new" {
		t.Errorf("%+v, %v", got, err)
	}
	if v, err := m.Verify(ctx, keeping.VerifyOptions{}); err != nil || len(v.Findings) != 0 {
		t.Errorf("%+v, %v", v.Findings, err)
	}
	m.sql(`update kit_releases set handoff = 99 where note = 'All'`)
	m.sql(`update kit_releases set match = '{"a/[b"}' where note = 'What came'`)
	if v, err := m.Verify(ctx, keeping.VerifyOptions{}); err != nil || len(v.Findings) != 2 || v.Findings[0].Kind != "kit" ||
		!strings.Contains(v.Findings[0].What, "lamp-parts@2 is of h99") {
		t.Errorf("%+v, %v", v.Findings, err)
	}
}
