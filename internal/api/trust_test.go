package api_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"kettletarn/internal/api"
	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/testbed"
)

// raw asks and gives back status, kind and text.
func raw(t *testing.T, method, address, token, body string) (int, http.Header, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, address, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if strings.HasPrefix(answer.Header.Get("Content-Type"), "text/event-stream") {
		return answer.StatusCode, answer.Header, ""
	}
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer.StatusCode, answer.Header, string(text)
}

// who may do what, from the least to the most.
var ranks = []string{"nobody", "stranger", "other token", "viewer token", "viewer", "artist", "lead", "owner", "steward"}

// allowed says who has a right.
func allowed(right ground.Right, who string) bool {
	member := map[string]int{"viewer token": 1, "viewer": 1, "artist": 2, "lead": 3, "owner": 4}[who]
	switch right {
	case ground.Anybody, ground.Shown: // the link decides, not who one is: see TestShowings
		return true
	case ground.Person:
		return who != "nobody"
	case ground.Whole:
		return who != "nobody" && who != "other token" && who != "viewer token"
	case ground.Viewer:
		return member >= 1
	case ground.InPerson:
		return member >= 1 && who != "viewer token"
	case ground.Artist:
		return member >= 2
	case ground.Lead:
		return member >= 3
	case ground.Stewards:
		return member >= 3 || who == "steward"
	case ground.Steward, ground.ServiceSteward:
		return who == "steward"
	}
	return false
}

// TestRoutesTimesRoles calls everything that the document has as everybody, with a body that is none: who may not is told so before
// anything is read, and whoever may, is not.
func TestRoutesTimesRoles(t *testing.T) {
	s := testbed.NewService(t, nil)
	server := s.Serve(t)
	odile, owner := s.Person(t, "odile")
	tokens := map[string]string{"owner": owner, "nobody": ""}
	if _, err := s.StartProject(t.Context(), odile, key); err != nil {
		t.Fatal(err)
	}
	if _, err := s.StartProject(t.Context(), odile, "other"); err != nil {
		t.Fatal(err)
	}
	for _, who := range []string{"viewer", "artist", "lead"} {
		_, tokens[who] = s.Person(t, who)
		if _, err := s.SetMember(t.Context(), odile, key, who, who); err != nil {
			t.Fatal(err)
		}
	}
	_, tokens["stranger"] = s.Person(t, "stranger")
	var err error
	if tokens["steward"], err = s.AddPerson(t.Context(), "steward", testbed.Passphrase, true); err != nil {
		t.Fatal(err)
	}
	for who, project := range map[string]string{"other token": "other", "viewer token": key} {
		made, err := s.NewToken(t.Context(), odile, project, model.TokenRequest{Label: who, Role: model.Viewer, Days: 1})
		if err != nil {
			t.Fatal(err)
		}
		tokens[who] = made.Token
	}
	parameter := regexp.MustCompile(`\{(\w+)\}`)
	calls := 0
	for path, item := range api.Document().Paths.Map() {
		for method, op := range item.Operations() {
			right, stated := op.Extensions["x-right"].(string)
			if !stated || right == "" {
				t.Errorf("%s %s states no right", method, path)
				continue
			}
			if path == "/sign-out" {
				continue // it would end the tokens
			}
			address := server.URL + api.Prefix + parameter.ReplaceAllStringFunc(path, func(name string) string {
				switch name {
				case "{project}":
					return key
				case "{signin}":
					return "999999" // none of theirs
				}
				return "1"
			})
			for _, who := range ranks {
				body := ""
				if op.RequestBody != nil {
					body = `{"not what`
				}
				status, header, text := raw(t, method, address, tokens[who], body)
				calls++
				var d model.ProblemDetails
				if strings.HasPrefix(header.Get("Content-Type"), "application/problem+json") {
					if err := json.Unmarshal([]byte(text), &d); err != nil {
						t.Errorf("%s %s as %s: %s", method, path, who, text)
					}
				}
				refused := status == 401 || status == 403 || status == 404 && strings.Contains(d.Detail, "that you belong to")
				switch {
				case status >= 500:
					t.Errorf("%s %s as %s: %d %s", method, path, who, status, text)
				case allowed(ground.Right(right), who) == refused:
					t.Errorf("%s %s (%s) as %s: %d %s", method, path, right, who, status, text)
				case who == "nobody" && refused && status != 401:
					t.Errorf("%s %s as %s: %d %s", method, path, who, status, text)
				case (who == "stranger" || who == "other token") && refused && strings.Contains(path, "{project}") && status != 404:
					t.Errorf("%s %s as %s tells that the project is there: %d %s", method, path, who, status, text)
				}
			}
		}
	}
	if calls < 500 {
		t.Errorf("only %d calls", calls)
	}
}

// TestGuessingIsSlow: wrong passphrases are answered slower and slower, and are in the log with address and handle.
func TestGuessingIsSlow(t *testing.T) {
	s := testbed.NewService(t, nil)
	var mu sync.Mutex
	var log bytes.Buffer
	server := httptest.NewServer(api.New(s.Service, fstest.MapFS{}, "test", slog.New(slog.NewJSONHandler(locked{&mu, &log}, nil))))
	defer server.Close()
	s.Person(t, "odile")
	ask := func(handle, passphrase string) (int, http.Header, string) {
		return raw(t, "POST", server.URL+api.Prefix+"/sign-in", "", fmt.Sprintf(`{"handle":%q,"passphrase":%q,"from":"x"}`, handle, passphrase))
	}
	wrong := 0
	for range 20 {
		status, header, text := ask("odile", "guess")
		if status == 429 {
			if header.Get("Retry-After") == "" || !strings.Contains(text, "wrong tries") {
				t.Errorf("%v %s", header, text)
			}
			break
		}
		wrong++
	}
	if wrong > 6 {
		t.Errorf("%d guesses in a row were looked at", wrong)
	}
	mu.Lock()
	text := log.String()
	mu.Unlock()
	if !strings.Contains(text, `"msg":"a sign-in failed"`) || !strings.Contains(text, `"handle":"odile"`) ||
		!strings.Contains(text, `"address":"127.0.0.1"`) || strings.Contains(text, "guess") {
		t.Errorf("the log has %s", text)
	}
}

type locked struct {
	mu *sync.Mutex
	b  *bytes.Buffer
}

func (l locked) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

// TestWhatIsNoRequestIsNoFault: zero bytes, broken UTF-8 and bodies of any size are refused in words, before a person is known or after.
func TestWhatIsNoRequestIsNoFault(t *testing.T) {
	h := newShelf(t, "a.png")
	for _, body := range []string{"{\"handle\":\"a\\u0000b\",\"passphrase\":\"x\",\"from\":\"\"}",
		"{\"handle\":\"a\xff\",\"passphrase\":\"x\",\"from\":\"\"}", "", "[]", "{\"handle\":" + strings.Repeat("[", 4000)} {
		if status, _, text := raw(t, "POST", h.url+api.Prefix+"/sign-in", "", body); status < 400 || status >= 500 {
			t.Errorf("%q: %d %s", body, status, text)
		}
	}
	// A large body is not even read.
	if status, _, text := raw(t, "POST", h.url+api.Prefix+"/sign-in", "", "{\"handle\":\""+strings.Repeat("x", 1<<20)+"\"}"); status != 413 {
		t.Errorf("%d %s", status, text)
	}
	probes := 0
	parameter := regexp.MustCompile(`\{(\w+)\}`)
	for path, item := range api.Document().Paths.Map() {
		for method, op := range item.Operations() {
			for _, bad := range []string{"%00", "a%00b", "%ff", "%c3%28", "..", "%2e%2e%2f", "\\u0000", strings.Repeat("x", 5000)} {
				address := h.url + api.Prefix + parameter.ReplaceAllStringFunc(path, func(name string) string {
					if name == "{project}" {
						return key
					}
					return bad
				})
				query := []string{}
				for _, p := range op.Parameters {
					if p.Value.In == "query" {
						query = append(query, p.Value.Name+"="+bad)
					}
				}
				if len(query) > 0 {
					address += "?" + strings.Join(query, "&")
				}
				body := ""
				if op.RequestBody != nil {
					body = `{"note":"a\u0000b","path":"\u0000","handle":"\u0000"}`
				}
				if strings.HasSuffix(path, "/news") && method == "GET" || path == "/sign-out" {
					continue
				}
				if u, err := url.Parse(address); err != nil || u == nil {
					continue
				}
				probes++
				if status, _, text := raw(t, method, address, h.token, body); status >= 500 {
					t.Errorf("%s %s: %d %s", method, address[len(h.url):], status, text)
				}
			}
		}
	}
	if probes < 400 {
		t.Errorf("only %d probes", probes)
	}
}

// TestTheCookieBehindAProxy goes over a safe line only, where the proxy says that there is one.
func TestTheCookieBehindAProxy(t *testing.T) {
	s := testbed.NewService(t, nil)
	server := s.Serve(t)
	s.Person(t, "odile")
	for proto, secure := range map[string]bool{"https": true, "http": false, "": false} {
		r, err := http.NewRequest("POST", server.URL+api.Prefix+"/sign-in",
			strings.NewReader(fmt.Sprintf(`{"handle":"odile","passphrase":%q,"from":"x","console":true}`, testbed.Passphrase)))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		if proto != "" {
			r.Header.Set("X-Forwarded-Proto", proto)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		cookies := answer.Cookies()
		if len(cookies) != 1 || cookies[0].Secure != secure || !cookies[0].HttpOnly || cookies[0].SameSite != http.SameSiteStrictMode {
			t.Errorf("%q: %v", proto, cookies)
		}
	}
}

// TestWhatCantBeShownIsEscaped: an answer carries text of others so that printing it does nothing to a terminal.
func TestWhatCantBeShownIsEscaped(t *testing.T) {
	h := newShelf(t, "a.png")
	for _, address := range []string{"/locks/record?person=%1b%5B2J", "/asset?path=%C2%85%E2%80%AE", "/handoffs?kind=%1b"} {
		_, _, text := raw(t, "GET", h.url+api.Prefix+"/projects/"+key+address, h.token, "")
		if strings.ContainsAny(text, "\x1b\u0085\u202e") {
			t.Errorf("%s: %q", address, text)
		}
	}
}

// TestASlowStreamEndsForAPerson: signed out, the stream of news ends and does not come back.
func TestASlowStreamEndsForAPerson(t *testing.T) {
	h := newShelf(t, "a.png")
	signed, err := h.odile.SignIn(t.Context(), model.SignInRequest{Handle: "rurik", Passphrase: testbed.Passphrase, From: "x"})
	if err != nil {
		t.Fatal(err)
	}
	r, err := http.NewRequestWithContext(t.Context(), "GET", h.url+api.Prefix+"/projects/"+key+"/news", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+signed.Token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil || answer.StatusCode != 200 {
		t.Fatalf("%v, %v", answer, err)
	}
	defer answer.Body.Close()
	if status, _, text := raw(t, "POST", h.url+api.Prefix+"/sign-out", signed.Token, ""); status != 204 {
		t.Fatalf("%d %s", status, text)
	}
	ended := make(chan struct{})
	go func() {
		_, _ = io.Copy(io.Discard, answer.Body)
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Fatal("the stream goes on")
	}
	if status, _, _ := raw(t, "GET", h.url+api.Prefix+"/projects/"+key+"/news", signed.Token, ""); status != 401 {
		t.Errorf("%d", status)
	}
}
