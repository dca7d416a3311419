package house_test

import (
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/house"
	"kettletarn/internal/house/housetest"
)

const back = "http://127.0.0.1:9/sign-in/house"

func provider(t *testing.T, people ...housetest.Person) (*housetest.Provider, *house.House) {
	t.Helper()
	p, err := housetest.Serve("127.0.0.1:0", people...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	h, err := house.New(house.Options{Issuer: p.URL, Client: p.Client, Secret: p.Secret, Back: back}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	return p, h
}

// code is what a browser comes back with that said who it is.
func code(t *testing.T, h *house.House, subject, nonce, verifier string) string {
	t.Helper()
	way, err := h.Way(t.Context(), "the state", nonce, verifier)
	if err != nil {
		t.Fatal(err)
	}
	browser := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := browser.PostForm(way, url.Values{"subject": {subject}})
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	to, err := answer.Location()
	if err != nil || !strings.HasPrefix(to.String(), back) || to.Query().Get("state") != "the state" {
		t.Fatalf("it leads to %v, %v", to, err)
	}
	return to.Query().Get("code")
}

var keiko = housetest.Person{Subject: "k1", Handle: "keiko", Name: "Keiko", Mail: "keiko@saltpan.example", MailChecked: true,
	Groups: []string{"code", "all"}}

// TestWho: what the provider says of somebody, whether with its signature or when asked for more.
func TestWho(t *testing.T) {
	later := keiko
	later.Subject, later.Later = "k2", true
	p, h := provider(t, keiko, later)
	for _, subject := range []string{"k1", "k2"} {
		a, err := h.Who(t.Context(), code(t, h, subject, "n", strings.Repeat("v", 50)), "n", strings.Repeat("v", 50))
		if err != nil || a.Issuer != p.URL || a.Subject != subject || a.Handle != "keiko" || a.Name != "Keiko" || a.Mail != keiko.Mail ||
			!a.MailChecked || !slices.Equal(a.Groups, keiko.Groups) {
			t.Errorf("%+v, %v", a, err)
		}
	}
}

// TestWhoIsNotTaken: a code is good once, for who asked, and what is signed is an answer to that.
func TestWhoIsNotTaken(t *testing.T) {
	p, h := provider(t, keiko)
	verifier := strings.Repeat("v", 50)
	refused := func(what, code, nonce, verifier string) {
		t.Helper()
		a, err := h.Who(t.Context(), code, nonce, verifier)
		if problem, ok := err.(*model.Problem); !ok || problem.Type != model.WrongPassphrase {
			t.Errorf("%s: %+v, %v", what, a, err)
		}
	}
	refused("a code that is none", "guessed", "n", verifier)
	refused("another's proof", code(t, h, "k1", "n", verifier), "n", strings.Repeat("w", 50))
	refused("another question", code(t, h, "k1", "n", verifier), "m", verifier)
	used := code(t, h, "k1", "n", verifier)
	if _, err := h.Who(t.Context(), used, "n", verifier); err != nil {
		t.Fatal(err)
	}
	refused("a code used twice", used, "n", verifier)
	p.Audience = "another service"
	refused("for another service", code(t, h, "k1", "n", verifier), "n", verifier)
	p.Audience, p.Nonce = "", "fixed"
	refused("with a nonce of its own", code(t, h, "k1", "n", verifier), "n", verifier)
	if got := code(t, h, "", "n", verifier); got != "" {
		t.Errorf("nobody gets the code %q", got)
	}
}

// TestAway: a provider that is not there is asked again when it is.
func TestAway(t *testing.T) {
	p, err := housetest.Serve("127.0.0.1:0", keiko)
	if err != nil {
		t.Fatal(err)
	}
	p.Close()
	h, err := house.New(house.Options{Issuer: p.URL, Client: "c", Back: back}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	_, err = h.Way(t.Context(), "s", "n", "v")
	if problem, ok := err.(*model.Problem); !ok || problem.Type != model.Unavailable {
		t.Errorf("it is away: %v", err)
	}
	again, err := housetest.Serve(strings.TrimPrefix(p.URL, "http://"), keiko)
	if err != nil {
		t.Skip(err) // somebody took the port
	}
	defer again.Close()
	if _, err := h.Way(t.Context(), "s", "n", "v"); err != nil {
		t.Error(err)
	}
	for _, o := range []house.Options{{Issuer: "http://login.example", Client: "c"}, {Issuer: "login.example", Client: "c"},
		{Issuer: "https://login.example"}} {
		if _, err := house.New(o, slog.Default()); err == nil {
			t.Errorf("%+v is taken", o)
		}
	}
}
