// Package teammate has somebody in the project mean harm: an artist with a token, who speaks to the service past the client, and says and
// sends what no client does. The service takes nothing of it that could harm; what it takes harms nobody who looks at it, by command line,
// stream, mail, chat or table.
package teammate

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/localpg"
	"kettletarn/internal/postbox"
	"kettletarn/internal/rig"
	"kettletarn/internal/testbed"
)

var bin string

func TestMain(m *testing.M) { testbed.MainBuilt(m, &bin) }

const key = "brinelight"

// team is a service with a lead at the command line, and somebody who means harm.
type team struct {
	t      *testing.T
	url    string
	lead   rig.Machine
	dir    string
	box    *postbox.Box
	mallow *client.Client
	token  string
	space  string
	d      *rig.Daemon
}

func newTeam(t *testing.T) *team {
	t.Helper()
	port, err := localpg.FreePort()
	if err != nil {
		t.Fatal(err)
	}
	box, address, err := postbox.Open("127.0.0.1:0", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = box.Close() })
	d := rig.NewDaemon(bin, fmt.Sprintf("127.0.0.1:%d", port), testbed.Database(t), filepath.Join(t.TempDir(), "data"), io.Discard)
	d.Env = append(d.Env, "TARND_MAIL=smtp://"+address, "TARND_MAIL_FROM=Kettle Tarn <tarn@saltpan.example>")
	if err := d.Start(context.Background()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Kill)
	m := &team{t: t, url: d.URL, box: box, d: d, lead: rig.Machine{Bin: bin, Home: t.TempDir(), Handle: "odile"}}
	m.dir = filepath.Join(m.lead.Home, key)
	for _, handle := range []string{"odile", "mallow"} {
		if err := d.AddPerson(t.Context(), handle, testbed.Passphrase); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.MkdirAll(filepath.Join(m.dir, "textures"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(m.dir, "textures/rust.png"), []byte("rust"), 0o644); err != nil {
		t.Fatal(err)
	}
	if r, err := m.lead.Run(t.Context(), m.lead.Home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "odile"); err != nil ||
		r.Status != 0 {
		t.Fatalf("%v %s", err, r.Errs)
	}
	m.tarn("start", key, "--yes")
	m.tarn("member", "add", "mallow", "--role", "artist")
	m.tarn("news", "--address", "odile@saltpan.example")
	m.tarn("news", "--code", box.Code("odile@saltpan.example"))
	signed, err := client.New(d.URL, "", nil).SignIn(t.Context(),
		model.SignInRequest{Handle: "mallow", Passphrase: testbed.Passphrase, From: "a hand-made program"})
	if err != nil {
		t.Fatal(err)
	}
	m.token = signed.Token
	m.mallow = client.New(d.URL, signed.Token, nil)
	w, err := m.mallow.AddWorkspace(t.Context(), key, "mallow-pc")
	if err != nil {
		t.Fatal(err)
	}
	m.space = w.ID
	return m
}

// tarn runs a command of the lead's, which prints nothing that drives a terminal.
func (m *team) tarn(args ...string) string {
	m.t.Helper()
	r, err := m.lead.Run(m.t.Context(), m.dir, "", args...)
	if err != nil || r.Status != 0 {
		m.t.Fatalf("tarn %v: %v %d %s%s", args, err, r.Status, r.Out, r.Errs)
	}
	if strings.ContainsAny(r.Out+r.Errs, "\x1b\x07\u202e\u0085\u2066") {
		m.t.Errorf("tarn %v drives the terminal: %q", args, r.Out+r.Errs)
	}
	return r.Out + r.Errs
}

func refused(err error) bool {
	var r *model.Refused
	var p *model.Problem
	return errors.As(err, &r) || errors.As(err, &p) &&
		(p.Type == model.BadRequest || p.Type == model.TooLarge || p.Type == model.NotAllowed || p.Type == model.NotFound)
}

// TestNoPathThatHarmsIsTaken sends assets under every name that would run, break out, or hide.
func TestNoPathThatHarmsIsTaken(t *testing.T) {
	m := newTeam(t)
	c := testbed.Cut(t, []byte("#!/bin/sh\ntouch /tmp/owned\n"))
	if err := m.mallow.StoreRecords(t.Context(), key, testbed.Body(c.Records)); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{".git/hooks/pre-commit", ".GIT/config", "git~1/x", ".g\u200cit/config", "x/.git", ".gitattributes",
		".gitmodules", "GITATT~1", ".tarn-workspace", ".tarn-incoming/x", "TARN-W~1", "../x", "a/../../x", "/etc/x", `a\b`, "C:/x",
		"a:b", "con", "con.png", "aux/x", "lpt1.txt", "nul", "x\ny", "x\x1b[2J", "x\u202egnp.exe", "ends.", "ends ", "", ".", "a//b",
		strings.Repeat("x", 300), strings.Repeat("a/", 600) + "x", "textures/Rust.png", "Textures/new.png", "textures/rust.png/x"} {
		_, err := m.mallow.Send(t.Context(), key, uuid.NewString(),
			model.SendRequest{Workspace: m.space, About: model.About{Note: "n"},
				Changes: []model.SendChange{{Path: path, Content: c.Content, Size: c.Size, Executable: true}}})
		if !refused(err) {
			t.Errorf("%q: %v", path, err)
		}
		_, err = m.mallow.Send(t.Context(), key, uuid.NewString(),
			model.SendRequest{Workspace: m.space, About: model.About{Note: "n"},
				Changes: []model.SendChange{{Path: path, MovedFrom: "textures/rust.png", Base: 1, Content: c.Content, Size: c.Size}}})
		if !refused(err) {
			t.Errorf("moved to %q: %v", path, err)
		}
	}
	m.tarn("update")
	entries, err := os.ReadDir(m.dir)
	if err != nil || len(entries) != 3 {
		t.Errorf("%v, %v", entries, err)
	}
}

// TestWhatIsSaidDrivesNothing says what would drive a terminal, a page, a letter or a table: it is refused, and what is taken stays text
// everywhere.
func TestWhatIsSaidDrivesNothing(t *testing.T) {
	m := newTeam(t)
	ctx := t.Context()
	m.tarn("lock", "textures/rust.png")
	for _, bad := range []string{"a\x1b[2J", "\u202eexe", "a\u0085b", "\x07", "a\u2066b"} {
		if _, err := m.mallow.Ask(ctx, key, model.AskRequest{Workspace: m.space, Path: "textures/rust.png", Reason: bad}); !refused(err) {
			t.Errorf("an ask with %q: %v", bad, err)
		}
	}
	const words = "]]></text><script>$(calc)`calc`\";=1+1|cmd;@x <b>&amp; \r\nBcc: everybody@saltpan.example"
	watch := m.lead.Command(ctx, m.dir, "watch", "--json")
	var seen bytes.Buffer
	watch.Stdout = &seen
	if err := watch.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(1500 * time.Millisecond)
	if _, err := m.mallow.Ask(ctx, key, model.AskRequest{Workspace: m.space, Path: "textures/rust.png", Reason: words}); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"news"}, {"holders"}, {"status", "--fetch"}, {"holders", "--json"}, {"news", "--json"}} {
		m.tarn(args...)
	}
	for range 100 {
		if letters, _ := m.box.Letters(); len(letters) > 1 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	letters, err := m.box.Letters()
	if err != nil || len(letters) != 2 {
		t.Fatalf("%d letters, %v", len(letters), err)
	}
	head, _, _ := strings.Cut(letters[1], "\n\n")
	if strings.Contains(head, "\nBcc:") || !strings.Contains(head, "Content-Type: text/plain") {
		t.Errorf("%s", head)
	}
	_ = watch.Process.Signal(os.Interrupt)
	_ = watch.Wait()
	if !strings.Contains(seen.String(), "asks you to let go") {
		t.Errorf("watch says %s", seen.String())
	}
	table := m.tarn("news", "--csv", "--last", "5")
	if strings.Contains(table, ";=1+1") {
		t.Errorf("a formula is in a table: %s", table)
	}
}

// TestNothingTakesTheServiceDown sends what is made to take memory, time or room; others go on meanwhile.
func TestNothingTakesTheServiceDown(t *testing.T) {
	m := newTeam(t)
	call := func(method, path, body string) int {
		r, err := http.NewRequestWithContext(t.Context(), method, m.url+"/api/v1/projects/"+key+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+m.token)
		r.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return 0
		}
		defer answer.Body.Close()
		_, _ = io.Copy(io.Discard, answer.Body)
		return answer.StatusCode
	}
	long, err := json.Marshal(map[string]any{"path": "x", "reason": strings.Repeat("x", 1<<20)})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		method, path, body string
		most               int
	}{
		{"GET", "/handoffs?path=" + strings.Repeat("**/", 600) + "x", "", 499}, {"GET", "/handoffs?text=" + strings.Repeat("x", 5000), "", 499},
		{"POST", "/rules/requests", string(long), 499},
		{"POST", "/locks", `{"workspace":"` + m.space + `","reserve":true,"assets":[` +
			strings.TrimSuffix(strings.Repeat(`{"path":"x","version":0},`, 200_000), ",") + `]}`, 499},
		{"POST", "/sends/check", strings.Repeat("[", 1<<20), 499}, {"GET", "/compare?path=" + strings.Repeat("a", 20_000), "", 499},
		{"GET", "/locks/contested?weeks=999999999", "", 499},
	} {
		done := make(chan int, 1)
		began := time.Now()
		go func() { done <- call(c.method, c.path, c.body) }()
		m.tarn("status", "--fetch") // the lead's day goes on
		if status := <-done; status > c.most || status < 200 {
			t.Errorf("%s %.60s: %d", c.method, c.path, status)
		}
		if took := time.Since(began); took > 30*time.Second {
			t.Errorf("%s %.60s takes %s", c.method, c.path, took)
		}
	}
	// Streams without end: there are so many, and no more.
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	open, full := 0, 0
	for range 100 {
		r, err := http.NewRequestWithContext(ctx, "GET", m.url+"/api/v1/projects/"+key+"/news", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+m.token)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		switch answer.StatusCode {
		case 200:
			open++
			defer answer.Body.Close()
		case 429:
			full++
			answer.Body.Close()
		default:
			t.Errorf("%d", answer.StatusCode)
		}
	}
	if open == 0 || full == 0 {
		t.Errorf("%d streams, %d refused", open, full)
	}
	m.tarn("status", "--fetch")
}
