package e2e

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/testbed"
)

// Nothing that is empty stands for everything: a script's empty variable takes no locks and throws nothing away.
func TestAnEmptyNameIsWrongUse(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a"})
	odile.write(map[string]string{"a.png": "a day's work", "b.png": "another"})
	for _, args := range [][]string{{"lock", ""}, {"discard", ""}, {"send", "-m", "n", ""}, {"unlock", " "}, {"begin", "", "a.png"},
		{"update", ""}, {"ask", "-m", "x", ""}, {"history", ""}, {"status", ""}, {"rollback", "", "--to", "v1"},
		{"rules", "include", ""}, {"scope", "add", ""}, {"move", "a.png", ""}, {"lock", "--note", "", "a.png"}, {"send", "-m", ""}, {"join", ""},
		{"start", ""}, {"export", "--at", "", "x"}, {"rules", "include"}, {"rules", "test"},
		{"settle", "a.png", "--use", "nonsense"}, {"history", "--since", "soon"}, {"history", "--last", "0"}, {"holders", "--ending", "sent"},
		{"sign-ins", "end"}, {"unlock", "--project", "brinelight", "a.png"}, {"lokc", "a.png"}, {"member", "frobnicate"}} {
		if r := odile.runIn(odile.dir, "", args...); r.Status != 2 {
			t.Errorf("tarn %q ends with %d: %s%s", args, r.Status, r.Out, r.Errs)
		}
	}
	odile.has("a.png", "a day's work")
	if out := odile.tarn(0, "holders"); !strings.Contains(out, "Nothing is locked") {
		t.Error(out)
	}
	says(t, odile.runIn(odile.dir, "", "lokc").Errs, "did you mean lock?")
}

// A start that is refused leaves nothing behind; one in its own workspace says that it is one.
func TestARefusedStartLeavesNothing(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "a"})
	says(t, odile.tarn(1, "start", "brinelight", "--yes"), "is the workspace of the project brinelight already")
	for _, key := range []string{"brinelight", "Bad/Key", "x"} {
		dir := filepath.Join(rurik.home, "assets-"+strings.ToLower(strings.ReplaceAll(key, "/", "")))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, "a.png"), []byte("a"), 0o644); err != nil {
			t.Fatal(err)
		}
		if r := rurik.runIn(dir, "", "start", key, "--yes"); r.Status != 1 {
			t.Errorf("%s: %d %s%s", key, r.Status, r.Out, r.Errs)
		}
		entries, err := os.ReadDir(dir)
		if err != nil || len(entries) != 1 {
			t.Errorf("%s leaves %v, %v", key, entries, err)
		}
	}
	rurik.tarn2(t, 1, rurik.home, "join", "brinelight") // not theirs
	odile.tarn(0, "member", "add", "rurik", "--role", "artist")
	says(t, rurik.tarn2(t, 1, rurik.home, "join", "brinelight", "--scope", "texturs"), "the project has no such folder")
	if _, err := os.Stat(rurik.dir); err == nil {
		t.Error("a workspace with nothing in it was made")
	}
}

// tarn2 is tarn in another folder.
func (p *person) tarn2(t *testing.T, status int, dir string, args ...string) string {
	t.Helper()
	r := p.runIn(dir, "", args...)
	if r.Status != status {
		t.Fatalf("%s: tarn %v ends with %d, want %d:\n%s%s", p.handle, args, r.Status, status, r.Out, r.Errs)
	}
	return r.Out + r.Errs
}

// A lead on a Friday: who holds what, and taking it away, from anywhere; the one who held it learns who, and why, at the command line.
func TestFromAnywhereAndLearningOfIt(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"textures/Rust.png": "a"})
	rurik.join(odile, "artist")
	rurik.tarn(0, "lock", "-m", "the north rail", "TEXTURES/rust.png")
	says(t, odile.tarn2(t, 0, odile.home, "holders", "--project", "brinelight"), "textures/Rust.png", "rurik", "the north rail")
	says(t, odile.tarn2(t, 0, odile.home, "holders", "--project", "brinelight", "--person", "odile"), "Nothing is locked")
	says(t, odile.tarn2(t, 0, odile.home, "history", "--project", "brinelight", "--since", "2h", "--until", "today"), "Baseline")
	says(t, odile.tarn2(t, 0, odile.home, "unlock", "--override", "--project", "brinelight", "-m", "the build has to go out",
		"textures/Rust.png"), "is free")
	rurik.write(map[string]string{"textures/Rust.png": "a day's work"})
	says(t, rurik.tarn(1, "send", "-m", "n"), "odile took it away from you", "the build has to go out")
	says(t, rurik.tarn(0, "status"), "free")
	news := rurik.tarn(0, "news")
	says(t, news, "new", "odile took the lock of textures/Rust.png away from you: the build has to go out")
	if again := rurik.tarn(0, "news"); strings.Contains("\n"+again, "\nnew ") {
		t.Errorf("it is still new: %s", again)
	}
	says(t, rurik.tarn(0, "news", "--settings"), "at-once")
	if csv := rurik.tarn(0, "status", "--csv"); !strings.Contains(csv, "path,") || !strings.Contains(csv, "textures/Rust.png") {
		t.Errorf("%s", csv)
	}
	// After one's own send, that is where one is.
	rurik.tarn(0, "lock", "textures/rust.png")
	rurik.tarn(0, "send", "-m", "n")
	says(t, rurik.tarn(0, "status"), "brinelight, on main at h2, as the service said just now")
}

// Going back by sending is asked about, in scripts by an option; it is not taken for work.
func TestOldFilesAreNotSentAsNew(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "one"})
	odile.tarn(0, "lock", "a.png")
	odile.write(map[string]string{"a.png": "two"})
	odile.tarn(0, "send", "-m", "two", "--keep-locks")
	odile.write(map[string]string{"a.png": "one"})
	says(t, odile.tarn(1, "send", "-m", "three"), "it is the same as version 1 by odile", "--older")
	odile.tarn(0, "send", "-m", "as it was", "--older")
}

// Somebody's own way in: the passphrase, the sign-ins; and those who run the service, with who forgot or left.
func TestPeopleComeAndGo(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "a"})
	rurik.join(odile, "artist")
	rurik.tarn(0, "lock", "a.png")
	laptop := d.machine("rurik")
	if r := laptop.runIn(laptop.home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "rurik"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	says(t, rurik.tarn(0, "sign-ins", "list"), "this one", "tarn on rurik-pc")
	if r := rurik.runIn(rurik.home, "wrong\nhoarse gulls at low tide\n", "passphrase"); r.Status != 1 ||
		!strings.Contains(r.Errs, "not your passphrase") {
		t.Errorf("%d %s", r.Status, r.Errs)
	}
	for _, weak := range []string{"short", "passwordpassword", "rurikrurikrurik"} {
		if r := rurik.runIn(rurik.home, testbed.Passphrase+"\n"+weak+"\n", "passphrase"); r.Status != 1 {
			t.Errorf("%q is taken: %s", weak, r.Out)
		}
	}
	if r := rurik.runIn(rurik.home, testbed.Passphrase+"\nhoarse gulls at low tide\n", "passphrase"); r.Status != 0 ||
		!strings.Contains(r.Out, "elsewhere ended") {
		t.Fatalf("%d %s%s", r.Status, r.Out, r.Errs)
	}
	if r := laptop.runIn(laptop.home, "", "whoami"); r.Status != 1 || !strings.Contains(r.Errs, "sign-in ended") {
		t.Errorf("the other sign-in goes on: %d %s%s", r.Status, r.Out, r.Errs)
	}
	rurik.tarn(0, "whoami")
	if r := laptop.runIn(laptop.home, "hoarse gulls at low tide\n", "sign-in", d.URL, "--as", "rurik"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	says(t, rurik.tarn(0, "sign-ins", "end", "--others"), "1 sign-in ended")
	says(t, d.tarnd(0, "person", "list"), "odile", "rurik", "LAST HEARD OF")
	says(t, d.tarnd(2, "person", "end"), "name one handle")
	says(t, d.tarnd(1, "person", "end", "nobody"), "there is no person")
	says(t, d.tarnd(0, "person", "end", "rurik"), "1 locks were given back", "They left brinelight")
	if r := rurik.runIn(rurik.dir, "", "status", "--fetch"); r.Status != 1 {
		t.Errorf("%d %s%s", r.Status, r.Out, r.Errs)
	}
	says(t, odile.tarn(0, "holders"), "Nothing is locked")
	says(t, d.tarnd(0, "person", "list"), "let go")
	reset := exec.Command(filepath.Join(bin, "tarnd"), "person", "passphrase", "rurik")
	reset.Env, reset.Stdin = d.Env, strings.NewReader("lamps over wet granite\n")
	if out, err := reset.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if r := rurik.runIn(rurik.home, "lamps over wet granite\n", "sign-in", d.URL, "--as", "rurik"); r.Status != 0 {
		t.Errorf("%s", r.Errs)
	}
}

// A credential goes where it was made for, over a line that nobody reads, and nowhere else.
func TestCredentialsStayAtHome(t *testing.T) {
	t.Parallel()
	stolen := make(chan string, 10)
	thief := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { stolen <- r.URL.Path }))
	defer thief.Close()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/service") {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"service":"Kettle Tarn","version":"x","ready":true}`)
			return
		}
		http.Redirect(w, r, thief.URL+r.URL.Path, http.StatusTemporaryRedirect)
	}))
	defer server.Close()
	d := serve(t)
	m := d.machine("rurik")
	r := m.runIn(m.home, "a secret passphrase\n", "sign-in", server.URL, "--as", "rurik")
	if r.Status != 1 || !strings.Contains(r.Errs, "sends callers on to "+thief.URL) {
		t.Errorf("%d %s", r.Status, r.Errs)
	}
	select {
	case path := <-stolen:
		t.Errorf("the passphrase went on to %s", path)
	default:
	}
	r = m.runIn(m.home, "a secret passphrase\n", "sign-in", "http://tarn.example:7420", "--as", "rurik")
	if r.Status != 1 || !strings.Contains(r.Errs, "is not encrypted") || !strings.Contains(r.Errs, "--plain-http") {
		t.Errorf("%d %s", r.Status, r.Errs)
	}
}

// A line that stands still is spoken of, and does not hang a command for minutes.
func TestAStalledLineIsNotWaitedForInSilence(t *testing.T) {
	t.Parallel()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	d := serve(t)
	m := d.machine("rurik")
	cmd := m.command(m.home, "sign-in", "http://"+listener.Addr().String(), "--as", "rurik")
	var said strings.Builder
	cmd.Stderr = &said
	began := time.Now()
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(7 * time.Second)
	_ = cmd.Process.Signal(os.Interrupt)
	_ = cmd.Wait()
	if !strings.Contains(said.String(), "nothing heard for") || time.Since(began) > 20*time.Second {
		t.Errorf("after %s: %s", time.Since(began), said.String())
	}
}

// Those who run the service are told what is wrong, where, and with the exit status that is meant for it.
func TestTheOperatorsWords(t *testing.T) {
	t.Parallel()
	d := serve(t)
	says(t, d.tarnd(2, "frobnicate"), `no command "frobnicate"`)
	says(t, d.tarnd(2, "serve", "x"), "takes no arguments")
	says(t, d.tarnd(2, "verify", "--deep", "x"), "takes no arguments")
	says(t, d.tarnd(2, "verify", "--deep", "--rate", "fast"), "is not a rate")
	says(t, d.tarnd(0, "--version"), "tarnd")
	settings := filepath.Join(t.TempDir(), "tarnd.toml")
	if err := os.WriteFile(settings, []byte("listen = \"127.0.0.1:0\"\ndata = 5\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	says(t, d.tarnd(1, "--config", settings, "verify"), "line 2")
	db := ""
	for _, v := range d.Env {
		if strings.HasPrefix(v, "TARND_DB=") {
			db = strings.TrimPrefix(v, "TARND_DB=")
		}
	}
	at := strings.LastIndex(db, "/")
	end := strings.IndexByte(db[at:], '?')
	rest := ""
	if end > 0 {
		rest = db[at+end:]
	}
	says(t, d.tarnd(1, "--db", db[:at]+"/nowhere"+rest, "verify"), "nowhere", "createdb")
	answer, err := http.Get(d.URL + "/readyz")
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	text := make([]byte, 100)
	n, _ := answer.Body.Read(text)
	says(t, string(text[:n]), "ok", "left")
}
