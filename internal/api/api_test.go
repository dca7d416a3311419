package api_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/api"
	"kettletarn/internal/client"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/store"
	"kettletarn/internal/testbed"
)

func TestMain(m *testing.M) { testbed.Main(m) }

const key = "brinelight"

// Every call once through the typed client, its answer held to the document by the client's transport.
func TestTheAPIAnswersAsItsDocumentSays(t *testing.T) {
	s := testbed.NewService(t, nil)
	_, token := s.Person(t, "odile")
	s.Person(t, "rurik")
	server := s.Serve(t)
	ctx := t.Context()
	c := testbed.Client(t, server.URL, token)
	no := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	_, err := c.Service(ctx)
	no(err)
	_, err = c.SignIn(ctx, model.SignInRequest{Handle: "odile", Passphrase: testbed.Passphrase, From: "test"})
	no(err)
	_, err = c.Whoami(ctx)
	no(err)
	_, err = c.Start(ctx, key)
	no(err)
	_, err = c.Projects(ctx)
	no(err)
	_, err = c.SetMember(ctx, key, "rurik", model.Artist)
	no(err)
	_, err = c.Members(ctx, key)
	no(err)
	w, err := c.AddWorkspace(ctx, key, "odile-pc")
	no(err)

	data := bytes.Repeat([]byte("salt "), 100_000)
	m := testbed.Cut(t, data)
	var digests []chunk.Digest
	for _, r := range m.Records {
		digests = append(digests, r.Digest)
	}
	missing, err := c.MissingChunks(ctx, key, digests)
	no(err)
	if len(missing) == 0 {
		t.Error("nothing is missing")
	}
	no(c.StoreRecords(ctx, key, testbed.Body(m.Records)))
	var back []byte
	no(c.FetchChunks(ctx, key, digests[:len(m.Chunks)], func(_ int, b []byte) error {
		back = append(back, b...)
		return nil
	}))
	if !bytes.Equal(back, data) {
		t.Error("the content comes back changed")
	}
	_, err = c.Wanted(ctx, key)
	no(err)
	send := model.SendRequest{Workspace: w.ID, About: model.About{Note: "first", Tasks: []string{"BRL-1"}, Stage: "rough"},
		Changes: []model.SendChange{{Path: "text/a.txt", Content: m.Content, Size: m.Size}}}
	check, err := c.CheckSend(ctx, key, model.SendQuestion{Send: send, Chunks: append(digests, chunk.Sum([]byte("brought along"))),
		Coming: 13})
	no(err)
	if len(check.Chunks) != 1 {
		t.Errorf("%d chunks are lacking, and one was not brought", len(check.Chunks))
	}
	sendKey := uuid.NewString()
	_, err = c.Send(ctx, key, sendKey, send)
	no(err)
	along := testbed.Cut(t, []byte("brought along"))
	_, err = c.Send(ctx, key, uuid.NewString(), model.SendRequest{Workspace: w.ID, About: model.About{Note: "second"},
		Changes: []model.SendChange{{Path: "text/along.txt", Content: along.Content, Size: along.Size}}}, testbed.Body(along.Records))
	no(err)
	_, err = c.CloseSend(ctx, key, sendKey)
	no(err)
	_, err = c.TakeLocks(ctx, key, model.LockRequest{Workspace: w.ID, Assets: []model.LockWant{{Path: "text/a.txt", Version: 1}}, Note: "n"})
	no(err)
	_, err = c.Locks(ctx, key)
	no(err)
	no(c.Changes(ctx, key, model.ChangesQuery{Locks: true}, func(model.Assets) error { return nil }))
	_, err = c.Asset(ctx, key, "", "text/a.txt")
	no(err)
	_, err = c.Project(ctx, key)
	no(err)
	_, err = c.ReleaseLocks(ctx, key, model.UnlockRequest{Workspace: w.ID, Paths: []string{"text/a.txt"}})
	no(err)
	_, err = c.Handoffs(ctx, key, client.HandoffQuery{Limit: 5, Path: "text"})
	no(err)
	_, err = c.Handoff(ctx, key, "h1")
	no(err)
	_, err = c.Rollback(ctx, key, uuid.NewString(), model.RollbackRequest{Workspace: w.ID, Paths: []string{"text/a.txt"}, Version: 1})
	testbed.Problem(t, err, model.BadRequest)
	plan, err := c.Rollback(ctx, key, uuid.NewString(), model.RollbackRequest{Workspace: w.ID, Without: 2, Preview: true})
	no(err)
	if len(plan.Changes) != 1 || plan.Changes[0].Change != "goes" {
		t.Errorf("%+v", plan)
	}
	_, err = c.AddMilestone(ctx, key, model.MilestoneRequest{Name: "first-light", At: "h1"})
	no(err)
	_, err = c.Milestones(ctx, key)
	no(err)
	between, err := c.Between(ctx, key, "first-light", "newest", "")
	no(err)
	if len(between.Assets) != 1 || between.To.Number != 2 {
		t.Errorf("%+v", between)
	}
	at, err := c.StateAt(ctx, key, "FIRST-LIGHT")
	no(err)
	if at != 1 {
		t.Errorf("the milestone is h%d", at)
	}
	_, err = c.Lines(ctx, key, "text/along.txt", 0)
	no(err)
	no(c.DescribeWorkspace(ctx, key, w.ID, model.WorkspaceTold{Machine: "odile-pc", Folder: "/work", Branch: "main", Scope: []string{"text"}}))
	no(c.RemoveMilestone(ctx, key, "first-light"))
	no(c.RemoveMember(ctx, key, "rurik"))

	// Those that only a page calls.
	for _, q := range []struct{ method, path, body string }{
		{"GET", "/projects/" + key + "/folder?path=text", ""}, {"GET", "/projects/" + key + "/folder?search=A.TX", ""},
		{"GET", "/projects/" + key + "/archive?at=1", ""}, {"GET", "/projects/" + key + "/archive?form=tar&path=text", ""},
		{"GET", "/projects/" + key + "/handoffs.csv?assets=2", ""},
		{"GET", "/projects/" + key + "/file?path=text/a.txt", ""}, {"GET", "/projects/" + key + "/workspaces", ""},
		{"GET", "/projects/" + key + "/thumbnail?path=text/a.txt&edge=96", ""},
		{"GET", "/projects/" + key + "/thumbnail?path=mix.bin&edge=96", ""},
		{"POST", "/projects/" + key + "/drop?path=text/b.txt&base=0&note=dropped", "from a page"},
	} {
		answer, _ := request(t, server.URL, token, q.method, q.path, q.body,
			map[string]string{"Idempotency-Key": uuid.NewString(), "Content-Type": "application/octet-stream"})
		if want := !strings.Contains(q.path, "mix.bin"); (answer.StatusCode < 300) != want {
			t.Errorf("%s %s answers %d", q.method, q.path, answer.StatusCode)
		}
	}
	no(c.SignOut(ctx))
	_, err = c.Whoami(ctx)
	testbed.Problem(t, err, model.SignInExpired)
}

// request makes a raw call and holds the answer to the document.
func request(t *testing.T, url, token, method, path, body string, header map[string]string) (*http.Response, []byte) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, url+api.Prefix+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	for k, v := range header {
		r.Header.Set(k, v)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	got, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	if err := testbed.Conforms(r, []byte(body), answer, got); err != nil && answer.StatusCode != http.StatusNotFound {
		t.Errorf("%s %s: %v", method, path, err)
	}
	return answer, got
}

func TestBadRequestsAreProblems(t *testing.T) {
	s := testbed.NewService(t, nil)
	_, token := s.Person(t, "odile")
	server := s.Serve(t)
	if _, err := testbed.Client(t, server.URL, token).Start(t.Context(), key); err != nil {
		t.Fatal(err)
	}
	in := "/projects/" + key
	jsonType := map[string]string{"Content-Type": "application/json"}
	for _, c := range []struct {
		name, token, method, path, body string
		status                          int
	}{
		{"no token", "", "GET", "/projects", "", 401},
		{"made-up token", "tarn_x", "GET", "/projects", "", 401},
		{"no such call", token, "GET", "/nothing", "", 404},
		{"wrong method", token, "DELETE", "/projects", "", 404},
		{"not JSON", token, "POST", "/projects", "{", 400},
		{"unknown field", token, "POST", "/projects", `{"key":"abc","colour":"red"}`, 400},
		{"two values", token, "POST", "/projects", `{"key":"abc"}{}`, 400},
		{"wrong type", token, "POST", "/projects", `{"key":5}`, 400},
		{"bad key", token, "POST", "/projects", `{"key":"A/B"}`, 400},
		{"bad digest", token, "POST", in + "/chunks/missing", `{"digests":["xyz"]}`, 400},
		{"bad number", token, "GET", in + "/handoffs?limit=many", "", 400},
		{"negative number", token, "GET", in + "/handoffs?before=-1", "", 400},
		{"no such handoff", token, "GET", in + "/handoffs/99", "", 404},
		{"handoff without number", token, "GET", in + "/handoffs/abc", "", 404},
		{"asset above the root", token, "GET", in + "/asset?path=../../etc/passwd", "", 404},
		{"thumbnail of any size", token, "GET", in + "/thumbnail?path=a.png&edge=5000", "", 400},
		{"drop above the root", token, "POST", in + "/drop?path=../x&base=0&note=n", "x", 409},
		{"at in the future", token, "GET", in + "/assets?at=99", "", 404},
	} {
		header := map[string]string{"Idempotency-Key": uuid.NewString()}
		if c.body != "" {
			header["Content-Type"] = jsonType["Content-Type"]
		}
		answer, got := request(t, server.URL, c.token, c.method, c.path, c.body, header)
		var d model.ProblemDetails
		if answer.StatusCode != c.status || answer.Header.Get("Content-Type") != "application/problem+json" || json.Unmarshal(got, &d) != nil ||
			d.Detail == "" || d.Status != c.status || d.Request == "" || !strings.HasPrefix(d.Type, model.ProblemPrefix) {
			t.Errorf("%s: %d %s", c.name, answer.StatusCode, got)
		}
	}
}

func TestBulkBodiesAreDistrusted(t *testing.T) {
	s := testbed.NewService(t, nil)
	_, token := s.Person(t, "odile")
	server := s.Serve(t)
	if _, err := testbed.Client(t, server.URL, token).Start(t.Context(), key); err != nil {
		t.Fatal(err)
	}
	good := pack.AppendEncoded(nil, pack.Chunk, chunk.Sum([]byte("salt")), []byte("salt"))
	for name, body := range map[string][]byte{
		"cut off":        good[:len(good)-2],
		"rubbish":        []byte("rubbish"),
		"huge length":    append([]byte{0x85, 0, 0x5b, 0x7f, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}, good...),
		"nested":         bytes.Repeat([]byte{0x81}, 10_000),
		"wrong kinds":    {0x84, 1, 2, 3, 4},
		"second is bad":  append(bytes.Clone(good), 0xff),
		"flipped":        append(bytes.Clone(good[:len(good)-1]), good[len(good)-1]^1),
		"more than 32 M": bytes.Repeat(good, 1+(33<<20)/len(good)),
	} {
		for _, call := range []string{"/chunks", "/handoffs"} {
			answer, got := request(t, server.URL, token, "POST", "/projects/"+key+call, string(body),
				map[string]string{"Content-Type": model.CBORSequence, "Idempotency-Key": uuid.NewString()})
			if answer.StatusCode < 400 || answer.StatusCode >= 500 {
				t.Errorf("%s to %s: %d %s", name, call, answer.StatusCode, got)
			}
		}
	}
	missing, err := testbed.Client(t, server.URL, token).MissingChunks(t.Context(), key, []chunk.Digest{chunk.Sum([]byte("salt"))})
	if err != nil || len(missing) != 1 {
		t.Errorf("a refused body left a chunk: %v, %v", missing, err)
	}
}

// started is a service with a project, whose owner the token and the client are.
// What happened in a row reaches a stream in a piece, not in one for every few events: each wakes whoever listens.
func TestNewsComesInPieces(t *testing.T) {
	server, token, c := started(t, nil)
	const events = 60
	for range events {
		if _, err := c.AddWorkspace(t.Context(), key, "pc"); err != nil {
			t.Fatal(err)
		}
	}
	conn, err := net.Dial("tcp", server.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(20 * time.Second)); err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(conn, "GET %s/projects/%s/news?after=0-0 HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\n\r\n", api.Prefix, key,
		server.Listener.Addr(), token)
	in := bufio.NewReader(conn)
	for line := ""; line != "\r\n"; {
		if line, err = in.ReadString('\n'); err != nil {
			t.Fatal(err)
		}
	}
	heard, pieces := 0, 0
	for ; heard < events; pieces++ {
		line, err := in.ReadString('\n') // chunked, after RFC 9112, section 7.1
		size, _ := strconv.ParseInt(strings.TrimSpace(line), 16, 32)
		if err != nil || size == 0 {
			t.Fatalf("%d events in %d pieces, then %q, %v", heard, pieces, line, err)
		}
		piece := make([]byte, size+2)
		if _, err := io.ReadFull(in, piece); err != nil {
			t.Fatal(err)
		}
		heard += bytes.Count(piece, []byte("workspace.added"))
	}
	if pieces > 3 {
		t.Errorf("%d events came in %d pieces", heard, pieces)
	}
}

func started(t *testing.T, packs store.Store) (server *httptest.Server, token string, c *client.Client) {
	t.Helper()
	s := testbed.NewService(t, packs)
	_, token = s.Person(t, "odile")
	server = s.Serve(t)
	c = testbed.Client(t, server.URL, token)
	if _, err := c.Start(t.Context(), key); err != nil {
		t.Fatal(err)
	}
	return server, token, c
}

// A client of the release before knows no S2 blocks, and gets none.
func TestRecordsAsTheReaderKnowsThem(t *testing.T) {
	server, token, c := started(t, nil)
	data := []byte(strings.Repeat("salt and brine ", 2000))
	if err := c.StoreRecords(t.Context(), key, pack.AppendEncoded(nil, pack.Chunk, chunk.Sum(data), data)); err != nil {
		t.Fatal(err)
	}
	ask := `{"digests":["` + chunk.Sum(data).String() + `"]}`
	for accept, codec := range map[string]uint8{"": pack.Plain, "*/*": pack.Plain, model.RecordsAccepted: pack.S2} {
		_, got := request(t, server.URL, token, "POST", "/projects/"+key+"/chunks/fetch", ask,
			map[string]string{"Content-Type": "application/json", "Accept": accept})
		r, err := pack.NewReader(bytes.NewReader(got)).Next()
		if err != nil || r.Codec != codec {
			t.Fatalf("%q: codec %d, %v", accept, r.Codec, err)
		}
		if plain, err := r.Decode(nil); err != nil || !bytes.Equal(plain, data) {
			t.Errorf("%q: %v", accept, err)
		}
	}
}

// TestDamageIsFoundByWhoeverFetches: a client tells of it; for one of the release before, the service looks itself.
func TestDamageIsFoundByWhoeverFetches(t *testing.T) {
	for _, accept := range []string{"", model.RecordsAccepted} {
		dir := t.TempDir()
		packs, err := store.OpenDirectory(dir)
		if err != nil {
			t.Fatal(err)
		}
		server, token, c := started(t, packs)
		salt := []byte("a grain of salt")
		d := chunk.Sum(salt)
		if err := c.StoreRecords(t.Context(), key, pack.AppendEncoded(nil, pack.Chunk, d, salt)); err != nil {
			t.Fatal(err)
		}
		if err := filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				return err
			}
			data, err := os.ReadFile(name)
			if err != nil || !bytes.Contains(data, salt) {
				return err
			}
			return os.WriteFile(name, bytes.Replace(data, salt, []byte("a grain of silt"), 1), 0o600)
		}); err != nil {
			t.Fatal(err)
		}
		if accept == "" {
			answer, got := request(t, server.URL, token, "POST", "/projects/"+key+"/chunks/fetch", `{"digests":["`+d.String()+`"]}`,
				map[string]string{"Content-Type": "application/json"})
			if answer.StatusCode != http.StatusInternalServerError || !strings.Contains(string(got), model.Damaged) {
				t.Errorf("%d %s", answer.StatusCode, got)
			}
		} else {
			err := c.FetchChunks(t.Context(), key, []chunk.Digest{d}, func(int, []byte) error { return nil })
			testbed.Problem(t, err, model.Damaged)
		}
		if wanted, err := c.Wanted(t.Context(), key); err != nil || len(wanted) != 1 || wanted[0] != d {
			t.Errorf("wanted are %v, %v", wanted, err)
		}
	}
}

func TestFilesOfUsersRunNothing(t *testing.T) {
	server, token, _ := started(t, nil)
	page := "<script>alert(1)</script>"
	request(t, server.URL, token, "POST", "/projects/"+key+"/drop?path=evil.html&base=0&note=n", page,
		map[string]string{"Idempotency-Key": uuid.NewString(), "Content-Type": "application/octet-stream"})
	answer, got := request(t, server.URL, token, "GET", "/projects/"+key+"/file?path=evil.html", "", nil)
	h := answer.Header
	if string(got) != page || h.Get("Content-Type") != "application/octet-stream" ||
		!strings.HasPrefix(h.Get("Content-Disposition"), "attachment") ||
		h.Get("X-Content-Type-Options") != "nosniff" || !strings.Contains(h.Get("Content-Security-Policy"), "sandbox") {
		t.Errorf("%q with %v", got, h)
	}
	if etag := h.Get("ETag"); etag != `"`+testbed.Cut(t, []byte(page)).Content.String()+`"` {
		t.Errorf("ETag %s", etag)
	}
	answer, got = request(t, server.URL, token, "GET", "/projects/"+key+"/file?path=evil.html", "", map[string]string{"Range": "bytes=1-6"})
	if answer.StatusCode != http.StatusPartialContent || string(got) != "script" {
		t.Errorf("a range: %d %q", answer.StatusCode, got)
	}
}

func TestOnlyTheConsolesOwnPagesActWithItsCookie(t *testing.T) {
	s := testbed.NewService(t, nil)
	s.Person(t, "odile")
	server := s.Serve(t)
	answer, body := request(t, server.URL, "", "POST", "/sign-in", `{"handle":"odile","passphrase":"`+testbed.Passphrase+
		`","from":"page","console":true}`, map[string]string{"Content-Type": "application/json"})
	cookies := answer.Cookies()
	if len(cookies) != 1 || !cookies[0].HttpOnly || cookies[0].SameSite != http.SameSiteStrictMode ||
		strings.Contains(string(body), cookies[0].Value) {
		t.Fatalf("cookies %v, body %s", cookies, body)
	}
	cookie := cookies[0].Name + "=" + cookies[0].Value
	for origin, want := range map[string]int{"": 201, server.URL: 201, "http://elsewhere.example": 403} {
		header := map[string]string{"Content-Type": "application/json", "Cookie": cookie}
		if origin != "" {
			header["Origin"] = origin
		}
		answer, got := request(t, server.URL, "", "POST", "/projects", `{"key":"p`+strings.ReplaceAll(uuid.NewString(), "-", "")+`"}`, header)
		if answer.StatusCode != want {
			t.Errorf("from %q: %d %s", origin, answer.StatusCode, got)
		}
	}
}

func TestNewsStreams(t *testing.T) {
	server, token, c := started(t, nil)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	r, _ := http.NewRequestWithContext(ctx, "GET", server.URL+api.Prefix+"/projects/"+key+"/news", nil)
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	lines := bufio.NewScanner(answer.Body)
	if !lines.Scan() || answer.Header.Get("Content-Type") != "text/event-stream" {
		t.Fatal("the stream does not start at once")
	}
	time.Sleep(50 * time.Millisecond)
	if _, err := c.AddWorkspace(ctx, key, "pc"); err != nil {
		t.Fatal(err)
	}
	for lines.Scan() {
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			var e model.Event
			if err := json.Unmarshal([]byte(data), &e); err != nil || e.Kind != "workspace.added" || e.Person != "odile" {
				t.Errorf("told %s, %v", data, err)
			}
			return
		}
	}
	t.Error("the stream ended without news")
}

func TestPages(t *testing.T) {
	console := fstest.MapFS{"index.html": {Data: []byte("<title>Kettle Tarn</title>")}, "assets/a.js": {Data: []byte("1")}}
	s := testbed.NewService(t, nil)
	server := httptest.NewServer(api.New(s.Service, console, "test", slog.New(slog.DiscardHandler)))
	defer server.Close()
	for path, want := range map[string]int{"/": 200, "/p/brinelight/asset/a/b.png": 200, "/p/x/assets/a.png": 200, "/assets/a.js": 200,
		"/assets/b.js": 404, "/healthz": 200, "/readyz": 200} {
		answer, err := http.Get(server.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		_ = answer.Body.Close()
		if answer.StatusCode != want || answer.Header.Get("X-Request-ID") == "" ||
			!strings.Contains(answer.Header.Get("Content-Security-Policy"), "default-src 'self'") {
			t.Errorf("%s: %d %v", path, answer.StatusCode, answer.Header)
		}
	}
}

func TestTheClientTellsApartWhatIsWrong(t *testing.T) {
	ctx := t.Context()
	var away *client.Unreachable
	if _, err := client.New("http://127.0.0.1:1", "", nil).Service(ctx); !errors.As(err, &away) {
		t.Errorf("nobody there: %v", err)
	}
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "<html>hello") }))
	defer other.Close()
	if _, err := client.New(other.URL, "", nil).Service(ctx); !errors.As(err, &away) || !strings.Contains(err.Error(), "not Kettle Tarn") {
		t.Errorf("something else there: %v", err)
	}
	tries := 0
	flaky := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if tries++; tries < 3 {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		_, _ = io.WriteString(w, `{"service":"Kettle Tarn","version":"1","ready":true}`)
	}))
	defer flaky.Close()
	if _, err := client.New(flaky.URL, "", nil).Service(ctx); err != nil || tries != 3 {
		t.Errorf("after %d tries: %v", tries, err)
	}
	for _, bad := range []string{"", "ftp://x", "http://", "127.0.0.1:7420", "http://user:secret@x", "http://x?y=1"} {
		if _, err := client.CheckURL(bad); err == nil {
			t.Errorf("%q is taken for an address", bad)
		}
	}
}
