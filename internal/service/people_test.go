package service_test

import (
	"strings"
	"testing"

	"github.com/google/uuid"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/testbed"
)

func TestSignIn(t *testing.T) {
	s := testbed.NewService(t, nil)
	ctx := t.Context()
	s.Person(t, "odile")
	first, err := s.SignIn(ctx, "odile", testbed.Passphrase, "a laptop", false)
	if err != nil {
		t.Fatal(err)
	}
	second, err := s.SignIn(ctx, "odile", testbed.Passphrase, "elsewhere", true)
	if err != nil {
		t.Fatal(err)
	}
	if !first.Expires.After(second.Expires) {
		t.Error("a console's sign-in lasts as long as a client's")
	}
	for _, bad := range [][2]string{{"odile", "wrong"}, {"nobody", testbed.Passphrase}, {"odile", ""}, {"", ""},
		{"odile", strings.Repeat("x", 1<<20)}} {
		_, err := s.SignIn(ctx, bad[0], bad[1], "", false)
		testbed.Problem(t, err, model.WrongPassphrase)
	}
	actor, err := s.Authenticate(ctx, first.Token)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.SignOut(ctx, actor, first.Token); err != nil {
		t.Fatal(err)
	}
	_, err = s.Authenticate(ctx, first.Token)
	testbed.Problem(t, err, model.SignInExpired)
	if _, err := s.Authenticate(ctx, second.Token); err != nil {
		t.Errorf("signing out at one place ends another: %v", err)
	}
	_, err = s.Authenticate(ctx, "tarn_made_up")
	testbed.Problem(t, err, model.NotSignedIn)
	_, err = s.AddPerson(ctx, "odile", testbed.Passphrase, false)
	testbed.Problem(t, err, model.Taken)
	for _, bad := range []string{"", "Odile", "a b", "-x", "../x", strings.Repeat("a", 33)} {
		_, err = s.AddPerson(ctx, bad, testbed.Passphrase, false)
		testbed.Problem(t, err, model.BadRequest)
	}
	_, err = s.AddPerson(ctx, "short", "1234567", false)
	testbed.Problem(t, err, model.BadRequest)
}

func TestWhoMayWhat(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	outsider, _ := m.Person(t, "stranger")
	_, err := m.Project(ctx, outsider, key)
	testbed.Problem(t, err, model.NotFound)
	_, err = m.Project(ctx, outsider, "no-such")
	testbed.Problem(t, err, model.NotFound)
	_, err = m.send(m.viewer, handoffs.Change{Path: "a.png"})
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.SetMember(ctx, m.tamsin, key, "stranger", model.Artist)
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.SetMember(ctx, m.odile, key, "nobody", model.Artist)
	testbed.Problem(t, err, model.NotFound)
	_, err = m.SetMember(ctx, m.odile, key, "tamsin", "king")
	testbed.Problem(t, err, model.BadRequest)
	testbed.Problem(t, m.RemoveMember(ctx, m.odile, key, "odile"), model.NotAllowed)
	ok(t)(m.SetMember(ctx, m.odile, key, "tamsin", model.Lead))
	_, err = m.SetMember(ctx, m.tamsin, key, "rurik", model.Owner)
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.SetMember(ctx, m.tamsin, key, "odile", model.Artist)
	testbed.Problem(t, err, model.NotAllowed)
	for _, bad := range []string{"", "Brinelight", "a/b", "a", "../a", "brine light"} {
		_, err := m.StartProject(ctx, m.odile, bad)
		testbed.Problem(t, err, model.BadRequest)
	}
	_, err = m.StartProject(ctx, m.tamsin, key)
	testbed.Problem(t, err, model.Taken)
	_, err = m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["rurik"], About: model.About{Note: "n"},
		Changes: []handoffs.Change{{Path: "a", Gone: true}}}, nil)
	testbed.Problem(t, err, model.NotFound)
}

func TestRemovingAMemberFreesWhatTheyHold(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	m.lock(m.tamsin, "a.png", 1)
	if err := m.RemoveMember(t.Context(), m.odile, key, "tamsin"); err != nil {
		t.Fatal(err)
	}
	locks, err := m.Locks(t.Context(), m.odile, key, "")
	if err != nil || len(locks) != 0 {
		t.Errorf("held still: %+v, %v", locks, err)
	}
	_, err = m.Locks(t.Context(), m.tamsin, key, "")
	testbed.Problem(t, err, model.NotFound)
}
