package people

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// maxPasskeys is how many a person has at most.
const maxPasskeys = 20

// holder is a person as Web Authentication (W3C, Level 3) sees them.
type holder struct {
	id           int64
	handle, name string
	keys         []webauthn.Credential
}

// WebAuthnID is opaque and stays; it says nothing of the person.
func (h *holder) WebAuthnID() []byte {
	sum := chunk.Sum(fmt.Appendf(nil, "kettle tarn person %d", h.id))
	return sum[:]
}
func (h *holder) WebAuthnName() string                       { return h.handle }
func (h *holder) WebAuthnDisplayName() string                { return h.name }
func (h *holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

// relying is the service as passkeys know it: by the name in its address. They are bound to that, and to a safe line.
func (s *Room) relying() (*webauthn.WebAuthn, error) {
	none := model.NewProblem(model.NotFound, "use your passphrase; whoever runs the service can give it a name with --address",
		"passkeys need a service with a name of its own, over https")
	if s.Courier == nil {
		return nil, none
	}
	u, err := url.Parse(s.Courier.Address())
	if err != nil || u.Hostname() == "" || net.ParseIP(u.Hostname()) != nil || u.Scheme != "https" && u.Hostname() != "localhost" {
		return nil, none
	}
	return webauthn.New(&webauthn.Config{RPID: u.Hostname(), RPDisplayName: "Kettle Tarn", RPOrigins: []string{u.Scheme + "://" + u.Host}})
}

func holderOf(ctx context.Context, tx *records.Tx, id int64, handle string) (*holder, error) {
	h := &holder{id: id, handle: handle, name: handle}
	if name, err := tx.NameOf(ctx, id); err != nil {
		return nil, err
	} else if name != "" {
		h.name = name
	}
	_, list, err := tx.Passkeys(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, text := range list {
		var c webauthn.Credential
		if err := json.Unmarshal(text, &c); err != nil {
			return nil, err
		}
		h.keys = append(h.keys, c)
	}
	return h, nil
}

// ceremony keeps what is asked, and gives it a secret.
func ceremony(ctx context.Context, tx *records.Tx, person int64, options any, session *webauthn.SessionData) (c model.Ceremony, err error) {
	text, err := json.Marshal(options)
	if err != nil {
		return c, err
	}
	c.Options = string(text)
	c.ID, err = keep(ctx, tx, person, session)
	return c, err
}

// taken is what was asked, which nobody else answers from now on.
func taken(ctx context.Context, tx *records.Tx, id string, person int64) (session webauthn.SessionData, err error) {
	err = kept(ctx, tx, id, person, &session, notTaken)
	return session, err
}

// notTaken is what whoever brings an answer hears that is none, or comes too late.
var notTaken = model.NewProblem(model.WrongPassphrase, "try again, or use your passphrase", "the passkey was not taken")

// BeginPasskey asks the actor's browser for a passkey; the passphrase says that it is they who ask.
func (s *Room) BeginPasskey(ctx context.Context, actor ground.Actor, passphrase string) (c model.Ceremony, err error) {
	rp, err := s.relying()
	if err != nil {
		return c, err
	}
	if err := s.isThem(ctx, actor, passphrase); err != nil {
		return c, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		h, err := holderOf(ctx, tx, actor.ID, actor.Handle)
		if err != nil {
			return err
		}
		if len(h.keys) >= maxPasskeys {
			return model.NewProblem(model.TooLarge, "take one away that you don't use", "a person has at most %d passkeys", maxPasskeys)
		}
		options, session, err := rp.BeginRegistration(h, webauthn.WithExclusions(webauthn.Credentials(h.keys).CredentialDescriptors()),
			webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired,
				UserVerification: protocol.VerificationRequired}))
		if err != nil {
			return err
		}
		c, err = ceremony(ctx, tx, actor.ID, options.Response, session)
		return err
	})
	return c, err
}

// AddPasskey takes the passkey that the actor's browser made.
func (s *Room) AddPasskey(ctx context.Context, actor ground.Actor, q model.PasskeyNew) (p model.Passkey, err error) {
	rp, err := s.relying()
	if err != nil {
		return p, err
	}
	name := strings.TrimSpace(q.Name)
	if err := ground.Written("a passkey's name", name, 60, false); err != nil || name == "" {
		return p, model.NewProblem(model.BadRequest, "say where it is: the laptop, the key on my ring", "a passkey has a name of 1 to 60 bytes")
	}
	answer, err := protocol.ParseCredentialCreationResponseBytes([]byte(q.Answer))
	if err != nil {
		return p, notTaken
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		session, err := taken(ctx, tx, q.ID, actor.ID)
		if err != nil {
			return err
		}
		h, err := holderOf(ctx, tx, actor.ID, actor.Handle)
		if err != nil {
			return err
		}
		credential, err := rp.CreateCredential(h, session, answer)
		if err != nil {
			s.Log.Warn("a passkey was not taken", "handle", actor.Handle, "error", err)
			return notTaken
		}
		text, err := json.Marshal(credential)
		if err != nil {
			return err
		}
		if p, err = tx.AddPasskey(ctx, actor.ID, credential.ID, text, name); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, actor.ID, news.PasskeyAdded, map[string]any{"name": name})
	})
	if records.Duplicate(err) {
		err = notTaken
	}
	return p, err
}

// Passkeys are the actor's.
func (s *Room) Passkeys(ctx context.Context, actor ground.Actor) (list []model.Passkey, err error) {
	err = s.Use(ctx, func(tx *records.Tx) (err error) {
		list, _, err = tx.Passkeys(ctx, actor.ID)
		return err
	})
	return list, err
}

// RemovePasskey takes one of the actor's away.
func (s *Room) RemovePasskey(ctx context.Context, actor ground.Actor, number int64) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		name, err := tx.RemovePasskey(ctx, actor.ID, number)
		if errors.Is(err, records.ErrNotFound) {
			return model.NewProblem(model.NotFound, "", "you have no passkey %d", number)
		}
		if err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, actor.ID, news.PasskeyRemoved, map[string]any{"name": name})
	})
}

// BeginPasskeySignIn asks a browser for any passkey of this service.
func (s *Room) BeginPasskeySignIn(ctx context.Context) (c model.Ceremony, err error) {
	rp, err := s.relying()
	if err != nil {
		return c, err
	}
	options, session, err := rp.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return c, err
	}
	err = s.Write(ctx, func(tx *records.Tx) error {
		c, err = ceremony(ctx, tx, 0, options.Response, session)
		return err
	})
	return c, err
}

// SignInByPasskey exchanges what a browser answered for a token.
func (s *Room) SignInByPasskey(ctx context.Context, q model.PasskeySignIn) (answer model.SignIn, err error) {
	rp, err := s.relying()
	if err != nil {
		return answer, err
	}
	said, err := protocol.ParseCredentialRequestResponseBytes([]byte(q.Answer))
	if err != nil {
		return answer, notTaken
	}
	var wrong error
	err = s.Write(ctx, func(tx *records.Tx) error {
		wrong = nil
		session, err := taken(ctx, tx, q.ID, 0)
		if err != nil {
			return err
		}
		var p records.Person
		_, credential, err := rp.ValidatePasskeyLogin(func(id, _ []byte) (webauthn.User, error) {
			var err error
			if p, err = tx.PasskeyHolder(ctx, id); err != nil {
				return nil, err
			}
			return holderOf(ctx, tx, p.ID, p.Handle)
		}, session, said)
		if err == nil && credential.Authenticator.CloneWarning {
			err = errors.New("its counter went back: there may be a copy of it")
		}
		if err != nil {
			s.Log.Warn("a passkey was not taken", "handle", p.Handle, "error", err)
			wrong = notTaken // what was asked stays taken out
			return nil
		}
		text, err := json.Marshal(credential)
		if err != nil {
			return err
		}
		if err := tx.UsedPasskey(ctx, credential.ID, text); err != nil {
			return err
		}
		if answer, err = signedIn(ctx, tx, p, q.From, q.Console); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, p.ID, news.SignedIn, map[string]any{"from": ground.Printable(q.From), "by": "passkey"})
	})
	if err == nil {
		err = wrong
	}
	return answer, err
}
