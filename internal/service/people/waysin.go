package people

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// How long a link holds by which somebody chooses a passphrase: one that a steward passes on, one that goes by mail, and how long nobody
// gets another one by mail, in seconds.
const (
	wayInHours     = 72
	wayInMailHours = 2
	wayInPause     = 300
)

func freshSecret() string {
	var random [32]byte
	_, _ = rand.Read(random[:])
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(random[:]))
}

// keep keeps what somebody was asked until they answer, under a secret; person is 0 for somebody who wants to sign in.
func keep(ctx context.Context, tx *records.Tx, person int64, what any) (secret string, err error) {
	text, err := json.Marshal(what)
	if err != nil {
		return "", err
	}
	secret = freshSecret()
	return secret, tx.AddCeremony(ctx, chunk.Sum([]byte(secret)), person, text)
}

// kept takes that out, so that it is answered once; late is what is said where it is not there, or not any more.
func kept(ctx context.Context, tx *records.Tx, secret string, person int64, into any, late error) error {
	text, err := tx.TakeCeremony(ctx, chunk.Sum([]byte(secret)), person)
	if errors.Is(err, records.ErrNotFound) {
		return late
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

func wayIn(ctx context.Context, tx *records.Tx, person, by int64, hours int) (address string, until time.Time, err error) {
	now, err := tx.Now(ctx)
	if err != nil {
		return "", now, err
	}
	secret := freshSecret()
	until = now.Add(time.Duration(hours) * time.Hour)
	return model.WayInPath + "#" + secret, until, tx.AddWayIn(ctx, person, by, chunk.Sum([]byte(secret)), until)
}

// WayIn makes a link by which somebody chooses another passphrase, for a steward to pass on.
func (s *Room) WayIn(ctx context.Context, actor ground.Actor, handle string) (out model.WayIn, err error) {
	if err := actor.RunsTheService(); err != nil {
		return out, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := person(ctx, tx, handle)
		if err != nil {
			return err
		}
		out.Handle = p.Handle
		if _, err := tx.MailOf(ctx, p.ID); errors.Is(err, records.ErrNotFound) {
			return model.NewProblem(model.NotAllowed, "tarnd person passphrase "+handle+" lets them come back", "%s was let go", handle)
		} else if err != nil {
			return err
		}
		if out.Address, out.Until, err = wayIn(ctx, tx, p.ID, actor.ID, wayInHours); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, actor.ID, news.PersonLink, map[string]any{"handle": handle})
	})
	return out, err
}

// NewPerson makes somebody, who chooses a passphrase by a link.
func (s *Room) NewPerson(ctx context.Context, actor ground.Actor, handle string, asSteward bool) (out model.WayIn, err error) {
	if err := actor.RunsTheService(); err != nil {
		return out, err
	}
	if !ground.Handles.MatchString(handle) {
		return out, badHandle(handle)
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		id, err := tx.AddPerson(ctx, handle, "", asSteward)
		if err != nil {
			return err
		}
		out.Handle = handle
		if out.Address, out.Until, err = wayIn(ctx, tx, id, actor.ID, wayInHours); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, actor.ID, news.PersonAdded, map[string]any{"handle": handle, "steward": asSteward})
	})
	if records.Duplicate(err) {
		err = model.NewProblem(model.Taken, "choose another handle", "there is a person %s already", handle)
	}
	return out, err
}

// Forgot sends somebody a link by which they choose another passphrase, where they have shown that a mail address is theirs. Whoever asks
// is not told whether there is such a person.
func (s *Room) Forgot(ctx context.Context, handle string) error {
	if !s.MailWorks() || s.Courier.Address() == "" {
		return model.NewProblem(model.NotAllowed, "ask whoever runs it for a link", "this service sends no mail")
	}
	var mail, address string
	err := s.Write(ctx, func(tx *records.Tx) error {
		mail = ""
		p, err := tx.PersonByHandle(ctx, handle)
		if errors.Is(err, records.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		if recent, err := tx.WayInSince(ctx, p.ID, wayInPause); err != nil || recent {
			return err
		}
		if mail, err = tx.MailOf(ctx, p.ID); errors.Is(err, records.ErrNotFound) || mail == "" {
			mail = ""
			return nil
		} else if err != nil {
			return err
		}
		address, _, err = wayIn(ctx, tx, p.ID, 0, wayInMailHours)
		return err
	})
	if err != nil || mail == "" {
		return err
	}
	words := fmt.Sprintf("Somebody, you perhaps, wants another passphrase for %s. This link lets you choose one:\n\n%s%s\n\n"+
		"It is good once, for %d hours. If it was not you, do nothing: your passphrase stays.\n", handle, s.Courier.Address(), address,
		wayInMailHours)
	// How long that takes would tell whether there is such a person.
	go func() {
		if err := s.Courier.Mail(context.WithoutCancel(ctx), ground.NewID(), mail, "Another passphrase", words); err != nil {
			s.Log.Warn("a link for another passphrase could not be sent", "error", err)
		}
	}()
	return nil
}

// NoWayIn is what whoever brings a secret hears that is none, or none any more.
var NoWayIn = model.NewProblem(model.NotFound, "ask for another one", "this link is used, too old, or not whole")

// LookAtWayIn says whose passphrase a link is for.
func (s *Room) LookAtWayIn(ctx context.Context, secret string) (out model.WayInFor, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, holds, err := tx.WayIn(ctx, chunk.Sum([]byte(secret)), false)
		if errors.Is(err, records.ErrNotFound) || err == nil && !holds {
			return NoWayIn
		}
		out.Handle = p.Handle
		return err
	})
	return out, err
}

// TakeWayIn gives somebody the passphrase that they chose by a link, and signs them in. All their other sign-ins end,
// their passkeys, and all such links.
func (s *Room) TakeWayIn(ctx context.Context, q model.WayInTaken) (answer model.SignIn, err error) {
	who, err := s.LookAtWayIn(ctx, q.Secret)
	if err != nil {
		return answer, err
	}
	hash, err := s.chosen(ctx, who.Handle, q.Passphrase)
	if err != nil {
		return answer, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, holds, err := tx.WayIn(ctx, chunk.Sum([]byte(q.Secret)), true)
		if errors.Is(err, records.ErrNotFound) || err == nil && !holds {
			return NoWayIn
		}
		if err != nil {
			return err
		}
		if err := tx.UseWaysIn(ctx, p.ID); err != nil {
			return err
		}
		ended, err := otherWayIn(ctx, tx, p.ID, hash, false)
		if err != nil {
			return err
		}
		if answer, err = signedIn(ctx, tx, p, q.From, q.Console); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, p.ID, news.PersonPassphrase, map[string]any{"handle": p.Handle, "ended": ended})
	})
	return answer, err
}

// Whoami is the actor, with how they are called.
func (s *Room) Whoami(ctx context.Context, actor ground.Actor) (p model.Person, err error) {
	p = model.Person{Handle: actor.Handle, Steward: actor.Steward}
	err = s.Use(ctx, func(tx *records.Tx) (err error) {
		p.Name, err = tx.NameOf(ctx, actor.ID)
		return err
	})
	return p, err
}

// SetName changes how the actor is called, "" for nothing but the handle.
func (s *Room) SetName(ctx context.Context, actor ground.Actor, name string) (p model.Person, err error) {
	name = strings.Join(strings.Fields(name), " ")
	if name != "" {
		if err := ground.Written("a name", name, 80, false); err != nil {
			return p, err
		}
	}
	if err := s.Write(ctx, func(tx *records.Tx) error { return tx.SetName(ctx, actor.ID, name) }); err != nil {
		return p, err
	}
	return s.Whoami(ctx, actor)
}

// SetSteward makes somebody a steward, or takes that back. The last steward can't go.
func (s *Room) SetSteward(ctx context.Context, actor ground.Actor, handle string, is bool) error {
	if err := actor.RunsTheService(); err != nil {
		return err
	}
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := person(ctx, tx, handle)
		if err != nil {
			return err
		}
		left, err := tx.SetSteward(ctx, p.ID, is)
		if err != nil {
			return err
		}
		if !left {
			return model.NewProblem(model.NotAllowed, "make somebody else a steward first", "%s is the only steward who can sign in", handle)
		}
		return tx.AddEvent(ctx, 0, actor.ID, news.PersonSteward, map[string]any{"handle": handle, "steward": is})
	})
}

// Health is how the service is, for stewards.
func (s *Room) Health(ctx context.Context, actor ground.Actor) (h model.Health, err error) {
	if err := actor.RunsTheService(); err != nil {
		return h, err
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		if h, err = tx.Health(ctx); err != nil {
			return err
		}
		failing, err := tx.FailingDeliveries(ctx, 100)
		if err != nil {
			return err
		}
		damage, err := tx.DamageOf(ctx)
		h.Failing, h.Damage = append([]model.Failing{}, failing...), append([]model.Damage{}, damage...)
		return err
	})
	if h.Free, _ = s.Store.Free(ctx); h.Free < 0 {
		h.Free = -1
	}
	h.Settings, h.Since = append([]model.Setting{}, s.Settings...), s.Began
	return h, err
}
