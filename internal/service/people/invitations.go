package people

import (
	"context"
	"errors"
	"fmt"

	"github.com/alexedwards/argon2id"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// MaxInvitationDays is how long an invitation may hold, and MaxUses how many people one lets in.
const (
	MaxInvitationDays = 366
	MaxUses           = 500
)

// AddInvitation makes a link by which people join a project, which is told this once, and sends it where a mail address is named. Owners
// are made by name alone.
func (s *Room) AddInvitation(ctx context.Context, actor ground.Actor, key string, q model.InvitationRequest) (out model.Invitation,
	err error) {
	switch {
	case !model.ValidRole(q.Role):
		return out, model.NewProblem(model.BadRequest, "take viewer, artist or lead", "%q is not a role", ground.Printable(q.Role))
	case q.Role == model.Owner:
		return out, model.NewProblem(model.NotAllowed, "invite as a lead, and change the role of who has joined",
			"nobody becomes an owner by a link")
	case q.Days < 1 || q.Days > MaxInvitationDays:
		return out, model.NewProblem(model.BadRequest, "take for example 7 days", "an invitation holds between one day and %d",
			MaxInvitationDays)
	case q.Uses < 1 || q.Uses > MaxUses:
		return out, model.NewProblem(model.BadRequest, "take for example 3", "an invitation lets in between one person and %d", MaxUses)
	}
	if q.Mail != "" {
		if q.Mail, err = ground.MailAddress(q.Mail); err != nil {
			return out, err
		}
		if !s.MailWorks() || s.Courier.Address() == "" {
			return out, model.NewProblem(model.NotAllowed, "make it without an address, and pass the link on yourself",
				"this service sends no mail")
		}
	}
	if err := actor.Whole(); err != nil {
		return out, err
	}
	secret := freshSecret()
	if err := s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, ground.LeadOrSteward)
		if err != nil {
			return err
		}
		now, err := tx.Now(ctx)
		if err != nil {
			return err
		}
		if out, err = tx.AddInvitation(ctx, p.ID, actor.ID, chunk.Sum([]byte(secret)),
			model.Invitation{Role: q.Role, Mail: q.Mail, Uses: q.Uses, Until: now.AddDate(0, 0, q.Days)}); err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.InvitationMade, invitation(out))
	}); err != nil {
		return out, err
	}
	out.Address = model.InvitedPath + "#" + secret
	if q.Mail == "" {
		return out, nil
	}
	words := fmt.Sprintf("%s invites you to %s, where a team keeps its large files, as %s.\n\n%s%s\n\nThe link is for you. It holds until "+
		"%s.\n",
		actor.Handle, key, q.Role, s.Courier.Address(), out.Address, out.Until.UTC().Format("2 January 2006"))
	if err := s.Courier.Mail(ctx, ground.NewID(), q.Mail, fmt.Sprintf("%s invites you to %s", actor.Handle, key), words); err != nil {
		s.Log.Warn("an invitation could not be sent", "error", err)
		return out, nil // it holds, and its link is told: see Sent
	}
	out.Sent = true
	return out, nil
}

// invitation is what the record keeps of one.
func invitation(i model.Invitation) map[string]any {
	return map[string]any{"invitation": i.Number, "role": i.Role, "mail": i.Mail, "uses": i.Uses, "until": i.Until}
}

// Invitations lists those of a project, for those who may let people in.
func (s *Room) Invitations(ctx context.Context, actor ground.Actor, key string) (out model.Invitations, err error) {
	out.MailWorks = s.MailWorks() && s.Courier.Address() != ""
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, ground.LeadOrSteward)
		if err != nil {
			return err
		}
		out.Invitations, err = tx.Invitations(ctx, p.ID, 0)
		return err
	})
	return out, err
}

// EndInvitation makes an invitation let nobody in from now on.
func (s *Room) EndInvitation(ctx context.Context, actor ground.Actor, key string, number int) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, ground.LeadOrSteward)
		if err != nil {
			return err
		}
		list, err := tx.Invitations(ctx, p.ID, number)
		if err != nil {
			return err
		}
		if number < 1 || len(list) == 0 {
			return model.NewProblem(model.NotFound, "tarn invite list shows those that there are", "%s has no invitation %d", key, number)
		}
		ended, err := tx.EndInvitation(ctx, p.ID, number, actor.ID)
		if err != nil || !ended {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.InvitationEnded, invitation(list[0]))
	})
}

// NoInvitation is what whoever brings a secret hears that is none: guesses lead nowhere.
var NoInvitation = model.NewProblem(model.NotFound, "check that the link is whole, or ask for another one", "there is no such invitation")

// invited finds an invitation by its secret.
func invited(ctx context.Context, tx *records.Tx, secret string, take bool) (model.Invitation, records.Project, error) {
	i, p, err := tx.InvitationBySecret(ctx, chunk.Sum([]byte(secret)), take)
	if errors.Is(err, records.ErrNotFound) {
		err = NoInvitation
	}
	return i, p, err
}

// over says why an invitation lets nobody in any more; "" where it does.
func over(i model.Invitation) string {
	switch {
	case i.Holds:
		return ""
	case i.Ended != nil:
		return "ended"
	case len(i.Joined) >= i.Uses:
		return "used"
	}
	return "expired"
}

var overWords = map[string]string{"ended": "was ended", "used": "has been used", "expired": "does not hold any more"}

// LookAtInvitation says what an invitation offers, to whoever has its secret.
func (s *Room) LookAtInvitation(ctx context.Context, secret string) (out model.Invited, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		i, p, err := invited(ctx, tx, secret, false)
		out = model.Invited{Project: p.Key, Role: i.Role, By: i.By, Until: i.Until, Over: over(i)}
		return err
	})
	return out, err
}

// JoinAsNew takes an invitation as somebody new, who is signed in with that.
func (s *Room) JoinAsNew(ctx context.Context, q model.InvitedJoin) (out model.Joined, err error) {
	if _, err := s.LookAtInvitation(ctx, q.Secret); err != nil {
		return out, err // before anything that takes long
	}
	if !ground.Handles.MatchString(q.Handle) {
		return out, badHandle(q.Handle)
	}
	hash, err := s.chosen(ctx, q.Handle, q.Passphrase)
	if err != nil {
		return out, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		i, p, err := takeInvitation(ctx, tx, q.Secret)
		if err != nil {
			return err
		}
		id, err := tx.AddPerson(ctx, q.Handle, hash, false)
		if err != nil {
			return err
		}
		if err := tx.AddEvent(ctx, 0, id, news.PersonAdded, map[string]any{"handle": q.Handle, "steward": false}); err != nil {
			return err
		}
		signIn, err := signedIn(ctx, tx, records.Person{ID: id, Handle: q.Handle}, q.From, q.Console)
		if err != nil {
			return err
		}
		out = model.Joined{Project: p.Key, Role: i.Role, SignIn: &signIn}
		return join(ctx, tx, i, p, ground.Actor{ID: id, Handle: q.Handle})
	})
	if records.Duplicate(err) {
		return out, model.NewProblem(model.Taken, "choose another one; or, if that is you, sign in, and join by the link then",
			"there is a person %s already", q.Handle)
	}
	return out, err
}

// Join takes an invitation as the actor. Who is in the project already keeps what they are, where that is as much.
func (s *Room) Join(ctx context.Context, actor ground.Actor, secret string) (out model.Joined, err error) {
	err = s.Write(ctx, func(tx *records.Tx) error {
		i, p, err := invited(ctx, tx, secret, true)
		if err != nil {
			return err
		}
		here, err := tx.ProjectFor(ctx, p.Key, actor.ID)
		if err != nil {
			return err
		}
		if model.AtLeast(here.Role, i.Role) {
			out = model.Joined{Project: p.Key, Role: here.Role}
			return nil
		}
		if i, p, err = takeInvitation(ctx, tx, secret); err != nil {
			return err
		}
		out = model.Joined{Project: p.Key, Role: i.Role}
		return join(ctx, tx, i, p, actor)
	})
	return out, err
}

// takeInvitation finds an invitation that is going to be used: nobody else uses it meanwhile.
func takeInvitation(ctx context.Context, tx *records.Tx, secret string) (model.Invitation, records.Project, error) {
	i, p, err := invited(ctx, tx, secret, true)
	if err != nil {
		return i, p, err
	}
	if why := over(i); why != "" {
		return i, p, model.NewProblem(model.InvitationOver, "ask "+i.By+" for another one", "this invitation to %s %s", p.Key, overWords[why])
	}
	return i, p, nil
}

func join(ctx context.Context, tx *records.Tx, i model.Invitation, p records.Project, actor ground.Actor) error {
	if err := tx.UseInvitation(ctx, p.ID, i.Number, actor.ID); err != nil {
		return err
	}
	if err := tx.SetMember(ctx, p.ID, actor.ID, i.Role); err != nil {
		return err
	}
	return tx.AddEvent(ctx, p.ID, actor.ID, news.InvitationUsed, map[string]any{"invitation": i.Number, "handle": actor.Handle, "role": i.Role,
		"by": i.By})
}

// hash keeps a passphrase from being read; so many are worked on at once as are compared.
func (s *Room) hash(ctx context.Context, passphrase string) (string, error) {
	select {
	case s.signins <- struct{}{}:
		defer func() { <-s.signins }()
	case <-ctx.Done():
		return "", ctx.Err()
	}
	return argon2id.CreateHash(passphrase, Cost)
}

func badHandle(handle string) error {
	return model.NewProblem(model.BadRequest, "take for example: tamsin",
		"%q can't be a handle: it has 1 to 32 small letters, digits and dashes, and starts with a letter", ground.Printable(handle))
}

// Leaving says what it would touch that somebody leaves a project: for those who may take them out, and for themselves.
func (s *Room) Leaving(ctx context.Context, actor ground.Actor, key, handle string) (out model.Leaving, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, who, role, err := s.leaver(ctx, tx, actor, key, handle)
		if err != nil {
			return err
		}
		if out, err = tx.Leaving(ctx, p.ID, who.ID); err != nil {
			return err
		}
		out.Handle, out.Role = handle, role
		out.Only = role == model.Owner && ownersOnly(ctx, tx, ground.Actor{Steward: true}, p, handle, role, "") != nil
		return nil
	})
	return out, err
}

// leaver is somebody who may be taken out of a project by the actor, or who leaves it.
func (s *Room) leaver(ctx context.Context, tx *records.Tx, actor ground.Actor, key, handle string) (p records.Project, who records.Person,
	role string, err error) {
	right := ground.LeadOrSteward
	if handle == actor.Handle {
		right = model.Viewer
		if err := actor.Whole(); err != nil {
			return p, who, "", err
		}
	}
	if p, err = ground.Project(ctx, tx, actor, key, right); err != nil {
		return p, who, "", err
	}
	if who, err = tx.PersonByHandle(ctx, handle); err != nil && !errors.Is(err, records.ErrNotFound) {
		return p, who, "", err
	}
	of, err := tx.ProjectFor(ctx, key, who.ID)
	if err == nil && of.Role == "" {
		err = model.NewProblem(model.NotFound, "see tarn member list", "%s is not in %s", ground.Printable(handle), key)
	}
	return p, who, of.Role, err
}
