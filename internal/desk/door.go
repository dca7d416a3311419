package desk

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"

	"kettletarn/internal/core/model"
	"kettletarn/internal/pages"
	"kettletarn/internal/signins"
)

// Who gets in. The desk listens on loopback, which everybody on the machine and every page in a browser can reach, so that nothing answers
// without one of two things: the key, which only processes of the person can read, or a session, which begins with a link that is good
// once and for a minute.
//
// Cookies know hosts and no ports: whatever else serves on 127.0.0.1 would be sent them. So browsers reach the desk under a name of its own
// below localhost (RFC 6761, section 6.3), that nobody can guess and that another page can't use: every request has to name it as its Host,
// and as its Origin where it has one.

// ticket is what a link is good for.
type ticket struct {
	page  string
	until time.Time
}

// ticketTime is how long a link is good for.
const ticketTime = time.Minute

// session is the name of the cookie.
const session = "tarn_desk"

// doors are who may come in.
type doors struct {
	mu       sync.Mutex
	tickets  map[string]ticket
	sessions map[string]bool
}

func (d *doors) ticket(page string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	for t, k := range d.tickets {
		if time.Now().After(k.until) {
			delete(d.tickets, t)
		}
	}
	secret := rand.Text() + rand.Text()
	d.tickets[secret] = ticket{page, time.Now().Add(ticketTime)}
	return secret
}

// enter takes a ticket, and begins a session.
func (d *doors) enter(secret string) (page, session string, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	t, ok := d.tickets[secret]
	delete(d.tickets, secret)
	if !ok || time.Now().After(t.until) {
		return "", "", false
	}
	session = rand.Text() + rand.Text()
	d.sessions[session] = true
	return t.page, session, true
}

func (d *doors) in(r *http.Request) bool {
	kept, err := r.Cookie(session)
	if err != nil {
		return false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.sessions[kept.Value]
}

func (d *Desk) origin() string { return "http://" + d.host }

// link leads a browser in, once, to a page.
func (d *Desk) link(page string) string {
	return d.origin() + "/desk/enter?once=" + d.doors.ticket(ownPage(page))
}

// ownPage checks the address of a page to go to: one of the console's own.
func ownPage(name string) string {
	if u, err := url.Parse(name); err != nil || u.IsAbs() || u.Host != "" || !strings.HasPrefix(name, "/") || strings.HasPrefix(name, "//") ||
		strings.ContainsAny(name, "\\\r\n") {
		return "/desk"
	}
	return name
}

// handler is all that the desk answers, until ctx ends.
func (d *Desk) handler(ctx context.Context, end func()) http.Handler {
	mux := http.NewServeMux()
	// For the person's own processes.
	mux.HandleFunc("POST /desk/about", d.keyed(func(http.ResponseWriter, *http.Request) (any, error) { return d.about(ctx) }))
	mux.HandleFunc("POST /desk/link", d.keyed(func(w http.ResponseWriter, r *http.Request) (any, error) {
		var q struct{ Page string }
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 8<<10)).Decode(&q); err != nil {
			return nil, err
		}
		return map[string]string{"link": d.link(q.Page)}, nil
	}))
	mux.HandleFunc("POST /desk/end", d.keyed(func(http.ResponseWriter, *http.Request) (any, error) {
		time.AfterFunc(50*time.Millisecond, end)
		return struct{}{}, nil
	}))
	// For the browser.
	mux.HandleFunc("GET /desk/enter", func(w http.ResponseWriter, r *http.Request) {
		page, secret, ok := d.doors.enter(r.URL.Query().Get("once"))
		if !ok {
			outside(w)
			return
		}
		http.SetCookie(w, &http.Cookie{Name: session, Value: secret, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode})
		http.Redirect(w, r, page, http.StatusSeeOther)
	})
	mux.HandleFunc("GET /desk/line", func(w http.ResponseWriter, r *http.Request) { d.line(ctx, w, r) })
	mux.HandleFunc("PUT /desk/file", d.give)
	mux.HandleFunc("GET /desk/picture", d.picture)
	mux.HandleFunc("GET /desk/compare", d.compared)
	mux.HandleFunc("GET /desk/compare/file", d.comparedFile)
	mux.Handle("/api/", d.passing())
	mux.Handle("/", pages.Serve(d.o.Console, func(index []byte) []byte {
		return []byte(strings.Replace(string(index), "<head>", `<head><meta name="desk" content="here" />`, 1))
	}))
	return d.guarded(mux)
}

// guarded lets in who may come in, and nobody else.
func (d *Desk) guarded(inside http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		pages.Headers(w.Header())
		// Some browsers take a web socket for another origin than that of its page.
		w.Header().Set("Content-Security-Policy", "connect-src 'self' ws://"+d.host+"; "+w.Header().Get("Content-Security-Policy"))
		w.Header().Set("Cache-Control", "no-store")
		switch origin := r.Header.Get("Origin"); {
		case d.hasKey(r):
			if origin != "" { // no page has the key
				outside(w)
				return
			}
		case r.Host != d.host, origin != "" && origin != d.origin(),
			origin == "" && r.Method != http.MethodGet && r.Method != http.MethodHead, foreign(r):
			outside(w)
			return
		case r.URL.Path == "/desk/enter":
		case !d.doors.in(r):
			outside(w)
			return
		}
		inside.ServeHTTP(w, r)
	})
}

// foreign says that a page of another site makes a browser ask. To come in with a link is not that: nothing is known of who gave it.
func foreign(r *http.Request) bool {
	site := r.Header.Get("Sec-Fetch-Site")
	return r.URL.Path != "/desk/enter" && site != "" && site != "same-origin" && site != "none"
}

func (d *Desk) hasKey(r *http.Request) bool {
	scheme, key, ok := strings.Cut(r.Header.Get("Authorization"), " ")
	return ok && strings.EqualFold(scheme, "bearer") && subtle.ConstantTimeCompare([]byte(key), []byte(d.key)) == 1
}

// outside is what everybody else sees.
func outside(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(http.StatusForbidden)
	_, _ = w.Write([]byte(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Kettle Tarn</title>
<body style="font:1.05rem/1.5 system-ui;max-width:34rem;margin:15vh auto;padding:0 1rem">
<h1 style="font-size:1.4rem">This is somebody’s desk</h1>
<p>It opens from the machine that it belongs to: choose Kettle Tarn in the start menu, or run <code>tarn desk</code>. A link to it is good
once, for a minute.</p>`))
}

// keyed answers the person's own processes.
func (d *Desk) keyed(do func(http.ResponseWriter, *http.Request) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !d.hasKey(r) {
			outside(w)
			return
		}
		v, err := do(w, r)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		answerJSON(w, http.StatusOK, v)
	}
}

func answerJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

// fail answers a request of the page with a problem (RFC 9457), as the service does.
func fail(w http.ResponseWriter, status int, kind, detail, remedy string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"type": "urn:kettletarn:" + kind, "title": http.StatusText(status), "status": status,
		"detail": detail, "remedy": remedy})
}

// passing hands calls of the page on to the service, with the person's credential, which no page gets to see.
func (d *Desk) passing() http.Handler {
	type key struct{}
	proxy := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			access := r.In.Context().Value(key{}).(signins.Access)
			base, _ := url.Parse(access.URL)
			r.SetURL(base)
			r.Out.Host = base.Host
			for _, name := range []string{"Cookie", "Origin", "Referer", "Forwarded", "X-Forwarded-For", "Sec-Fetch-Site", "Sec-Fetch-Mode",
				"Sec-Fetch-Dest", "Sec-Fetch-User"} {
				r.Out.Header.Del(name)
			}
			r.Out.Header.Set("Authorization", "Bearer "+access.Token)
		},
		ModifyResponse: func(r *http.Response) error {
			r.Header.Del("Set-Cookie")
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			if r.Context().Err() == nil {
				d.o.Log.Info("the service can't be reached", "error", err)
			}
			fail(w, http.StatusBadGateway, "unreachable", "The service can’t be reached from this machine.",
				"What is known of your own files is under My work. The page goes on by itself as soon as the service is back.")
		},
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/sign-in") || strings.HasSuffix(r.URL.Path, "/sign-out") {
			fail(w, http.StatusForbidden, model.NotAllowed, "At the desk one is signed in as on the machine.", "Sign in under My work.")
			return
		}
		access, err := signins.For("")
		if err != nil {
			fail(w, http.StatusUnauthorized, model.NotSignedIn, "You are not signed in on this machine.", "Sign in under My work.")
			return
		}
		proxy.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), key{}, access)))
	})
}

// line opens a line of the local interface.
func (d *Desk) line(ctx context.Context, w http.ResponseWriter, r *http.Request) {
	// Host and Origin were looked at: see guarded.
	conn, err := websocket.Accept(w, r, &websocket.AcceptOptions{InsecureSkipVerify: true, CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return
	}
	d.serve(ctx, newLine(ctx, conn))
}
