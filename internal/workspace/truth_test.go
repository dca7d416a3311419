//go:build linux

package workspace

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
	"kettletarn/internal/workspace/index"
	"kettletarn/internal/workspace/placing"
)

// TestWhatWasRefusedIsKnown: a lock that was taken away is not shown as one's own any more, once the service has said so, with who took it
// and why.
func TestWhatWasRefusedIsKnown(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	locked(t, p.rurik, "a")
	write(t, p.rurik, "a", "two")
	if _, err := p.odile.Unlock(t.Context(), []string{"a"}, true, "the build has to go out"); err != nil {
		t.Fatal(err)
	}
	release, err := p.rurik.Work()
	if err != nil {
		t.Fatal(err)
	}
	_, err = p.rurik.Send(t.Context(), SendOptions{About: model.About{Note: "n"}})
	release()
	var refused *model.Refused
	if !errors.As(err, &refused) || refused.Refusals[0].Reason != "lock-lost" ||
		!strings.Contains(refused.Refusals[0].Message, "odile took it away") ||
		!strings.Contains(refused.Refusals[0].Message, "the build has to go out") {
		t.Fatalf("%v", err)
	}
	s, err := p.rurik.Status(t.Context(), Question{})
	if err != nil || len(s.Assets) != 1 || s.Assets[0].Lock != nil {
		t.Errorf("%+v, %v", s.Assets, err)
	}
}

// TestOnesOwnSendIsWhereOneIs: the workspace is at its own handoff, where nobody sent anything between.
func TestOnesOwnSendIsWhereOneIs(t *testing.T) {
	p := newPair(t)
	at := func() (int, int) {
		v, err := p.odile.view()
		if err != nil {
			t.Fatal(err)
		}
		return v.At, v.Newest
	}
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	if at, newest := at(); at != 1 || newest != 1 {
		t.Errorf("at h%d of h%d", at, newest)
	}
	update(t, p.rurik)
	write(t, p.rurik, "b", "one")
	send(t, p.rurik, SendOptions{})
	write(t, p.odile, "c", "one")
	send(t, p.odile, SendOptions{})
	if at, newest := at(); at != 1 || newest != 3 {
		t.Errorf("with h2 between, it is at h%d of h%d", at, newest)
	}
	if u := update(t, p.odile); len(u.Brought) != 1 || u.At != 3 {
		t.Errorf("%+v", u)
	}
}

// TestDiscardWithTheServiceAway does nothing, and says so.
func TestDiscardWithTheServiceAway(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	write(t, p.rurik, "a", "a day's work")
	write(t, p.rurik, "new", "a new one")
	away, err := openAnyhow(p.rurik.Root, testbed.ClientThrough(t, p.url, p.tokens["rurik"], broken{}), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer away.Close()
	if out, err := away.Discard(t.Context(), []string{"a"}); err == nil {
		t.Errorf("%+v", out)
	}
	has(t, p.rurik, "a", "a day's work")
	if list, _ := p.rurik.folder.Kept(); len(list) != 0 {
		t.Errorf("put away: %+v", list)
	}
	if _, err := os.Stat(filepath.Join(p.rurik.Root, placing.Incoming)); err == nil {
		t.Error("the folder of what comes in is left behind")
	}
	// What needs nothing of the service goes without it.
	if out, err := away.Discard(t.Context(), []string{"new"}); err != nil || len(out.PutAway) != 1 {
		t.Errorf("%+v, %v", out, err)
	}
}

type broken struct{}

func (broken) RoundTrip(*http.Request) (*http.Response, error) {
	return nil, errors.New("connection refused")
}

// TestASendInTheBackgroundOutlivesTrouble: a sign-in that ends, a disk that is full and a service that asks for patience are passed.
func TestASendInTheBackgroundOutlivesTrouble(t *testing.T) {
	for _, kind := range []string{model.SignInExpired, model.NotSignedIn, model.DiskFull, model.LimitReached, model.TooMany,
		model.Unavailable} {
		if Answered(model.NewProblem(kind, "", "x")) {
			t.Errorf("%s ends a send for good", kind)
		}
	}
	if !Answered(model.NewProblem(model.BadRequest, "", "x")) || !Answered(&model.Refused{Refusals: []model.Refusal{{}}}) {
		t.Error("what is refused for good is tried for ever")
	}
	p := newPair(t)
	write(t, p.rurik, "a", "one")
	j, err := p.rurik.SendLater(t.Context(), SendOptions{About: model.About{Note: "n"}})
	if err != nil {
		t.Fatal(err)
	}
	ended, err := openAnyhow(p.rurik.Root, testbed.ClientThrough(t, p.url, "tarn_that_has_ended", nil), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer ended.Close()
	if _, err := ended.SendJob(t.Context(), j); err == nil {
		t.Fatal("it was sent by nobody")
	}
	jobs, err := p.rurik.Jobs()
	if err != nil || len(jobs) != 1 || len(jobs[0].Refusals) != 0 || !strings.Contains(jobs[0].Trouble, "sign") {
		t.Fatalf("%+v, %v", jobs, err)
	}
	if h, err := p.rurik.SendJob(t.Context(), &jobs[0]); err != nil || h.Number != 1 {
		t.Errorf("%+v, %v", h, err)
	}
}

// TestASendInTheBackgroundIsTakenBack: what changed since it was set aside is put away, and the rest is as it is.
func TestASendInTheBackgroundIsTakenBack(t *testing.T) {
	p := newPair(t)
	write(t, p.rurik, "a", "one")
	write(t, p.rurik, "b", "one")
	if _, err := p.rurik.SendLater(t.Context(), SendOptions{About: model.About{Note: "n"}}); err != nil {
		t.Fatal(err)
	}
	write(t, p.rurik, "b", "two, since")
	jobs, err := p.rurik.Jobs()
	if err != nil || len(jobs) != 1 {
		t.Fatalf("%+v, %v", jobs, err)
	}
	if h, err := p.rurik.CancelJob(t.Context(), &jobs[0]); h != nil || err != nil {
		t.Fatalf("%+v, %v", h, err)
	}
	if jobs, _ = p.rurik.Jobs(); len(jobs) != 0 {
		t.Errorf("%+v", jobs)
	}
	if list, _ := p.rurik.folder.Kept(); len(list) != 1 || list[0].Path != "b" {
		t.Errorf("%+v", list)
	}
	if got := states(t, p.rurik); got != "a new, b new" {
		t.Errorf("%q", got)
	}
}

// TestAFullStateFolderIsSaidSo, and an index that was never written is none.
func TestAFullStateFolderIsSaidSo(t *testing.T) {
	var problem *model.Problem
	if err := index.Full(fmt.Errorf("writing: %w", syscall.ENOSPC)); !errors.As(err, &problem) || problem.Type != model.DiskFull ||
		!strings.Contains(problem.Detail, "state folder") {
		t.Errorf("%v", err)
	}
	if index.Full(errors.New("other")) != nil {
		t.Error("any error is a full disk")
	}
	p := newPair(t)
	if err := os.Truncate(filepath.Join(stateFolder(p.rurik.Marker), "index"), 0); err != nil {
		t.Fatal(err)
	}
	if said := refusedFolder(t, p.rurik.Root); !strings.Contains(said, "knows nothing of it") {
		t.Errorf("%s", said)
	}
}

// TestAPipeInTheFolderHangsNothing: neither as the rules, nor as a git ignore file, nor as the marker.
func TestAPipeInTheFolderHangsNothing(t *testing.T) {
	p := newPair(t)
	for _, name := range []string{"tarn.toml", ".gitignore", "sub/.gitignore", "tarn.pin"} {
		full := filepath.Join(p.rurik.Root, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := syscall.Mkfifo(full, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	done := make(chan string, 1)
	go func() {
		_, _ = ReadPin(p.rurik.Root)
		done <- states(t, p.rurik)
	}()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("a pipe is waited for")
	}
}

// TestPathsAreKnownBySpelling: every command finds an asset however its letters are typed.
func TestPathsAreKnownBySpelling(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "UPPER/File.png", "one")
	write(t, p.odile, "lower/x.png", "one")
	send(t, p.odile, SendOptions{})
	got, err := p.odile.Spelled([]string{"upper/file.PNG", "UPPER/File.png", "Upper", "lower", "nowhere/x", ""})
	if err != nil || strings.Join(got, " ") != "UPPER/File.png UPPER/File.png UPPER lower nowhere/x " {
		t.Errorf("%q, %v", got, err)
	}
}
