// Package people lets people in and out: sign-ins, tokens, projects and who belongs to them, workspaces.
package people

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/locks"
)

// Room lets people in and out.
type Room struct {
	*locks.Room
	// House is the sign-on of the house; nil where there is none. It is set before anybody comes in.
	House     *House
	signins   chan struct{}
	comparing atomic.Int64 // passphrases that are being compared, or wait for that
}

// New makes the room.
func New(locks *locks.Room) *Room {
	p := new(Room)
	p.Room, p.signins = locks, make(chan struct{}, 2)
	return p
}

// How long a sign-in holds.
const (
	clientDays  = 180
	consoleDays = 14
)

// MinPassphrase is the least length of a new passphrase in characters; MaxPassphrase the most bytes that are looked at. weakest is the
// least score of one, by how many guesses it would take (0 to 4, after Wheeler, "zxcvbn", USENIX Security 2016).
const (
	MinPassphrase = 10
	MaxPassphrase = 1024
	weakest       = 2
)

// checkPassphrase refuses a new passphrase that is short, or that is guessed soon.
func checkPassphrase(handle, passphrase string) error {
	if n := utf8.RuneCountInString(passphrase); n < MinPassphrase || len(passphrase) > MaxPassphrase {
		return model.NewProblem(model.BadRequest, "choose a few words", "a passphrase has at least %d characters, and at most %d bytes",
			MinPassphrase, MaxPassphrase)
	}
	start := passphrase
	if len(start) > 64 {
		start = start[:64] // what takes so many guesses is good, and looking at more takes long
	}
	if zxcvbn.PasswordStrength(start, []string{handle, "kettle", "tarn"}).Score < weakest {
		return model.NewProblem(model.BadRequest, "choose a few words that do not belong together", "this passphrase would be guessed soon")
	}
	return nil
}

// Cost is what it takes to keep and to compare a passphrase, after RFC 9106 and common guidance for servers short of memory: 19 MiB, 2
// passes. Only tests change it, before they begin: most of what they make people for is not about passphrases.
var Cost = &argon2id.Params{Memory: 19 << 10, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// nobody is kept like a passphrase that nobody has: checked against where the handle is unknown, so that an answer takes as long either
// way. It is made up, not computed: a program that starts does not wait for that.
var nobody = sync.OnceValue(func() string {
	noise := make([]byte, Cost.SaltLength+Cost.KeyLength)
	_, _ = rand.Read(noise)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, Cost.Memory, Cost.Iterations, Cost.Parallelism,
		base64.RawStdEncoding.EncodeToString(noise[:Cost.SaltLength]), base64.RawStdEncoding.EncodeToString(noise[Cost.SaltLength:]))
})

// AddPerson makes a person and a first token for them, which is returned and not kept.
func (s *Room) AddPerson(ctx context.Context, handle, passphrase string, steward bool) (token string, err error) {
	if !ground.Handles.MatchString(handle) {
		return "", badHandle(handle)
	}
	if err := checkPassphrase(handle, passphrase); err != nil {
		return "", err
	}
	hash, err := argon2id.CreateHash(passphrase, Cost)
	if err != nil {
		return "", err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		// Somebody whom a rebuild brought back has no passphrase yet.
		id, err := tx.SetPassphrase(ctx, handle, hash, steward)
		if errors.Is(err, records.ErrNotFound) {
			id, err = tx.AddPerson(ctx, handle, hash, steward)
		}
		if err != nil {
			return err
		}
		if token, _, _, err = addToken(ctx, tx, records.NewToken{Person: id, Label: "made with the person"}, clientDays); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, id, news.PersonAdded, map[string]any{"handle": handle, "steward": steward})
	})
	if records.Duplicate(err) {
		return "", model.NewProblem(model.Taken, "choose another handle", "there is a person %s already", handle)
	}
	return token, err
}

// addToken makes a token as t says, and returns it, when it ends, and its number.
func addToken(ctx context.Context, tx *records.Tx, t records.NewToken, days int) (token string, expires time.Time, id int64, err error) {
	var random [32]byte
	_, _ = rand.Read(random[:])
	token = "tarn_" + strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(random[:]))
	now, err := tx.Now(ctx)
	if err != nil {
		return "", now, 0, err
	}
	t.Digest, t.Expires = chunk.Sum([]byte(token)), now.AddDate(0, 0, days)
	id, err = tx.AddToken(ctx, t)
	return token, t.Expires, id, err
}

// signedIn signs somebody in. label says from where; console shortens its life.
func signedIn(ctx context.Context, tx *records.Tx, p records.Person, label string, console bool) (answer model.SignIn, err error) {
	days := clientDays
	if console {
		days = consoleDays
	}
	answer = model.SignIn{Handle: p.Handle, Steward: p.Steward}
	answer.Token, answer.Expires, _, err = addToken(ctx, tx, records.NewToken{Person: p.ID, Label: ground.Printable(label)}, days)
	return answer, err
}

// chosen is what is kept of a new passphrase, which is refused where it is short, or guessed soon.
func (s *Room) chosen(ctx context.Context, handle, passphrase string) (hash string, err error) {
	if err := checkPassphrase(handle, passphrase); err != nil {
		return "", err
	}
	return s.hash(ctx, passphrase)
}

// otherWayIn puts another passphrase ("" for none, which with gone lets them go) in the place of every way in that somebody has: sign-ins,
// passkeys, ties to the house, and with gone tokens. It returns how many sign-ins and tokens ended.
func otherWayIn(ctx context.Context, tx *records.Tx, person int64, hash string, gone bool) (ended int64, err error) {
	if err := tx.ReplacePassphrase(ctx, person, hash, gone); err != nil {
		return 0, err
	}
	if err := tx.EndPasskeys(ctx, person); err != nil {
		return 0, err
	}
	if err := tx.EndTies(ctx, person); err != nil {
		return 0, err
	}
	return tx.EndTokens(ctx, person, [32]byte{}, gone)
}

// SignIn exchanges handle and passphrase for a token. label says from where; console shortens its life.
func (s *Room) SignIn(ctx context.Context, handle, passphrase, label string, console bool) (answer model.SignIn, err error) {
	p, err := s.known(ctx, handle, passphrase)
	if err != nil {
		return answer, err
	}
	err = s.Write(ctx, func(tx *records.Tx) (err error) {
		if answer, err = signedIn(ctx, tx, p, label, console); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, p.ID, news.SignedIn, map[string]any{"from": ground.Printable(label)})
	})
	return answer, err
}

// known is the person of a handle, where the passphrase is theirs; whoever does not know it learns nothing, not how long that takes either.
func (s *Room) known(ctx context.Context, handle, passphrase string) (p records.Person, err error) {
	err = s.Use(ctx, func(tx *records.Tx) (err error) {
		p, err = tx.PersonByHandle(ctx, handle)
		return err
	})
	hash := p.Passphrase
	if errors.Is(err, records.ErrNotFound) || err == nil && hash == "" {
		p.ID = 0
		hash, err = nobody(), nil
	}
	if err != nil {
		return p, err
	}
	ok, err := s.matches(ctx, passphrase, hash)
	if err == nil && (!ok || p.ID == 0) {
		err = model.NewProblem(model.WrongPassphrase, "check both and try again", "the handle or the passphrase is wrong")
	}
	return p, err
}

// self is the actor, with what is kept of their passphrase.
func (s *Room) self(ctx context.Context, actor ground.Actor) (p records.Person, err error) {
	err = s.Use(ctx, func(tx *records.Tx) (err error) {
		p, err = tx.PersonByHandle(ctx, actor.Handle)
		return err
	})
	return p, err
}

// tells refuses a passphrase that is not somebody's.
func (s *Room) tells(ctx context.Context, p records.Person, passphrase string) error {
	ok, err := s.matches(ctx, passphrase, p.Passphrase)
	if err == nil && !ok {
		err = model.NewProblem(model.WrongPassphrase, "check it and try again", "that is not your passphrase")
	}
	return err
}

// isThem refuses where the passphrase does not say that it is the actor who asks.
func (s *Room) isThem(ctx context.Context, actor ground.Actor, passphrase string) error {
	p, err := s.self(ctx, actor)
	if err != nil {
		return err
	}
	return s.tells(ctx, p, passphrase)
}

// matches compares a passphrase. Each comparison takes 19 MiB: only so many run at once, and only so many wait for that.
func (s *Room) matches(ctx context.Context, passphrase, hash string) (bool, error) {
	if s.comparing.Add(1) > maxComparing {
		s.comparing.Add(-1)
		p := model.NewProblem(model.TooMany, "try again in a moment", "too many people sign in just now")
		p.After = 2 * time.Second
		return false, p
	}
	defer s.comparing.Add(-1)
	select {
	case s.signins <- struct{}{}:
		defer func() { <-s.signins }()
	case <-ctx.Done():
		return false, ctx.Err()
	}
	if len(passphrase) > MaxPassphrase || hash == "" {
		return false, nil
	}
	return argon2id.ComparePasswordAndHash(passphrase, hash)
}

// maxComparing is how many passphrases are looked at or wait for that.
const maxComparing = 64

// SignOut ends a token.
func (s *Room) SignOut(ctx context.Context, actor ground.Actor, token string) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		if err := tx.EndToken(ctx, chunk.Sum([]byte(token))); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, actor.ID, news.SignedOut, map[string]any{})
	})
}

// ChangePassphrase gives the actor another passphrase; the old one has to be told. All their other sign-ins end with it.
func (s *Room) ChangePassphrase(ctx context.Context, actor ground.Actor, old, fresh string) (ended int64, err error) {
	if err := actor.Whole(); err != nil {
		return 0, err
	}
	if err := checkPassphrase(actor.Handle, fresh); err != nil {
		return 0, err
	}
	if err := s.isThem(ctx, actor, old); err != nil {
		return 0, err
	}
	hash, err := argon2id.CreateHash(fresh, Cost)
	if err != nil {
		return 0, err
	}
	err = s.Write(ctx, func(tx *records.Tx) (err error) {
		if err := tx.ReplacePassphrase(ctx, actor.ID, hash, false); err != nil {
			return err
		}
		if ended, err = tx.EndTokens(ctx, actor.ID, actor.Credential, false); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, actor.ID, news.PersonPassphrase, map[string]any{"handle": actor.Handle, "ended": ended})
	})
	return ended, err
}

// SignIns lists the actor's own sign-ins.
func (s *Room) SignIns(ctx context.Context, actor ground.Actor) (list []model.SignedIn, err error) {
	err = s.Use(ctx, func(tx *records.Tx) (err error) {
		list, err = tx.SignIns(ctx, actor.ID, actor.Credential)
		return err
	})
	return list, err
}

// EndSignIn ends one of the actor's sign-ins, or, with 0, all but the one that asks; it returns how many ended.
func (s *Room) EndSignIn(ctx context.Context, actor ground.Actor, id int64) (ended int64, err error) {
	err = s.Write(ctx, func(tx *records.Tx) (err error) {
		if id == 0 {
			if ended, err = tx.EndTokens(ctx, actor.ID, actor.Credential, false); err != nil {
				return err
			}
			return tx.AddEvent(ctx, 0, actor.ID, news.SignedOut, map[string]any{"others": ended})
		}
		from, err := tx.EndSignIn(ctx, actor.ID, id)
		if errors.Is(err, records.ErrNotFound) {
			return model.NewProblem(model.NotFound, "tarn sign-ins list shows those that there are", "you have no sign-in %d", id)
		}
		if err != nil {
			return err
		}
		ended = 1
		return tx.AddEvent(ctx, 0, actor.ID, news.SignedOut, map[string]any{"from": from})
	})
	return ended, err
}

// People lists everybody, for whoever runs the service.
func (s *Room) People(ctx context.Context) (list []model.PersonRow, err error) {
	err = s.Use(ctx, func(tx *records.Tx) (err error) {
		list, err = tx.People(ctx)
		return err
	})
	return list, err
}

// ResetPassphrase gives a person another passphrase, for whoever runs the service: somebody who forgot theirs, or who comes back. All
// their sign-ins end, and their passkeys.
func (s *Room) ResetPassphrase(ctx context.Context, handle, fresh string) error {
	hash, err := s.chosen(ctx, handle, fresh)
	if err != nil {
		return err
	}
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := person(ctx, tx, handle)
		if err != nil {
			return err
		}
		ended, err := otherWayIn(ctx, tx, p.ID, hash, false)
		if err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, 0, news.PersonPassphrase, map[string]any{"handle": handle, "ended": ended})
	})
}

// PersonEnded is what letting somebody go did: sign-ins and tokens that ended, the projects that they are not in any more, with how many
// locks were given back, and those that they stay in as their only owner.
type PersonEnded struct {
	Handle   string   `json:"handle"`
	Ended    int64    `json:"ended"`
	Projects []string `json:"projects"`
	Owns     []string `json:"owns"`
	Locks    int      `json:"locks"`
}

// EndPerson lets somebody go: they can't sign in any more, and their sign-ins and tokens end at once. They leave their projects, where
// their locks are given back; what they did stays under their name.
func (s *Room) EndPerson(ctx context.Context, handle string) (out PersonEnded, err error) {
	err = s.Write(ctx, func(tx *records.Tx) error {
		out = PersonEnded{Handle: handle, Projects: []string{}, Owns: []string{}}
		p, err := person(ctx, tx, handle)
		if err != nil {
			return err
		}
		if out.Ended, err = otherWayIn(ctx, tx, p.ID, "", true); err != nil {
			return err
		}
		list, err := tx.Projects(ctx, p.ID, false, "")
		if err != nil {
			return err
		}
		for _, of := range list {
			here, err := tx.ProjectFor(ctx, of.Key, p.ID)
			if err != nil {
				return err
			}
			if err := tx.Gate(ctx, here.ID, true); err != nil {
				return err
			}
			released := 0
			if of.Role == model.Owner && anotherOwner(ctx, tx, here, handle) != nil {
				out.Owns = append(out.Owns, of.Key)
				released, err = s.letGo(ctx, tx, ground.Actor{}, here, p)
			} else {
				out.Projects = append(out.Projects, of.Key)
				released, err = s.takeOut(ctx, tx, ground.Actor{}, here, p)
			}
			if err != nil {
				return err
			}
			out.Locks += released
		}
		return tx.AddEvent(ctx, 0, 0, news.PersonEnded, map[string]any{"handle": handle, "ended": out.Ended})
	})
	return out, err
}

func person(ctx context.Context, tx *records.Tx, handle string) (records.Person, error) {
	p, err := tx.PersonByHandle(ctx, handle)
	if errors.Is(err, records.ErrNotFound) {
		err = model.NewProblem(model.NotFound, "tarnd person list shows everybody", "there is no person %q", ground.Printable(handle))
	}
	return p, err
}
