package service_test

import (
	"strings"
	"sync"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/testbed"
)

// invites makes an invitation, and gives its secret.
func (m *team) invites(actor ground.Actor, role string, uses int) (model.Invitation, string) {
	m.Helper()
	i, err := m.AddInvitation(m.Context(), actor, key, model.InvitationRequest{Role: role, Uses: uses, Days: 7})
	if err != nil {
		m.Fatal(err)
	}
	_, secret, _ := strings.Cut(i.Address, "#")
	return i, secret
}

func (m *team) joinsAs(secret, handle string) (model.Joined, error) {
	return m.JoinAsNew(m.Context(), model.InvitedJoin{Secret: secret, Handle: handle, Passphrase: testbed.Passphrase, From: "a test"})
}

func TestInvitations(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	for _, q := range []model.InvitationRequest{{Role: "king", Uses: 1, Days: 7}, {Role: model.Artist, Uses: 0, Days: 7},
		{Role: model.Artist, Uses: 501, Days: 7}, {Role: model.Artist, Uses: 1, Days: 0}, {Role: model.Artist, Uses: 1, Days: 367}} {
		_, err := m.AddInvitation(ctx, m.odile, key, q)
		testbed.Problem(t, err, model.BadRequest)
	}
	for actor, q := range map[ground.Actor]model.InvitationRequest{m.odile: {Role: model.Owner, Uses: 1, Days: 7},
		m.tamsin: {Role: model.Viewer, Uses: 1, Days: 7}} {
		_, err := m.AddInvitation(ctx, actor, key, q)
		testbed.Problem(t, err, model.NotAllowed)
	}
	_, err := m.AddInvitation(ctx, m.odile, key, model.InvitationRequest{Role: model.Artist, Uses: 1, Days: 7, Mail: "a@saltpan.example"})
	testbed.Problem(t, err, model.NotAllowed) // no mail here
	_, err = m.Invitations(ctx, m.tamsin, key)
	testbed.Problem(t, err, model.NotAllowed)

	// Two join by one, and nobody behind them; the link says why.
	made, secret := m.invites(m.odile, model.Artist, 2)
	if offer, err := m.LookAtInvitation(ctx, secret); err != nil || offer.Project != key || offer.By != "odile" || offer.Over != "" {
		t.Errorf("%+v, %v", offer, err)
	}
	for _, guess := range []string{"", "x", secret[1:], strings.ToUpper(secret)} {
		_, err := m.LookAtInvitation(ctx, guess)
		testbed.Problem(t, err, model.NotFound)
		_, err = m.joinsAs(guess, "guesser")
		testbed.Problem(t, err, model.NotFound)
		_, err = m.Join(ctx, m.tamsin, guess)
		testbed.Problem(t, err, model.NotFound)
	}
	_, err = m.joinsAs(secret, "rurik")
	testbed.Problem(t, err, model.Taken)
	_, err = m.JoinAsNew(ctx, model.InvitedJoin{Secret: secret, Handle: "bastien", Passphrase: "short"})
	testbed.Problem(t, err, model.BadRequest)
	_, err = m.joinsAs(secret, "Not A Handle")
	testbed.Problem(t, err, model.BadRequest)
	joined, err := m.joinsAs(secret, "bastien")
	if err != nil || joined.Project != key || joined.Role != model.Artist {
		t.Fatalf("%+v, %v", joined, err)
	}
	bastien, err := m.Authenticate(ctx, joined.SignIn.Token)
	if err != nil {
		t.Fatal(err)
	}
	ok(t)(m.Project(ctx, bastien, key))
	imani, _ := m.Person(t, "imani")
	// Who is in already keeps what they are, and uses nothing up.
	if again, err := m.Join(ctx, bastien, secret); err != nil || again.Role != model.Artist {
		t.Errorf("%+v, %v", again, err)
	}
	if lead, err := m.Join(ctx, m.odile, secret); err != nil || lead.Role != model.Owner {
		t.Errorf("%+v, %v", lead, err)
	}
	ok(t)(m.Join(ctx, imani, secret))
	late, _ := m.Person(t, "late")
	_, err = m.Join(ctx, late, secret)
	testbed.Problem(t, err, model.InvitationOver)
	_, err = m.joinsAs(secret, "later")
	testbed.Problem(t, err, model.InvitationOver)
	if offer, err := m.LookAtInvitation(ctx, secret); err != nil || offer.Over != "used" {
		t.Errorf("%+v, %v", offer, err)
	}
	list, err := m.Invitations(ctx, m.odile, key)
	if err != nil || len(list.Invitations) != 1 || list.Invitations[0].Holds || strings.Join(list.Invitations[0].Joined,
		" ") != "bastien imani" ||
		list.Invitations[0].Address != "" {
		t.Errorf("%+v, %v", list, err)
	}
	testbed.Problem(t, m.EndInvitation(ctx, m.odile, key, 99), model.NotFound)
	testbed.Problem(t, m.EndInvitation(ctx, m.tamsin, key, made.Number), model.NotAllowed)

	// A viewer becomes more by one; an ended one lets nobody in.
	_, more := m.invites(m.odile, model.Artist, 5)
	if up, err := m.Join(ctx, m.viewer, more); err != nil || up.Role != model.Artist {
		t.Errorf("%+v, %v", up, err)
	}
	if err := m.EndInvitation(ctx, m.odile, key, made.Number+1); err != nil {
		t.Fatal(err)
	}
	_, err = m.Join(ctx, late, more)
	testbed.Problem(t, err, model.InvitationOver)
	if offer, err := m.LookAtInvitation(ctx, more); err != nil || offer.Over != "ended" {
		t.Errorf("%+v, %v", offer, err)
	}

	// One holds no longer than the right of who made it.
	ok(t)(m.SetMember(ctx, m.odile, key, "tamsin", model.Lead))
	_, hers := m.invites(m.tamsin, model.Viewer, 5)
	ok(t)(m.Join(ctx, late, hers))
	ok(t)(m.SetMember(ctx, m.odile, key, "tamsin", model.Artist))
	later, _ := m.Person(t, "even-later")
	_, err = m.Join(ctx, later, hers)
	testbed.Problem(t, err, model.InvitationOver)

	// One whose time is over.
	_, old := m.invites(m.odile, model.Viewer, 5)
	m.sql(`update invitations set until = now() - interval '1 minute' where ended is null`)
	_, err = m.Join(ctx, later, old)
	testbed.Problem(t, err, model.InvitationOver)
	if offer, err := m.LookAtInvitation(ctx, old); err != nil || offer.Over != "expired" {
		t.Errorf("%+v, %v", offer, err)
	}
}

// TestAnInvitationForOneLetsOneIn: however many take it at once.
func TestAnInvitationForOneLetsOneIn(t *testing.T) {
	m := newTeam(t, nil)
	_, secret := m.invites(m.odile, model.Viewer, 1)
	var people []ground.Actor
	for _, handle := range []string{"a-one", "b-two", "c-three", "d-four", "e-five"} {
		actor, _ := m.Person(t, handle)
		people = append(people, actor)
	}
	var in sync.Map
	var wait sync.WaitGroup
	for _, actor := range people {
		wait.Go(func() {
			if _, err := m.Join(t.Context(), actor, secret); err == nil {
				in.Store(actor.Handle, true)
			} else {
				testbed.Problem(t, err, model.InvitationOver)
			}
		})
	}
	wait.Wait()
	n := 0
	in.Range(func(any, any) bool { n++; return true })
	if n != 1 {
		t.Errorf("%d joined by an invitation for one", n)
	}
}

// TestLeaving: it is said beforehand what it touches, and then that is so.
func TestLeaving(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one"), m.change(m.tamsin, "b.png", 0, 0, "one"),
		m.change(m.tamsin, "c.png", 0, 0, "one")))
	m.lock(m.tamsin, "a.png", 1)
	m.lock(m.rurik, "b.png", 1)
	ok(t)(m.TakeLocks(ctx, m.tamsin, key, locks.Wish{Workspace: m.space["tamsin"], Wait: true,
		Wants: []locks.Want{{Path: "b.png", Version: 1}}}))
	if err := m.SetHeadsUps(ctx, m.tamsin, key, m.space["tamsin"], []model.UnsentChange{{Path: "c.png", State: model.Edited}}); err != nil {
		t.Fatal(err)
	}
	ok(t)(m.NewToken(ctx, m.tamsin, key, model.TokenRequest{Label: "the build", Role: model.Viewer, Days: 1}))
	_, err := m.Leaving(ctx, m.rurik, key, "tamsin")
	testbed.Problem(t, err, model.NotAllowed)
	for _, who := range []ground.Actor{m.odile, m.tamsin} {
		l, err := m.Leaving(ctx, who, key, "tamsin")
		if err != nil || strings.Join(l.Locks, " ") != "a.png" || l.Waiting != 1 || strings.Join(l.Unsent, " ") != "c.png" || l.Tokens != 1 ||
			l.Only || l.Role != model.Artist {
			t.Errorf("%+v, %v", l, err)
		}
	}
	if l, err := m.Leaving(ctx, m.odile, key, "odile"); err != nil || !l.Only {
		t.Errorf("%+v, %v", l, err)
	}
	testbed.Problem(t, m.RemoveMember(ctx, m.odile, key, "odile"), model.NotAllowed)
	testbed.Problem(t, m.RemoveMember(ctx, m.rurik, key, "tamsin"), model.NotAllowed)
	if err := m.RemoveMember(ctx, m.tamsin, key, "tamsin"); err != nil {
		t.Fatal(err)
	}
	if tokens, err := m.Tokens(ctx, m.odile, key); err != nil || len(tokens) != 0 {
		t.Errorf("%+v, %v", tokens, err)
	}
	locks, err := m.Locks(ctx, m.odile, key, "")
	if err != nil || len(locks) != 1 || locks[0].Holder != "rurik" || len(locks[0].Waitlist) != 0 {
		t.Errorf("%+v, %v", locks, err)
	}
	testbed.Problem(t, m.RemoveMember(ctx, m.odile, key, "tamsin"), model.NotFound)
	// An owner leaves where there is another one.
	ok(t)(m.SetMember(ctx, m.odile, key, "rurik", model.Owner))
	if err := m.RemoveMember(ctx, m.odile, key, "odile"); err != nil {
		t.Error(err)
	}
}
