// Package testbed gives tests real parts on loopback: a PostgreSQL of their own, the service over a folder, and its API behind HTTP
// with every answer held to the OpenAPI document.
package testbed

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/legacy"
	"github.com/jackc/pgx/v5"

	"kettletarn/internal/api"
	"kettletarn/internal/client"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/localpg"
	"kettletarn/internal/records"
	"kettletarn/internal/service"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/people"
	"kettletarn/internal/store"
	"kettletarn/web"
)

var (
	once   sync.Once
	pg     *localpg.Server
	pgErr  error
	folder string
	number atomic.Int64

	modelOnce sync.Once
	modelErr  error
)

// MainBuilt is Main for tests that run the two programs: it builds them first, into a folder that bin is set to.
func MainBuilt(m *testing.M, bin *string) {
	dir, err := os.MkdirTemp("", "kettle-tarn-bin-")
	if err == nil {
		var out []byte
		if out, err = exec.Command("go", "build", "-o", dir, "kettletarn/cmd/...").CombinedOutput(); err != nil {
			err = fmt.Errorf("%w\n%s", err, out)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "the programs can't be built:", err)
		os.Exit(1)
	}
	*bin, built = dir, dir
	Main(m)
}

var built string

// Main runs a package's tests and ends the PostgreSQL that they started: func TestMain(m *testing.M) { testbed.Main(m) }.
func Main(m *testing.M) {
	people.Cost.Memory, people.Cost.Iterations = 64, 1
	stopped := make(chan os.Signal, 1)
	signal.Notify(stopped, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-stopped
		end()
		os.Exit(1)
	}()
	status := m.Run()
	end()
	os.Exit(status)
}

// end ends and removes what was started and made for all tests.
func end() {
	if built != "" {
		_ = os.RemoveAll(built)
	}
	if pg != nil {
		_ = pg.Down()
	}
	if folder != "" {
		_ = os.RemoveAll(folder)
	}
}

// Postgres is the PostgreSQL of this package's tests, started when it is first asked for.
func Postgres(t testing.TB) *localpg.Server {
	t.Helper()
	once.Do(func() {
		if folder, pgErr = os.MkdirTemp("", "kettle-tarn-test-"); pgErr != nil {
			return
		}
		if pgErr = os.Chmod(folder, 0o755); pgErr == nil {
			pg, pgErr = localpg.Start(context.Background(), localpg.Options{Folder: folder + "/postgres", Fast: true})
		}
	})
	if pgErr != nil {
		t.Fatal(pgErr)
	}
	return pg
}

// Database is an empty database of its own.
func Database(t testing.TB) string {
	t.Helper()
	url, err := Postgres(t).Database(context.Background(), fmt.Sprintf("test%d", number.Add(1)))
	if err != nil {
		t.Fatal(err)
	}
	return url
}

// Migrated is a database of its own with the present schema: a copy of one that is brought up to date once.
func Migrated(t testing.TB) string {
	t.Helper()
	server := Postgres(t)
	const model = "model"
	modelOnce.Do(func() {
		var url string
		if url, modelErr = server.Database(context.Background(), model); modelErr != nil {
			return
		}
		var db *records.DB
		if db, modelErr = records.Open(context.Background(), url); modelErr == nil {
			db.Close()
		}
	})
	if modelErr != nil {
		t.Fatal(modelErr)
	}
	url, err := server.DatabaseFrom(context.Background(), fmt.Sprintf("test%d", number.Add(1)), model)
	if err != nil {
		t.Fatal(err)
	}
	return url
}

// Service is a service over a fresh database and folder.
type Service struct {
	*service.Service
	DB  *records.DB
	URL string
	// Looks is where it keeps what it found out about contents.
	Looks string
}

// NewService starts a service; where packs is nil, a folder holds them.
func NewService(t testing.TB, packs store.Store) *Service { return NewServiceWith(t, packs, nil) }

// NewServiceWith starts a service whose news is taken out by a courier.
func NewServiceWith(t testing.TB, packs store.Store, out ground.Courier) *Service {
	t.Helper()
	if packs == nil {
		var err error
		if packs, err = store.OpenDirectory(t.TempDir()); err != nil {
			t.Fatal(err)
		}
	}
	url := Migrated(t)
	db, err := records.OpenTraced(t.Context(), url, pauses{})
	if err != nil {
		t.Fatal(err)
	}
	looks := t.TempDir()
	s := &Service{Service: service.New(db, packs, looks, slog.New(slog.DiscardHandler)), DB: db, URL: url, Looks: looks}
	if out != nil {
		s.Deliver(out)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		s.Run(ctx)
		close(done)
	}()
	t.Cleanup(func() {
		stop()
		<-done
		db.Close()
	})
	return s
}

// Pause holds what runs with a context back before its Nth statement inside a transaction (1 is the first behind begin), until Release is
// closed. Reached is closed when it gets there.
type Pause struct {
	N                int
	Reached, Release chan struct{}
	seen             int
}

// NewPause makes a Pause, and the context to run with.
func NewPause(ctx context.Context, n int) (*Pause, context.Context) {
	p := &Pause{N: n, Reached: make(chan struct{}), Release: make(chan struct{})}
	return p, context.WithValue(ctx, pauses{}, p)
}

// pauses is the tracer that does so, and the key under which a context has its Pause.
type pauses struct{}

func (pauses) TraceQueryStart(ctx context.Context, conn *pgx.Conn, q pgx.TraceQueryStartData) context.Context {
	if do, ok := ctx.Value(befores{}).(func(sql string)); ok && conn.PgConn().TxStatus() == 'T' {
		do(q.SQL)
	}
	return hold(ctx, conn)
}

// Statements that go in one batch are held back together.
func (pauses) TraceBatchStart(ctx context.Context, conn *pgx.Conn, _ pgx.TraceBatchStartData) context.Context {
	return hold(ctx, conn)
}

func (pauses) TraceBatchQuery(context.Context, *pgx.Conn, pgx.TraceBatchQueryData) {}
func (pauses) TraceBatchEnd(context.Context, *pgx.Conn, pgx.TraceBatchEndData)     {}

// Counted is a context, and how many statements (batches count once) have run with it.
func Counted(ctx context.Context) (context.Context, *atomic.Int64) {
	n := new(atomic.Int64)
	return context.WithValue(ctx, counts{}, n), n
}

type counts struct{}

// Before is a context with which do runs before each statement of a transaction that is not in a batch.
func Before(ctx context.Context, do func(sql string)) context.Context {
	return context.WithValue(ctx, befores{}, do)
}

type befores struct{}

func hold(ctx context.Context, conn *pgx.Conn) context.Context {
	if n, ok := ctx.Value(counts{}).(*atomic.Int64); ok {
		n.Add(1)
	}
	if p, ok := ctx.Value(pauses{}).(*Pause); ok && conn.PgConn().TxStatus() == 'T' {
		if p.seen++; p.seen == p.N {
			close(p.Reached)
			<-p.Release
		}
	}
	return ctx
}

func (pauses) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}

// Passphrase is everybody's in tests.
const Passphrase = "brine and salt"

// Person makes a person and returns the actor and a token.
func (s *Service) Person(t testing.TB, handle string) (ground.Actor, string) {
	t.Helper()
	token, err := s.AddPerson(t.Context(), handle, Passphrase, false)
	if err != nil {
		t.Fatal(err)
	}
	actor, err := s.Authenticate(t.Context(), token)
	if err != nil {
		t.Fatal(err)
	}
	return actor, token
}

// Serve puts the API of s behind HTTP.
func (s *Service) Serve(t testing.TB) *httptest.Server {
	t.Helper()
	server := httptest.NewServer(api.New(s.Service, web.Files(), "test", slog.New(slog.DiscardHandler)))
	t.Cleanup(server.Close)
	return server
}

// Client is a client with a token whose every answer is held to the OpenAPI document.
func Client(t testing.TB, url, token string) *client.Client {
	return client.New(url, token, &checked{t: t})
}

// ClientThrough is a client over a line that a test can cut. Its answers are not looked at: a stream of them never ends.
func ClientThrough(t testing.TB, url, token string, line http.RoundTripper) *client.Client {
	t.Helper()
	return client.New(url, token, line)
}

// checked is a transport that compares answers with the document.
type checked struct{ t testing.TB }

var router = sync.OnceValues(func() (routers.Router, error) {
	doc := *api.Document()
	doc.Servers = openapi3.Servers{{URL: api.Prefix}}
	return legacy.NewRouter(&doc)
})

func (c *checked) RoundTrip(r *http.Request) (*http.Response, error) {
	var sent []byte
	if r.Body != nil {
		var err error
		if sent, err = io.ReadAll(r.Body); err != nil {
			return nil, err
		}
		r.Body = io.NopCloser(bytes.NewReader(sent))
	}
	answer, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	if strings.HasPrefix(answer.Header.Get("Content-Type"), "text/event-stream") {
		return answer, nil // it never ends
	}
	got, err := io.ReadAll(answer.Body)
	if err != nil {
		return nil, err
	}
	_ = answer.Body.Close()
	answer.Body = io.NopCloser(bytes.NewReader(got))
	if err := Conforms(r, sent, answer, got); err != nil {
		c.t.Errorf("%s %s answers %d, which is not what the document says: %v", r.Method, r.URL.Path, answer.StatusCode, err)
	}
	return answer, nil
}

// Conforms holds one request and its answer to the OpenAPI document. A request that was answered with a problem may be malformed.
func Conforms(r *http.Request, sent []byte, answer *http.Response, got []byte) error {
	routes, err := router()
	if err != nil {
		return err
	}
	local := r.Clone(r.Context())
	local.URL.Host, local.URL.Scheme, local.Host = "", "", ""
	local.Body = io.NopCloser(bytes.NewReader(sent))
	route, parameters, err := routes.FindRoute(local)
	if err != nil {
		return fmt.Errorf("no such call: %w", err)
	}
	in := &openapi3filter.RequestValidationInput{Request: local, PathParams: parameters, Route: route, QueryParams: local.URL.Query(),
		Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, IncludeResponseStatus: true,
			ExcludeRequestBody:  !strings.HasPrefix(r.Header.Get("Content-Type"), "application/json"),
			ExcludeResponseBody: !strings.Contains(answer.Header.Get("Content-Type"), "json")}}
	if answer.StatusCode < 400 {
		if err := openapi3filter.ValidateRequest(r.Context(), in); err != nil {
			return err
		}
	}
	return openapi3filter.ValidateResponse(r.Context(),
		&openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: answer.StatusCode,
			Header: answer.Header, Body: io.NopCloser(bytes.NewReader(got)), Options: in.Options})
}

// Material is a content cut into the records that a sender brings.
type Material struct {
	Content chunk.Digest
	Size    int64
	Chunks  []chunk.Ref
	Records []pack.Record
}

// Cut makes the records of a content.
func Cut(t testing.TB, data []byte) Material {
	t.Helper()
	m := Material{Size: int64(len(data))}
	if err := chunk.Scan(t.Context(), bytes.NewReader(data), m.Size, nil, 1, func(p chunk.Piece, b []byte) error {
		m.Chunks = append(m.Chunks, p.Ref)
		m.Records = append(m.Records, pack.Encode(pack.Chunk, p.Digest, b))
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	for _, n := range manifest.Build(m.Chunks) {
		m.Content = n.Digest
		m.Records = append(m.Records, pack.Encode(pack.Manifest, n.Digest, n.Data))
	}
	return m
}

// From gives records one by one.
func From(records []pack.Record) func() (pack.Record, error) {
	return func() (pack.Record, error) {
		if len(records) == 0 {
			return pack.Record{}, io.EOF
		}
		r := records[0]
		records = records[1:]
		return r, nil
	}
}

// Body is the request that brings records.
func Body(records []pack.Record) (body []byte) {
	for _, r := range records {
		body = pack.AppendRecord(body, r)
	}
	return body
}

// Refused returns the reasons of a refusal, or fails the test.
func Refused(t testing.TB, err error) []model.Refusal {
	t.Helper()
	refused, ok := err.(*model.Refused)
	if !ok {
		t.Fatalf("not refused: %v", err)
	}
	return refused.Refusals
}

// Problem fails the test unless err is a problem of the type.
func Problem(t testing.TB, err error, kind string) {
	t.Helper()
	if p, ok := err.(*model.Problem); !ok || p.Type != kind {
		t.Errorf("got %v, want a problem of type %s", err, kind)
	} else if p.Detail == "" {
		t.Errorf("the problem %s says nothing", kind)
	}
}

// Steps is how long a walk is: the short one in the suite, the long one in make soak.
func Steps(short, long int) int {
	if os.Getenv("SOAK") != "" {
		return long
	}
	return short
}

// Eventually waits up to ten seconds for something to become true.
func Eventually(t testing.TB, what string, ok func() bool) {
	t.Helper()
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if ok() {
			return
		}
	}
	t.Fatalf("%s does not happen", what)
}
