//go:build linux

// These tests run against a PostgreSQL of Debian's packages.

package workspace

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
	"kettletarn/internal/workspace/placing"
	"kettletarn/internal/workspace/transfer"
)

func TestMain(m *testing.M) { testbed.Main(m) }

const key = testbed.Project

// pair is two people's workspaces of one project.
type pair struct {
	t            *testing.T
	odile, rurik *Workspace
	url          string
	tokens       map[string]string
	service      *testbed.Service
}

func newPair(t *testing.T) *pair {
	t.Helper()
	testbed.Home(t)
	s := testbed.NewService(t, nil)
	url, odile, rurik := s.Team(t)
	p := &pair{t: t, service: s, url: url, tokens: map[string]string{"odile": odile, "rurik": rurik}}
	p.odile, p.rurik = p.join("odile"), p.join("rurik")
	return p
}

func (p *pair) join(handle string) *Workspace {
	p.t.Helper()
	w, err := Join(p.t.Context(), filepath.Join(p.t.TempDir(), key), key, false, testbed.Client(p.t, p.url, p.tokens[handle]), nil)
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { _ = w.Close() })
	return w
}

func write(t *testing.T, w *Workspace, path, text string) {
	t.Helper()
	testbed.Write(t, w.Root, path, text)
}

func has(t *testing.T, w *Workspace, path, text string) {
	t.Helper()
	testbed.Has(t, w.Root, path, text)
}

func send(t *testing.T, w *Workspace, o SendOptions) *Sent {
	t.Helper()
	if o.Note == "" {
		o.Note = "a pass"
	}
	sent, err := w.Send(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	return sent
}

func update(t *testing.T, w *Workspace) *Updated {
	t.Helper()
	u, err := w.Update(t.Context(), UpdateOptions{})
	if err != nil {
		t.Fatal(err)
	}
	return u
}

func locked(t *testing.T, w *Workspace, paths ...string) {
	t.Helper()
	if _, err := w.Lock(t.Context(), paths, LockOptions{}); err != nil {
		t.Fatal(err)
	}
}

// states is "path state, path state …" of all that is not the same.
func states(t *testing.T, w *Workspace) string {
	t.Helper()
	s, err := w.Status(t.Context(), Question{All: true})
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, a := range s.Assets {
		if a.State != model.Same {
			out = append(out, a.Path+" "+a.State)
		}
	}
	sort.Strings(out)
	return strings.Join(out, ", ")
}

func TestEveryState(t *testing.T) {
	p := newPair(t)
	for _, path := range []string{"same", "edited", "gone", "behind", "clash", "removed", "removed-edited", "both-gone", "touched"} {
		write(t, p.odile, path, path+" one")
	}
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	if got := states(t, p.rurik); got != "" {
		t.Fatalf("after the first update: %s", got)
	}
	locked(t, p.odile, "behind", "clash", "removed", "removed-edited", "both-gone")
	write(t, p.odile, "behind", "behind two")
	write(t, p.odile, "clash", "clash two")
	write(t, p.odile, "lacking", "lacking")
	for _, path := range []string{"removed", "removed-edited", "both-gone"} {
		if err := os.Remove(filepath.Join(p.odile.Root, path)); err != nil {
			t.Fatal(err)
		}
	}
	send(t, p.odile, SendOptions{WithGone: true})

	write(t, p.rurik, "new", "new")
	write(t, p.rurik, "edited", "edited here")
	write(t, p.rurik, "clash", "clash here")
	write(t, p.rurik, "removed-edited", "still wanted")
	later := time.Now().Add(time.Hour)
	if err := os.Chtimes(filepath.Join(p.rurik.Root, "touched"), later, later); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"gone", "both-gone"} {
		if err := os.Remove(filepath.Join(p.rurik.Root, path)); err != nil {
			t.Fatal(err)
		}
	}
	if got := states(t, p.rurik); got != "both-gone gone, clash edited, edited edited, gone gone, new new, removed-edited edited" {
		t.Errorf("before asking the service: %s", got)
	}
	if err := p.rurik.Refresh(t.Context()); err != nil {
		t.Fatal(err)
	}
	if got := states(t, p.rurik); got != "behind behind, clash clash, edited edited, gone gone, lacking behind, new new, removed behind, "+
		"removed-edited clash" {
		t.Errorf("after asking: %s", got)
	}
	u := update(t, p.rurik)
	if len(u.Brought) != 2 || len(u.Removed) != 1 || len(u.Clashes) != 2 {
		t.Errorf("the update: %+v", u)
	}
	has(t, p.rurik, "clash", "clash here")
	has(t, p.rurik, "removed-edited", "still wanted")
	if got := states(t, p.rurik); got != "clash clash, edited edited, gone gone, new new, removed-edited clash" {
		t.Errorf("after the update: %s", got)
	}
}

func TestAnEditOfTheSameSizeWithinTheClocksResolutionIsSeen(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	for range 20 {
		if got := states(t, p.odile); got != "" {
			t.Fatalf("unchanged, and %s", got)
		}
		info, err := os.Stat(filepath.Join(p.odile.Root, "a"))
		if err != nil {
			t.Fatal(err)
		}
		write(t, p.odile, "a", "two")
		if time.Since(info.ModTime()) < 5*time.Millisecond {
			_ = os.Chtimes(filepath.Join(p.odile.Root, "a"), info.ModTime(), info.ModTime())
		}
		if got := states(t, p.odile); got != "a edited" {
			t.Fatalf("an edit is %q", got)
		}
		write(t, p.odile, "a", "one")
	}
}

func TestTheSameContentByAnotherWayIsTakenOver(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	write(t, p.rurik, "a", "one") // copied over by hand
	u := update(t, p.rurik)
	if len(u.Clashes) != 0 || states(t, p.rurik) != "" {
		t.Errorf("%+v, %s", u, states(t, p.rurik))
	}
}

func TestWhatStandsInTheWayIsNeverOverwritten(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "textures/a.png", "theirs")
	write(t, p.odile, "models/b.glb", "theirs")
	write(t, p.odile, "sounds/c.wav", "theirs")
	send(t, p.odile, SendOptions{})
	outside := t.TempDir()
	write(t, p.rurik, "textures/a.png", "mine, never tracked")
	if err := os.Symlink(outside, filepath.Join(p.rurik.Root, "models")); err != nil {
		t.Fatal(err)
	}
	write(t, p.rurik, "sounds", "a file where a folder belongs")
	u := update(t, p.rurik)
	if len(u.Clashes) != 1 || len(u.Refusals) != 2 {
		t.Errorf("%+v", u)
	}
	has(t, p.rurik, "textures/a.png", "mine, never tracked")
	has(t, p.rurik, "sounds", "a file where a folder belongs")
	if entries, _ := os.ReadDir(outside); len(entries) != 0 {
		t.Errorf("the update wrote through a link out of the workspace: %v", entries)
	}
	if entries, _ := filepath.Glob(filepath.Join(p.rurik.Root, ".tarn-incoming", "*")); len(entries) != 0 {
		t.Errorf("left over: %v", entries)
	}
}

func TestAFileChangedWhileTheUpdateRunsIsLeftAlone(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	locked(t, p.odile, "a")
	write(t, p.odile, "a", "two")
	send(t, p.odile, SendOptions{})
	if err := p.rurik.Refresh(t.Context()); err != nil {
		t.Fatal(err)
	}
	s, err := p.rurik.Status(t.Context(), Question{All: true})
	if err != nil {
		t.Fatal(err)
	}
	here := s.standing("a")
	write(t, p.rurik, "a", "saved in this moment")
	refusals, err := p.rurik.bring(t.Context(), []placing.Wanted{{Asset: s.theirsOf(s.Assets[0]), Place: "a", Was: here}}, nil,
		func(placing.Wanted) { t.Error("it was replaced") })
	if err != nil || len(refusals) != 1 || refusals[0].Reason != "changing" {
		t.Errorf("%+v, %v", refusals, err)
	}
	has(t, p.rurik, "a", "saved in this moment")
}

func TestTheExecutableBitTravels(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "tool.sh", "#!/bin/sh\n")
	if err := os.Chmod(filepath.Join(p.odile.Root, "tool.sh"), 0o755); err != nil {
		t.Fatal(err)
	}
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	info, err := os.Stat(filepath.Join(p.rurik.Root, "tool.sh"))
	if err != nil || info.Mode()&0o100 == 0 {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
	if err := os.Chmod(filepath.Join(p.rurik.Root, "tool.sh"), 0o644); err != nil {
		t.Fatal(err)
	}
	if got := states(t, p.rurik); got != "tool.sh edited" {
		t.Errorf("a changed bit is %q", got)
	}
}

func TestACleanedFolderIsNoHandoffOfDeletions(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	write(t, p.odile, "deep/b", "two")
	send(t, p.odile, SendOptions{})
	for _, name := range []string{"a", "deep"} {
		if err := os.RemoveAll(filepath.Join(p.odile.Root, name)); err != nil {
			t.Fatal(err)
		}
	}
	sent := send(t, p.odile, SendOptions{})
	if sent.Handoff != nil || len(sent.Left) != 2 {
		t.Errorf("%+v", sent)
	}
	if d, err := p.odile.Discard(t.Context(), []string{""}); err != nil || len(d.Restored) != 2 {
		t.Errorf("%+v, %v", d, err)
	}
	has(t, p.odile, "deep/b", "two")
}

func TestPutAwayFilesComeBackAndExpire(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	write(t, p.odile, "a", "edited")
	write(t, p.odile, "fresh", "new")
	if _, err := p.odile.Discard(t.Context(), []string{"a", "fresh"}); err != nil {
		t.Fatal(err)
	}
	has(t, p.odile, "a", "one")
	if _, err := os.Stat(filepath.Join(p.odile.Root, "fresh")); err == nil {
		t.Error("a discarded new file is still there")
	}
	list, err := p.odile.folder.Kept()
	if err != nil || len(list) != 2 {
		t.Fatalf("%+v, %v", list, err)
	}
	if _, err := p.odile.Restore(t.Context(), []string{"a", "fresh"}); err != nil {
		t.Fatal(err)
	}
	has(t, p.odile, "a", "edited")
	has(t, p.odile, "fresh", "new")
	_, err = p.odile.Restore(t.Context(), []string{"a"})
	testbed.Problem(t, err, model.NotFound)

	// Restoring over another edit puts that one away in its turn.
	if _, err := p.odile.Discard(t.Context(), []string{"a"}); err != nil {
		t.Fatal(err)
	}
	write(t, p.odile, "a", "another edit")
	if _, err := p.odile.Restore(t.Context(), []string{"a"}); err != nil {
		t.Fatal(err)
	}
	has(t, p.odile, "a", "edited")
	if list, _ = p.odile.folder.Kept(); len(list) != 1 {
		t.Fatalf("the edit that was in the way is lost: %+v", list)
	}
	about := filepath.Join(p.odile.folder.PutAwayFolder(), list[0].ID, "about.json")
	text, err := os.ReadFile(about)
	if err != nil {
		t.Fatal(err)
	}
	old := strings.Replace(string(text), list[0].At.Format("2006-01-02"), "2020-01-01", 1)
	if err := os.WriteFile(about, []byte(old), 0o600); err != nil {
		t.Fatal(err)
	}
	p.odile.folder.Expire()
	if list, _ = p.odile.folder.Kept(); len(list) != 0 {
		t.Errorf("kept for ever: %+v", list)
	}
}

// deaf loses the answer to a handoff: the service has made it, and the client does not hear.
type deaf struct {
	http.RoundTripper
	lost bool
}

func (d *deaf) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := d.RoundTripper.RoundTrip(r)
	if d.lost && err == nil && r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "/handoffs") {
		_ = answer.Body.Close()
		return nil, errors.New("the line is dead")
	}
	return answer, err
}

func TestALostAnswerNeverMakesASecondHandoff(t *testing.T) {
	p := newPair(t)
	line := &deaf{RoundTripper: http.DefaultTransport, lost: true}
	w, err := Open(p.odile.Root, client.New(p.url, p.tokens["odile"], line), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	write(t, w, "a", "one")
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	if _, err := w.Send(ctx, SendOptions{About: model.About{Note: "first"}}); err == nil {
		t.Fatal("the answer was heard")
	}
	if s, err := w.Status(t.Context(), Question{All: true}); err != nil || s.Pending == nil {
		t.Errorf("the send that was cut off is forgotten: %v", err)
	}
	write(t, w, "b", "two")
	line.lost = false
	sent := send(t, w, SendOptions{About: model.About{Note: "second"}})
	if sent.Earlier == nil || sent.Earlier.Number != 1 || sent.Handoff == nil || sent.Handoff.Number != 2 || len(sent.Handoff.Assets) != 1 {
		t.Errorf("%+v", sent)
	}
	if got := states(t, w); got != "" {
		t.Errorf("after both: %s", got)
	}
}

func TestOneCommandAtATime(t *testing.T) {
	p := newPair(t)
	release, err := p.odile.Work()
	if err != nil {
		t.Fatal(err)
	}
	other, err := Open(p.odile.Root, p.odile.Client, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	_, err = other.Work()
	testbed.Problem(t, err, model.Taken)
	if _, err := other.Status(t.Context(), Question{All: true}); err != nil {
		t.Errorf("looking is kept waiting: %v", err)
	}
	release()
	if release, err = other.Work(); err != nil {
		t.Error(err)
	} else {
		release()
	}
}

func TestPathsThatPeopleType(t *testing.T) {
	p := newPair(t)
	w := p.odile
	deep := filepath.Join(w.Root, "levels")
	for _, c := range []struct{ dir, typed, want string }{
		{w.Root, "a.png", "a.png"}, {w.Root, ".", ""}, {w.Root, "levels/", "levels"}, {deep, "x.glb", "levels/x.glb"},
		{deep, "../a.png", "a.png"},
		{deep, "..", ""}, {deep, filepath.Join(w.Root, "b.png"), "b.png"}, {w.Root, "./levels//y.glb", "levels/y.glb"},
	} {
		if got, err := w.Path(c.dir, c.typed); err != nil || got != c.want {
			t.Errorf("in %s, %q is %q, %v; want %q", c.dir, c.typed, got, err, c.want)
		}
	}
	for _, bad := range []string{"..", "../x", "/etc/passwd", "../../../etc"} {
		_, err := w.Path(w.Root, bad)
		testbed.Problem(t, err, model.BadRequest)
	}
}

func TestABrokenMarkerSaysWhatToDo(t *testing.T) {
	for _, text := range []string{"", "{}", "no json", `{"project":"x","workspace":"../../../../../../etc/passwd/aaaaaaaaaaaa"}`} {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, ".tarn-workspace"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(dir, nil, nil); err == nil || !strings.Contains(err.Error(), "--here") {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestRollbackAsksForUnsentChangesToBeSettledFirst(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	locked(t, p.odile, "a")
	write(t, p.odile, "a", "two")
	send(t, p.odile, SendOptions{})
	write(t, p.odile, "a", "unsent")
	_, _, err := p.odile.Rollback(t.Context(), RollbackOptions{Paths: []string{"a"}, Version: 1})
	if r := testbed.Refused(t, err); r[0].Reason != "edited" {
		t.Errorf("%+v", r)
	}
	has(t, p.odile, "a", "unsent")
	if _, err := p.odile.Discard(t.Context(), []string{"a"}); err != nil {
		t.Fatal(err)
	}
	h, u, err := p.odile.Rollback(t.Context(), RollbackOptions{Paths: []string{"a"}, Version: 1, Note: "back"})
	if err != nil || h.Handoff.Number != 3 || len(u.Brought) != 1 {
		t.Errorf("%+v, %+v, %v", h, u, err)
	}
	has(t, p.odile, "a", "one")
}

func TestOnlyWhatIsMissingTravels(t *testing.T) {
	p := newPair(t)
	random := make([]byte, 7<<20)
	_, _ = rand.NewChaCha8([32]byte{3}).Read(random)
	body := string(random)
	write(t, p.odile, "level.bin", body)
	send(t, p.odile, SendOptions{})
	locked(t, p.odile, "level.bin")
	write(t, p.odile, "level.bin", body[:3<<20]+"!"+body[3<<20:])
	if sent := send(t, p.odile, SendOptions{}); sent.Sent > 3<<20 || sent.Sent == 0 {
		t.Errorf("%d of %d bytes travelled for one byte put in", sent.Sent, len(body))
	}
	write(t, p.odile, "copy.bin", body)
	if sent := send(t, p.odile, SendOptions{}); sent.Sent != 0 {
		t.Errorf("%d bytes travelled for a copy of what is there", sent.Sent)
	}
	update(t, p.rurik)
	has(t, p.rurik, "copy.bin", body)
}

func TestSmallFilesBehindALargeOneArriveToo(t *testing.T) {
	p := newPair(t)
	large := make([]byte, 3*transfer.BatchBytes+77)
	_, _ = rand.NewChaCha8([32]byte{5}).Read(large)
	files := map[string]string{"b-large.bin": string(large), "d-large.bin": string(large[1:])}
	for i := range 40 {
		files[fmt.Sprintf("%c/small%02d.txt", 'a'+i%5, i)] = fmt.Sprint("text ", i)
	}
	for path, body := range files {
		write(t, p.odile, path, body)
	}
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	for path, body := range files {
		has(t, p.rurik, path, body)
	}
}

// reading counts how much was read.
type reading struct{ n atomic.Int64 }

func (p *reading) Start(string, int64) {}
func (p *reading) Add(n int64)         { p.n.Add(n) }
func (p *reading) Done()               {}

func TestALargeSendThatWouldBeRefusedIsRefusedBeforeItTravels(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "large.bin", "small yet")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	locked(t, p.odile, "large.bin")
	large := make([]byte, 5*transfer.BatchBytes)
	_, _ = rand.NewChaCha8([32]byte{4}).Read(large)
	write(t, p.rurik, "large.bin", string(large))
	seen := &reading{}
	p.rurik.Progress = seen
	_, err := p.rurik.Send(t.Context(), SendOptions{About: model.About{Note: "large"}})
	if r := testbed.Refused(t, err); len(r) != 1 || r[0].Reason != "held" {
		t.Errorf("%+v", r)
	}
	if seen.n.Load() != 0 {
		t.Errorf("%d bytes were sent before the refusal", seen.n.Load())
	}
}
