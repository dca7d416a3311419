//go:build linux

package desk

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/coder/websocket"

	"kettletarn/internal/signins"
	"kettletarn/internal/testbed"
	"kettletarn/internal/workspace"
)

func TestMain(m *testing.M) { testbed.Main(m) }

// run is a desk that runs until the test ends, or until it is stopped.
func run(t *testing.T) (at Address, stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	started, ended := make(chan struct{}), make(chan error, 1)
	console := fstest.MapFS{"index.html": {Data: []byte("<html><head></head></html>")}}
	go func() {
		ended <- Run(ctx, Options{Console: console, Version: "test", Log: slog.New(slog.DiscardHandler), Open: func(string) error { return nil }},
			func() { close(started) })
	}()
	select {
	case <-started:
	case err := <-ended:
		t.Fatal(err)
	}
	stopped := false
	stop = func() {
		cancel()
		if stopped {
			return
		}
		stopped = true
		if err := <-ended; err != nil {
			t.Error(err)
		}
	}
	t.Cleanup(stop)
	at, err := Find(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return at, stop
}

// asked is a request to a desk, as it may come from anywhere on the machine.
type asked struct {
	method, path, host, origin, cookie, key, site string
}

// status sends it, and gives the answer's status and text.
func (q asked) status(t *testing.T, at Address) (int, string, http.Header) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), q.method, at.At+q.path, strings.NewReader(`{"page": "/desk"}`))
	if err != nil {
		t.Fatal(err)
	}
	r.Host = q.host
	for name, value := range map[string]string{"Origin": q.origin, "Sec-Fetch-Site": q.site} {
		if value != "" {
			r.Header.Set(name, value)
		}
	}
	if q.cookie != "" {
		r.AddCookie(&http.Cookie{Name: session, Value: q.cookie})
	}
	if q.key != "" {
		r.Header.Set("Authorization", "Bearer "+q.key)
	}
	if strings.HasSuffix(q.path, "/line") {
		r.Header.Set("Connection", "Upgrade")
		r.Header.Set("Upgrade", "websocket")
		r.Header.Set("Sec-WebSocket-Version", "13")
		r.Header.Set("Sec-WebSocket-Key", "AAAAAAAAAAAAAAAAAAAAAA==")
	}
	answer, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode == http.StatusSwitchingProtocols {
		return answer.StatusCode, "", answer.Header
	}
	text, _ := io.ReadAll(answer.Body)
	return answer.StatusCode, string(text), answer.Header
}

// enter opens a link, as a browser does, and gives the host and the session.
func enter(t *testing.T, at Address, page string) (host, kept, leads string) {
	t.Helper()
	link, err := at.Link(t.Context(), page)
	if err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(link)
	if err != nil {
		t.Fatal(err)
	}
	status, _, h := asked{method: "GET", path: u.RequestURI(), host: u.Host}.status(t, at)
	if status != http.StatusSeeOther {
		t.Fatalf("the link answers %d", status)
	}
	cookie, err := http.ParseSetCookie(h.Get("Set-Cookie"))
	if err != nil || !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode || cookie.Domain != "" || cookie.Path != "/" {
		t.Fatalf("%+v, %v", cookie, err)
	}
	if again, _, _ := (asked{method: "GET", path: u.RequestURI(), host: u.Host}).status(t, at); again != http.StatusForbidden {
		t.Errorf("the link answers %d the second time", again)
	}
	return u.Host, cookie.Value, h.Get("Location")
}

// TestNobodyElseGetsIn: whoever else is on the machine or in the browser gets nothing of a desk.
func TestNobodyElseGetsIn(t *testing.T) {
	testbed.Home(t)
	at, stop := run(t)
	host, in, _ := enter(t, at, "/desk")
	own, loopback := "http://"+host, strings.TrimPrefix(at.At, "http://")
	_, port, _ := strings.Cut(host, ":")
	for _, path := range []string{"/", "/desk", "/assets/x.js", "/api/v1/whoami", "/desk/line", "/desk/picture?path=a", "/desk/compare",
		"/nowhere"} {
		for name, q := range map[string]asked{
			"with nothing":                  {host: loopback},
			"by the name":                   {host: host},
			"with another session":          {host: host, cookie: "x" + in},
			"by the address, with a cookie": {host: loopback, cookie: in},
			"another name bound to it":      {host: "tarn.example:" + port, cookie: in},
			"the name without a port":       {host: strings.TrimSuffix(host, ":"+port), cookie: in},
			"another page's origin":         {host: host, cookie: in, origin: "http://tarn.example"},
			"another port's page":           {host: host, cookie: in, origin: "http://127.0.0.1:1"},
			"a page without an origin":      {host: host, cookie: in, origin: "null"},
			"a page of another site":        {host: host, cookie: in, site: "cross-site"},
			"another page below localhost":  {host: host, cookie: in, site: "same-site"},
			"a wrong key":                   {host: loopback, key: "x" + at.Key},
			"the key, from a page":          {host: loopback, key: at.Key, origin: own},
		} {
			q.method, q.path = "GET", path
			if status, text, h := q.status(t, at); status != http.StatusForbidden || !strings.Contains(text, "somebody’s desk") ||
				h.Get("Set-Cookie") != "" {
				t.Errorf("%s, %s: %d", path, name, status)
			}
		}
	}
	for name, q := range map[string]asked{
		"telling the desk to end":      {path: "/desk/end", host: host, cookie: in, origin: own},
		"asking for a link":            {path: "/desk/link", host: host, cookie: in, origin: own},
		"a form of another page":       {path: "/api/v1/projects", host: host, cookie: in, origin: "http://tarn.example"},
		"a form that hides its origin": {path: "/api/v1/projects", host: host, cookie: in},
		"a guess at a link":            {path: "/desk/enter?once=" + in, host: host},
	} {
		q.method = "POST"
		if status, _, _ := q.status(t, at); status != http.StatusForbidden && status != http.StatusMethodNotAllowed {
			t.Errorf("%s: %d", name, status)
		}
	}
	// Who is in is in.
	for _, q := range []asked{
		{method: "GET", path: "/desk", host: host, cookie: in, site: "none"},
		{method: "GET", path: "/desk", host: host, cookie: in, site: "same-origin"},
		{method: "POST", path: "/desk/about", host: loopback, key: at.Key},
	} {
		if status, text, _ := q.status(t, at); status != http.StatusOK {
			t.Errorf("%+v: %d %s", q, status, text)
		}
	}
	if status, _, _ := (asked{method: "GET", path: "/desk/line", host: host, cookie: in, origin: own}).status(t, at); status !=
		http.StatusSwitchingProtocols {
		t.Errorf("its own page gets no line: %d", status)
	}
	// A session ends with its desk.
	stop()
	if _, err := Find(t.Context()); err == nil {
		t.Error("the desk has ended, and is found")
	}
	next, _ := run(t)
	host, _, _ = enter(t, next, "/desk")
	if status, _, _ := (asked{method: "GET", path: "/desk", host: host, cookie: in}).status(t, next); status != http.StatusForbidden {
		t.Errorf("the next desk takes the session: %d", status)
	}
}

func TestLinksLeadToPagesOfTheConsole(t *testing.T) {
	testbed.Home(t)
	at, _ := run(t)
	for page, want := range map[string]string{"/p/brinelight/asset/a%20b.png": "/p/brinelight/asset/a%20b.png", "": "/desk",
		"https://tarn.example": "/desk", "//tarn.example": "/desk", `/\tarn.example`: "/desk", "javascript:alert(1)": "/desk",
		"/desk\r\nSet-Cookie: a=b": "/desk"} {
		if _, _, leads := enter(t, at, page); leads != want {
			t.Errorf("%q leads to %q", page, leads)
		}
	}
	for link, want := range map[string]string{
		"tarn:open?service=https%3A%2F%2Ftarn.example&page=%2Fp%2Fbrinelight": "https://tarn.example /p/brinelight",
		workspace.DeskLink("https://tarn.example", "brinelight", "models/a b?.glb"): "https://tarn.example " +
			"/p/brinelight/asset/models/a%20b%3F.glb",
		"tarn:open": " /desk", "tarn://open?page=/desk": " /desk", "tarn://open/?page=/desk": " /desk",
	} {
		service, page, err := ParseLink(link)
		if err != nil || service+" "+page != want {
			t.Errorf("%s: %q %q %v", link, service, page, err)
		}
	}
	for _, link := range []string{"", "tarn:", "http://open", "tarn:send?page=/desk", "tarn:open?page=//x", "tarn:open?page=https://x",
		"tarn:open?page=%0a/desk", "tarn:open?%zz", "tarn:open?page=/" + strings.Repeat("x", 9<<10)} {
		if service, page, err := ParseLink(link); err == nil {
			t.Errorf("%.40s leads to %q %q", link, service, page)
		}
	}
}

func TestALinkIsGoodForAMinute(t *testing.T) {
	d := doors{tickets: map[string]ticket{}, sessions: map[string]bool{}}
	secret := d.ticket("/desk")
	d.tickets[secret] = ticket{"/desk", time.Now().Add(-time.Second)}
	if _, _, ok := d.enter(secret); ok {
		t.Error("an old link lets in")
	}
	old := d.ticket("/desk")
	d.tickets[old] = ticket{"/desk", time.Now().Add(-time.Second)}
	d.ticket("/desk")
	if len(d.tickets) != 1 {
		t.Errorf("%d tickets are kept", len(d.tickets))
	}
}

// TestCallsAreHandedOn: with the person's credential, which the page does not get to see, and with nothing of the browser's.
func TestCallsAreHandedOn(t *testing.T) {
	testbed.Home(t)
	var got http.Header
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = r.Header.Clone()
		http.SetCookie(w, &http.Cookie{Name: "tarn_console", Value: "theirs"})
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"path": "`+r.URL.Path+`", "host": "`+r.Host+`"}`)
	}))
	defer service.Close()
	at, _ := run(t)
	host, in, _ := enter(t, at, "/")
	call := func(method, path string) (int, string, http.Header) {
		return asked{method: method, path: path, host: host, cookie: in, origin: "http://" + host}.status(t, at)
	}
	if status, text, _ := call("GET", "/api/v1/whoami"); status != http.StatusUnauthorized || !strings.Contains(text, "not-signed-in") {
		t.Errorf("signed out: %d %s", status, text)
	}
	kept := signins.Kept{Current: service.URL, Services: map[string]signins.SignIn{service.URL: {Handle: "rurik", Token: "kept-secret"}}}
	if err := kept.Write(); err != nil {
		t.Fatal(err)
	}
	status, text, h := call("GET", "/api/v1/whoami")
	var echo struct{ Path, Host string }
	if err := json.Unmarshal([]byte(text), &echo); err != nil || status != http.StatusOK || echo.Path != "/api/v1/whoami" ||
		echo.Host != strings.TrimPrefix(service.URL, "http://") {
		t.Errorf("%d %s %v", status, text, err)
	}
	if got.Get("Authorization") != "Bearer kept-secret" || got.Get("Cookie") != "" || got.Get("Origin") != "" {
		t.Errorf("the service gets %v", got)
	}
	if h.Get("Set-Cookie") != "" || strings.Contains(text, "kept-secret") {
		t.Errorf("the page gets %v %s", h, text)
	}
	for _, path := range []string{"/api/v1/sign-in", "/api/v1/sign-out"} {
		got = nil
		if status, _, _ := call("POST", path); status != http.StatusForbidden || got != nil {
			t.Errorf("%s is handed on: %d", path, status)
		}
	}
	service.Close()
	if status, text, _ := call("GET", "/api/v1/whoami"); status != http.StatusBadGateway || !strings.Contains(text, "unreachable") {
		t.Errorf("away: %d %s", status, text)
	}
}

func TestOneDeskRuns(t *testing.T) {
	testbed.Home(t)
	at, _ := run(t)
	err := Run(t.Context(), Options{Log: slog.New(slog.DiscardHandler)}, func() { t.Error("a second desk has started") })
	testbed.Problem(t, err, "taken")
	replaced := at
	replaced.Built = at.Built.Add(-time.Second)
	if at.Outdated("test") || !at.Outdated("next") || !replaced.Outdated("test") {
		t.Error("which desk is outdated is not told")
	}
	line, err := at.Dial(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer line.Close()
	if err := at.End(t.Context()); err != nil {
		t.Error(err)
	}
	if _, err := line.Recv(); err != io.EOF {
		t.Errorf("the line goes on: %v", err)
	}
	if _, _, err := websocket.Dial(t.Context(), at.At+"/desk/line", nil); err == nil {
		t.Error("it answers after its end")
	}
}
