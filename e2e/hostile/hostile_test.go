// Package hostile has the real client talk to a service that lies: the real one behind a proxy that puts, into one field of its answers
// after the other, what no service says. Whatever it is, the client harms nothing outside the assets of its workspace, loses no work, runs
// nothing, drives no terminal, and ends in words.
package hostile

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"kettletarn/internal/localpg"
	"kettletarn/internal/rig"
	"kettletarn/internal/testbed"
)

var bin string

func TestMain(m *testing.M) { testbed.MainBuilt(m, &bin) }

// liar is a proxy before the real service. In the answers that it passes on it counts the fields, and puts a lie into the one whose turn
// it is.
type liar struct {
	mu    sync.Mutex
	field int // which field is lied about, from 0; -1 for none
	lie   any
	seen  int
	said  string // the field that was lied about
}

// aName is a lie that may be a digest, and a name like any other.
var aName = strings.Repeat("f", 64)

// lies are what is put into fields.
var lies = []any{
	"../../outside", "/etc/outside", ".git/hooks/pre-commit", "GIT~1/hooks/post-checkout", ".g\u200cit/config", ".tarn-workspace", "con.png",
	"a:b", "x\ny", "nul\x00", "\x1b[2J\x07\u202eexe", "", strings.Repeat("a/", 2000),
	-1, 1 << 62, 0, 0.5, nil, true, []any{}, map[string]any{}, []any{"../../outside", ".git/config"}, aName,
	"2026-99-99T99:99:99Z",
}

func (l *liar) tell(answer *http.Response) error {
	if !strings.Contains(answer.Header.Get("Content-Type"), "json") {
		return nil
	}
	data, err := io.ReadAll(answer.Body)
	if err != nil {
		return err
	}
	_ = answer.Body.Close()
	var v any
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	if d.Decode(&v) == nil {
		l.mu.Lock()
		v = l.walk(answer.Request.URL.Path, v)
		l.mu.Unlock()
		if data, err = json.Marshal(v); err != nil {
			return err
		}
	}
	answer.Body = io.NopCloser(bytes.NewReader(data))
	answer.ContentLength = int64(len(data))
	answer.Header.Set("Content-Length", strconv.Itoa(len(data)))
	return nil
}

func (l *liar) walk(at string, v any) any {
	l.seen++
	if l.seen-1 == l.field {
		l.said = at
		return l.lie
	}
	switch v := v.(type) {
	case map[string]any:
		if renamed != "" && v["path"] == "levels/reef.glb" {
			v["path"], v["executable"] = renamed, true
		}
		keys := make([]string, 0, len(v))
		for k := range v {
			keys = append(keys, k)
		}
		sort.Strings(keys)
		for _, k := range keys {
			v[k] = l.walk(at+"."+k, v[k])
		}
	case []any:
		for i := range v {
			v[i] = l.walk(fmt.Sprintf("%s[%d]", at, i), v[i])
		}
	}
	return v
}

func (l *liar) next(field int, lie any) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.field, l.lie, l.seen, l.said = field, lie, 0, ""
}

func (l *liar) state() (seen int, said string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.seen, l.said
}

// house is a machine with a repository in which a workspace is, and what may not change.
type house struct {
	t       *testing.T
	machine rig.Machine
	dir     string
	liar    *liar
	address string
}

func newHouse(t *testing.T) *house {
	t.Helper()
	port, err := localpg.FreePort()
	if err != nil {
		t.Fatal(err)
	}
	d := rig.NewDaemon(bin, fmt.Sprintf("127.0.0.1:%d", port), testbed.Database(t), filepath.Join(t.TempDir(), "data"), io.Discard)
	if err := d.Start(context.Background()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Kill)
	target, err := url.Parse(d.URL)
	if err != nil {
		t.Fatal(err)
	}
	l := &liar{field: -1}
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target) }, ModifyResponse: l.tell, ErrorLog: nil}
	server := httptest.NewServer(proxy)
	t.Cleanup(server.Close)
	h := &house{t: t, liar: l, address: server.URL}
	for _, handle := range []string{"odile", "rurik"} {
		if err := d.AddPerson(t.Context(), handle, testbed.Passphrase); err != nil {
			t.Fatal(err)
		}
	}
	odile := rig.Machine{Bin: bin, Home: t.TempDir(), Handle: "odile"}
	folder := filepath.Join(odile.Home, "brinelight")
	for path, text := range map[string]string{"levels/harbour.glb": "a level", "textures/rust.png": "rust", "textures/brine.png": "brine",
		"sounds/oar.wav": "oar"} {
		put(t, filepath.Join(folder, path), text)
	}
	run := func(m rig.Machine, dir, input string, args ...string) {
		t.Helper()
		if r, err := m.Run(t.Context(), dir, input, args...); err != nil || r.Status != 0 {
			t.Fatalf("tarn %v: %v %s%s", args, err, r.Out, r.Errs)
		}
	}
	run(odile, odile.Home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "odile")
	run(odile, folder, "", "start", "brinelight", "--yes")
	run(odile, folder, "", "member", "add", "rurik", "--role", "artist")

	h.machine = rig.Machine{Bin: bin, Home: t.TempDir(), Handle: "rurik"}
	h.dir = filepath.Join(h.machine.Home, "code")
	put(t, filepath.Join(h.machine.Home, "outside"), "a canary")
	put(t, filepath.Join(h.dir, "main.c"), "int main;")
	if out, err := exec.Command("git", "-C", h.dir, "init", "-q").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	run(h.machine, h.machine.Home, testbed.Passphrase+"\n", "sign-in", server.URL, "--as", "rurik")
	run(h.machine, h.dir, "", "join", "brinelight", "--here")
	run(h.machine, h.dir, "", "update")
	put(t, filepath.Join(h.dir, "textures/rust.png"), "a day's work")
	put(t, filepath.Join(h.dir, "textures/new.png"), "another day's")
	// Something new for every update to bring.
	put(t, filepath.Join(folder, "levels/reef.glb"), "a reef")
	run(odile, folder, "", "send", "-m", "A reef")
	return h
}

func put(t *testing.T, name, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// guarded is what may not change, whatever a service says: all of the home but the client's own state and the assets' folders, with git's
// own files, and whatever appears where there was nothing.
func (h *house) guarded() string {
	h.t.Helper()
	var b strings.Builder
	if err := filepath.WalkDir(h.machine.Home, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(h.machine.Home, name)
		switch {
		case rel == "code/"+aName:
			return nil // of a file that the service says there is
		case rel == ".state", rel == ".config", rel == "code/.tarn-incoming", rel == "code/levels", rel == "code/textures", rel == "code/sounds",
			rel == "exported":
			if d.IsDir() {
				return fs.SkipDir
			}
		case d.IsDir():
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		data, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		fmt.Fprintf(&b, "%s %s %x\n", rel, info.Mode(), sha256.Sum256(data))
		return nil
	}); err != nil {
		h.t.Fatal(err)
	}
	return b.String()
}

// work reports whether what was not sent is still in its place, or put away.
func (h *house) work() bool {
	found := map[string]bool{}
	for _, root := range []string{h.dir, filepath.Join(h.machine.Home, ".state")} {
		_ = filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				if data, err := os.ReadFile(name); err == nil {
					found[string(data)] = true
				}
			}
			return nil
		})
	}
	return found["a day's work"] && found["another day's"]
}

// commands are those that believe a service something.
var commands = [][]string{
	{"update"}, {"status", "--fetch"}, {"history"}, {"holders"}, {"news"}, {"update", "--preview"},
	{"begin", "--no-open", "levels/harbour.glb"}, {"lock", "sounds/oar.wav"}, {"show", "h1"},
	{"send", "-m", "n", "textures/new.png"}, {"export", "--at", "h1", "../exported"}, {"whoami"}, {"member", "list"}, {"milestone", "list"},
	{"rules"}, {"compare", "h1"}, {"rollback", "--all", "--to", "h1", "--preview"}, {"update", "--json"}, {"history", "--csv"},
}

// TestAServiceThatLiesInEveryField goes through fields and lies; without LIES=all, through a few of each, others at each run of the
// program.
func TestAServiceThatLiesInEveryField(t *testing.T) {
	all := os.Getenv("LIES") == "all"
	h := newHouse(t)
	before, state := h.guarded(), filepath.Join(h.machine.Home, ".state")
	kept := t.TempDir()
	copyTree(t, state, kept)
	r := rand.New(rand.NewPCG(15, uint64(time.Now().YearDay())))
	const enough = 40 // told however slow the machine is
	told, limit := 0, time.Now().Add(12*time.Second)
	asItWas := func() { // what the client believed is forgotten
		_ = os.RemoveAll(filepath.Join(h.machine.Home, "exported"))
		_ = os.RemoveAll(state)
		_ = os.Remove(filepath.Join(h.dir, aName))
		copyTree(t, kept, state)
		put(t, filepath.Join(h.dir, "textures/rust.png"), "a day's work")
		put(t, filepath.Join(h.dir, "textures/new.png"), "another day's")
	}
	for _, args := range commands {
		h.liar.next(-1, nil)
		h.run(args)
		fields, _ := h.liar.state()
		asItWas()
		for field := range fields {
			for i, lie := range lies {
				if !all && (r.IntN(max(fields*len(lies)/12, 1)) != 0 || told >= enough && time.Now().After(limit)) {
					continue
				}
				h.liar.next(field, lie)
				out := h.run(args)
				_, said := h.liar.state()
				told++
				what := fmt.Sprintf("%s, %s is lie %d (%.40q)", strings.Join(args, " "), said, i, fmt.Sprint(lie))
				if after := h.guarded(); after != before {
					t.Fatalf("%s: the machine has changed:\n%s\nbefore:\n%s\n%s", what, after, before, out)
				}
				if !h.work() {
					t.Fatalf("%s: work is gone\n%s", what, out)
				}
				asItWas()
			}
		}
	}
	t.Logf("%d lies", told)
	if told < enough {
		t.Errorf("only %d lies were told", told)
	}
}

// run runs a command, and looks at how it ends and at what it prints.
func (h *house) run(args []string) string {
	h.t.Helper()
	ctx, stop := context.WithTimeout(h.t.Context(), 90*time.Second)
	defer stop()
	r, err := h.machine.Run(ctx, h.dir, "", args...)
	out := r.Out + r.Errs
	if err != nil || ctx.Err() != nil || r.Status < 0 || r.Status > 3 {
		h.t.Errorf("tarn %v ends with %d, %v: %s", args, r.Status, err, out)
	}
	if strings.Contains(out, "goroutine ") || strings.Contains(out, "panic:") {
		h.t.Errorf("tarn %v prints a stack trace: %s", args, out)
	}
	if strings.ContainsAny(out, "\x1b\x07\u202e\x00") {
		h.t.Errorf("tarn %v drives the terminal: %q", args, out)
	}
	return out
}

func copyTree(t *testing.T, from, to string) {
	t.Helper()
	if exec.Command("cp", "-a", from+"/.", to).Run() != nil {
		if err := os.MkdirAll(to, 0o700); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("cp", "-a", from+"/.", to).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
}

// TestAssetsOfAServiceThatTakesOver renames every asset to what would run, or break out: join, update and checkout of nothing else change.
func TestAssetsOfAServiceThatTakesOver(t *testing.T) {
	h := newHouse(t)
	before := h.guarded()
	for _, path := range []string{".git/hooks/pre-commit", "GIT~1/hooks/pre-commit", ".git\u200c/hooks/pre-commit", "sub/.GIT/config",
		".gitattributes", ".gitmodules", "main.c", "MAIN.C", "../outside", "../../outside", "/outside", "con.png", "aux/x.png", "a:b.png",
		`..\outside`, "x\ny", "ends.", ".tarn-workspace", "TARN-W~1", "\x1b[2J.png"} {
		h.liar.next(-1, nil)
		proxy := h.rename(path)
		for _, args := range [][]string{{"join", "brinelight", "--here"}, {"update"}, {"status"}, {"begin", "--no-open", path},
			{"discard", path}} {
			if args[0] == "discard" && strings.EqualFold(path, "main.c") {
				continue // that puts away what is there, as it should
			}
			r, err := h.machine.Run(t.Context(), h.dir, "", args...)
			if err != nil || strings.Contains(r.Errs, "goroutine ") || strings.ContainsAny(r.Out+r.Errs, "\x1b") {
				t.Errorf("%q: tarn %v: %v %q", path, args, err, r.Out+r.Errs)
			}
			if after := h.guarded(); after != before {
				t.Fatalf("%q: tarn %v: the machine has changed:\n%s\nbefore:\n%s\n%s", path, args, after, before, r.Out+r.Errs)
			}
		}
		proxy()
		_ = os.RemoveAll(filepath.Join(h.machine.Home, ".state"))
		if r, err := h.machine.Run(t.Context(), h.dir, "", "join", "brinelight", "--here"); err != nil || r.Status != 0 {
			t.Fatalf("%v %s", err, r.Errs)
		}
		before = h.guarded()
	}
}

// rename makes the liar call the reef path, executable, until the function that it gives back is called.
func (h *house) rename(path string) (stop func()) {
	h.liar.mu.Lock()
	defer h.liar.mu.Unlock()
	h.liar.field = -2
	renamed = path
	return func() {
		h.liar.mu.Lock()
		defer h.liar.mu.Unlock()
		renamed, h.liar.field = "", -1
	}
}

var renamed string
