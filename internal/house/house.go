// Package house signs people in by a provider that their house runs: OpenID Connect Core 1.0, by authorization code with PKCE (RFC 7636).
// It decides nothing about people here; package people does. It goes to the provider that its options name, and nowhere else.
package house

import (
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"kettletarn/internal/core/model"
)

// How long the provider may take, how much it may answer, and how many groups of somebody count.
const (
	patience  = 15 * time.Second
	maxAnswer = 1 << 20
	maxGroups = 2000
)

// Options say who the provider is, and who we are there. Issuer is its address (https, or http on loopback); Client and Secret are what it
// knows us by; Groups is the claim that has somebody's groups, "groups" where empty; Scopes are asked for besides openid, profile and
// email. Back is where it sends people back: a page of the console.
type Options struct {
	Issuer, Client, Secret string
	Groups                 string
	Scopes                 []string
	Back                   string
}

// House is safe for concurrent use.
type House struct {
	o    Options
	http *http.Client
	log  *slog.Logger

	mu       sync.Mutex
	provider *oidc.Provider // nil until it was reached
}

// New checks the options. It contacts nobody.
func New(o Options, log *slog.Logger) (*House, error) {
	u, err := url.Parse(o.Issuer)
	if err != nil || u.Host == "" || u.Scheme != "https" && (u.Scheme != "http" || !onLoopback(u.Hostname())) {
		return nil, fmt.Errorf("%q is not the address of a provider; it looks like https://login.studio.example", o.Issuer)
	}
	if o.Client == "" {
		return nil, errors.New("the provider knows this service by a client id; say which with --house-client")
	}
	if o.Groups == "" {
		o.Groups = "groups"
	}
	return &House{o: o, log: log, http: &http.Client{Timeout: patience, Transport: bounded{http.DefaultTransport},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}, nil
}

func onLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// bounded reads no more of an answer than a provider has to say.
type bounded struct{ http.RoundTripper }

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	response, err := b.RoundTripper.RoundTrip(r)
	if err == nil {
		response.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(response.Body, maxAnswer), response.Body}
	}
	return response, err
}

// away is what people hear while the provider is not there; what it said stands in the log.
func (h *House) away(doing string, err error) error {
	h.log.Warn("the provider of the house's sign-on did not answer as it should", "doing", doing, "error", err)
	return model.NewProblem(model.Unavailable, "try again in a moment, or use your passphrase", "the sign-on of the house can't be reached")
}

// reached is the provider as it describes itself (OpenID Connect Discovery 1.0), asked for once.
func (h *House) reached(ctx context.Context) (*oidc.Provider, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.provider == nil {
		provider, err := oidc.NewProvider(oidc.ClientContext(ctx, h.http), h.o.Issuer)
		if err != nil {
			return nil, h.away("discovery", err)
		}
		h.provider = provider
	}
	return h.provider, nil
}

func (h *House) client(p *oidc.Provider) *oauth2.Config {
	return &oauth2.Config{ClientID: h.o.Client, ClientSecret: h.o.Secret, Endpoint: p.Endpoint(), RedirectURL: h.o.Back,
		Scopes: append([]string{oidc.ScopeOpenID, "profile", "email"}, h.o.Scopes...)}
}

// Way is where a browser goes.
func (h *House) Way(ctx context.Context, state, nonce, verifier string) (string, error) {
	p, err := h.reached(ctx)
	if err != nil {
		return "", err
	}
	return h.client(p).AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(verifier)), nil
}

// Who exchanges a code for who it is about. What the provider signed is held to its keys, to us, to its time, and to the nonce.
func (h *House) Who(ctx context.Context, code, nonce, verifier string) (a model.Account, err error) {
	p, err := h.reached(ctx)
	if err != nil {
		return a, err
	}
	refused := model.NewProblem(model.WrongPassphrase, "sign in anew", "the house did not let you in")
	ctx = oidc.ClientContext(ctx, h.http)
	token, err := h.client(p).Exchange(ctx, code, oauth2.VerifierOption(verifier))
	if said := new(oauth2.RetrieveError); errors.As(err, &said) && said.ErrorCode == "invalid_grant" {
		return a, refused
	} else if err != nil {
		return a, h.away("the exchange of a code", err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := p.Verifier(&oidc.Config{ClientID: h.o.Client}).Verify(ctx, raw)
	if err == nil && subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(nonce)) != 1 {
		err = errors.New("it answers another question: its nonce is not the one that was asked with")
	}
	if err != nil {
		h.log.Warn("what the provider of the house's sign-on signed was not taken", "error", err)
		return a, refused
	}
	claims := map[string]json.RawMessage{}
	if err := id.Claims(&claims); err != nil {
		return a, h.away("what it claims", err)
	}
	if p.UserInfoEndpoint() != "" && (claims["email"] == nil || claims[h.o.Groups] == nil) {
		// Many providers say the rest only when asked.
		if info, err := p.UserInfo(ctx, oauth2.StaticTokenSource(token)); err != nil {
			h.log.Warn("the provider of the house's sign-on does not say more of somebody", "error", err)
		} else if more := map[string]json.RawMessage{}; info.Subject == id.Subject && info.Claims(&more) == nil {
			for name, value := range more {
				if claims[name] == nil {
					claims[name] = value
				}
			}
		}
	}
	a = model.Account{Issuer: id.Issuer, Subject: id.Subject, Handle: word(claims["preferred_username"]), Name: word(claims["name"]),
		Mail: word(claims["email"]), MailChecked: word(claims["email_verified"]) == "true", Groups: words(claims[h.o.Groups])}
	if a.Subject == "" {
		return a, refused
	}
	return a, nil
}

// word is a text of a claim, or a yes or no; "" where it is none.
func word(raw json.RawMessage) string {
	var text string
	var yes bool
	switch {
	case raw == nil:
	case json.Unmarshal(raw, &text) == nil:
		if len(text) > 400 {
			return ""
		}
		return strings.ToValidUTF8(strings.ReplaceAll(text, "\x00", ""), "")
	case json.Unmarshal(raw, &yes) == nil && yes:
		return "true"
	}
	return ""
}

// words are the texts of a claim that has one or many.
func words(raw json.RawMessage) []string {
	var list []json.RawMessage
	if json.Unmarshal(raw, &list) != nil {
		list = []json.RawMessage{raw}
	}
	var out []string
	for _, one := range list[:min(len(list), maxGroups)] {
		if w := word(one); w != "" {
			out = append(out, w)
		}
	}
	return out
}
