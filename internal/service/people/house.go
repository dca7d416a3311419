package people

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// SignOn is the sign-on of the house. Its methods return within half a minute, and are safe for concurrent use.
type SignOn interface {
	// Way is where a browser goes; state, nonce and verifier are texts that nobody guesses.
	Way(ctx context.Context, state, nonce, verifier string) (address string, err error)
	// Who is who came back with a code.
	Who(ctx context.Context, code, nonce, verifier string) (model.Account, error)
}

// shown is how the house calls somebody.
func shown(a model.Account) string {
	name := a.Name
	for _, other := range []string{a.Mail, a.Handle, a.Subject} {
		switch {
		case other == "" || other == name:
		case name == "":
			name = other
		default:
			return ground.Printable(name + " (" + other + ")")
		}
	}
	return ground.Printable(name)
}

// House is the sign-on of the house, and what it decides here. Name is what people call it. By mail, where MailChecked is set, and only
// there, somebody is tied to whoever has shown the same address; NewPeople lets in those whom nobody knows; Roles are those that groups
// have in projects.
type House struct {
	SignOn
	Name        string
	MailChecked bool
	NewPeople   bool
	Roles       []GroupRole
}

// GroupRole is what a group of the house is in a project: viewer, artist or lead. Owners are made by name alone.
type GroupRole struct{ Group, Project, Role string }

// groupDays is for how many days a role by a group holds after its person came in by the house, where they might have left the group.
const groupDays = 30

// HouseName is what the house's sign-on is called, "" where there is none.
func (s *Room) HouseName() string {
	if s.House == nil {
		return ""
	}
	return s.House.Name
}

var noHouse = model.NewProblem(model.NotFound, "use your handle and your passphrase", "this service knows no sign-on of a house")

// asked is what is kept while a browser is at the house.
type asked struct {
	Nonce    string `json:"nonce"`
	Verifier string `json:"verifier"`
}

// tookTooLong is what whoever comes back hears with a secret that is none, or none any more.
var tookTooLong = model.NewProblem(model.NotFound, "sign in anew", "that took too long, or was answered already")

// HouseWay begins a sign-in by the house.
func (s *Room) HouseWay(ctx context.Context) (way model.HouseWay, err error) {
	if s.House == nil {
		return way, noHouse
	}
	a := asked{Nonce: freshSecret(), Verifier: freshSecret()}
	if err := s.Write(ctx, func(tx *records.Tx) (err error) {
		way.State, err = keep(ctx, tx, 0, a)
		return err
	}); err != nil {
		return way, err
	}
	way.Address, err = s.House.Way(ctx, way.State, a.Nonce, a.Verifier)
	return way, err
}

// HouseArrived signs in whoever came back from the house, or says who that is where nobody is tied to them.
func (s *Room) HouseArrived(ctx context.Context, q model.HouseAnswer) (out model.HouseSignIn, err error) {
	if s.House == nil {
		return out, noHouse
	}
	var a asked
	if err := s.Write(ctx, func(tx *records.Tx) error { return kept(ctx, tx, q.State, 0, &a, tookTooLong) }); err != nil {
		return out, err
	}
	if a.Nonce == "" || a.Verifier == "" {
		return out, tookTooLong
	}
	account, err := s.House.Who(ctx, q.Code, a.Nonce, a.Verifier)
	if err != nil {
		return out, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		out = model.HouseSignIn{}
		p, ended, err := tx.Tied(ctx, account.Issuer, account.Subject)
		if err == nil && ended {
			return model.NewProblem(model.NotAllowed, "ask whoever runs the service", "%s was let go here", p.Handle)
		}
		if errors.Is(err, records.ErrNotFound) && s.House.MailChecked && account.MailChecked && account.Mail != "" {
			if p, err = tx.WithMail(ctx, account.Mail, account.Issuer); err == nil {
				err = tie(ctx, tx, p, account)
			}
		}
		if errors.Is(err, records.ErrNotFound) {
			arrival := model.HouseArrival{Shown: shown(account), Handle: handleLike(account), New: s.House.NewPeople}
			arrival.Secret, err = keep(ctx, tx, 0, account)
			out.Arrival = &arrival
			return err
		}
		if err != nil {
			return err
		}
		in, err := s.cameIn(ctx, tx, p, account, q.From, q.Console)
		out.SignIn = &in
		return err
	})
	return out, err
}

var notInHandles = regexp.MustCompile(`[^a-z0-9-]+`)

// handleLike is a handle that somebody could take.
func handleLike(a model.Account) string {
	for _, from := range []string{a.Handle, a.Mail, a.Name} {
		from, _, _ = strings.Cut(strings.ToLower(from), "@")
		if from = strings.Trim(notInHandles.ReplaceAllString(from, "-"), "-"); ground.Handles.MatchString(from) {
			return from
		}
	}
	return ""
}

func tie(ctx context.Context, tx *records.Tx, p records.Person, a model.Account) error {
	if err := tx.Tie(ctx, p.ID, a.Issuer, a.Subject, shown(a)); err != nil {
		return err
	}
	return tx.AddEvent(ctx, 0, p.ID, news.HouseTied, map[string]any{"handle": p.Handle, "shown": shown(a)})
}

// cameIn signs in whoever is tied to an account, with the roles that their groups have now.
func (s *Room) cameIn(ctx context.Context, tx *records.Tx, p records.Person, a model.Account, from string, console bool) (in model.SignIn,
	err error) {
	if err := tx.UsedTie(ctx, a.Issuer, a.Subject, shown(a)); err != nil {
		return in, err
	}
	if err := s.byGroups(ctx, tx, p, a.Groups); err != nil {
		return in, err
	}
	if in, err = signedIn(ctx, tx, p, from, console); err != nil {
		return in, err
	}
	return in, tx.AddEvent(ctx, 0, p.ID, news.SignedIn, map[string]any{"from": ground.Printable(from), "by": "house"})
}

// byGroups gives somebody the roles that their groups have, and takes those that they have no more. Who was let in by name keeps what they
// are.
func (s *Room) byGroups(ctx context.Context, tx *records.Tx, who records.Person, groups []string) error {
	roles := map[string]string{}
	for _, r := range s.House.Roles {
		if slices.Contains(groups, r.Group) && !model.AtLeast(roles[r.Project], r.Role) {
			roles[r.Project] = r.Role
		} else {
			roles[r.Project] += ""
		}
	}
	for _, key := range slices.Sorted(maps.Keys(roles)) {
		if err := s.byGroup(ctx, tx, who, key, roles[key]); err != nil {
			return err
		}
	}
	return nil
}

// byGroup gives somebody a role in a project because of their groups, "" for none.
func (s *Room) byGroup(ctx context.Context, tx *records.Tx, who records.Person, key, role string) error {
	p, err := tx.ProjectFor(ctx, key, who.ID)
	if errors.Is(err, records.ErrNotFound) {
		return nil // not made yet, or deleted
	}
	if err != nil {
		return err
	}
	had, byGroup, err := tx.Membership(ctx, p.ID, who.ID)
	if err != nil || had == role || had != "" && !byGroup {
		return err
	}
	if err := tx.Gate(ctx, p.ID, true); err != nil {
		return err
	}
	if role == "" {
		_, err := s.takeOut(ctx, tx, ground.Actor{}, p, who)
		return err
	}
	if err := tx.SetMemberByGroup(ctx, p.ID, who.ID, role); err != nil {
		return err
	}
	return tx.AddEvent(ctx, p.ID, 0, news.MemberSet, map[string]any{"handle": who.Handle, "role": role, "before": had, "by": "group"})
}

// KeepingGroups takes those out of projects who are there by a group, and did not come in by the house for long, until ctx ends.
func (s *Room) KeepingGroups(ctx context.Context) {
	for {
		if err := s.LetGroupsLapse(ctx); err != nil && ctx.Err() == nil {
			s.Log.Warn("who is in a project by a group could not be looked at", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Hour):
		}
	}
}

// LetGroupsLapse does that once.
func (s *Room) LetGroupsLapse(ctx context.Context) error {
	var list []records.Lapsed
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		list, err = tx.Lapsed(ctx, groupDays)
		return err
	}); err != nil {
		return err
	}
	for _, l := range list {
		if err := s.Write(ctx, func(tx *records.Tx) error { return s.byGroup(ctx, tx, l.Person, l.Key, "") }); err != nil {
			return err
		}
	}
	return nil
}

// arrived is the account that arrived with a secret; nobody else brings it from now on.
func arrived(ctx context.Context, tx *records.Tx, secret string) (a model.Account, err error) {
	err = kept(ctx, tx, secret, 0, &a, tookTooLong)
	if err == nil && a.Subject == "" {
		err = tookTooLong
	}
	return a, err
}

// tiedElsewhere is the refusal where one of two is tied already.
func tiedElsewhere(err error, handle string) error {
	if records.Duplicate(err) {
		return model.NewProblem(model.Taken, "take that away on the person's page first", "%s is tied to another account already", handle)
	}
	return err
}

// TieByPassphrase ties whoever arrived to the person whose passphrase they know, and signs them in.
func (s *Room) TieByPassphrase(ctx context.Context, q model.HouseTie) (in model.SignIn, err error) {
	if s.House == nil {
		return in, noHouse
	}
	p, err := s.known(ctx, q.Handle, q.Passphrase)
	if err != nil {
		return in, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		a, err := arrived(ctx, tx, q.Secret)
		if err != nil {
			return err
		}
		if err := tie(ctx, tx, p, a); err != nil {
			return err
		}
		in, err = s.cameIn(ctx, tx, p, a, q.From, q.Console)
		return err
	})
	return in, tiedElsewhere(err, q.Handle)
}

// TieMine ties whoever arrived to the actor, who tells their passphrase where they have one.
func (s *Room) TieMine(ctx context.Context, actor ground.Actor, q model.HouseTie) error {
	if s.House == nil {
		return noHouse
	}
	if err := actor.Whole(); err != nil {
		return err
	}
	p, err := s.self(ctx, actor)
	if err == nil && p.Passphrase != "" {
		err = s.tells(ctx, p, q.Passphrase)
	}
	if err != nil {
		return err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		a, err := arrived(ctx, tx, q.Secret)
		if err != nil {
			return err
		}
		if err := tie(ctx, tx, p, a); err != nil {
			return err
		}
		return s.byGroups(ctx, tx, p, a.Groups)
	})
	return tiedElsewhere(err, actor.Handle)
}

// ComeAsNew makes a person of whoever arrived, where the house lets new people in or an invitation does, and signs them in.
func (s *Room) ComeAsNew(ctx context.Context, q model.HouseNew) (in model.SignIn, err error) {
	switch {
	case s.House == nil:
		return in, noHouse
	case !s.House.NewPeople && q.Invitation == "":
		return in, model.NewProblem(model.NotAllowed, "ask for an invitation, and sign in by the house then", "nobody comes in here uninvited")
	case !ground.Handles.MatchString(q.Handle):
		return in, badHandle(q.Handle)
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		a, err := arrived(ctx, tx, q.Secret)
		if err != nil {
			return err
		}
		p := records.Person{Handle: q.Handle}
		if p.ID, err = tx.AddPerson(ctx, q.Handle, "", false); err != nil {
			return err
		}
		if name := strings.Join(strings.Fields(a.Name), " "); ground.Written("a name", name, 80, false) == nil {
			if err := tx.SetName(ctx, p.ID, name); err != nil {
				return err
			}
		}
		if err := tx.AddEvent(ctx, 0, p.ID, news.PersonAdded, map[string]any{"handle": q.Handle, "steward": false}); err != nil {
			return err
		}
		if q.Invitation != "" {
			i, project, err := takeInvitation(ctx, tx, q.Invitation)
			if err != nil {
				return err
			}
			if err := join(ctx, tx, i, project, ground.Actor{ID: p.ID, Handle: p.Handle}); err != nil {
				return err
			}
		}
		if err := tie(ctx, tx, p, a); err != nil {
			return err
		}
		in, err = s.cameIn(ctx, tx, p, a, q.From, q.Console)
		return err
	})
	if records.Duplicate(err) {
		err = model.NewProblem(model.Taken, "choose another one; or, if that is you, say so with your passphrase",
			"there is a person %s already", q.Handle)
	}
	return in, err
}

// Ties are the actor's accounts at the house.
func (s *Room) Ties(ctx context.Context, actor ground.Actor) (out model.Ties, err error) {
	out.House = s.HouseName()
	err = s.Use(ctx, func(tx *records.Tx) (err error) {
		out.Ties, err = tx.Ties(ctx, actor.ID)
		return err
	})
	if out.Ties == nil {
		out.Ties = []model.Tie{}
	}
	return out, err
}

// Untie takes one of the actor's ties away, where another way in is left to them. Roles by a group go with it.
func (s *Room) Untie(ctx context.Context, actor ground.Actor, number int64) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := tx.PersonByHandle(ctx, actor.Handle)
		if err != nil {
			return err
		}
		keys, _, err := tx.Passkeys(ctx, p.ID)
		if err != nil {
			return err
		}
		if p.Passphrase == "" && len(keys) == 0 {
			return model.NewProblem(model.NotAllowed, "have a link sent by which you choose a passphrase, first",
				"it is the one way in that you have")
		}
		shown, err := tx.Untie(ctx, p.ID, number)
		if errors.Is(err, records.ErrNotFound) {
			return model.NewProblem(model.NotFound, "", "you have no tie %d", number)
		}
		if err != nil {
			return err
		}
		if s.House != nil {
			if err := s.byGroups(ctx, tx, p, nil); err != nil {
				return err
			}
		}
		return tx.AddEvent(ctx, 0, p.ID, news.HouseUntied, map[string]any{"handle": p.Handle, "shown": shown})
	})
}

// ParseGroupRole reads "GROUP=PROJECT:ROLE".
func ParseGroupRole(text string) (r GroupRole, err error) {
	at := strings.LastIndexByte(text, '=')
	if at > 0 {
		r.Group = text[:at]
		r.Project, r.Role, _ = strings.Cut(text[at+1:], ":")
	}
	if at < 1 || !model.ValidKey(r.Project) || !model.ValidRole(r.Role) || r.Role == model.Owner {
		return r, fmt.Errorf("%q does not say what a group is in a project; it looks like art-team=brinelight:artist, with viewer, artist or "+
			"lead", text)
	}
	return r, nil
}
