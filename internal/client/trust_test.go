package client

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kettletarn/internal/core/model"
)

// TestNoRedirectTakesACredentialAlong: neither a passphrase nor a token goes on, whatever kind of redirect, to whatever port or host.
func TestNoRedirectTakesACredentialAlong(t *testing.T) {
	var stolen atomic.Int64
	thief := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { stolen.Add(1) }))
	defer thief.Close()
	for _, status := range []int{301, 302, 303, 307, 308} {
		var asked atomic.Int64
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asked.Add(1)
			http.Redirect(w, r, thief.URL+r.URL.Path, status)
		}))
		c := New(server.URL, "tarn_secret", nil)
		for what, call := range map[string]func() error{
			"sign-in": func() error {
				_, err := c.SignIn(t.Context(), model.SignInRequest{Handle: "a", Passphrase: "b"})
				return err
			},
			"whoami": func() error { _, err := c.Whoami(t.Context()); return err },
			"send": func() error {
				_, err := c.Send(t.Context(), "k", "1", model.SendRequest{}, []byte("x"))
				return err
			},
		} {
			before := asked.Load()
			var problem *model.Problem
			if err := call(); !errors.As(err, &problem) || !strings.Contains(problem.Detail, thief.URL) {
				t.Errorf("%d, %s: %v", status, what, err)
			}
			if asked.Load() != before+1 {
				t.Errorf("%d, %s was asked %d times", status, what, asked.Load()-before)
			}
		}
		server.Close()
	}
	if stolen.Load() != 0 {
		t.Errorf("%d requests went on", stolen.Load())
	}
}

func TestWhatIsSafe(t *testing.T) {
	for address, safe := range map[string]bool{"https://tarn.example": true, "http://127.0.0.1:7420": true, "http://localhost:1": true,
		"http://[::1]:2": true, "http://127.9.9.9": true,
		"http://tarn.example": false, "http://10.0.0.1": false, "http://127.0.0.1.example": false, "http://localhost.example": false} {
		if Safe(address) != safe {
			t.Errorf("%s: %v", address, !safe)
		}
	}
}

// TestAStalledLineIsSpokenOf: a line that is open and silent is told of, and given up in the end.
func TestAStalledLineIsSpokenOf(t *testing.T) {
	defer shorten(time.Second)()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { _, _ = io.Copy(io.Discard, conn) }()
		}
	}()
	var mu sync.Mutex
	told := 0
	c := New("http://"+listener.Addr().String(), "", nil)
	c.Waiting(func(time.Duration) {
		mu.Lock()
		told++
		mu.Unlock()
	})
	began := time.Now()
	_, err = c.Whoami(t.Context())
	var away *Unreachable
	if !errors.As(err, &away) || !strings.Contains(away.Cause, "no answer") {
		t.Errorf("%v", err)
	}
	mu.Lock()
	defer mu.Unlock()
	if told == 0 || time.Since(began) > 30*time.Second {
		t.Errorf("told %d times in %s", told, time.Since(began))
	}
}

// TestAnAnswerThatStopsIsTriedAgain: a body that stands still in its middle is not waited for.
func TestAnAnswerThatStopsIsTriedAgain(t *testing.T) {
	defer shorten(smallTries)()
	var asked atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if asked.Add(1) == 1 {
			_, _ = io.WriteString(w, `{"handle":`)
			_ = http.NewResponseController(w).Flush()
			<-r.Context().Done()
			return
		}
		_, _ = io.WriteString(w, `{"handle":"odile","steward":false}`)
	}))
	defer server.Close()
	who, err := New(server.URL, "t", nil).Whoami(t.Context())
	if err != nil || who.Handle != "odile" || asked.Load() < 2 {
		t.Errorf("%+v, %v, asked %d times", who, err, asked.Load())
	}
}

// TestTheServiceAsksForPatience: a short wait is kept, a long one is the person's to decide on.
func TestTheServiceAsksForPatience(t *testing.T) {
	for after, want := range map[string]int64{"1": 2, "600": 1} {
		var asked atomic.Int64
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if asked.Add(1) == 1 {
				w.Header().Set("Retry-After", after)
				w.Header().Set("Content-Type", "application/problem+json")
				w.WriteHeader(429)
				_, _ = io.WriteString(w, `{"type":"`+model.ProblemPrefix+model.TooMany+`","title":"x","status":429,"detail":"too many wrong tries"}`)
				return
			}
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w, `{"handle":"odile","steward":false}`)
		}))
		began := time.Now()
		_, err := New(server.URL, "t", nil).Whoami(t.Context())
		if asked.Load() != want || (err == nil) != (want == 2) {
			t.Errorf("after %s: asked %d times, %v", after, asked.Load(), err)
		}
		if want == 2 && time.Since(began) < time.Second {
			t.Error("it was not waited")
		}
		var problem *model.Problem
		if want == 1 && (!errors.As(err, &problem) || problem.After != 10*time.Minute) {
			t.Errorf("%v", err)
		}
		server.Close()
	}
}

// TestARefusalIsTold: whoever keeps what a service said hears that it is old.
func TestARefusalIsTold(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(409)
		_, _ = io.WriteString(w, `{"type":"`+model.ProblemPrefix+model.RefusedType+
			`","title":"x","status":409,"detail":"d","refusals":[{"path":"a","reason":"lock-lost","message":"m","remedy":"r"}]}`)
	}))
	defer server.Close()
	told := 0
	c := New(server.URL, "t", nil).In("w", func() { told++ })
	var refused *model.Refused
	if _, err := c.TakeLocks(context.Background(), "k", model.LockRequest{}); !errors.As(err, &refused) || told != 1 {
		t.Errorf("%v, told %d times", err, told)
	}
}

// shorten makes the client impatient, but for how long it tries, and gives back what makes it patient again.
func shorten(most time.Duration) func() {
	small, body, quiet, tries := smallPatience, bodyPatience, silence, smallTries
	smallPatience, bodyPatience, silence, smallTries = 300*time.Millisecond, 300*time.Millisecond, 50*time.Millisecond, most
	return func() { smallPatience, bodyPatience, silence, smallTries = small, body, quiet, tries }
}

// TestNewsMayBeSilent: a stream that stands waits for as long as nothing happens, and nobody is told so; until it stands, they are.
func TestNewsMayBeSilent(t *testing.T) {
	quiet := silence
	defer func() { silence = quiet }()
	silence = 50 * time.Millisecond
	var told atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for told.Load() == 0 && r.Context().Err() == nil {
			time.Sleep(5 * time.Millisecond)
		}
		w.Header().Set("Content-Type", "text/event-stream")
		w.(http.Flusher).Flush()
		time.Sleep(3 * silence)
		_, _ = io.WriteString(w, "data: {\"kind\":\"lock-taken\"}\n\n")
	}))
	defer server.Close()
	c := New(server.URL, "", nil)
	c.Waiting(func(time.Duration) { told.Add(1) })
	var before int32
	var kinds []string
	err := c.News(t.Context(), "brinelight", "", func() { before = told.Load() }, func(e model.Event) error {
		kinds = append(kinds, e.Kind)
		return nil
	})
	if !strings.Contains(err.Error(), "ended") || len(kinds) != 1 || before == 0 || told.Load() != before {
		t.Errorf("%v; heard %v; told %d times before it stood, and %d in all", err, kinds, before, told.Load())
	}
}
