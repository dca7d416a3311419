package ground

import (
	"context"
	"errors"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/records"
)

// Right is who may do something. Each route of the API names one; it is asked before anything of a request is read, and again, where it
// matters, inside the transaction that acts on it.
type Right string

const (
	Anybody  Right = "anybody"          // without a sign-in
	Shown    Right = "shown"            // whoever has the link of a showing, see [Outside]; no sign-in is asked for, or counts
	Person   Right = "person"           // any credential that holds
	Whole    Right = "person-only"      // a person, to whom a token for one project is no match
	Viewer   Right = model.Viewer       // in the project, and so for those below
	Artist   Right = model.Artist       //
	Lead     Right = model.Lead         //
	InPerson Right = "viewer-in-person" // a viewer, and no token for one project
	Stewards Right = "lead-or-steward"
	Steward  Right = "steward" // of the service, in a project
	// ServiceSteward is a steward, of what is in no project.
	ServiceSteward Right = "service-steward"
)

// Admit finds whose a token is, and whether they have a right: in the project with the key, where the right is one of those.
func (s *Ground) Admit(ctx context.Context, token, key string, right Right) (actor Actor, err error) {
	if token == "" {
		return actor, model.NewProblem(model.NotSignedIn, Again, "you are not signed in")
	}
	digest := chunk.Sum([]byte(token))
	var t records.Token
	err = s.Use(ctx, func(tx *records.Tx) (err error) {
		t, err = tx.TokenByDigest(ctx, digest, key)
		return err
	})
	if errors.Is(err, records.ErrNotFound) {
		return actor, model.NewProblem(model.NotSignedIn, Again, "the service does not know this sign-in")
	}
	if err != nil {
		return actor, err
	}
	if t.Ended {
		return actor, model.NewProblem(model.SignInExpired, Again, "this sign-in ended on %s", t.Expires.UTC().Format("2 January 2006"))
	}
	actor = Actor{ID: t.Person.ID, Handle: t.Person.Handle, Steward: t.Person.Steward && t.Project == "", Within: t.Project, AtMost: t.Role,
		Credential: digest}
	if t.Used == nil || time.Since(*t.Used) > usedEvery {
		s.used(ctx, digest)
	}
	return actor, s.may(actor, t.Here, key, right)
}

// usedEvery is how exactly it is noted when a sign-in was last used.
const usedEvery = 5 * time.Minute

// used notes that a credential was used, once in a while. It is no reason for anything to fail.
func (s *Ground) used(ctx context.Context, digest chunk.Digest) {
	key := digest.String()
	if last, ok := s.heard.Get(key); ok && time.Since(last) < usedEvery {
		return
	}
	s.heard.Add(key, time.Now())
	if err := s.Use(ctx, func(tx *records.Tx) error { return tx.UsedToken(ctx, digest) }); err != nil {
		s.Log.Debug("a sign-in could not be noted as used", "error", err)
	}
}

// Authenticate finds whose token it is.
func (s *Ground) Authenticate(ctx context.Context, token string) (Actor, error) {
	return s.Admit(ctx, token, "", Person)
}

func (s *Ground) may(actor Actor, here records.Project, key string, right Right) error {
	here.Role = actor.Role(key, here.Role)
	switch right {
	case Anybody, Person:
		return nil
	case Whole:
		return actor.Whole()
	case InPerson:
		if err := MayWork(here, actor, key, model.Viewer); err != nil {
			return err
		}
		return actor.Whole()
	case ServiceSteward:
		return actor.RunsTheService()
	case Stewards:
		return MayWork(here, actor, key, LeadOrSteward)
	case Steward:
		if err := MayWork(here, actor, key, LeadOrSteward); err != nil {
			return err
		}
		return actor.RunsTheService()
	}
	return MayWork(here, actor, key, string(right))
}
