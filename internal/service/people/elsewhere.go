package people

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// A program without a browser, or whose person has no passphrase to type, shows a code; its person types it on a page where they are
// signed in, and says yes (after RFC 8628, whose bounds these are).
const (
	elsewhereTime  = 10 * time.Minute
	elsewhereEvery = 3 // seconds
	// codeLetters make no words, and none is taken for another (RFC 8628, section 6.1): 20^8 codes.
	codeLetters = "BCDFGHJKLMNPQRSTVWXZ"
	codeLength  = 8
)

func freshCode() string {
	var out []byte
	for random := make([]byte, 1); len(out) < codeLength; {
		_, _ = rand.Read(random)
		if n := int(random[0]); n < 240 { // 12 times 20: none is likelier than another
			out = append(out, codeLetters[n%len(codeLetters)])
		}
	}
	return string(out)
}

// typed is a code as it is kept, of one as it was typed.
func typed(code string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(codeLetters, r) {
			return r
		}
		return -1
	}, strings.ToUpper(code))
}

// NoSuchCode is what whoever types a code hears that is none, or none any more.
var NoSuchCode = model.NewProblem(model.NotFound, "check it, or begin anew where you got it", "there is no such code, or it is over")

// BeginElsewhere begins a sign-in that somebody says yes to elsewhere; address is where the program asks from.
func (s *Room) BeginElsewhere(ctx context.Context, from, address string) (e model.Elsewhere, err error) {
	e = model.Elsewhere{Path: model.ConfirmPath, Secret: freshSecret(), Every: elsewhereEvery}
	code := freshCode()
	err = s.Write(ctx, func(tx *records.Tx) error {
		now, err := tx.Now(ctx)
		if err != nil {
			return err
		}
		e.Until = now.Add(elsewhereTime)
		return tx.AddElsewhere(ctx, chunk.Sum([]byte(e.Secret)), code, ground.Printable(from), address, elsewhereTime)
	})
	e.Code = code[:codeLength/2] + "-" + code[codeLength/2:]
	return e, err
}

// LookElsewhere says what waits for a code, to somebody who is signed in.
func (s *Room) LookElsewhere(ctx context.Context, actor ground.Actor, code string) (out model.ElsewhereFor, err error) {
	err = s.Write(ctx, func(tx *records.Tx) error {
		e, err := tx.ElsewhereByCode(ctx, typed(code))
		if errors.Is(err, records.ErrNotFound) {
			return NoSuchCode
		}
		out = model.ElsewhereFor{From: e.Label, Address: e.Address}
		return err
	})
	return out, err
}

// AnswerElsewhere says yes or no, as the actor, to what waits for a code.
func (s *Room) AnswerElsewhere(ctx context.Context, actor ground.Actor, code string, yes bool) error {
	if err := actor.Whole(); err != nil {
		return err
	}
	return s.Write(ctx, func(tx *records.Tx) error {
		if _, err := tx.ElsewhereByCode(ctx, typed(code)); errors.Is(err, records.ErrNotFound) {
			return NoSuchCode
		} else if err != nil {
			return err
		}
		as := int64(0)
		if yes {
			as = actor.ID
		}
		return tx.AnswerElsewhere(ctx, typed(code), as)
	})
}

// AskElsewhere gives the program that waits its sign-in, once; none where nobody answered yet.
func (s *Room) AskElsewhere(ctx context.Context, secret string) (out model.ElsewhereAnswer, err error) {
	var refused error
	err = s.Write(ctx, func(tx *records.Tx) error {
		out, refused = model.ElsewhereAnswer{}, nil
		digest := chunk.Sum([]byte(secret))
		e, err := tx.AskElsewhere(ctx, digest, (elsewhereEvery-1)*time.Second)
		switch {
		case errors.Is(err, records.ErrNotFound) || err == nil && e.Over:
			refused = tookTooLong
			return nil
		case err != nil:
			return err
		case e.Refused:
			refused = model.NewProblem(model.NotAllowed, "begin anew if you meant to say yes", "you were not let in: somebody said no to it")
			return tx.EndElsewhere(ctx, digest)
		case e.TooSoon:
			p := model.NewProblem(model.TooMany, "", "this asks too often")
			p.After = elsewhereEvery * time.Second
			refused = p
			return nil
		case e.Person.ID == 0:
			return nil
		}
		in, err := signedIn(ctx, tx, e.Person, e.Label, false)
		if err != nil {
			return err
		}
		out.SignIn = &in
		if err := tx.EndElsewhere(ctx, digest); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, e.Person.ID, news.SignedIn, map[string]any{"from": e.Label, "by": "elsewhere"})
	})
	if err == nil {
		err = refused
	}
	return out, err
}
