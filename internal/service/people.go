package service

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"regexp"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/google/uuid"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/text"
	"kettletarn/internal/records"
)

// How long a sign-in holds.
const (
	clientDays  = 180
	consoleDays = 14
)

// MinPassphrase is the least length of a passphrase in bytes; MaxPassphrase the most that is looked at.
const (
	MinPassphrase = 8
	MaxPassphrase = 1024
)

// The parameters are those that RFC 9106 and common guidance give for servers short of memory: 19 MiB, 2 passes.
var argon = &argon2id.Params{Memory: 19 << 10, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// A passphrase that nobody has: checked against where the handle is unknown, so that an answer takes as long either way.
var nobody, _ = argon2id.CreateHash(rand.Text(), argon)

var handles = regexp.MustCompile(`^[a-z][a-z0-9-]{0,31}$`)
var keys = regexp.MustCompile(`^[a-z][a-z0-9-]{1,39}$`)

func newID() string { return uuid.NewString() }

func validID(id string) bool { return uuid.Validate(id) == nil && len(id) == 36 }

func printable(s string) string {
	if len(s) > 80 {
		s = strings.ToValidUTF8(s[:80], "") + "…"
	}
	return text.Line(s)
}

// AddPerson makes a person and a first token for them, which is returned and not kept.
func (s *Service) AddPerson(ctx context.Context, handle, passphrase string, steward bool) (token string, err error) {
	if !handles.MatchString(handle) {
		return "", model.NewProblem(model.BadRequest, "take for example: tamsin", "%q can't be a handle: it has 1 to 32 small letters, digits and dashes, and starts with a letter", printable(handle))
	}
	if len(passphrase) < MinPassphrase || len(passphrase) > MaxPassphrase {
		return "", model.NewProblem(model.BadRequest, "choose a few words", "a passphrase has %d to %d characters", MinPassphrase, MaxPassphrase)
	}
	hash, err := argon2id.CreateHash(passphrase, argon)
	if err != nil {
		return "", err
	}
	err = s.write(ctx, func(tx *records.Tx) error {
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
		return tx.AddEvent(ctx, 0, id, "person.added", map[string]any{"handle": handle, "steward": steward})
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

// SignIn exchanges handle and passphrase for a token. label says from where; console shortens its life.
func (s *Service) SignIn(ctx context.Context, handle, passphrase, label string, console bool) (model.SignIn, error) {
	var p records.Person
	err := s.read(ctx, func(tx *records.Tx) (err error) {
		p, err = tx.PersonByHandle(ctx, handle)
		return err
	})
	hash := p.Passphrase
	if errors.Is(err, records.ErrNotFound) || err == nil && hash == "" {
		p.ID = 0
		hash, err = nobody, nil
	}
	if err != nil {
		return model.SignIn{}, err
	}
	// Each comparison takes 19 MiB: only so many at once.
	select {
	case s.signins <- struct{}{}:
		defer func() { <-s.signins }()
	case <-ctx.Done():
		return model.SignIn{}, ctx.Err()
	}
	ok := false
	if len(passphrase) <= MaxPassphrase {
		if ok, err = argon2id.ComparePasswordAndHash(passphrase, hash); err != nil {
			return model.SignIn{}, err
		}
	}
	if !ok || p.ID == 0 {
		return model.SignIn{}, model.NewProblem(model.WrongPassphrase, "check both and try again", "the handle or the passphrase is wrong")
	}
	answer := model.SignIn{Handle: p.Handle, Steward: p.Steward}
	days := clientDays
	if console {
		days = consoleDays
	}
	err = s.write(ctx, func(tx *records.Tx) (err error) {
		if answer.Token, answer.Expires, _, err = addToken(ctx, tx, records.NewToken{Person: p.ID, Label: printable(label)}, days); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, p.ID, "signed-in", map[string]any{"from": printable(label)})
	})
	return answer, err
}

// SignOut ends a token.
func (s *Service) SignOut(ctx context.Context, actor Actor, token string) error {
	return s.write(ctx, func(tx *records.Tx) error {
		if err := tx.EndToken(ctx, chunk.Sum([]byte(token))); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, actor.ID, "signed-out", map[string]any{})
	})
}

const again = "sign in again with tarn sign-in"
