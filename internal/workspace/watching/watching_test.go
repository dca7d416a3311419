//go:build linux

package watching_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/testbed"
	"kettletarn/internal/workspace"
	"kettletarn/internal/workspace/watching"
)

// watched is a workspace with a watch running in it, and what it said.
type watched struct {
	*workspace.Workspace
	t    *testing.T
	mu   sync.Mutex
	said []watching.Notice
	stop func()
	own  *workspace.Workspace // that of the watch
}

func (p *pair) watch(w *workspace.Workspace, o watching.Options) *watched {
	p.t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	k := &watched{Workspace: w, t: p.t}
	own, err := w.Again()
	if err != nil {
		p.t.Fatal(err)
	}
	k.own = own
	done := make(chan error, 1)
	go func() {
		done <- watching.Run(ctx, own, o, func(n watching.Notice) {
			k.mu.Lock()
			defer k.mu.Unlock()
			k.said = append(k.said, n)
		})
	}()
	k.stop = sync.OnceFunc(func() {
		stop()
		if err := <-done; err != nil {
			p.t.Error(err)
		}
		_ = own.Close()
	})
	p.t.Cleanup(k.stop)
	k.says("online", "")
	testbed.Eventually(p.t, "the watch answers", func() bool { return w.Watched(p.t.Context()) })
	return k
}

func (k *watched) heard(kind, text string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, n := range k.said {
		if n.Kind == kind && strings.Contains(n.Message, text) {
			return true
		}
	}
	return false
}

func (k *watched) says(kind, text string) {
	k.t.Helper()
	testbed.Eventually(k.t, kind+" "+text, func() bool { return k.heard(kind, text) })
}

// quick is what a running watch answers, as "path state, …".
func (k *watched) quick() string {
	k.t.Helper()
	s, err := k.QuickStatus(k.t.Context(), workspace.Question{})
	if err != nil {
		k.t.Fatal(err)
	}
	if !s.Watched {
		k.t.Error("the watch did not answer")
	}
	var out []string
	for _, a := range s.Assets {
		if a.State != model.Same || a.MovedFrom != "" {
			out = append(out, a.Path+" "+a.State)
		}
	}
	return strings.Join(out, ", ")
}

func TestWatchKnowsWhatChanged(t *testing.T) {
	p := newPair(t)
	for _, name := range []string{"a", "b", "deep/c"} {
		write(t, p.odile, name, "one")
	}
	send(t, p.odile, workspace.SendOptions{})
	k := p.watch(p.odile, watching.Options{})
	if got := k.quick(); got != "" {
		t.Errorf("at first: %s", got)
	}
	for _, c := range []struct {
		do   func()
		want string
	}{
		{func() { write(t, p.odile, "a", "two") }, "a edited"},
		{func() { write(t, p.odile, "fresh/folder/x", "x") }, "a edited, fresh/folder/x new"},
		{func() { rename(t, p.odile, "b", "moved/b") }, "a edited, fresh/folder/x new, moved/b same"},
		{func() { _ = os.RemoveAll(filepath.Join(p.odile.Root, "deep")) }, "a edited, deep/c gone, fresh/folder/x new, moved/b same"},
		{func() {
			write(t, p.odile, rules.File, "[[rule]]\nmatch = [\"fresh/\", \"left/\"]\nkind = \"ignored\"\n"+
				"[[rule]]\nmatch = \"*.go\"\nkind = \"code\"\n")
		}, "a edited, deep/c gone, moved/b same, tarn.toml new"},
		{func() { send(t, p.odile, workspace.SendOptions{Paths: []string{"tarn.toml"}}) }, "a edited, deep/c gone, moved/b same"},
		// What is left out, and what can't be tracked, is counted as it comes and goes.
		{func() { write(t, p.odile, "left/x", "x") }, "a edited, deep/c gone, moved/b same"},
		{func() { write(t, p.odile, "main.go", "package main") }, "a edited, deep/c gone, moved/b same"},
		{func() { write(t, p.odile, ".gitignore", "build/\n") }, "a edited, deep/c gone, moved/b same"},
		{func() { write(t, p.odile, "build/o", "o") }, "a edited, deep/c gone, moved/b same"},
		{func() { write(t, p.odile, "build/deep/o.go", "o") }, "a edited, deep/c gone, moved/b same"},
		{func() { write(t, p.odile, "left/x", "y") }, "a edited, deep/c gone, moved/b same"},
		{func() { write(t, p.odile, "odd/con.txt", "x") }, "a edited, deep/c gone, moved/b same"},
		{func() { write(t, p.odile, "odd/con.txt", "y") }, "a edited, deep/c gone, moved/b same"},
		{func() { _ = os.RemoveAll(filepath.Join(p.odile.Root, "left")) }, "a edited, deep/c gone, moved/b same"},
		{func() { _ = os.RemoveAll(filepath.Join(p.odile.Root, "build")) }, "a edited, deep/c gone, moved/b same"},
		{func() { rename(t, p.odile, "main.go", "odd/main.go") }, "a edited, deep/c gone, moved/b same"},
		{func() { _ = os.RemoveAll(filepath.Join(p.odile.Root, "odd")) }, "a edited, deep/c gone, moved/b same"},
	} {
		c.do()
		if got := k.quick(); got != c.want {
			t.Errorf("the watch says %q, want %q", got, c.want)
		}
		fresh, err := p.odile.Status(t.Context(), workspace.Question{})
		if err != nil {
			t.Fatal(err)
		}
		counts := func(s *workspace.Status) string {
			return fmt.Sprintf("%d the same, %d listed, %d left out, %d code, %d odd", s.Same, len(s.Assets), s.Left, s.Code, len(s.Odd))
		}
		if s, _ := p.odile.QuickStatus(t.Context(), workspace.Question{}); counts(s) != counts(fresh) {
			t.Errorf("the watch counts %s, a look %s", counts(s), counts(fresh))
		}
	}
	second, err := p.odile.Again()
	if err != nil {
		t.Fatal(err)
	}
	defer second.Close()
	testbed.Problem(t, watching.Run(t.Context(), second, watching.Options{}, func(watching.Notice) {}), model.Taken)
	k.stop()
	if s, err := p.odile.QuickStatus(t.Context(), workspace.Question{}); err != nil || s.Watched {
		t.Errorf("it is answered for a watch that ended: %v", err)
	}
}

func TestWatchLocksOnTheFirstEdit(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, rules.File, "[[rule]]\nmatch = \"levels/\"\nlock = \"on-edit\"\n")
	for _, name := range []string{"levels/a", "levels/b", "levels/old", "plain"} {
		write(t, p.odile, name, "one")
	}
	send(t, p.odile, workspace.SendOptions{})
	update(t, p.rurik)
	locked(t, p.odile, "levels/b", "levels/old")
	write(t, p.odile, "levels/old", "two")
	send(t, p.odile, workspace.SendOptions{Paths: []string{"levels/old"}})
	k := p.watch(p.rurik, watching.Options{})
	write(t, p.rurik, "levels/a", "rurik")
	k.says("locked", "levels/a is yours")
	testbed.Eventually(t, "the watch knows who holds what", func() bool {
		s, err := k.QuickStatus(t.Context(), workspace.Question{})
		return err == nil && slices.ContainsFunc(s.Assets, func(a model.Asset) bool { return a.Path == "levels/b" && a.Holder == "odile" })
	})
	write(t, p.rurik, "levels/b", "rurik")
	k.says("held", "odile holds it")
	write(t, p.rurik, "levels/old", "rurik's of an old one")
	k.says("clash", "version 2 by odile is newer")
	write(t, p.rurik, "plain", "rurik")
	testbed.Eventually(t, "a heads-up", func() bool {
		heads, err := p.odile.Client.Unsent(t.Context(), key)
		return err == nil && len(heads.HeadsUps) == 4
	})
	held, err := p.odile.Client.Locks(t.Context(), key)
	if err != nil || len(held.Locks) != 2 {
		t.Errorf("held are %+v, %v", held.Locks, err)
	}
	// Given back, the lock of what is edited already is taken.
	if _, err := p.odile.Unlock(t.Context(), []string{"levels/b"}, false, ""); err != nil {
		t.Fatal(err)
	}
	k.says("locked", "levels/b is yours")
}

func TestWatchBringsNewsAndUpdates(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	write(t, p.odile, "b", "one")
	send(t, p.odile, workspace.SendOptions{})
	update(t, p.rurik)
	k := p.watch(p.rurik, watching.Options{AutoUpdate: true, Poll: 100 * time.Millisecond})
	write(t, p.rurik, "b", "rurik's")
	locked(t, p.odile, "a", "b")
	k.says("lock.taken", "odile took the lock of a and b")
	write(t, p.odile, "a", "two")
	write(t, p.odile, "b", "two")
	send(t, p.odile, workspace.SendOptions{About: model.About{Note: "second pass"}})
	k.says("handoff.sent", "h2 by odile: second pass (a and b)")
	k.says("updated", "this is h2")
	has(t, p.rurik, "a", "two")
	has(t, p.rurik, "b", "rurik's")
}

// What happens elsewhere is looked at where it happened: the folder is not looked through for it, however much comes.
func TestWhatHappensElsewhereIsNoReasonToLookThroughTheFolder(t *testing.T) {
	p := newPair(t)
	var names []string
	for i := range 60 {
		names = append(names, fmt.Sprintf("d/f%02d", i))
		write(t, p.odile, names[i], "one")
	}
	send(t, p.odile, workspace.SendOptions{})
	update(t, p.rurik)
	k := p.watch(p.rurik, watching.Options{})
	before := k.own.Looks()
	locked(t, p.odile, names[:40]...)
	count := func(of func(model.Asset) bool) (n int) {
		s, err := k.QuickStatus(t.Context(), workspace.Question{})
		if err != nil || !s.Watched {
			t.Fatal("the watch does not answer", err)
		}
		for _, a := range s.Assets {
			if of(a) {
				n++
			}
		}
		return n
	}
	held := func(a model.Asset) bool { return a.Holder == "odile" }
	testbed.Eventually(t, "the watch knows who holds what", func() bool { return count(held) == 40 })
	for i := range 5 {
		write(t, p.odile, names[i], "two")
		send(t, p.odile, workspace.SendOptions{KeepLocks: true})
	}
	testbed.Eventually(t, "the watch knows what is newer", func() bool {
		return count(func(a model.Asset) bool { return a.State == model.Behind }) == 5
	})
	for _, n := range names[:40] {
		if _, err := p.odile.Unlock(t.Context(), []string{n}, false, ""); err != nil {
			t.Fatal(err)
		}
	}
	testbed.Eventually(t, "the watch knows that nobody holds anything", func() bool { return count(held) == 0 })
	if n := k.own.Looks() - before; n > 0 {
		t.Errorf("the folder was looked through %d times", n)
	}
}

// cut is a line that can be cut.
type cut struct {
	http.RoundTripper
	dead atomic.Bool
}

func (c *cut) RoundTrip(r *http.Request) (*http.Response, error) {
	if c.dead.Load() {
		return nil, errors.New("no route to host")
	}
	answer, err := c.RoundTripper.RoundTrip(r)
	if err == nil {
		answer.Body = &cutBody{answer.Body, c}
	}
	return answer, err
}

type cutBody struct {
	body interface {
		Read([]byte) (int, error)
		Close() error
	}
	c *cut
}

func (b *cutBody) Read(p []byte) (int, error) {
	if b.c.dead.Load() {
		return 0, errors.New("connection reset")
	}
	return b.body.Read(p)
}
func (b *cutBody) Close() error { return b.body.Close() }

func TestASendInTheBackgroundGoesFromFrozenCopies(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	write(t, p.odile, "goes", "g")
	send(t, p.odile, workspace.SendOptions{})
	locked(t, p.odile, "a", "goes")
	write(t, p.odile, "a", "two")
	rename(t, p.odile, "goes", "there")
	large := bytes.Repeat([]byte("0123456789abcdef"), 200_000)
	if err := os.WriteFile(filepath.Join(p.odile.Root, "large"), large, 0o644); err != nil {
		t.Fatal(err)
	}
	j, err := p.odile.SendLater(t.Context(), workspace.SendOptions{About: model.About{Note: "in the background"}})
	if err != nil || len(j.Files) != 3 {
		t.Fatalf("%+v, %v", j, err)
	}
	// Editing goes on at once, and what is on its way is left alone by the others.
	write(t, p.odile, "a", "three")
	_, err = p.odile.Send(t.Context(), workspace.SendOptions{About: model.About{Note: "too early"}})
	if r := testbed.Refused(t, err); r[0].Reason != "sending" {
		t.Errorf("%+v", r)
	}
	_, err = p.odile.Discard(t.Context(), []string{"a"})
	if r := testbed.Refused(t, err); r[0].Reason != "sending" {
		t.Errorf("%+v", r)
	}
	k := p.watch(p.odile, watching.Options{})
	k.says("sent", "h2: 3 assets sent")
	update(t, p.rurik)
	has(t, p.rurik, "a", "two")
	has(t, p.rurik, "there", "g")
	has(t, p.odile, "a", "three")
	if got := states(t, p.odile); got != "a edited" {
		t.Errorf("states are %q", got)
	}
	if jobs, _ := p.odile.Jobs(); len(jobs) != 0 {
		t.Errorf("jobs are left: %+v", jobs)
	}
	// The next send follows on what was sent then.
	locked(t, p.odile, "a")
	send(t, p.odile, workspace.SendOptions{})
	update(t, p.rurik)
	has(t, p.rurik, "a", "three")
}

func TestARefusedSendInTheBackgroundLosesNothing(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, workspace.SendOptions{})
	update(t, p.rurik)
	write(t, p.rurik, "a", "without a lock")
	// What can be known now is refused now.
	var refused *model.Refused
	if _, err := p.rurik.SendLater(t.Context(), workspace.SendOptions{About: model.About{Note: "n"}}); !errors.As(err, &refused) ||
		refused.Refusals[0].Reason != "not-locked" {
		t.Fatalf("%v", err)
	}
	locked(t, p.rurik, "a")
	if _, err := p.rurik.SendLater(t.Context(), workspace.SendOptions{About: model.About{Note: "n"}}); err != nil {
		t.Fatal(err)
	}
	if _, err := p.rurik.Unlock(t.Context(), []string{"a"}, false, ""); err != nil {
		t.Fatal(err)
	}
	k := p.watch(p.rurik, watching.Options{})
	k.says("refused", "")
	s, err := p.rurik.QuickStatus(t.Context(), workspace.Question{})
	if err != nil || len(s.Jobs) != 1 || s.Jobs[0].Refusals[0].Reason != "lock-lost" {
		t.Errorf("%+v, %v", s.Jobs, err)
	}
	has(t, p.rurik, "a", "without a lock")
	if kept, _ := p.rurik.Kept(); len(kept) != 1 {
		t.Errorf("the frozen copy is lost: %+v", kept)
	}
	locked(t, p.rurik, "a")
	send(t, p.rurik, workspace.SendOptions{})
	if jobs, _ := p.rurik.Jobs(); len(jobs) != 0 {
		t.Errorf("the refused job is still listed: %+v", jobs)
	}
}

func TestWatchWithoutALine(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, rules.File, "[[rule]]\nmatch = \"a\"\nlock = \"on-edit\"\n")
	write(t, p.odile, "a", "one")
	send(t, p.odile, workspace.SendOptions{})
	line := &cut{RoundTripper: http.DefaultTransport}
	root := p.odile.Root
	w, err := workspace.Open(root, testbed.ClientThrough(t, p.url, p.tokens["odile"], line), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	k := p.watch(w, watching.Options{})
	line.dead.Store(true)
	write(t, p.rurik, "wakes the stream", "x")
	send(t, p.rurik, workspace.SendOptions{})
	k.says("offline", "remembered")
	write(t, w, "a", "edited without a line")
	if got := k.quick(); got != "a edited" {
		t.Errorf("offline the watch says %q", got)
	}
	if _, err := w.SendLater(t.Context(), workspace.SendOptions{About: model.About{Note: "later"}, Paths: []string{"a"}}); err != nil {
		t.Fatal(err)
	}
	if held, _ := p.rurik.Client.Locks(t.Context(), key); len(held.Locks) != 0 {
		t.Errorf("%+v", held)
	}
	line.dead.Store(false)
	k.says("locked", "a is yours")
}
