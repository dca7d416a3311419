package service_test

import (
	"context"
	"strings"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/people"
	"kettletarn/internal/testbed"
)

// door is a sign-on of a house that lets in whoever it is told to.
type door struct{ who model.Account }

func (d *door) Way(_ context.Context, state, nonce, verifier string) (string, error) {
	return "https://login.example/?state=" + state, nil
}

func (d *door) Who(context.Context, string, string, string) (model.Account, error) { return d.who, nil }

// through signs somebody in by the house.
func through(t *testing.T, s *testbed.Service, who model.Account) (model.HouseSignIn, error) {
	t.Helper()
	s.House.SignOn.(*door).who = who
	way, err := s.HouseWay(t.Context())
	if err != nil || !strings.HasSuffix(way.Address, way.State) || len(way.State) < 40 {
		t.Fatalf("%+v, %v", way, err)
	}
	return s.HouseArrived(t.Context(), model.HouseAnswer{State: way.State, Code: "c", From: "a test"})
}

func housed(t *testing.T) (*testbed.Service, ground.Actor) {
	t.Helper()
	s := testbed.NewService(t, nil)
	odile, _ := s.Person(t, "odile")
	s.House = &people.House{SignOn: &door{}, Name: "Saltpan", Roles: []people.GroupRole{
		{Group: "art", Project: key, Role: model.Artist}, {Group: "heads", Project: key, Role: model.Lead},
		{Group: "art", Project: "not-made", Role: model.Artist}}}
	if _, err := s.StartProject(t.Context(), odile, key); err != nil {
		t.Fatal(err)
	}
	return s, odile
}

// TestTheHouseTiesOnce: whoever arrives is nobody until they say by a passphrase who they are; then they are that, and nobody else is.
func TestTheHouseTiesOnce(t *testing.T) {
	s, odile := housed(t)
	ctx := t.Context()
	who := model.Account{Issuer: "https://login.example", Subject: "o1", Handle: "O.Brandt", Name: "Odile Brandt",
		Mail: "odile@saltpan.example", MailChecked: true}
	out, err := through(t, s, who)
	if err != nil || out.SignIn != nil || out.Arrival == nil || out.Arrival.New || out.Arrival.Handle != "o-brandt" ||
		out.Arrival.Shown != "Odile Brandt (odile@saltpan.example)" {
		t.Fatalf("%+v, %v", out, err)
	}
	// Neither what it was asked with, nor an arrival, is good for anything else.
	_, err = s.HouseArrived(ctx, model.HouseAnswer{State: out.Arrival.Secret})
	testbed.Problem(t, err, model.NotFound)
	out, _ = through(t, s, who)
	_, err = s.TieByPassphrase(ctx, model.HouseTie{Secret: out.Arrival.Secret, Handle: "odile", Passphrase: "wrong one entirely"})
	testbed.Problem(t, err, model.WrongPassphrase)
	_, err = s.ComeAsNew(ctx, model.HouseNew{Secret: out.Arrival.Secret, Handle: "somebody"})
	testbed.Problem(t, err, model.NotAllowed)
	in, err := s.TieByPassphrase(ctx, model.HouseTie{Secret: out.Arrival.Secret, Handle: "odile", Passphrase: testbed.Passphrase})
	if err != nil || in.Handle != "odile" || in.Token == "" {
		t.Fatalf("%+v, %v", in, err)
	}
	_, err = s.TieByPassphrase(ctx, model.HouseTie{Secret: out.Arrival.Secret, Handle: "odile", Passphrase: testbed.Passphrase})
	testbed.Problem(t, err, model.NotFound)
	if out, err = through(t, s, who); err != nil || out.SignIn == nil || out.SignIn.Handle != "odile" {
		t.Errorf("%+v, %v", out, err)
	}
	// Another account is not tied to the same person.
	other := who
	other.Subject = "o2"
	out, _ = through(t, s, other)
	err = s.TieMine(ctx, odile, model.HouseTie{Secret: out.Arrival.Secret, Passphrase: "wrong one entirely"})
	testbed.Problem(t, err, model.WrongPassphrase)
	err = s.TieMine(ctx, odile, model.HouseTie{Secret: out.Arrival.Secret, Passphrase: testbed.Passphrase})
	testbed.Problem(t, err, model.Taken)
	ties, err := s.Ties(ctx, odile)
	if err != nil || len(ties.Ties) != 1 || ties.House != "Saltpan" || ties.Ties[0].Used == nil {
		t.Fatalf("%+v, %v", ties, err)
	}
	if err := s.Untie(ctx, odile, ties.Ties[0].Number); err != nil {
		t.Fatal(err)
	}
	// Untied, the other one may be: as somebody who is signed in.
	out, _ = through(t, s, other)
	if err := s.TieMine(ctx, odile, model.HouseTie{Secret: out.Arrival.Secret, Passphrase: testbed.Passphrase}); err != nil {
		t.Fatal(err)
	}
	// Another passphrase by somebody else takes the tie away, as every way in.
	if err := s.ResetPassphrase(ctx, "odile", sealNap); err != nil {
		t.Fatal(err)
	}
	if out, err = through(t, s, other); err != nil || out.SignIn != nil {
		t.Errorf("%+v, %v", out, err)
	}
	// Who was let go is not let in.
	_, err = s.TieByPassphrase(ctx, model.HouseTie{Secret: out.Arrival.Secret, Handle: "odile", Passphrase: sealNap})
	if err != nil {
		t.Fatal(err)
	}
	(&team{T: t, Service: s}).sql(`update people set ended = now() where handle = 'odile'`)
	_, err = through(t, s, other)
	testbed.Problem(t, err, model.NotAllowed)
}

// TestTheHouseTiesByMail: only where the operator says that the provider has checked it, the provider says so of this one, and nobody is
// tied to who has it here.
func TestTheHouseTiesByMail(t *testing.T) {
	s, _ := housed(t)
	do := (&team{T: t, Service: s}).sql
	who := model.Account{Issuer: "https://login.example", Subject: "o1", Mail: "Odile@saltpan.example", MailChecked: true}
	tied := func(who model.Account, want string) {
		t.Helper()
		out, err := through(t, s, who)
		if err != nil || (out.SignIn == nil) != (want == "") || want != "" && out.SignIn.Handle != want {
			t.Errorf("%+v is %+v, %v; want %q", who, out.SignIn, err, want)
		}
	}
	s.House.MailChecked = true
	tied(who, "") // odile has not shown that it is hers
	do(`update people set mail = 'odile@saltpan.example' where handle = 'odile'`)
	s.House.MailChecked = false
	tied(who, "")
	s.House.MailChecked = true
	unchecked := who
	unchecked.MailChecked = false
	tied(unchecked, "")
	s.Person(t, "rurik")
	do(`update people set mail = 'odile@saltpan.example' where handle = 'rurik'`)
	tied(who, "") // whose is it?
	do(`update people set mail = '' where handle = 'rurik'`)
	tied(who, "odile")
	// The house gave the address to somebody else: that is not odile.
	another := who
	another.Subject = "o2"
	tied(another, "")
	moved := who
	moved.Mail = "brandt@saltpan.example"
	tied(moved, "odile")
}

// TestGroupsOfTheHouse: who comes in has what their groups have, until they have it no more; who was let in by name keeps what they are.
func TestGroupsOfTheHouse(t *testing.T) {
	s, odile := housed(t)
	ctx := t.Context()
	do := (&team{T: t, Service: s}).sql
	s.House.NewPeople = true
	who := model.Account{Issuer: "https://login.example", Subject: "k1", Handle: "keiko", Name: "Keiko", Groups: []string{"art", "all"}}
	out, err := through(t, s, who)
	if err != nil || out.Arrival == nil || !out.Arrival.New {
		t.Fatalf("%+v, %v", out, err)
	}
	_, err = s.ComeAsNew(ctx, model.HouseNew{Secret: out.Arrival.Secret, Handle: "odile"})
	testbed.Problem(t, err, model.Taken)
	in, err := s.ComeAsNew(ctx, model.HouseNew{Secret: out.Arrival.Secret, Handle: "keiko", From: "a test"})
	if err != nil || in.Handle != "keiko" {
		t.Fatalf("%+v, %v", in, err)
	}
	keiko, err := s.Authenticate(ctx, in.Token)
	if err != nil {
		t.Fatal(err)
	}
	role := func(want string, byGroup bool) {
		t.Helper()
		members, err := s.Members(ctx, odile, key)
		if err != nil {
			t.Fatal(err)
		}
		got := model.Member{}
		for _, m := range members {
			if m.Handle == "keiko" {
				got = m
			}
		}
		if got.Role != want || got.ByGroup != byGroup {
			t.Errorf("keiko is %q, by group: %v; want %q, %v", got.Role, got.ByGroup, want, byGroup)
		}
	}
	comes := func(groups ...string) {
		t.Helper()
		who.Groups = groups
		if out, err := through(t, s, who); err != nil || out.SignIn == nil {
			t.Fatalf("%+v, %v", out, err)
		}
	}
	role(model.Artist, true)
	comes("heads", "art")
	role(model.Lead, true)
	comes("art")
	role(model.Artist, true)
	comes("all")
	role("", false)
	comes("art")
	// What only the house gives can't be untied from by who has no other way in.
	ties, _ := s.Ties(ctx, keiko)
	testbed.Problem(t, s.Untie(ctx, keiko, ties.Ties[0].Number), model.NotAllowed)
	_, err = s.ChangePassphrase(ctx, keiko, "", sealNap)
	testbed.Problem(t, err, model.WrongPassphrase)
	// Who does not come in by the house for long may have left the group.
	do(`update ties set used = now() - interval '29 days'`)
	if err := s.LetGroupsLapse(ctx); err != nil {
		t.Fatal(err)
	}
	role(model.Artist, true)
	do(`update ties set used = now() - interval '31 days'`)
	if err := s.LetGroupsLapse(ctx); err != nil {
		t.Fatal(err)
	}
	role("", false)
	comes("art")
	role(model.Artist, true)
	// By name it is for good.
	if _, err := s.SetMember(ctx, odile, key, "keiko", model.Viewer); err != nil {
		t.Fatal(err)
	}
	role(model.Viewer, false)
	comes("heads")
	role(model.Viewer, false)
	comes()
	role(model.Viewer, false)
	record, err := s.Deeds(ctx, odile, key, people.DeedQuery{About: "people"})
	if err != nil || !strings.Contains(record.Record[len(record.Record)-1].Text, "a group of the house added keiko as artist") {
		t.Errorf("%+v, %v", record, err)
	}
}

// TestAnInvitationByTheHouse: who has one, and is nobody here, joins by it.
func TestAnInvitationByTheHouse(t *testing.T) {
	s, odile := housed(t)
	ctx := t.Context()
	i, err := s.AddInvitation(ctx, odile, key, model.InvitationRequest{Role: model.Viewer, Uses: 1, Days: 1})
	if err != nil {
		t.Fatal(err)
	}
	_, secret, _ := strings.Cut(i.Address, "#")
	out, _ := through(t, s, model.Account{Issuer: "https://login.example", Subject: "i1", Handle: "imani"})
	_, err = s.ComeAsNew(ctx, model.HouseNew{Secret: out.Arrival.Secret, Handle: "imani", Invitation: secret + "x"})
	testbed.Problem(t, err, model.NotFound)
	if _, err := s.ComeAsNew(ctx, model.HouseNew{Secret: out.Arrival.Secret, Handle: "imani", Invitation: secret}); err != nil {
		t.Fatal(err)
	}
	out, _ = through(t, s, model.Account{Issuer: "https://login.example", Subject: "i2", Handle: "rurik"})
	_, err = s.ComeAsNew(ctx, model.HouseNew{Secret: out.Arrival.Secret, Handle: "rurik", Invitation: secret})
	testbed.Problem(t, err, model.InvitationOver)
}

// TestASignInElsewhere: a program gets in where somebody who is signed in says yes to its code, once, and not where they say no.
func TestASignInElsewhere(t *testing.T) {
	s, _ := housed(t)
	ctx := t.Context()
	rurik, _ := s.Person(t, "rurik")
	do := (&team{T: t, Service: s}).sql
	begin := func() model.Elsewhere {
		t.Helper()
		e, err := s.BeginElsewhere(ctx, "tarn on the farm", "127.0.0.1")
		if err != nil || len(e.Code) != 9 || e.Path != model.ConfirmPath {
			t.Fatalf("%+v, %v", e, err)
		}
		return e
	}
	ask := func(e model.Elsewhere) (model.ElsewhereAnswer, error) {
		do(`update elsewhere set asked = null`)
		return s.AskElsewhere(ctx, e.Secret)
	}
	e := begin()
	if answer, err := ask(e); err != nil || answer.SignIn != nil {
		t.Errorf("before anybody said yes: %+v, %v", answer, err)
	}
	_, err := s.AskElsewhere(ctx, e.Secret)
	testbed.Problem(t, err, model.TooMany)
	_, err = s.LookElsewhere(ctx, rurik, "BBBB-BBBB")
	testbed.Problem(t, err, model.NotFound)
	if found, err := s.LookElsewhere(ctx, rurik, " "+strings.ToLower(e.Code[:4])+e.Code[5:]); err != nil || found.From != "tarn on the farm" {
		t.Errorf("%+v, %v", found, err)
	}
	if err := s.AnswerElsewhere(ctx, rurik, e.Code, true); err != nil {
		t.Fatal(err)
	}
	testbed.Problem(t, s.AnswerElsewhere(ctx, rurik, e.Code, true), model.NotFound) // once
	answer, err := ask(e)
	if err != nil || answer.SignIn == nil || answer.SignIn.Handle != "rurik" {
		t.Fatalf("%+v, %v", answer, err)
	}
	if _, err := s.Authenticate(ctx, answer.SignIn.Token); err != nil {
		t.Error(err)
	}
	_, err = ask(e)
	testbed.Problem(t, err, model.NotFound)

	e = begin()
	if err := s.AnswerElsewhere(ctx, rurik, e.Code, false); err != nil {
		t.Fatal(err)
	}
	_, err = ask(e)
	testbed.Problem(t, err, model.NotAllowed)
	e = begin()
	do(`update elsewhere set until = now() - interval '1 second'`)
	testbed.Problem(t, s.AnswerElsewhere(ctx, rurik, e.Code, true), model.NotFound)
	_, err = ask(e)
	testbed.Problem(t, err, model.NotFound)
	// A token for one project is not somebody.
	if _, err := s.StartProject(ctx, rurik, "farm"); err != nil {
		t.Fatal(err)
	}
	token, err := s.NewToken(ctx, rurik, "farm", model.TokenRequest{Label: "ci", Role: model.Artist, Days: 3})
	if err != nil {
		t.Fatal(err)
	}
	bound, err := s.Authenticate(ctx, token.Token)
	if err != nil {
		t.Fatal(err)
	}
	e = begin()
	testbed.Problem(t, s.AnswerElsewhere(ctx, bound, e.Code, true), model.NotAllowed)
}
