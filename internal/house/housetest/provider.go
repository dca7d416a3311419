// Package housetest is a small provider of OpenID Connect Core 1.0 that stands in for that of a house, in tests and in the demo: it has
// people, asks for no passphrase, and lets everybody on the machine in as anybody. It is nothing to guard a service with.
package housetest

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"net"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Person is somebody at the provider. Subject is who they are; Later says that mail and groups are told only to who asks for more.
type Person struct {
	Subject, Handle, Name, Mail string
	MailChecked                 bool
	Groups                      []string
	Later                       bool
}

func (p *Person) claims() map[string]any {
	return map[string]any{"email": p.Mail, "email_verified": p.MailChecked, "groups": p.Groups}
}

// Provider is one that serves. Client and Secret are what it knows the service by.
type Provider struct {
	URL, Client, Secret string
	// Nonce, where not "", is signed in place of the one that was asked with, and Audience in place of the client: to see that neither
	// is taken.
	Nonce, Audience string

	mu     sync.Mutex
	people []Person
	codes  map[string]grant // by code
	tokens map[string]Person
	key    *rsa.PrivateKey
	server *http.Server
}

// grant is what a code is good for, once.
type grant struct {
	person                 Person
	challenge, nonce, back string
}

// Serve starts a provider at an address of loopback ("127.0.0.1:0" for any port).
func Serve(address string, people ...Person) (*Provider, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, err
	}
	p := &Provider{URL: "http://" + listener.Addr().String(), Client: "kettle-tarn", Secret: rand.Text(), people: people, key: key,
		codes: map[string]grant{}, tokens: map[string]Person{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", p.discovery)
	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "one", Algorithm: "RS256", Use: "sig"}}})
	})
	mux.HandleFunc("GET /authorize", p.authorize)
	mux.HandleFunc("POST /authorize", p.letIn)
	mux.HandleFunc("POST /token", p.token)
	mux.HandleFunc("GET /userinfo", p.more)
	p.server = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = p.server.Serve(listener) }()
	return p, nil
}

// Close ends it.
func (p *Provider) Close() { _ = p.server.Close() }

// Set puts somebody in the place of whoever has their subject, or adds them.
func (p *Provider) Set(who Person) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.people = append(slices.DeleteFunc(p.people, func(o Person) bool { return o.Subject == who.Subject }), who)
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func (p *Provider) discovery(w http.ResponseWriter, _ *http.Request) {
	answer(w, http.StatusOK, map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize",
		"token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys", "userinfo_endpoint": p.URL + "/userinfo",
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
		"id_token_signing_alg_values_supported": []string{"RS256"}, "code_challenge_methods_supported": []string{"S256"}})
}

var page = template.Must(template.New("page").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Who are you?</title>
<body style="font: 16px sans-serif; max-width: 28rem; margin: 12vh auto; padding: 0 1rem">
<h1 style="font-size: 1.4rem">Who are you?</h1><p>A stand-in for the sign-on of a house: it asks for nothing.</p>
<form method="post">{{range .}}<p><button name="subject" value="{{.Subject}}" style="font: inherit; padding: .5rem 1rem; width: 100%">` +
	`{{.Name}}</button></p>{{end}}<p><button name="subject" value="" style="font: inherit">Nobody</button></p></form></body></html>`))

// asking reads what was asked, and refuses what no service of ours would ask.
func (p *Provider) asking(w http.ResponseWriter, r *http.Request) (q url.Values, back *url.URL, ok bool) {
	q = r.URL.Query()
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil || back.Host == "" || q.Get("client_id") != p.Client || q.Get("response_type") != "code" ||
		q.Get("code_challenge_method") != "S256" || q.Get("code_challenge") == "" {
		http.Error(w, "that is not what this provider is asked", http.StatusBadRequest)
		return nil, nil, false
	}
	return q, back, true
}

func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	if _, _, ok := p.asking(w, r); !ok {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = page.Execute(w, p.people)
}

func (p *Provider) letIn(w http.ResponseWriter, r *http.Request) {
	q, back, ok := p.asking(w, r)
	if !ok {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	out := url.Values{"state": {q.Get("state")}, "error": {"access_denied"}}
	for _, who := range p.people {
		if who.Subject == r.PostFormValue("subject") {
			code := rand.Text()
			p.codes[code] = grant{who, q.Get("code_challenge"), q.Get("nonce"), q.Get("redirect_uri")}
			out = url.Values{"state": {q.Get("state")}, "code": {code}}
		}
	}
	back.RawQuery = out.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	client, secret, basic := r.BasicAuth()
	if !basic {
		client, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	if client != p.Client || secret != p.Secret {
		answer(w, http.StatusUnauthorized, map[string]string{"error": "invalid_client"})
		return
	}
	g, ok := p.codes[r.PostFormValue("code")]
	delete(p.codes, r.PostFormValue("code"))
	proof := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	if !ok || g.back != r.PostFormValue("redirect_uri") || base64.RawURLEncoding.EncodeToString(proof[:]) != g.challenge {
		answer(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant"})
		return
	}
	now := time.Now()
	claims := map[string]any{"iss": p.URL, "sub": g.person.Subject, "aud": p.Client, "iat": now.Unix(), "exp": now.Add(time.Minute).Unix(),
		"nonce": g.nonce, "name": g.person.Name, "preferred_username": g.person.Handle}
	if p.Nonce != "" {
		claims["nonce"] = p.Nonce
	}
	if p.Audience != "" {
		claims["aud"] = p.Audience
	}
	if !g.person.Later {
		for name, v := range g.person.claims() {
			claims[name] = v
		}
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: p.key, KeyID: "one"}}, nil)
	var signed string
	if err == nil {
		signed, err = jwt.Signed(signer).Claims(claims).Serialize()
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	access := rand.Text()
	p.tokens[access] = g.person
	answer(w, http.StatusOK, map[string]any{"access_token": access, "token_type": "Bearer", "expires_in": 60, "id_token": signed})
}

func (p *Provider) more(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	who, ok := p.tokens[r.Header.Get("Authorization")[min(len("Bearer "), len(r.Header.Get("Authorization"))):]]
	if !ok {
		http.Error(w, "who?", http.StatusUnauthorized)
		return
	}
	claims := who.claims()
	claims["sub"] = who.Subject
	answer(w, http.StatusOK, claims)
}
