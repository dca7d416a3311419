package service_test

import (
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/courier"
	"kettletarn/internal/postbox"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/testbed"
)

// withSteward is a service that sends mail to a box, somebody who runs it, and odile.
func withSteward(t *testing.T) (s *testbed.Service, steward, odile ground.Actor, box *postbox.Box) {
	t.Helper()
	box, address, err := postbox.Open("127.0.0.1:0", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { box.Close() })
	out, err := courier.New(courier.Options{Mail: "smtp://" + address, From: "tarn@saltpan.example", Address: "https://tarn.example"})
	if err != nil {
		t.Fatal(err)
	}
	s = testbed.NewServiceWith(t, nil, out)
	token, err := s.AddPerson(t.Context(), "steward", testbed.Passphrase, true)
	if err != nil {
		t.Fatal(err)
	}
	if steward, err = s.Authenticate(t.Context(), token); err != nil {
		t.Fatal(err)
	}
	odile, _ = s.Person(t, "odile")
	return s, steward, odile, box
}

const sealNap = "four seals nap slowly"

// TestAWayIn: a link lets whom it is for choose a passphrase, once, until its end; all else that they were signed in by ends.
func TestAWayIn(t *testing.T) {
	s, steward, odile, _ := withSteward(t)
	ctx := t.Context()
	_, err := s.WayIn(ctx, odile, "odile")
	testbed.Problem(t, err, model.NotAllowed)
	_, err = s.WayIn(ctx, steward, "nobody")
	testbed.Problem(t, err, model.NotFound)
	secretOf := func(w model.WayIn, err error) string {
		t.Helper()
		path, secret, _ := strings.Cut(w.Address, "#")
		if err != nil || path != model.WayInPath || len(secret) < 40 || time.Until(w.Until) < 71*time.Hour {
			t.Fatalf("%+v, %v", w, err)
		}
		return secret
	}
	do := (&team{T: t, Service: s}).sql
	first, second := secretOf(s.WayIn(ctx, steward, "odile")), secretOf(s.WayIn(ctx, steward, "odile"))
	take := func(secret, passphrase string) (model.SignIn, error) {
		return s.TakeWayIn(ctx, model.WayInTaken{Secret: secret, Passphrase: passphrase, From: "a test"})
	}
	for _, guess := range []string{"", "x", first[1:], strings.ToUpper(first)} {
		_, err := s.LookAtWayIn(ctx, guess)
		testbed.Problem(t, err, model.NotFound)
		_, err = take(guess, sealNap)
		testbed.Problem(t, err, model.NotFound)
	}
	_, err = take(first, "short")
	testbed.Problem(t, err, model.BadRequest)
	if w, err := s.LookAtWayIn(ctx, first); err != nil || w.Handle != "odile" {
		t.Errorf("%+v, %v", w, err)
	}
	_, before := s.Person(t, "tamsin") // somebody else's sign-in stays
	got, err := take(first, sealNap)
	if err != nil || got.Handle != "odile" || got.Steward {
		t.Fatalf("%+v, %v", got, err)
	}
	ok(t)(s.Authenticate(ctx, got.Token))
	ok(t)(s.Authenticate(ctx, before))
	for _, used := range []string{first, second} {
		_, err = take(used, sealNap)
		testbed.Problem(t, err, model.NotFound)
	}
	_, err = s.SignIn(ctx, "odile", testbed.Passphrase, "a test", false)
	testbed.Problem(t, err, model.WrongPassphrase)
	ok(t)(s.SignIn(ctx, "odile", sealNap, "a test", false))

	// One whose time is over, and one of somebody who was let go meanwhile.
	late := secretOf(s.WayIn(ctx, steward, "odile"))
	do(`update ways_in set until = now() - interval '1 second' where used is null`)
	_, err = take(late, sealNap)
	testbed.Problem(t, err, model.NotFound)
	gone := secretOf(s.WayIn(ctx, steward, "tamsin"))
	ok(t)(s.EndPerson(ctx, "tamsin"))
	_, err = take(gone, sealNap)
	testbed.Problem(t, err, model.NotFound)
	_, err = s.WayIn(ctx, steward, "tamsin")
	testbed.Problem(t, err, model.NotAllowed)

	// Somebody new can't sign in before they took theirs.
	_, err = s.NewPerson(ctx, odile, "bastien", false)
	testbed.Problem(t, err, model.NotAllowed)
	for handle, kind := range map[string]string{"Not A Handle": model.BadRequest, "odile": model.Taken} {
		_, err = s.NewPerson(ctx, steward, handle, false)
		testbed.Problem(t, err, kind)
	}
	fresh := secretOf(s.NewPerson(ctx, steward, "bastien", false))
	_, err = s.SignIn(ctx, "bastien", "", "a test", false)
	testbed.Problem(t, err, model.WrongPassphrase)
	ok(t)(take(fresh, sealNap))
}

// TestAForgottenPassphrase: a link goes to the address that somebody has shown is theirs, and whoever asks learns nothing.
func TestAForgottenPassphrase(t *testing.T) {
	s, _, odile, box := withSteward(t)
	ctx := t.Context()
	do := (&team{T: t, Service: s}).sql
	letters := func() []string {
		list, err := box.Letters()
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	do(`update people set mail = 'steward@saltpan.example' where handle = 'steward'`)
	for _, handle := range []string{"odile", "nobody", "", "steward"} { // no mail, no such person, and one that goes
		if err := s.Forgot(ctx, handle); err != nil {
			t.Errorf("%q: %v", handle, err)
		}
	}
	testbed.Eventually(t, "the link comes", func() bool { return len(letters()) > 0 })
	if err := s.Forgot(ctx, "steward"); err != nil { // not again at once
		t.Error(err)
	}
	do(`update people set mail = 'odile@saltpan.example' where handle = 'odile'`)
	if err := s.Forgot(ctx, "odile"); err != nil {
		t.Error(err)
	}
	testbed.Eventually(t, "the second link comes", func() bool { return len(letters()) > 1 })
	all := letters()
	if len(all) != 2 || !strings.Contains(all[1], "To: <odile@saltpan.example>") {
		t.Fatalf("%q", all)
	}
	_, rest, _ := strings.Cut(strings.ReplaceAll(all[1], "=\n", ""), "https://tarn.example"+model.WayInPath+"#")
	secret, _, _ := strings.Cut(rest, "\n")
	got, err := s.TakeWayIn(ctx, model.WayInTaken{Secret: strings.TrimSpace(secret), Passphrase: sealNap})
	if err != nil || got.Handle != odile.Handle {
		t.Errorf("%q: %+v, %v", secret, got, err)
	}

	none := testbed.NewService(t, nil)
	testbed.Problem(t, none.Forgot(ctx, "odile"), model.NotAllowed)
}

// TestStewards: there is always one who can sign in, and they see how the service is.
func TestStewards(t *testing.T) {
	s, steward, odile, _ := withSteward(t)
	ctx := t.Context()
	testbed.Problem(t, s.SetSteward(ctx, odile, "odile", true), model.NotAllowed)
	testbed.Problem(t, s.SetSteward(ctx, steward, "steward", false), model.NotAllowed)
	ok(t)(s.NewPerson(ctx, steward, "bastien", true)) // who can't sign in yet
	testbed.Problem(t, s.SetSteward(ctx, steward, "steward", false), model.NotAllowed)
	if err := s.SetSteward(ctx, steward, "odile", true); err != nil {
		t.Fatal(err)
	}
	if err := s.SetSteward(ctx, steward, "steward", false); err != nil {
		t.Fatal(err)
	}
	testbed.Problem(t, s.SetSteward(ctx, steward, "nobody", true), model.NotFound)

	_, err := s.Health(ctx, odile) // as she was when she signed in
	testbed.Problem(t, err, model.NotAllowed)
	h, err := s.Health(ctx, steward)
	if err != nil || h.Database == "" || h.DataSize == 0 || h.Schema < 26 || h.Free == 0 || h.Since.IsZero() ||
		len(h.Failing)+len(h.Damage) != 0 {
		t.Errorf("%+v, %v", h, err)
	}

	// How people are called stands beside what they are.
	ok(t)(s.StartProject(ctx, odile, key))
	if p, err := s.SetName(ctx, odile, "  Odile \t Brandt "); err != nil || p.Name != "Odile Brandt" || p.Handle != "odile" {
		t.Errorf("%+v, %v", p, err)
	}
	for _, bad := range []string{"a\x00b", strings.Repeat("x", 81)} {
		_, err := s.SetName(ctx, odile, bad)
		testbed.Problem(t, err, model.BadRequest)
	}
	if list, err := s.Members(ctx, odile, key); err != nil || len(list) != 1 || list[0].Name != "Odile Brandt" {
		t.Errorf("%+v, %v", list, err)
	}
}
