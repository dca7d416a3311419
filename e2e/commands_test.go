package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sort"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"go.etcd.io/bbolt"

	"kettletarn/internal/testbed"
)

// What --json prints is part of the interface: the keys of each command's object, and of the things in it.
func TestWhatJSONPrints(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "a", "b.png": "b"})
	rurik.join(odile, "artist")
	keys := func(v any) string {
		m, ok := v.(map[string]any)
		if !ok {
			return "?"
		}
		var names []string
		for k := range m {
			names = append(names, k)
		}
		sort.Strings(names)
		return strings.Join(names, " ")
	}
	first := func(v any, list string) any {
		items, ok := v.(map[string]any)[list].([]any)
		if !ok || len(items) == 0 {
			t.Fatalf("no list %s in %v", list, v)
		}
		return items[0]
	}
	object := func(status int, args ...string) map[string]any {
		t.Helper()
		var v map[string]any
		odile.json(status, &v, args...)
		return v
	}
	for _, c := range []struct{ command, want string }{
		{"whoami", "handle service steward"},
		{"project show brinelight", "assets handoffs key latest locks members news people role size stored"},
		{"member list", "members"},
		{"holders", "heads_up locks"},
		{"update", "at brought clashes moved refusals removed same"},
		{"discard --list", "put_away"},
	} {
		if got := keys(object(0, strings.Fields(c.command)...)); got != c.want {
			t.Errorf("%s: %s, want %s", c.command, got, c.want)
		}
	}
	if got := keys(first(object(0, "lock", "a.png"), "locks")); got != "fence holder note path since waitlist workspace workspace_id" {
		t.Errorf("a lock: %s", got)
	}
	asset := first(object(0, "status"), "assets")
	if got := keys(asset); got != "at author content digest handoff holder lock newest note path size state version" {
		t.Errorf("an asset: %s", got)
	}
	digest, _ := asset.(map[string]any)["digest"].(string)
	if ok, _ := regexp.MatchString("^[0-9a-f]{64}$", digest); !ok {
		t.Errorf("a digest is %q", digest)
	}
	at, _ := asset.(map[string]any)["at"].(string)
	if when, err := time.Parse(time.RFC3339, at); err != nil || when.Location() != time.UTC {
		t.Errorf("a time is %q, %v", at, err)
	}
	odile.write(map[string]string{"a.png": "a two"})
	sent := object(0, "send", "-m", "two", "--task", "BRL-1", "--task", "BRL-2", "--stage", "rough")
	if got := keys(sent["handoff"]); got != "assets at author branch count digest note number parents root size stage tasks" {
		t.Errorf("a handoff: %s", got)
	}
	if got := keys(first(sent["handoff"], "assets")); got != "before change content digest path size size_before version" {
		t.Errorf("an asset of a handoff: %s", got)
	}
	if got := keys(first(object(0, "history", "a.png"),
		"versions")); got != "at author branch content digest handoff note parents path size stage tasks version" {
		t.Errorf("a version: %s", got)
	}
	if got := keys(first(object(0, "project", "list"), "projects")); got != "assets handoffs key latest locks members role size stored" {
		t.Errorf("a project: %s", got)
	}
	rurik.tarn(0, "lock", "b.png")
	refused := object(1, "lock", "b.png")
	if got := keys(refused) + ": " + keys(first(refused, "refusals")); got != "refusals: message path reason remedy" {
		t.Errorf("a refusal: %s", got)
	}
	if got := keys(first(object(1, "show", "h99"), "refusals")); got != "message path reason remedy" {
		t.Errorf("a problem: %s", got)
	}
}

func TestPeopleAndRoles(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik, keiko := d.person("odile"), d.person("rurik"), d.person("keiko")
	odile.start(map[string]string{"a.png": "a"})
	rurik.join(odile, "artist")
	keiko.join(odile, "viewer")
	says(t, keiko.tarn(0, "status"), "Nothing has changed here")
	says(t, keiko.tarn(1, "lock", "a.png"), "you are a viewer", "takes an artist")
	keiko.write(map[string]string{"b.png": "b"})
	says(t, keiko.tarn(1, "send", "-m", "b"), "you are a viewer")
	says(t, rurik.tarn(1, "member", "add", "keiko", "--role", "artist"), "takes a lead")
	says(t, odile.tarn(1, "member", "add", "nobody"), "no person", "tarnd person add")
	says(t, odile.tarn(2, "member", "add", "keiko", "--role", "king"), "--role is viewer, artist, lead or owner")
	says(t, odile.tarn(1, "member", "remove", "odile"), "only owner")
	says(t, odile.tarn(0, "member", "list"), "keiko", "viewer", "odile", "owner")
	says(t, odile.tarn(0, "member", "add", "keiko", "--role", "lead"), "keiko is lead")
	rurik.tarn(0, "lock", "a.png")
	says(t, keiko.tarn(0, "unlock", "--override", "--reason", "Friday", "a.png"), "is free")
	rurik.tarn(0, "lock", "a.png")
	says(t, odile.tarn(0, "member", "remove", "rurik"), "is no longer in")
	says(t, rurik.tarn(1, "update"), "no project")
	if got := odile.tarn(0, "holders"); !strings.Contains(got, "Nothing is locked") {
		t.Errorf("after removing the holder: %s", got)
	}
	keiko.dir = keiko.home
	says(t, keiko.tarn(2, "member", "list"), "--project KEY")
	says(t, keiko.tarn(0, "member", "list", "--project", "brinelight"), "odile")
	says(t, keiko.tarn(0, "project", "list"), "brinelight", "lead")
}

func TestTheEnvironmentComesBeforeWhatWasKept(t *testing.T) {
	t.Parallel()
	d := serve(t)
	cmd := exec.Command(filepath.Join(bin, "tarnd"), "person", "add", "robot", "--json")
	cmd.Env, cmd.Stdin = d.Env, strings.NewReader(testbed.Passphrase+"\n")
	out, err := cmd.Output()
	var made struct{ Handle, Token string }
	if err != nil || json.Unmarshal(out, &made) != nil || made.Handle != "robot" || !strings.HasPrefix(made.Token, "tarn_") {
		t.Fatalf("%s, %v", out, err)
	}
	m := d.machine("robot")
	run := func(env ...string) (int, string) {
		c := m.command(m.home, "whoami")
		c.Env = append(c.Env, env...)
		var b bytes.Buffer
		c.Stdout, c.Stderr = &b, &b
		_ = c.Run()
		return c.ProcessState.ExitCode(), b.String()
	}
	if status, out := run("TARN_URL="+d.URL, "TARN_TOKEN="+made.Token); status != 0 || !strings.Contains(out, "robot") {
		t.Errorf("%d %s", status, out)
	}
	if status, out := run("TARN_URL="+d.URL, "TARN_TOKEN=tarn_wrong"); status != 1 || !strings.Contains(out, "does not know this sign-in") {
		t.Errorf("%d %s", status, out)
	}
	if status, out := run("TARN_URL=nonsense"); status != 1 || !strings.Contains(out, "TARN_URL") {
		t.Errorf("%d %s", status, out)
	}
	if r := m.runIn(m.home, made.Token+"\n", "sign-in", d.URL, "--token-stdin"); r.Status != 0 {
		t.Errorf("%+v", r)
	}
	info, err := os.Stat(filepath.Join(m.home, ".config", "kettle-tarn", "sign-ins.json"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the kept credential: %v, %v", info, err)
	}
	// A workspace of another service does not get the token of this one.
	thief := make(chan string, 100) // it is asked again and again, by two at once
	server := &http.Server{Addr: "127.0.0.1:0", Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		thief <- r.Header.Get("Authorization")
		w.WriteHeader(http.StatusTeapot)
	})}
	listener, err := listen()
	if err != nil {
		t.Fatal(err)
	}
	go func() { _ = server.Serve(listener) }()
	defer server.Close()
	trap := filepath.Join(m.home, "trap")
	if err := os.MkdirAll(trap, 0o755); err != nil {
		t.Fatal(err)
	}
	marker := `{"service":"http://` + listener.Addr().String() + `","project":"brinelight","workspace":"00000000-0000-4000-8000-000000000000"}`
	if err := os.WriteFile(filepath.Join(trap, ".tarn-workspace"), []byte(marker), 0o644); err != nil {
		t.Fatal(err)
	}
	state := filepath.Join(m.home, ".state", "kettle-tarn", "workspaces", "00000000-0000-4000-8000-000000000000")
	if err := os.MkdirAll(state, 0o700); err != nil {
		t.Fatal(err)
	}
	index, err := bbolt.Open(filepath.Join(state, "index"), 0o600, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := index.Close(); err != nil {
		t.Fatal(err)
	}
	c := m.command(trap, "holders")
	c.Env = append(c.Env, "TARN_TOKEN="+made.Token)
	_ = c.Run()
	select {
	case got := <-thief:
		if got != "" {
			t.Errorf("a strange service was sent %q", got)
		}
	case <-time.After(10 * time.Second):
		t.Error("the strange service was not asked: the test shows nothing")
	}
}

func TestAnExpiredSignInIsSaidSo(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a"})
	var db string
	for _, v := range d.Env {
		if url, ok := strings.CutPrefix(v, "TARND_DB="); ok {
			db = url
		}
	}
	conn, err := pgx.Connect(t.Context(), db)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(t.Context(), "update tokens set expires = '2026-02-03'"); err != nil {
		t.Fatal(err)
	}
	says(t, odile.tarn(1, "update"), "ended on 3 February 2026", "tarn sign-in")
	if got := odile.state("a.png"); got != "same" {
		t.Errorf("without a sign-in, status says %q", got)
	}
	// A second sign-in, from elsewhere, is another credential.
	laptop := d.machine("odile-laptop")
	if r := laptop.runIn(laptop.home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "odile"); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	if r := laptop.runIn(laptop.home, "", "join", "brinelight"); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	if r := odile.runIn(odile.dir, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "odile"); r.Status != 0 {
		t.Fatalf("%+v", r)
	}
	odile.tarn(0, "lock", "a.png")
	laptop.write(map[string]string{"a.png": "from the laptop"})
	says(t, laptop.tarn(1, "send", "-m", "x"), "you hold it in another workspace", "odile-pc")
	says(t, laptop.tarn(1, "unlock", "a.png"), "another workspace")
}

func TestCtrlCStopsInOrder(t *testing.T) {
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a"})
	odile.noise("large", 60, 1<<20, 11)
	cmd := odile.command(odile.dir, "send", "-m", "large", "--limit", "15MB/s") // so that it is still on its way
	var errs bytes.Buffer
	cmd.Stderr = &errs
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(400 * time.Millisecond)
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	if cmd.ProcessState.ExitCode() != 1 || !strings.Contains(errs.String(), "the same command goes on") {
		t.Errorf("ends with %d: %s", cmd.ProcessState.ExitCode(), errs.String())
	}
	says(t, odile.tarn(0, "send", "-m", "large"), "h2: 60 assets")
}

func TestTheServiceFromOutside(t *testing.T) {
	t.Parallel()
	d := serve(t)
	for path, want := range map[string]int{"/healthz": 200, "/readyz": 200, "/api/v1/openapi.json": 200, "/api/v1/whoami": 401, "/": 200,
		"/p/brinelight/handoffs": 200} {
		answer, err := http.Get(d.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		_ = answer.Body.Close()
		if answer.StatusCode != want {
			t.Errorf("%s answers %d", path, answer.StatusCode)
		}
	}
	if status := d.stopWithin(15 * time.Second); status != 0 {
		t.Errorf("ends with %d", status)
	}
	text := d.Log.(*bytes.Buffer).String()
	for line := range strings.Lines(text) {
		var entry map[string]any
		if json.Unmarshal([]byte(line), &entry) != nil {
			t.Errorf("a log line is no JSON: %s", line)
		} else if entry["msg"] == "request" && (entry["request"] == "" || entry["status"] == nil || entry["path"] == nil) {
			t.Errorf("a request is logged as %s", line)
		}
	}
	says(t, text, `"serving"`, `"ended"`, "/api/v1/whoami")
	if strings.Contains(text, testbed.Passphrase) || strings.Contains(text, "tarn_") {
		t.Error("the log has a secret in it")
	}
}

func TestSettingsFromAFile(t *testing.T) {
	t.Parallel()
	d := serve(t)
	settings := map[string]string{}
	for _, v := range d.Env {
		name, value, _ := strings.Cut(v, "=")
		settings[name] = value
	}
	file := filepath.Join(t.TempDir(), "tarnd.toml")
	text := "listen = \"127.0.0.1:1\"\ndb = \"" + settings["TARND_DB"] + "\"\ndata = \"" + settings["TARND_DATA"] + "\"\n"
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(filepath.Join(bin, "tarnd"), "--config", file, "person", "add", "from-file")
	cmd.Env, cmd.Stdin = []string{"PATH=" + os.Getenv("PATH")}, strings.NewReader(testbed.Passphrase+"\n")
	if out, err := cmd.CombinedOutput(); err != nil || !strings.Contains(string(out), "from-file can sign in") {
		t.Errorf("%s, %v", out, err)
	}
	if err := os.WriteFile(file, []byte(text+"colour = \"red\"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd = exec.Command(filepath.Join(bin, "tarnd"), "--config", file, "serve")
	if out, err := cmd.CombinedOutput(); err == nil || !strings.Contains(string(out), "colour") {
		t.Errorf("an unknown key: %s, %v", out, err)
	}
	for input, want := range map[string]string{"": "nothing came", "short\n": "at least 10", "aaaaaaaaaaaa\n": "guessed soon"} {
		cmd = exec.Command(filepath.Join(bin, "tarnd"), "person", "add", "keiko")
		cmd.Env, cmd.Stdin = d.Env, strings.NewReader(input)
		if out, err := cmd.CombinedOutput(); err == nil || !strings.Contains(string(out), want) {
			t.Errorf("with %q: %s, %v", input, out, err)
		}
	}
}

func TestPreviewsChangeNothing(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "one", "b.png": "b"})
	rurik.join(odile, "artist")
	odile.tarn(0, "lock", "a.png", "b.png")
	odile.write(map[string]string{"a.png": "two", "c.png": "c"})
	if err := os.Remove(filepath.Join(odile.dir, "b.png")); err != nil {
		t.Fatal(err)
	}
	odile.tarn(0, "send", "-m", "all of it", "--with-gone")
	says(t, rurik.tarn(0, "update", "--preview"), "Would bring 2 assets", "a.png", "c.png", "b.png", "would remove 1 asset")
	rurik.has("a.png", "one")
	rurik.has("b.png", "b")
	rurik.has("c.png", "")
	says(t, rurik.tarn(0, "status"), "Newer there (3)", "v1 here, v2 by odile", "was removed by odile", "v1 by odile")
	says(t, rurik.tarn(0, "status", "a.png"), "behind", "1 here; 2 is the newest", "free")
	says(t, rurik.tarn(0, "update", "c.png"), "Brought 1 asset")
	rurik.has("a.png", "one")
	says(t, rurik.tarn(1, "status", "nothing.png"), "no asset")
	says(t, rurik.tarn(1, "update", "nothing.png"), "nothing of that name")
}
