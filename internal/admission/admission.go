// Package admission is the one layer that every request passes before anything of it is parsed: how large, how slow, how often, and how
// many at once. What a caller may do is decided beside it, by the right that stands with each route; what a project has room for is
// charged where it is stored. It knows HTTP and nothing of projects.
//
// Limits count on this service alone. Several services behind one balancer each have their own.
package admission

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	lru "github.com/hashicorp/golang-lru/v2"

	"kettletarn/internal/core/model"
)

// Limits of one service. Sizes are bytes.
const (
	// Header is the most that the head of a request may have, and HeaderTime how long it may take.
	Header     = 32 << 10
	HeaderTime = 10 * time.Second
	// Idle is how long a connection may stand without a request.
	Idle = 2 * time.Minute
	// SmallTime is how long the whole body of a request that may have no more than SmallBody may take.
	SmallBody = 1 << 20
	SmallTime = 30 * time.Second
	// Connections is how many are open at once.
	Connections = 4096

	// openAtOnce is how many requests without a sign-in one address has running.
	openAtOnce = 16
	// personAtOnce, personWaiting and personStreams are how many requests of a person run, wait for that, and stay open for news;
	// costlyAtOnce is how many of those that run cost much, and costlyEverywhere of everybody's.
	personAtOnce     = 64
	personWaiting    = 512
	personStreams    = 64
	costlyAtOnce     = 4
	costlyEverywhere = 8
	// patience is how long a request waits for its turn.
	patience = 20 * time.Second
	// remembered is how many addresses and people are counted at once; the ones not seen for longest are forgotten.
	remembered = 1 << 16
)

// stall is how long a body or an answer may stand still.
var stall = 30 * time.Second

// Kind is what a route says of the requests that it takes.
type Kind struct {
	// Body is the most bytes of its body, 0 for none at all.
	Body int64
	// Stream says that it stays open, Costly that it takes much of the machine.
	Stream bool
	Costly bool
}

// Gate is the state of the layer. Safe for concurrent use.
type Gate struct {
	mu      sync.Mutex
	open    map[netip.Addr]int
	people  map[int64]*person
	costly  chan struct{}
	tries   *tries
	refused *lru.Cache[netip.Addr, *spell]
}

// person is what one person has running. It is forgotten when nothing is.
type person struct {
	users   int
	running chan struct{}
	costly  chan struct{}
	waiting int
	streams int
}

// New makes a gate.
func New() *Gate {
	refused, err := lru.New[netip.Addr, *spell](remembered)
	if err != nil {
		panic(err) // only for a size below 1
	}
	return &Gate{open: map[netip.Addr]int{}, people: map[int64]*person{}, costly: make(chan struct{}, costlyEverywhere), tries: newTries(),
		refused: refused}
}

// Address is where a request comes from: the other end of its connection, or, where that is on this machine, whom it says that it passes
// on for. A proxy stands on the same machine; one that does not counts as one caller.
func Address(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	peer, err := netip.ParseAddr(host)
	if err != nil {
		return netip.Addr{}
	}
	if forwarded := r.Header.Values("X-Forwarded-For"); peer.IsLoopback() && len(forwarded) > 0 {
		all := forwarded[len(forwarded)-1]
		if last, err := netip.ParseAddr(strings.TrimSpace(all[strings.LastIndexByte(all, ',')+1:])); err == nil {
			peer = last
		}
	}
	return peer.Unmap().WithZone("")
}

// Body bounds what is read of a request: its size by the kind of its route, and its time. Nothing was read before.
func Body(w http.ResponseWriter, r *http.Request, k Kind) error {
	if err := plain(r); err != nil {
		return err
	}
	if r.ContentLength > k.Body && k.Body > 0 {
		return tooLarge(k.Body)
	}
	if r.ContentLength == 0 {
		return nil
	}
	control := http.NewResponseController(w)
	// Also for a body that nobody reads: what is refused before is read to its end by the server, or cut.
	_ = control.SetReadDeadline(time.Now().Add(stall))
	body := &slow{body: http.MaxBytesReader(w, r.Body, k.Body), control: control}
	if k.Body <= SmallBody {
		body.until = time.Now().Add(SmallTime)
	}
	r.Body = body
	return nil
}

func tooLarge(most int64) error {
	return model.NewProblem(model.TooLarge, "send less at once", "the body of this request has at most %d bytes", most)
}

// plain refuses text in a request's address that no text is.
func plain(r *http.Request) error {
	for _, text := range []string{r.URL.Path, r.URL.RawQuery, r.Header.Get("Last-Event-ID"), r.Header.Get("Idempotency-Key"),
		r.Header.Get(model.WorkspaceHeader)} {
		if strings.ContainsRune(text, 0) || !utf8.ValidString(text) {
			return model.NewProblem(model.BadRequest, "take plain text", "there is a zero byte or broken UTF-8 in the address")
		}
	}
	for name, values := range r.URL.Query() {
		for _, text := range append(values, name) {
			if strings.ContainsRune(text, 0) || !utf8.ValidString(text) {
				return model.NewProblem(model.BadRequest, "take plain text", "there is a zero byte or broken UTF-8 in the address")
			}
		}
	}
	return nil
}

// slow is a body that may not stand still.
type slow struct {
	body interface {
		Read([]byte) (int, error)
		Close() error
	}
	control *http.ResponseController
	until   time.Time // for all of it; zero for no such end
}

func (s *slow) Read(p []byte) (int, error) {
	deadline := time.Now().Add(stall)
	if !s.until.IsZero() && s.until.Before(deadline) {
		deadline = s.until
	}
	// A connection that knows no deadlines (a test's recorder) has none.
	_ = s.control.SetReadDeadline(deadline)
	n, err := s.body.Read(p)
	if err != nil {
		_ = s.control.SetReadDeadline(time.Time{})
	}
	return n, err
}

func (s *slow) Close() error { return s.body.Close() }

// Answer serves a request with a bound on how long the reader of the answer may stand still.
func Answer(w http.ResponseWriter, serve func(http.ResponseWriter)) {
	control := http.NewResponseController(w)
	_ = control.SetWriteDeadline(time.Time{}) // that of the last answer on this connection
	defer func() { _ = control.SetWriteDeadline(time.Now().Add(stall)) }()
	serve(&patient{ResponseWriter: w, control: control})
}

type patient struct {
	http.ResponseWriter
	control *http.ResponseController
}

func (p *patient) Write(b []byte) (int, error) {
	_ = p.control.SetWriteDeadline(time.Now().Add(stall))
	return p.ResponseWriter.Write(b)
}

// piece is how much is sent between two looks at the time, in bytes.
const piece = 4 << 20

// ReadFrom lets the system send a part of a file, an [io.LimitedReader] of one, by itself.
func (p *patient) ReadFrom(src io.Reader) (n int64, err error) {
	to, can := p.ResponseWriter.(io.ReaderFrom)
	part, is := src.(*io.LimitedReader)
	if !can || !is {
		return io.Copy(struct{ io.Writer }{p}, src)
	}
	for part.N > 0 {
		now := &io.LimitedReader{R: part.R, N: min(part.N, piece)}
		want := now.N
		_ = p.control.SetWriteDeadline(time.Now().Add(stall))
		got, err := to.ReadFrom(now)
		n, part.N = n+got, part.N-got
		if err != nil || got < want {
			return n, err
		}
	}
	return n, nil
}

func (p *patient) Unwrap() http.ResponseWriter { return p.ResponseWriter }

// Open admits a request without a sign-in. leave ends it.
func (g *Gate) Open(address netip.Addr) (leave func(), err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.open[address] >= openAtOnce {
		return nil, tooMany(2*time.Second, "too many requests come from your address at once")
	}
	g.open[address]++
	return func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		if g.open[address]--; g.open[address] == 0 {
			delete(g.open, address)
		}
	}, nil
}

func tooMany(after time.Duration, detail string, args ...any) error {
	p := model.NewProblem(model.TooMany, "wait a moment, then try again", detail, args...)
	p.After = after
	return p
}

// Person admits a request of somebody who is signed in: it waits for its turn where much of theirs runs already. leave ends it.
func (g *Gate) Person(ctx context.Context, id int64, k Kind) (leave func(), err error) {
	p := g.person(id)
	if k.Stream {
		if !g.count(&p.streams, personStreams) {
			g.forget(id)
			return nil, tooMany(10*time.Second, "you have %d streams of news open, and that is as many as one may have", personStreams)
		}
		return func() {
			g.uncount(&p.streams)
			g.forget(id)
		}, nil
	}
	queues := []chan struct{}{p.running}
	if k.Costly {
		queues = append(queues, p.costly, g.costly)
	}
	if !g.count(&p.waiting, personWaiting) {
		g.forget(id)
		return nil, tooMany(2*time.Second, "too many of your requests wait already")
	}
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	entered := 0
	for _, q := range queues {
		select {
		case q <- struct{}{}:
			entered++
			continue
		case <-ctx.Done():
		}
		break
	}
	g.uncount(&p.waiting)
	leave = func() {
		for _, q := range queues[:entered] {
			<-q
		}
		g.forget(id)
	}
	if entered < len(queues) {
		leave()
		return nil, tooMany(5*time.Second, "too much of yours is being worked on")
	}
	return leave, nil
}

func (g *Gate) person(id int64) *person {
	g.mu.Lock()
	defer g.mu.Unlock()
	p := g.people[id]
	if p == nil {
		p = &person{running: make(chan struct{}, personAtOnce), costly: make(chan struct{}, costlyAtOnce)}
		g.people[id] = p
	}
	p.users++
	return p
}

func (g *Gate) forget(id int64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if p := g.people[id]; p != nil {
		if p.users--; p.users == 0 {
			delete(g.people, id)
		}
	}
}

func (g *Gate) count(n *int, most int) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if *n >= most {
		return false
	}
	*n++
	return true
}

func (g *Gate) uncount(n *int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	*n--
}
