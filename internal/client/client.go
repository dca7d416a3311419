// Package client is the typed client of the API. A Client is safe for concurrent use. What the service refuses comes back as the
// same *model.Refused and *model.Problem that it was there; a service that can't be reached as *Unreachable.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/time/rate"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
)

// Client talks to one service in one person's name.
type Client struct {
	base     string
	token    string
	http     *http.Client
	answered atomic.Bool // the service has answered at least once
	from     string
	waiting  func(time.Duration)
	refused  func()
	life     atomic.Pointer[string]
}

// Unreachable says that no answer came from a service.
type Unreachable struct {
	URL   string
	Cause string
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("the service at %s can't be reached (%s); check the address and the network, then run the command again: nothing is "+
		"lost", e.URL, e.Cause)
}

// CheckURL tidies the address of a service.
func CheckURL(address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return "", fmt.Errorf("%q is not the address of a service; it looks like http://127.0.0.1:7420", address)
	}
	return strings.TrimRight(u.String(), "/"), nil
}

// New makes a client. transport may be nil.
func New(base, token string, transport http.RoundTripper) *Client {
	if transport == nil {
		transport = &http.Transport{
			Proxy: http.ProxyFromEnvironment,
			DialContext: (&net.Dialer{Timeout: 10 * time.Second,
				KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: 10 * time.Second, Interval: 5 * time.Second, Count: 3}}).DialContext,
			TLSHandshakeTimeout: 10 * time.Second,
			MaxIdleConnsPerHost: 8,
			IdleConnTimeout:     60 * time.Second,
			WriteBufferSize:     256 << 10,
			ReadBufferSize:      256 << 10,
		}
	}
	// A credential goes to the address that it was made for, and nowhere else: no answer leads it on.
	stay := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &Client{base: base, token: token, http: &http.Client{Transport: transport, CheckRedirect: stay}}
}

// Safe reports whether what goes to an address can be read by nobody between: it is encrypted, or stays on this machine.
func Safe(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	ip := net.ParseIP(u.Hostname())
	return u.Scheme == "https" || u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
}

// Waiting makes the client tell how long it has heard nothing, now and then, while it waits for the service. It is called before the
// client is used.
func (c *Client) Waiting(tell func(time.Duration)) { c.waiting = tell }

// How long a request may hear nothing: until the answer begins, for one that asks little and for one that may take its time, and between
// two pieces of a body. Somebody is told after silence, and again and again.
var (
	smallPatience = 20 * time.Second
	manyPatience  = 90 * time.Second
	longPatience  = 10 * time.Minute
	bodyPatience  = 45 * time.Second
	silence       = 5 * time.Second
	// smallTries is how long one that asks little is tried again, all in all.
	smallTries = 40 * time.Second
)

// errSilent is why a request was given up.
var errSilent = errors.New("no answer came in time")

// guard ends a request that hears nothing for too long.
type guard struct {
	mu     sync.Mutex
	timer  *time.Timer
	tick   *time.Timer
	last   time.Time
	most   time.Duration
	cancel context.CancelCauseFunc
	tell   func(time.Duration)
	over   bool
}

func watchOver(ctx context.Context, most time.Duration, tell func(time.Duration)) (context.Context, *guard) {
	ctx, cancel := context.WithCancelCause(ctx)
	g := &guard{last: time.Now(), most: most, cancel: cancel, tell: tell}
	g.mu.Lock() // the tick may be heard before it is set
	defer g.mu.Unlock()
	g.timer = time.AfterFunc(most, func() { cancel(errSilent) })
	if tell != nil {
		g.tick = time.AfterFunc(silence, g.speak)
	}
	return ctx, g
}

func (g *guard) speak() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.over || g.tell == nil {
		return
	}
	if quiet := time.Since(g.last); quiet >= silence {
		g.tell(quiet)
	}
	g.tick.Reset(silence)
}

// heard notes that something moves, and how long the next thing may take.
func (g *guard) heard(most time.Duration) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.last, g.most = time.Now(), most
	g.timer.Reset(most)
}

// letBeSilent tells nobody of silence any more: of a stream of news it says that there are none.
func (g *guard) letBeSilent() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.tell = nil
}

func (g *guard) end() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.over = true
	g.timer.Stop()
	if g.tick != nil {
		g.tick.Stop()
	}
	g.cancel(nil)
}

// moving is a body whose every piece is heard of.
type moving struct {
	io.Reader
	g    *guard
	most time.Duration
}

func (m *moving) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	m.g.heard(m.most)
	return n, err
}

// Limit keeps the client below a number of bytes a second, up and down together, from now on.
func (c *Client) Limit(bytesPerSecond int64) {
	c.http.Transport = &limited{below: c.http.Transport, limit: rate.NewLimiter(rate.Limit(bytesPerSecond), burst)}
}

// In is the client as one workspace uses it, over the same connections: the service notes that that was heard of, and refused is told when
// the service has refused something, since what was known of it is old then.
func (c *Client) In(workspace string, refused func()) *Client {
	own := &Client{base: c.base, token: c.token, http: c.http, from: workspace, waiting: c.waiting, refused: refused}
	own.answered.Store(c.answered.Load())
	return own
}

// Life is which life of the service answered last, or is known from before; "" where none is. See [model.LifeHeader].
func (c *Client) Life() string {
	if id := c.life.Load(); id != nil {
		return *id
	}
	return ""
}

// Knows makes the client talk to one life of the service alone: another one refuses.
func (c *Client) Knows(life string) {
	if life != "" {
		c.life.Store(&life)
	}
}

// URL is the address that the client talks to.
func (c *Client) URL() string { return c.base }

// request is one call.
type request struct {
	method, path string
	query        url.Values
	header       map[string]string
	body         any      // sent as JSON
	raw          [][]byte // sent as it is, one behind the other, as rawType
	rawType      string
	once         bool // not to be repeated when the answer is lost
	stream       bool // stays open
}

// patience is how long a request may hear nothing before its answer begins.
func (q request) patience() time.Duration {
	last := q.path[strings.LastIndexByte(q.path, '/')+1:]
	switch {
	case q.raw != nil, q.method == "POST" && (last == "handoffs" || last == "rollback" || last == "merges" || last == "past" ||
		last == "check"),
		last == "compare", last == "spots", last == "look", last == "between", last == "lines":
		return longPatience
	case strings.Contains(q.path, "/locks"), last == "unsent", last == "assets", last == "file", last == "fetch":
		return manyPatience
	}
	return smallPatience
}

// do sends a request, again where the connection breaks or the service asks for patience, and hands the answer's body to read.
func (c *Client) do(ctx context.Context, q request, read func(io.Reader) error) error {
	body, contentType := q.raw, q.rawType
	if q.body != nil {
		text, err := json.Marshal(q.body)
		if err != nil {
			return err
		}
		body = [][]byte{text}
		contentType = "application/json"
	}
	most := time.Duration(0)
	if q.patience() == smallPatience {
		most = smallTries
	}
	var asked error // why the service asks for patience
	pause := backoff.NewExponentialBackOff()
	pause.InitialInterval, pause.MaxInterval = 200*time.Millisecond, 3*time.Second
	attempts := uint(8)
	if q.once {
		attempts = 1
	}
	_, err := backoff.Retry(ctx, func() (none struct{}, err error) {
		err = c.once(ctx, q, body, contentType, read)
		var problem *model.Problem
		switch {
		case err != nil && !c.passing(err):
			err = backoff.Permanent(err)
		case errors.As(err, &problem) && problem.After > 0:
			if problem.After > longestPause || q.once {
				err = backoff.Permanent(err)
			} else {
				asked = err
				err = &backoff.RetryAfterError{Duration: problem.After}
			}
		}
		return none, err
	}, backoff.WithBackOff(pause), backoff.WithMaxTries(attempts), backoff.WithMaxElapsedTime(most))
	var later *backoff.RetryAfterError
	if errors.As(err, &later) {
		err = asked
	}
	var permanent *backoff.PermanentError
	if errors.As(err, &permanent) {
		err = permanent.Unwrap()
	}
	var own *brokenAnswer
	if errors.As(err, &own) {
		err = &Unreachable{URL: c.base, Cause: "the connection broke off"}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var refused *model.Refused
	if c.refused != nil && errors.As(err, &refused) {
		c.refused()
	}
	return err
}

// longestPause is how long the client waits by itself where the service asks for patience.
const longestPause = 20 * time.Second

// brokenAnswer is an answer that ended too early.
type brokenAnswer struct{ error }

// passing tells whether trying again may help.
func (c *Client) passing(err error) bool {
	var away *Unreachable
	var problem *model.Problem
	var broken *brokenAnswer
	switch {
	case errors.As(err, &problem):
		return problem.Type == model.Unavailable || problem.Type == model.TooMany
	case errors.As(err, &away):
		// A refused connection is tried again only where one stood before: a wrong address should say so at once.
		return c.answered.Load() || !strings.Contains(away.Cause, "refused") && !strings.Contains(away.Cause, "no such host")
	}
	return errors.As(err, &broken)
}

func (c *Client) once(ctx context.Context, q request, body [][]byte, contentType string, read func(io.Reader) error) error {
	address := c.base + "/api/v1" + q.path
	if len(q.query) > 0 {
		address += "?" + q.query.Encode()
	}
	patience := q.patience()
	ctx, g := watchOver(ctx, patience, c.waiting)
	defer g.end()
	r, err := http.NewRequestWithContext(ctx, q.method, address, nil)
	if err != nil {
		return err
	}
	if len(body) > 0 {
		r.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(&moving{joined(body), g, patience}), nil }
		r.Body, _ = r.GetBody()
		for _, piece := range body {
			r.ContentLength += int64(len(piece))
		}
	}
	if contentType != "" {
		r.Header.Set("Content-Type", contentType)
	}
	if c.token != "" {
		r.Header.Set("Authorization", "Bearer "+c.token)
	}
	if c.from != "" {
		r.Header.Set(model.WorkspaceHeader, c.from)
	}
	if life := c.Life(); life != "" && c.from != "" {
		r.Header.Set(model.LifeHeader, life)
	}
	for k, v := range q.header {
		r.Header.Set(k, v)
	}
	answer, err := c.http.Do(r)
	if err != nil {
		if errors.Is(context.Cause(ctx), errSilent) {
			return &Unreachable{URL: c.base, Cause: fmt.Sprintf("no answer for %d seconds", int(patience.Seconds()))}
		}
		return &Unreachable{URL: c.base, Cause: cause(err)}
	}
	defer answer.Body.Close()
	g.heard(bodyPatience)
	c.answered.Store(true)
	if life := answer.Header.Get(model.LifeHeader); life != "" && (c.from == "" || c.Life() == "") {
		c.life.Store(&life)
	}
	if answer.StatusCode >= 300 {
		return problem(answer, c.base)
	}
	if read == nil {
		return nil
	}
	if q.stream {
		g.letBeSilent()
	}
	if err := read(&moving{answer.Body, g, bodyPatience}); err != nil {
		if errors.Is(context.Cause(ctx), errSilent) {
			return &brokenAnswer{err}
		}
		return err
	}
	return nil
}

func joined(pieces [][]byte) io.Reader {
	readers := make([]io.Reader, len(pieces))
	for i, p := range pieces {
		readers[i] = bytes.NewReader(p)
	}
	return io.MultiReader(readers...)
}

func cause(err error) string {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return "the connection broke off"
	}
	text := err.Error()
	if i := strings.LastIndex(text, ": "); i >= 0 && strings.HasPrefix(text, "connect") {
		text = text[i+2:]
	}
	return text
}

// problem reads what a refusing service says.
func problem(answer *http.Response, base string) error {
	var d model.ProblemDetails
	kind, ours := "", false
	if strings.HasPrefix(answer.Header.Get("Content-Type"), "application/problem+json") &&
		json.NewDecoder(io.LimitReader(answer.Body, 64<<20)).Decode(&d) == nil {
		kind, ours = strings.CutPrefix(d.Type, model.ProblemPrefix)
	}
	switch {
	case ours && len(d.Refusals) > 0:
		return &model.Refused{Refusals: d.Refusals}
	case ours:
		p := &model.Problem{Type: kind, Detail: d.Detail, Remedy: d.Remedy, Missing: d.Missing}
		if seconds, err := strconv.Atoi(answer.Header.Get("Retry-After")); err == nil && seconds > 0 {
			p.After = time.Duration(seconds) * time.Second
		}
		return p
	case answer.StatusCode < 400:
		where := answer.Header.Get("Location")
		if u, err := url.Parse(where); err == nil && u.Host != "" {
			where = u.Scheme + "://" + u.Host
		}
		return model.NewProblem(model.BadRequest, "ask your lead for the right address, and sign in there with tarn sign-in URL; nothing of "+
			"yours was sent on", "the service at %s sends callers on to %s, and a credential goes to the address that it was made for only", base,
			where)
	case answer.StatusCode == 502 || answer.StatusCode == 503 || answer.StatusCode == 504:
		return model.NewProblem(model.Unavailable, "try again in a moment", "what stands before the service at %s says that it is away", base)
	}
	return &Unreachable{URL: base, Cause: fmt.Sprintf("something answers there with status %d, and it is not Kettle Tarn", answer.StatusCode)}
}

// json is do for an answer in JSON.
func (c *Client) json(ctx context.Context, q request, into any) error {
	if into == nil {
		return c.do(ctx, q, nil)
	}
	return c.do(ctx, q, func(r io.Reader) error {
		if err := json.NewDecoder(r).Decode(into); err != nil {
			var syntax *json.SyntaxError
			if errors.As(err, &syntax) {
				return &Unreachable{URL: c.base, Cause: "something answers there, and it is not Kettle Tarn"}
			}
			return &brokenAnswer{err}
		}
		return nil
	})
}

func in(project, rest string) string { return "/projects/" + url.PathEscape(project) + rest }

func (c *Client) get(ctx context.Context, path string, query url.Values, into any) error {
	return c.json(ctx, request{method: "GET", path: path, query: query}, into)
}

func (c *Client) post(ctx context.Context, path string, body, into any) error {
	return c.json(ctx, request{method: "POST", path: path, body: body}, into)
}

var buffers = sync.Pool{New: func() any { b := make([]byte, 0, chunk.Max); return &b }}

// Compared is what is different between two versions, as the service says.
type Compared struct {
	Before  model.Version    `json:"before"`
	After   model.Version    `json:"after"`
	Compare media.Comparison `json:"comparison"`
}

func sides(path string, before int, with string, after int) url.Values {
	return url.Values{"path": {path}, "a": {strconv.Itoa(before)}, "with": {with}, "b": {strconv.Itoa(after)}}
}
