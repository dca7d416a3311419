package admission

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/model"
)

func many(t *testing.T, err error) *model.Problem {
	t.Helper()
	var p *model.Problem
	if !errors.As(err, &p) || p.Type != model.TooMany || p.After <= 0 {
		t.Fatalf("%v", err)
	}
	return p
}

func TestWhereARequestComesFrom(t *testing.T) {
	for _, c := range []struct{ remote, forwarded, want string }{
		{"192.0.2.1:99", "", "192.0.2.1"}, {"192.0.2.1:99", "198.51.100.1", "192.0.2.1"}, {"127.0.0.1:99", "198.51.100.1", "198.51.100.1"},
		{"127.0.0.1:99", "203.0.113.1, 198.51.100.1", "198.51.100.1"}, {"[::1]:99", "2001:db8::1", "2001:db8::1"},
		{"127.0.0.1:99", "nonsense", "127.0.0.1"}, {"[::ffff:192.0.2.1]:9", "", "192.0.2.1"},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = c.remote
		if c.forwarded != "" {
			r.Header.Set("X-Forwarded-For", c.forwarded)
		}
		if got := Address(r); got.String() != c.want {
			t.Errorf("%+v: %s", c, got)
		}
	}
}

func TestWrongTriesGetSlower(t *testing.T) {
	tries := newTries()
	here, there := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2")
	now := time.Now()
	wrong := func(a netip.Addr, handle string) error {
		done, err := tries.enter(now, a, handle)
		if err == nil {
			done(false, true)
		}
		return err
	}
	for i := range freeTries {
		if err := wrong(here, "odile"); err != nil {
			t.Fatalf("try %d: %v", i, err)
		}
	}
	first := many(t, wrong(here, "odile"))
	many(t, wrong(here, "tamsin")) // it is the address that waits, whomever it guesses
	if err := wrong(there, "odile"); err != nil {
		t.Errorf("somebody else is locked out: %v", err)
	}
	// Each wrong try after its wait doubles the next one.
	before := first.After
	for range 3 {
		now = now.Add(longestWait)
		if err := wrong(here, "odile"); err != nil {
			t.Fatal(err)
		}
		now = time.Now()
		next := many(t, wrong(here, "odile"))
		if next.After < before+before/2 {
			t.Errorf("%s after %s", next.After, before)
		}
		before = next.After
	}
	// From everywhere at once, a handle waits a little, and no longer.
	for i := range 3 * freeHandleTries {
		_ = wrong(netip.AddrFrom4([4]byte{198, 51, 100, byte(i)}), "rurik")
	}
	if p := many(t, wrong(netip.MustParseAddr("203.0.113.7"), "rurik")); p.After > longestHandle {
		t.Errorf("a handle waits %s", p.After)
	}
	// A right one clears the handle.
	done, err := tries.enter(now.Add(time.Minute), netip.MustParseAddr("203.0.113.8"), "rurik")
	if err != nil {
		t.Fatal(err)
	}
	done(true, false)
	if err := wrong(netip.MustParseAddr("203.0.113.9"), "rurik"); err != nil {
		t.Error(err)
	}
}

func TestSignInsAtOnce(t *testing.T) {
	g := New()
	a := netip.MustParseAddr("192.0.2.1")
	for range signInsAtOnce {
		if _, err := g.SignIn(a, "odile"); err != nil {
			t.Fatal(err)
		}
	}
	_, err := g.SignIn(a, "odile")
	many(t, err)
	if _, err := g.SignIn(netip.MustParseAddr("192.0.2.2"), "odile"); err != nil {
		t.Error(err)
	}
}

func TestOnePersonDoesNotHoldUpAnother(t *testing.T) {
	g := New()
	var leave []func()
	for range personAtOnce {
		l, err := g.Person(t.Context(), 1, Kind{})
		if err != nil {
			t.Fatal(err)
		}
		leave = append(leave, l)
	}
	ctx, stop := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer stop()
	_, err := g.Person(ctx, 1, Kind{})
	many(t, err)
	other, err := g.Person(t.Context(), 2, Kind{})
	if err != nil {
		t.Fatal(err)
	}
	other()
	// Who waits gets a turn when one is free.
	waited := make(chan error, 1)
	go func() {
		l, err := g.Person(t.Context(), 1, Kind{})
		if err == nil {
			l()
		}
		waited <- err
	}()
	time.Sleep(20 * time.Millisecond)
	for _, l := range leave {
		l()
	}
	if err := <-waited; err != nil {
		t.Error(err)
	}
	for range personStreams {
		if _, err := g.Person(t.Context(), 3, Kind{Stream: true}); err != nil {
			t.Fatal(err)
		}
	}
	_, err = g.Person(t.Context(), 3, Kind{Stream: true})
	many(t, err)
	var costly []func()
	for range costlyAtOnce {
		l, err := g.Person(t.Context(), 4, Kind{Costly: true})
		if err != nil {
			t.Fatal(err)
		}
		costly = append(costly, l)
	}
	ctx2, stop2 := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer stop2()
	_, err = g.Person(ctx2, 4, Kind{Costly: true})
	many(t, err)
	if l, err := g.Person(t.Context(), 4, Kind{}); err != nil {
		t.Error("what costs little waits for what costs much")
	} else {
		l()
	}
	for _, l := range costly {
		l()
	}
	if len(g.people) != 1 { // 3 has its streams
		t.Errorf("%d people are remembered", len(g.people))
	}
}

func TestStrayCredentials(t *testing.T) {
	g := New()
	a := netip.MustParseAddr("192.0.2.1")
	for range strayTries {
		if err := g.Stray(a); err != nil {
			t.Fatal(err)
		}
	}
	many(t, g.Stray(a))
	if err := g.Stray(netip.MustParseAddr("192.0.2.2")); err != nil {
		t.Error(err)
	}
}

func TestRequestsWithoutASignInAreFew(t *testing.T) {
	g := New()
	a := netip.MustParseAddr("192.0.2.1")
	var last func()
	for range openAtOnce {
		l, err := g.Open(a)
		if err != nil {
			t.Fatal(err)
		}
		last = l
	}
	_, err := g.Open(a)
	many(t, err)
	last()
	if _, err := g.Open(a); err != nil {
		t.Error(err)
	}
}

// serve is a server whose handler reads a body of a kind.
func serve(t *testing.T, k Kind) (*httptest.Server, chan error) {
	read := make(chan error, 10)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if err := Body(w, r, k); err != nil {
			read <- err
			return
		}
		_, err := io.Copy(io.Discard, r.Body)
		read <- err
	}))
	t.Cleanup(server.Close)
	return server, read
}

func TestBodiesAreBounded(t *testing.T) {
	server, read := serve(t, Kind{Body: 100})
	for size, fits := range map[int]bool{100: true, 101: false, 1 << 20: false} {
		answer, err := http.Post(server.URL, "text/plain", strings.NewReader(strings.Repeat("x", size)))
		if err == nil {
			answer.Body.Close()
		}
		if got := <-read; (got == nil) != fits {
			t.Errorf("%d bytes: %v", size, got)
		}
		// Without a length said, too.
		answer, err = http.Post(server.URL, "text/plain", io.MultiReader(strings.NewReader(strings.Repeat("x", size))))
		if err == nil {
			answer.Body.Close()
		}
		if got := <-read; (got == nil) != fits {
			t.Errorf("%d bytes in pieces: %v", size, got)
		}
	}
	for _, path := range []string{"/%00", "/?a=%00", "/?%ff=1", "/%c3%28"} {
		answer, err := http.Get(server.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		var p *model.Problem
		if err := <-read; !errors.As(err, &p) || p.Type != model.BadRequest {
			t.Errorf("%s: %v", path, err)
		}
	}
}

// TestAHalfSentBodyIsGivenUp: its time is bounded, whether somebody reads it or not.
func TestAHalfSentBodyIsGivenUp(t *testing.T) {
	before := stall
	stall = 300 * time.Millisecond
	defer func() { stall = before }()
	server, read := serve(t, Kind{Body: 100})
	conn, err := net.Dial("tcp", strings.TrimPrefix(server.URL, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if _, err := io.WriteString(conn, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 50\r\n\r\nhalf"); err != nil {
		t.Fatal(err)
	}
	select {
	case err := <-read:
		if err == nil {
			t.Error("it was taken for whole")
		}
	case <-time.After(10 * time.Second):
		t.Error("it is waited for")
	}
}
