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
	"github.com/fxamacker/cbor/v2"
	"github.com/tmaxmax/go-sse"
	"golang.org/x/time/rate"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
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
	if g.over {
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

// SetLimit sets the most bytes that a project may take at the service, 0 for no limit.
func (c *Client) SetLimit(ctx context.Context, key string, limit int64) (v model.Project, err error) {
	return v, c.json(ctx, request{method: "PUT", path: in(key, "/limit"), body: model.LimitRequest{StorageLimit: limit}}, &v)
}

// In is the client as one workspace uses it, over the same connections: the service notes that that was heard of, and refused is told when
// the service has refused something, since what was known of it is old then.
func (c *Client) In(workspace string, refused func()) *Client {
	own := &Client{base: c.base, token: c.token, http: c.http, from: workspace, waiting: c.waiting, refused: refused}
	own.answered.Store(c.answered.Load())
	return own
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
	case q.raw != nil, q.method == "POST" && (last == "handoffs" || last == "rollback" || last == "past" || last == "check"),
		last == "compare", last == "look", last == "between", last == "lines":
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
	if answer.StatusCode >= 300 {
		return problem(answer, c.base)
	}
	if read == nil {
		return nil
	}
	if q.stream {
		g.tell = nil // silence is news, too: there is none
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

// Service asks what runs there.
func (c *Client) Service(ctx context.Context) (v model.ServiceInfo, err error) {
	err = c.get(ctx, "/service", nil, &v)
	if err == nil && v.Service != "Kettle Tarn" {
		err = &Unreachable{URL: c.base, Cause: "something answers there, and it is not Kettle Tarn"}
	}
	return v, err
}

// SignIn gets a token.
func (c *Client) SignIn(ctx context.Context, q model.SignInRequest) (v model.SignIn, err error) {
	return v, c.post(ctx, "/sign-in", q, &v)
}

// SignOut ends the client's token.
func (c *Client) SignOut(ctx context.Context) error { return c.post(ctx, "/sign-out", nil, nil) }

// Whoami tells whose token it is.
func (c *Client) Whoami(ctx context.Context) (v model.Person, err error) {
	return v, c.get(ctx, "/whoami", nil, &v)
}

// NewsSettings is how one hears of news.
func (c *Client) NewsSettings(ctx context.Context) (v model.NewsSettings, err error) {
	return v, c.get(ctx, "/me/news", nil, &v)
}

// SetNewsSettings changes one's mail address, and how one hears of the kinds that are named.
func (c *Client) SetNewsSettings(ctx context.Context, q model.NewsSettings) (v model.NewsSettings, err error) {
	return v, c.json(ctx, request{method: "PUT", path: "/me/news", body: q}, &v)
}

// ConfirmMail shows with the code of a letter that a mail address is one's own.
func (c *Client) ConfirmMail(ctx context.Context, code string) (v model.NewsSettings, err error) {
	return v, c.json(ctx, request{method: "PUT", path: "/me/news/address", body: model.MailCode{Code: code}}, &v)
}

// Latest is a page of what happened that concerns one, the newest first, below an item (0 for from the newest on), in one project where
// that is named.
func (c *Client) Latest(ctx context.Context, project string, before int64, limit int) (v model.News, err error) {
	return v, c.get(ctx, "/me/news/latest", url.Values{"project": {project}, "before": {strconv.FormatInt(before, 10)},
		"limit": {strconv.Itoa(limit)}}, &v)
}

// ReadNews notes up to which item one has read.
func (c *Client) ReadNews(ctx context.Context, upTo int64) error {
	return c.json(ctx, request{method: "PUT", path: "/me/news/latest", body: model.NewsRead{UpTo: upTo}}, nil)
}

// ChangePassphrase changes one's own, and tells how many other sign-ins ended.
func (c *Client) ChangePassphrase(ctx context.Context, old, fresh string) (v model.PassphraseChanged, err error) {
	return v, c.json(ctx, request{method: "PUT", path: "/me/passphrase", body: model.PassphraseRequest{Old: old, New: fresh}, once: true}, &v)
}

// SignIns lists one's own.
func (c *Client) SignIns(ctx context.Context) (v model.SignIns, err error) {
	return v, c.get(ctx, "/me/sign-ins", nil, &v)
}

// EndSignIn ends one of them; "others" all but the one that asks.
func (c *Client) EndSignIn(ctx context.Context, id string) (v model.PassphraseChanged, err error) {
	return v, c.json(ctx, request{method: "DELETE", path: "/me/sign-ins/" + url.PathEscape(id)}, &v)
}

// AddHook sends a project's news to an address from now on.
func (c *Client) AddHook(ctx context.Context, key string, q model.HookRequest) (v model.Hook, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/hooks"), body: q, once: true}, &v)
}

// Hooks lists where a project's news goes.
func (c *Client) Hooks(ctx context.Context, key string) (v model.Hooks, err error) {
	return v, c.get(ctx, in(key, "/hooks"), nil, &v)
}

// Projects lists one's projects.
func (c *Client) Projects(ctx context.Context) (v model.Projects, err error) {
	return v, c.get(ctx, "/projects", nil, &v)
}

// Start makes a project.
func (c *Client) Start(ctx context.Context, key string) (v model.Project, err error) {
	return v, c.json(ctx, request{method: "POST", path: "/projects", body: model.StartRequest{Key: key}, once: true}, &v)
}

// Project shows one.
func (c *Client) Project(ctx context.Context, key string) (v model.Project, err error) {
	return v, c.get(ctx, in(key, ""), nil, &v)
}

// Members lists a project's people.
func (c *Client) Members(ctx context.Context, key string) (v model.Members, err error) {
	return v, c.get(ctx, in(key, "/members"), nil, &v)
}

// SetMember adds a person or changes their role.
func (c *Client) SetMember(ctx context.Context, key, handle, role string) (v model.Member, err error) {
	return v, c.json(ctx, request{method: "PUT", path: in(key, "/members/"+url.PathEscape(handle)), body: model.RoleRequest{Role: role}}, &v)
}

// RemoveMember takes a person out.
func (c *Client) RemoveMember(ctx context.Context, key, handle string) error {
	return c.json(ctx, request{method: "DELETE", path: in(key, "/members/"+url.PathEscape(handle))}, nil)
}

// NewToken makes a token for one project.
func (c *Client) NewToken(ctx context.Context, key string, q model.TokenRequest) (v model.Token, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/tokens"), body: q, once: true}, &v)
}

// Tokens lists a project's tokens.
func (c *Client) Tokens(ctx context.Context, key string) (v model.Tokens, err error) {
	return v, c.get(ctx, in(key, "/tokens"), nil, &v)
}

// EndToken makes a token unusable.
func (c *Client) EndToken(ctx context.Context, key string, id int64) error {
	return c.json(ctx, request{method: "DELETE", path: in(key, "/tokens/"+strconv.FormatInt(id, 10))}, nil)
}

// TellPins tells which commits pin which handoffs, and lists those that are known.
func (c *Client) TellPins(ctx context.Context, key string, q model.PinnedCommits) (v model.PinnedCommits, err error) {
	return v, c.post(ctx, in(key, "/pins"), q, &v)
}

// Past is how far a git history was brought in.
func (c *Client) Past(ctx context.Context, key string) (v model.Past, err error) {
	return v, c.get(ctx, in(key, "/past"), nil, &v)
}

// BringPast brings commits in. What was brought in before is passed over, so that it may be repeated.
func (c *Client) BringPast(ctx context.Context, key string, q model.PastRequest) (v model.PastReceipt, err error) {
	return v, c.post(ctx, in(key, "/past"), q, &v)
}

// AddWorkspace makes a workspace.
func (c *Client) AddWorkspace(ctx context.Context, key, name string) (v model.Workspace, err error) {
	return v, c.post(ctx, in(key, "/workspaces"), model.WorkspaceRequest{Name: name}, &v)
}

// Workspaces lists one's own workspaces.
func (c *Client) Workspaces(ctx context.Context, key string) (v model.Workspaces, err error) {
	return v, c.get(ctx, in(key, "/workspaces"), nil, &v)
}

// Changes calls each with the pages of what a query asks for. The first page has what goes with locks; all are as of the same handoff.
func (c *Client) Changes(ctx context.Context, key string, q model.ChangesQuery, each func(model.Assets) error) error {
	query := url.Values{"since": {strconv.Itoa(q.Since)}, "at": {q.At}, "locks": {strconv.FormatBool(q.Locks)}, "scope": q.Scope}
	for {
		var page model.Assets
		if err := c.get(ctx, in(key, "/assets"), query, &page); err != nil {
			return err
		}
		if err := each(page); err != nil || page.Next == "" {
			return err
		}
		query = url.Values{"since": {strconv.Itoa(q.Since)}, "at": {strconv.Itoa(page.At)}, "after": {page.Next}, "scope": q.Scope}
	}
}

// TellHeadsUps tells the service which assets have unsent changes in a workspace.
func (c *Client) TellHeadsUps(ctx context.Context, key, workspace string, q model.UnsentChanges) error {
	return c.json(ctx, request{method: "PUT", path: in(key, "/workspaces/"+url.PathEscape(workspace)+"/unsent"), body: q}, nil)
}

// Unsent lists who has unsent changes in a project.
func (c *Client) Unsent(ctx context.Context, key string) (v model.HeadsUps, err error) {
	return v, c.get(ctx, in(key, "/unsent"), nil, &v)
}

// Rules are those of a project, with what each covers.
func (c *Client) Rules(ctx context.Context, key string) (v model.Rules, err error) {
	return v, c.get(ctx, in(key, "/rules"), nil, &v)
}

// AskForRule asks the leads that a path be an asset.
func (c *Client) AskForRule(ctx context.Context, key string, q model.RuleRequestNew) (v model.RuleRequest, err error) {
	return v, c.post(ctx, in(key, "/rules/requests"), q, &v)
}

// Folder lists what is right in one folder, a page behind after.
func (c *Client) Folder(ctx context.Context, key, folder, after string, limit int) (v model.FolderPage, err error) {
	return v, c.get(ctx, in(key, "/folder"), url.Values{"path": {folder}, "after": {after}, "limit": {strconv.Itoa(limit)}}, &v)
}

// StateAt is the number of the handoff that a time or a milestone means, 0 where there is none yet.
func (c *Client) StateAt(ctx context.Context, key, at string) (int, error) {
	var page model.FolderPage
	err := c.get(ctx, in(key, "/folder"), url.Values{"at": {at}, "limit": {"1"}}, &page)
	return page.At, err
}

// Asset shows one asset with its versions.
func (c *Client) Asset(ctx context.Context, key, path string) (v model.AssetHistory, err error) {
	return v, c.get(ctx, in(key, "/asset"), url.Values{"path": {path}}, &v)
}

// Locks lists what is held or waited for.
func (c *Client) Locks(ctx context.Context, key string) (v model.Locks, err error) {
	return v, c.get(ctx, in(key, "/locks"), nil, &v)
}

// TakeLocks locks all or none, or what can be, or waits in line.
func (c *Client) TakeLocks(ctx context.Context, key string, q model.LockRequest) (v model.Locks, err error) {
	return v, c.post(ctx, in(key, "/locks"), q, &v)
}

// ReleaseLocks unlocks all or none.
func (c *Client) ReleaseLocks(ctx context.Context, key string, q model.UnlockRequest) error {
	return c.post(ctx, in(key, "/locks/release"), q, nil)
}

// LeaveLines leaves the lines for assets.
func (c *Client) LeaveLines(ctx context.Context, key string, paths []string) error {
	return c.post(ctx, in(key, "/locks/leave"), model.LeaveRequest{Paths: paths}, nil)
}

// Ask asks the holder of a lock to let go.
func (c *Client) Ask(ctx context.Context, key string, q model.AskRequest) (v model.Waiting, err error) {
	return v, c.post(ctx, in(key, "/locks/ask"), q, &v)
}

// AnswerAsk answers those who ask for a lock.
func (c *Client) AnswerAsk(ctx context.Context, key string, q model.AskAnswer) error {
	return c.post(ctx, in(key, "/locks/answer"), q, nil)
}

// Record lists who held what. The query is that of the API.
func (c *Client) Record(ctx context.Context, key string, query url.Values) (v model.Record, err error) {
	return v, c.get(ctx, in(key, "/locks/record"), query, &v)
}

// CheckSend asks what would be refused, and what the project lacks.
func (c *Client) CheckSend(ctx context.Context, key string, q model.SendQuestion) (v model.SendCheck, err error) {
	q.Send.Tasks = append([]string{}, q.Send.Tasks...) // a list, even where it is empty
	return v, c.post(ctx, in(key, "/sends/check"), q, &v)
}

// Send makes a handoff, under a key that was written down before. records, encoded one behind the other, may bring content with it.
func (c *Client) Send(ctx context.Context, key, sendKey string, q model.SendRequest, records ...[]byte) (v model.SendReceipt, err error) {
	q.Tasks = append([]string{}, q.Tasks...)
	r := request{method: "POST", path: in(key, "/handoffs"), header: map[string]string{"Idempotency-Key": sendKey}, body: q}
	if len(records) > 0 {
		text, err := json.Marshal(q)
		if err != nil {
			return v, err
		}
		head, err := cbor.Marshal(string(text))
		if err != nil {
			return v, err
		}
		r.body, r.raw, r.rawType = nil, append([][]byte{head}, records...), model.CBORSequence
	}
	return v, c.json(ctx, r, &v)
}

// CloseSend finds out for good what became of a send.
func (c *Client) CloseSend(ctx context.Context, key, sendKey string) (v model.SendClosed, err error) {
	return v, c.post(ctx, in(key, "/sends/"+url.PathEscape(sendKey)+"/close"), nil, &v)
}

// Rollback brings an old state back, or says what that would do.
func (c *Client) Rollback(ctx context.Context, key, sendKey string, q model.RollbackRequest) (v model.RollbackAnswer, err error) {
	return v, c.json(ctx, request{method: "POST", path: in(key, "/rollback"), header: map[string]string{"Idempotency-Key": sendKey}, body: q},
		&v)
}

// HandoffQuery filters handoffs; zero values filter nothing. Path is an asset, a folder or a pattern; Since and Until are days or times.
// Assets is how many of its assets each comes with.
type HandoffQuery struct {
	Before, Limit, Assets int
	Author, Path, Kind    string
	Since, Until          string
	Task, Stage, Text     string
}

// Handoffs lists handoffs, the newest first.
func (c *Client) Handoffs(ctx context.Context, key string, q HandoffQuery) (v model.Handoffs, err error) {
	query := url.Values{"before": {strconv.Itoa(q.Before)}, "limit": {strconv.Itoa(q.Limit)}, "assets": {strconv.Itoa(q.Assets)}}
	for name, value := range map[string]string{"author": q.Author, "path": q.Path, "kind": q.Kind, "since": q.Since, "until": q.Until,
		"task": q.Task, "stage": q.Stage, "text": q.Text} {
		if value != "" {
			query.Set(name, value)
		}
	}
	return v, c.get(ctx, in(key, "/handoffs"), query, &v)
}

// Handoff shows one with its assets, by how a state is named: h40, a time, a milestone.
func (c *Client) Handoff(ctx context.Context, key, at string) (v model.Handoff, err error) {
	return v, c.get(ctx, in(key, "/handoffs/"+url.PathEscape(at)), nil, &v)
}

// Between compares two states: a page of what is different behind after.
func (c *Client) Between(ctx context.Context, key, from, to, after string) (v model.Between, err error) {
	return v, c.get(ctx, in(key, "/between"), url.Values{"from": {from}, "to": {to}, "after": {after}}, &v)
}

// Lines tells which version of a text asset (0 for the newest) changed each line last.
func (c *Client) Lines(ctx context.Context, key, path string, version int) (v model.LineOrigins, err error) {
	return v, c.get(ctx, in(key, "/lines"), url.Values{"path": {path}, "version": {strconv.Itoa(version)}}, &v)
}

// Milestones lists a project's.
func (c *Client) Milestones(ctx context.Context, key string) (v model.Milestones, err error) {
	return v, c.get(ctx, in(key, "/milestones"), nil, &v)
}

// AddMilestone names a handoff.
func (c *Client) AddMilestone(ctx context.Context, key string, q model.MilestoneRequest) (v model.Milestone, err error) {
	return v, c.post(ctx, in(key, "/milestones"), q, &v)
}

// RemoveMilestone takes a name away.
func (c *Client) RemoveMilestone(ctx context.Context, key, name string) error {
	return c.json(ctx, request{method: "DELETE", path: in(key, "/milestones/"+url.PathEscape(name))}, nil)
}

// DescribeWorkspace tells what a workspace is.
func (c *Client) DescribeWorkspace(ctx context.Context, key, id string, d model.WorkspaceTold) error {
	return c.json(ctx, request{method: "PUT", path: in(key, "/workspaces/"+url.PathEscape(id)), body: d}, nil)
}

// MissingChunks asks which chunks the project lacks.
func (c *Client) MissingChunks(ctx context.Context, key string, digests []chunk.Digest) ([]chunk.Digest, error) {
	var v model.Digests
	err := c.post(ctx, in(key, "/chunks/missing"), model.Digests{Digests: digests}, &v)
	return v.Digests, err
}

// StoreRecords brings records, encoded one behind the other with package pack; when it returns nil they are durable.
func (c *Client) StoreRecords(ctx context.Context, key string, body ...[]byte) error {
	return c.json(ctx, request{method: "POST", path: in(key, "/chunks"), raw: body, rawType: model.CBORSequence}, nil)
}

// FetchChunks gets chunks and manifest nodes, and calls each with them in the order of digests, checked against those. The data is
// valid during the call. Where the connection breaks, it goes on where it was. Of what comes damaged the service is told: it looks whether
// that is so where it lies.
func (c *Client) FetchChunks(ctx context.Context, key string, digests []chunk.Digest, each func(i int, data []byte) error) error {
	done := 0
	pooled := buffers.Get().(*[]byte)
	defer buffers.Put(pooled)
	buf := *pooled
	ask := request{method: "POST", path: in(key, "/chunks/fetch"), body: model.Digests{Digests: digests},
		header: map[string]string{"Accept": model.RecordsAccepted}}
	return c.do(ctx, ask, func(r io.Reader) error {
		d := pack.NewReader(r)
		defer d.Free()
		for i := range digests {
			record, err := d.Next()
			if err != nil {
				return &brokenAnswer{err}
			}
			if i < done {
				continue
			}
			data, err := record.Decode(buf)
			if err != nil || record.Digest != digests[i] {
				return c.suspect(ctx, key, digests[i])
			}
			if err := each(i, data); err != nil {
				return err
			}
			done++
		}
		return nil
	})
}

// suspect tells the service of a chunk that did not arrive as what its name says, and returns what it is: damaged there, or only on its
// way.
func (c *Client) suspect(ctx context.Context, key string, d chunk.Digest) error {
	var v model.Digests
	if err := c.post(ctx, in(key, "/chunks/suspect"), model.Digests{Digests: []chunk.Digest{d}}, &v); err != nil {
		return err
	}
	if len(v.Digests) == 0 {
		return &brokenAnswer{fmt.Errorf("chunk %s arrived damaged", d)}
	}
	return model.NewProblem(model.Damaged, "a workspace that has the file can give it back: ask your team to run tarn heal",
		"the service can't read chunk %s back as it was stored", d)
}

var buffers = sync.Pool{New: func() any { b := make([]byte, 0, chunk.Max); return &b }}

// Wanted lists content that the service lost.
func (c *Client) Wanted(ctx context.Context, key string) ([]chunk.Digest, error) {
	var v model.Digests
	err := c.get(ctx, in(key, "/wanted"), nil, &v)
	return v.Digests, err
}

// News calls each with every event of a project behind last ("" for from now on), as they happen, until ctx ends, the connection breaks or
// each fails. started is called when the stream stands.
func (c *Client) News(ctx context.Context, key, last string, started func(), each func(model.Event) error) error {
	q := request{method: "GET", path: in(key, "/news"), once: true, stream: true, header: map[string]string{"Accept": "text/event-stream"}}
	if last != "" {
		q.header["Last-Event-ID"] = last
	}
	return c.do(ctx, q, func(body io.Reader) error {
		started()
		for e, err := range sse.Read(body, nil) {
			if err != nil {
				return &Unreachable{URL: c.base, Cause: cause(err)}
			}
			var event model.Event
			if err := json.Unmarshal([]byte(e.Data), &event); err != nil {
				return err
			}
			if err := each(event); err != nil {
				return err
			}
		}
		return &Unreachable{URL: c.base, Cause: "the stream of news ended"}
	})
}

// Compared is what is different between two versions, as the service says.
type Compared struct {
	Before  model.Version    `json:"before"`
	After   model.Version    `json:"after"`
	Compare media.Comparison `json:"comparison"`
}

func sides(path string, before int, with string, after int) url.Values {
	return url.Values{"path": {path}, "a": {strconv.Itoa(before)}, "with": {with}, "b": {strconv.Itoa(after)}}
}

// Compare says what is different between a version of an asset and one of the same or another asset; 0 is the newest.
func (c *Client) Compare(ctx context.Context, key, path string, before int, with string, after int) (v Compared, err error) {
	return v, c.get(ctx, in(key, "/compare"), sides(path, before, with, after), &v)
}

// ComparedDrawing gets a file that was drawn of the two.
func (c *Client) ComparedDrawing(ctx context.Context, key, path string, before int, with string, after int, name string) ([]byte, error) {
	query := sides(path, before, with, after)
	query.Set("name", name)
	return c.bytes(ctx, in(key, "/compare/file"), query, 1<<30)
}

// Look says what a version is.
func (c *Client) Look(ctx context.Context, key, path string, version int) (v media.Report, err error) {
	return v, c.get(ctx, in(key, "/look"), url.Values{"path": {path}, "version": {strconv.Itoa(version)}}, &v)
}

// Drawing gets a file that was drawn of a version.
func (c *Client) Drawing(ctx context.Context, key, path string, version int, name string) ([]byte, error) {
	return c.bytes(ctx, in(key, "/look/file"), url.Values{"path": {path}, "version": {strconv.Itoa(version)}, "name": {name}}, 1<<30)
}

// CopyFile writes the content of a version.
func (c *Client) CopyFile(ctx context.Context, key, path string, version int, to io.Writer) error {
	return c.do(ctx, request{method: "GET", path: in(key, "/file"), query: url.Values{"path": {path}, "version": {strconv.Itoa(version)}}},
		func(r io.Reader) error {
			if _, err := io.Copy(to, r); err != nil {
				return &brokenAnswer{err}
			}
			return nil
		})
}

func (c *Client) bytes(ctx context.Context, path string, query url.Values, limit int64) (data []byte, err error) {
	return data, c.do(ctx, request{method: "GET", path: path, query: query}, func(r io.Reader) error {
		data, err = io.ReadAll(io.LimitReader(r, limit))
		if err != nil {
			return &brokenAnswer{err}
		}
		return nil
	})
}
