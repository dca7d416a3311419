package service_test

import (
	"context"
	"fmt"
	"io"
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/store"
	"kettletarn/internal/testbed"
)

func TestMain(m *testing.M) { testbed.Main(m) }

const key = "brinelight"

// team is a project with an owner, two artists and a viewer, each with a workspace.
type team struct {
	*testing.T
	*testbed.Service
	odile, tamsin, rurik, viewer ground.Actor
	space                        map[string]string
}

func newTeam(t *testing.T, packs store.Store) *team {
	t.Helper()
	s := testbed.NewService(t, packs)
	m := &team{T: t, Service: s, space: map[string]string{}}
	m.odile, _ = s.Person(t, "odile")
	m.tamsin, _ = s.Person(t, "tamsin")
	m.rurik, _ = s.Person(t, "rurik")
	m.viewer, _ = s.Person(t, "keiko")
	ok(t)(s.StartProject(t.Context(), m.odile, key))
	for actor, role := range map[ground.Actor]string{m.tamsin: model.Artist, m.rurik: model.Artist, m.viewer: model.Viewer} {
		ok(t)(s.SetMember(t.Context(), m.odile, key, actor.Handle, role))
	}
	for _, actor := range []ground.Actor{m.odile, m.tamsin, m.rurik, m.viewer} {
		w, err := s.AddWorkspace(t.Context(), actor, key, actor.Handle+"-pc")
		if err != nil {
			t.Fatal(err)
		}
		m.space[actor.Handle] = w.ID
	}
	return m
}

// ok fails the test where a call fails: ok(t)(f()).
func ok(t testing.TB) func(any, error) {
	return func(_ any, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
}

// content brings a content.
func (m *team) content(actor ground.Actor, data []byte) testbed.Material {
	m.Helper()
	c := testbed.Cut(m, data)
	ok(m)(m.StoreChunks(m.Context(), actor, key, testbed.From(c.Records)))
	return c
}

// tryChange is change for a store that may fail.
func (m *team) tryChange(path, data string) (handoffs.Change, error) {
	c := testbed.Cut(m, []byte(data))
	_, err := m.StoreChunks(m.Context(), m.tamsin, key, testbed.From(c.Records))
	return handoffs.Change{Path: path, Content: c.Content, Size: c.Size}, err
}

// change makes a change of one asset to a content.
func (m *team) change(actor ground.Actor, path string, base int, fence int64, data string) handoffs.Change {
	c := m.content(actor, []byte(data))
	return handoffs.Change{Path: path, Base: base, Fence: fence, Content: c.Content, Size: c.Size}
}

// send sends, and looks whether the answer is what the records tell of the handoff.
func (m *team) send(actor ground.Actor, changes ...handoffs.Change) (handoffs.Receipt, error) {
	m.Helper()
	r, err := m.Send(m.Context(), actor, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space[actor.Handle],
		About:   model.About{Note: "a pass"},
		Changes: changes}, nil)
	if err == nil {
		kept, err := m.Handoff(m.Context(), actor, key, fmt.Sprint("h", r.Handoff.Number))
		for i := range kept.Assets {
			kept.Assets[i].Now = ""                            // it may have been moved since
			r.Handoff.Assets[i].Digest = kept.Assets[i].Digest // it may have been sealed since
		}
		kept.At = kept.At.UTC()
		if err != nil || !reflect.DeepEqual(r.Handoff, kept) {
			m.Errorf("a send was answered with\n%+v\nand is kept as\n%+v, %v", r.Handoff, kept, err)
		}
	}
	return r, err
}

func (m *team) lock(actor ground.Actor, path string, version int) int64 {
	m.Helper()
	locks, err := m.TakeLocks(m.Context(), actor, key,
		locks.Wish{Workspace: m.space[actor.Handle], Wants: []locks.Want{{Path: path, Version: version}}})
	if err != nil {
		m.Fatal(err)
	}
	return locks.Locks[0].Fence
}

func reason(t *testing.T, err error, want string) {
	t.Helper()
	refusals := testbed.Refused(t, err)
	for _, r := range refusals {
		if r.Reason == want {
			if r.Message == "" || r.Remedy == "" {
				t.Errorf("the refusal %s says too little: %+v", want, r)
			}
			return
		}
	}
	t.Errorf("refused for %+v, want %s", refusals, want)
}

func TestSignIn(t *testing.T) {
	s := testbed.NewService(t, nil)
	ctx := t.Context()
	s.Person(t, "odile")
	first, err := s.SignIn(ctx, "odile", testbed.Passphrase, "a laptop", false)
	if err != nil {
		t.Fatal(err)
	}
	second, err := s.SignIn(ctx, "odile", testbed.Passphrase, "elsewhere", true)
	if err != nil {
		t.Fatal(err)
	}
	if !first.Expires.After(second.Expires) {
		t.Error("a console's sign-in lasts as long as a client's")
	}
	for _, bad := range [][2]string{{"odile", "wrong"}, {"nobody", testbed.Passphrase}, {"odile", ""}, {"", ""},
		{"odile", strings.Repeat("x", 1<<20)}} {
		_, err := s.SignIn(ctx, bad[0], bad[1], "", false)
		testbed.Problem(t, err, model.WrongPassphrase)
	}
	actor, err := s.Authenticate(ctx, first.Token)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.SignOut(ctx, actor, first.Token); err != nil {
		t.Fatal(err)
	}
	_, err = s.Authenticate(ctx, first.Token)
	testbed.Problem(t, err, model.SignInExpired)
	if _, err := s.Authenticate(ctx, second.Token); err != nil {
		t.Errorf("signing out at one place ends another: %v", err)
	}
	_, err = s.Authenticate(ctx, "tarn_made_up")
	testbed.Problem(t, err, model.NotSignedIn)
	_, err = s.AddPerson(ctx, "odile", testbed.Passphrase, false)
	testbed.Problem(t, err, model.Taken)
	for _, bad := range []string{"", "Odile", "a b", "-x", "../x", strings.Repeat("a", 33)} {
		_, err = s.AddPerson(ctx, bad, testbed.Passphrase, false)
		testbed.Problem(t, err, model.BadRequest)
	}
	_, err = s.AddPerson(ctx, "short", "1234567", false)
	testbed.Problem(t, err, model.BadRequest)
}

func TestWhoMayWhat(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	outsider, _ := m.Person(t, "stranger")
	_, err := m.Project(ctx, outsider, key)
	testbed.Problem(t, err, model.NotFound)
	_, err = m.Project(ctx, outsider, "no-such")
	testbed.Problem(t, err, model.NotFound)
	_, err = m.send(m.viewer, handoffs.Change{Path: "a.png"})
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.SetMember(ctx, m.tamsin, key, "stranger", model.Artist)
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.SetMember(ctx, m.odile, key, "nobody", model.Artist)
	testbed.Problem(t, err, model.NotFound)
	_, err = m.SetMember(ctx, m.odile, key, "tamsin", "king")
	testbed.Problem(t, err, model.BadRequest)
	testbed.Problem(t, m.RemoveMember(ctx, m.odile, key, "odile"), model.NotAllowed)
	ok(t)(m.SetMember(ctx, m.odile, key, "tamsin", model.Lead))
	_, err = m.SetMember(ctx, m.tamsin, key, "rurik", model.Owner)
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.SetMember(ctx, m.tamsin, key, "odile", model.Artist)
	testbed.Problem(t, err, model.NotAllowed)
	for _, bad := range []string{"", "Brinelight", "a/b", "a", "../a", "brine light"} {
		_, err := m.StartProject(ctx, m.odile, bad)
		testbed.Problem(t, err, model.BadRequest)
	}
	_, err = m.StartProject(ctx, m.tamsin, key)
	testbed.Problem(t, err, model.Taken)
	_, err = m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["rurik"], About: model.About{Note: "n"},
		Changes: []handoffs.Change{{Path: "a", Gone: true}}}, nil)
	testbed.Problem(t, err, model.NotFound)
}

func TestRemovingAMemberFreesWhatTheyHold(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	m.lock(m.tamsin, "a.png", 1)
	if err := m.RemoveMember(t.Context(), m.odile, key, "tamsin"); err != nil {
		t.Fatal(err)
	}
	locks, err := m.Locks(t.Context(), m.odile, key, "")
	if err != nil || len(locks) != 0 {
		t.Errorf("held still: %+v, %v", locks, err)
	}
	_, err = m.Locks(t.Context(), m.tamsin, key, "")
	testbed.Problem(t, err, model.NotFound)
}

func TestASendIsWholeOrNothingAndNamesEveryReason(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "levels/harbour.glb", 0, 0, "one"), m.change(m.tamsin, "levels/kelp.glb", 0, 0, "two"),
		m.change(m.tamsin, "Folder/x.png", 0, 0, "x")))
	m.lock(m.tamsin, "levels/harbour.glb", 1)
	_, err := m.send(m.rurik,
		m.change(m.rurik, "new.png", 0, 0, "new"),
		m.change(m.rurik, "levels/harbour.glb", 1, 0, "mine"),
		m.change(m.rurik, "levels/kelp.glb", 7, 0, "old"),
		m.change(m.rurik, "../out.png", 0, 0, "x"),
		m.change(m.rurik, "LEVELS/other.png", 0, 0, "x"),
		m.change(m.rurik, "levels/harbour.glb/inside.png", 0, 0, "x"),
		m.change(m.rurik, "levels", 0, 0, "x"),
		m.change(m.rurik, "folder/x.png", 0, 0, "x"),
		handoffs.Change{Path: "tarn.toml"})
	for _, want := range []string{"held", "behind", "path-outside", "path-collides", "role"} {
		reason(t, err, want)
	}
	if n := len(testbed.Refused(t, err)); n < 8 {
		t.Errorf("only %d reasons: %v", n, err)
	}
	list, err := m.Handoffs(ctx, m.odile, key, history.HandoffFilter{Limit: 10})
	if err != nil || len(list) != 1 {
		t.Errorf("a refused send left %d handoffs, %v", len(list), err)
	}
	if _, _, err := m.History(ctx, m.odile, key, "", "new.png"); err == nil {
		t.Error("a refused send left an asset")
	}
}

func TestAnAssetNeedsItsLockOnceItExists(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	_, err := m.send(m.tamsin, m.change(m.tamsin, "a.png", 1, 0, "two"))
	reason(t, err, "not-locked")
	fence := m.lock(m.tamsin, "a.png", 1)
	receipt, err := m.send(m.tamsin, m.change(m.tamsin, "a.png", 1, fence, "two"))
	if err != nil || receipt.Handoff.Number != 2 || receipt.Handoff.Assets[0].Version != 2 ||
		receipt.Handoff.Assets[0].Change != model.Edited {
		t.Fatalf("%+v, %v", receipt, err)
	}
	if locks, _ := m.Locks(t.Context(), m.odile, key, ""); len(locks) != 0 {
		t.Error("the send did not give the lock back")
	}
	_, err = m.TakeLocks(t.Context(), m.rurik, key, locks.Wish{Workspace: m.space["rurik"],
		Wants: []locks.Want{{Path: "a.png", Version: 1}}})
	reason(t, err, "behind")
	_, err = m.TakeLocks(t.Context(), m.rurik, key, locks.Wish{Workspace: m.space["rurik"], Wants: []locks.Want{{Path: "no.png"}}})
	reason(t, err, "unknown")
}

func TestAnOverriddenHolderCantSend(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	fence := m.lock(m.tamsin, "a.png", 1)
	testbed.Problem(t, m.GiveBackLocks(ctx, m.rurik, key, m.space["rurik"], []string{"a.png"}, true, "mine"), model.NotAllowed)
	reason(t, m.GiveBackLocks(ctx, m.rurik, key, m.space["rurik"], []string{"a.png"}, false, ""), "held")
	testbed.Problem(t, m.GiveBackLocks(ctx, m.odile, key, m.space["odile"], []string{"a.png"}, true, " "), model.BadRequest)
	if err := m.GiveBackLocks(ctx, m.odile, key, m.space["odile"], []string{"a.png"}, true, "away"); err != nil {
		t.Fatal(err)
	}
	change := m.change(m.tamsin, "a.png", 1, fence, "late")
	_, err := m.send(m.tamsin, change)
	reason(t, err, "lock-lost")
	m.lock(m.rurik, "a.png", 1)
	_, err = m.send(m.tamsin, change)
	reason(t, err, "lock-lost")
	change.Fence = 0
	_, err = m.send(m.tamsin, change)
	reason(t, err, "held")
}

func TestTheSameKeyGetsTheSameAnswer(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	send := handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "once"},
		Changes: []handoffs.Change{m.change(m.tamsin, "a.png", 0, 0, "one")}}
	first, err := m.Send(ctx, m.tamsin, key, send, nil)
	if err != nil {
		t.Fatal(err)
	}
	again, err := m.Send(ctx, m.tamsin, key, send, nil)
	if err != nil || again.Handoff.Number != first.Handoff.Number || len(again.Handoff.Assets) != 1 {
		t.Errorf("the second answer is %+v, %v", again, err)
	}
	other := send
	other.Note = "twice"
	_, err = m.Send(ctx, m.tamsin, key, other, nil)
	testbed.Problem(t, err, model.KeyReused)
	if h, err := m.CloseSend(ctx, m.tamsin, key, send.Key); err != nil || h == nil || h.Number != 1 {
		t.Errorf("closing a send that arrived: %+v, %v", h, err)
	}
	lost := send
	lost.Key = uuid.NewString()
	lost.Changes = []handoffs.Change{m.change(m.tamsin, "b.png", 0, 0, "b")}
	if h, err := m.CloseSend(ctx, m.tamsin, key, lost.Key); err != nil || h != nil {
		t.Errorf("closing a send that never arrived: %+v, %v", h, err)
	}
	_, err = m.Send(ctx, m.tamsin, key, lost, nil)
	testbed.Problem(t, err, model.KeyClosed)
	_, err = m.Send(ctx, m.tamsin, key, handoffs.Send{Key: "not a key", Workspace: m.space["tamsin"], About: model.About{Note: "n"},
		Changes: lost.Changes}, nil)
	testbed.Problem(t, err, model.BadRequest)
}

func TestNotesAndLabelsAreBounded(t *testing.T) {
	m := newTeam(t, nil)
	change := m.change(m.tamsin, "a.png", 0, 0, "one")
	for _, bad := range []handoffs.Send{{About: model.About{Note: ""}}, {About: model.About{Note: " \n"}},
		{About: model.About{Note: strings.Repeat("n", 100_000)}}, {About: model.About{Note: "a\x00b"}},
		{About: model.About{Note: "n", Stage: strings.Repeat("s", 41)}}, {About: model.About{Note: "n", Tasks: []string{""}}},
		{About: model.About{Note: "n", Tasks: make([]string, 51)}}} {
		bad.Key, bad.Workspace, bad.Changes = uuid.NewString(), m.space["tamsin"], []handoffs.Change{change}
		_, err := m.Send(t.Context(), m.tamsin, key, bad, nil)
		testbed.Problem(t, err, model.BadRequest)
	}
	_, err := m.send(m.tamsin)
	testbed.Problem(t, err, model.BadRequest)
}

func TestRollbackIsANewVersion(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 1, m.lock(m.tamsin, "a.png", 1), "two")))
	m.lock(m.rurik, "a.png", 2)
	_, err := m.Rollback(ctx, m.tamsin, key, model.RollbackRequest{Workspace: m.space["tamsin"], Paths: []string{"a.png"}, Version: 1},
		uuid.NewString())
	reason(t, err, "held")
	receipt, err := m.Rollback(ctx, m.rurik, key, model.RollbackRequest{Workspace: m.space["rurik"], Paths: []string{"a.png"}, Version: 1},
		uuid.NewString())
	if err != nil {
		t.Fatal(err)
	}
	_, versions, err := m.History(ctx, m.odile, key, "", "a.png")
	if err != nil || len(versions) != 3 || versions[0].Content != versions[2].Content || versions[0].Content == versions[1].Content ||
		receipt.Handoff.Assets[0].Version != 3 || !strings.Contains(versions[0].Note, "version 1") {
		t.Errorf("%+v, %v", versions, err)
	}
	_, err = m.Rollback(ctx, m.rurik, key, model.RollbackRequest{Workspace: m.space["rurik"], Paths: []string{"a.png"}, Version: 9},
		uuid.NewString())
	testbed.Problem(t, err, model.NotFound)
	_, err = m.Rollback(ctx, m.rurik, key, model.RollbackRequest{Workspace: m.space["rurik"], Paths: []string{"a.png"}, Version: 2, Seen: 2},
		uuid.NewString())
	reason(t, err, "behind")
}

func TestDeletingAndBringingBackUnderAnotherSpelling(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	ok(t)(m.send(m.tamsin, handoffs.Change{Path: "a.png", Base: 1, Gone: true, Fence: m.lock(m.tamsin, "a.png", 1)}))
	if all, err := m.Changes(ctx, m.odile, key, history.Changes{}); err != nil || len(all.Assets) != 0 {
		t.Errorf("what is gone is listed: %+v, %v", all, err)
	}
	if since, err := m.Changes(ctx, m.odile, key, history.Changes{Since: 1}); err != nil || len(since.Assets) != 1 || !since.Assets[0].Gone ||
		since.Assets[0].Newest != 2 {
		t.Errorf("the deletion is not news: %+v, %v", since, err)
	}
	if then, err := m.Changes(ctx, m.odile, key, history.Changes{At: "h1"}); err != nil || then.At != 1 || len(then.Assets) != 1 ||
		then.Assets[0].Gone {
		t.Errorf("as of h1: %+v, %v", then, err)
	}
	_, err := m.send(m.rurik, handoffs.Change{Path: "a.png", Base: 1, Gone: true})
	reason(t, err, "behind")
	ok(t)(m.send(m.rurik, m.change(m.rurik, "A.png", 0, 0, "again")))
	asset, versions, err := m.History(ctx, m.odile, key, "", "a.PNG")
	if err != nil || asset.Path != "A.png" || len(versions) != 3 {
		t.Errorf("%+v, %d versions, %v", asset, len(versions), err)
	}
}

func TestOneLockManyTakers(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	for range 5 {
		var wait sync.WaitGroup
		won := make(chan ground.Actor, 30)
		for i := range 30 {
			actor := []ground.Actor{m.odile, m.tamsin, m.rurik}[i%3]
			wait.Go(func() {
				locks, err := m.TakeLocks(t.Context(), actor, key,
					locks.Wish{Workspace: m.space[actor.Handle], Wants: []locks.Want{{Path: "a.png", Version: 1}}})
				if err == nil && locks.Locks[0].Holder == actor.Handle {
					won <- actor
				}
			})
		}
		wait.Wait()
		close(won)
		winners := map[ground.Actor]bool{}
		for actor := range won {
			winners[actor] = true
		}
		if len(winners) != 1 {
			t.Fatalf("%d people hold it", len(winners))
		}
		for actor := range winners {
			if err := m.GiveBackLocks(t.Context(), actor, key, m.space[actor.Handle], []string{"a.png"}, false, ""); err != nil {
				t.Fatal(err)
			}
		}
	}
}

func TestConcurrentSendsOfOneNewPathMakeOneAsset(t *testing.T) {
	m := newTeam(t, nil)
	changes := make([]handoffs.Change, 10)
	for i := range changes {
		changes[i] = m.change(m.tamsin, "same.png", 0, 0, fmt.Sprint("content ", i))
	}
	var wait sync.WaitGroup
	errs := make([]error, len(changes))
	for i := range changes {
		wait.Go(func() { _, errs[i] = m.send(m.tamsin, changes[i]) })
	}
	wait.Wait()
	arrived := 0
	for _, err := range errs {
		if err == nil {
			arrived++
		} else {
			reason(t, err, "behind")
		}
	}
	list, err := m.Handoffs(t.Context(), m.odile, key, history.HandoffFilter{})
	if arrived != 1 || err != nil || len(list) != 1 || list[0].Number != 1 {
		t.Errorf("%d sends arrived, %d handoffs, %v", arrived, len(list), err)
	}
}

func TestNewsSkipsNothing(t *testing.T) {
	m := newTeam(t, nil)
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	const senders, each = 4, 8
	seen := map[int]bool{}
	first := ""
	started := make(chan struct{})
	done := make(chan error, 1)
	var once sync.Once
	go func() {
		done <- m.News(ctx, m.odile, key, "", func(e model.Event) error {
			if e.Kind == "handoff.sent" {
				n := int(e.Subject["handoff"].(float64))
				if seen[n] {
					return fmt.Errorf("handoff %d is told twice", n)
				}
				if first == "" {
					first = e.ID
				}
				if seen[n] = true; len(seen) == senders*each {
					return io.EOF
				}
			}
			return nil
		}, func(bool) error {
			once.Do(func() { close(started) })
			return nil
		})
	}()
	<-started
	time.Sleep(100 * time.Millisecond)
	var wait sync.WaitGroup
	for s := range senders {
		wait.Go(func() {
			for i := range each {
				if _, err := m.send(m.tamsin, m.change(m.tamsin, fmt.Sprintf("%d/%d.png", s, i), 0, 0, fmt.Sprint(s, i))); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wait.Wait()
	if err := <-done; err != io.EOF {
		t.Fatalf("%v; %d of %d handoffs were told", err, len(seen), senders*each)
	}
	// A reader that comes back hears what it missed, from where it was.
	missed := 0
	err := m.News(ctx, m.odile, key, first, func(e model.Event) error {
		if e.Kind == "handoff.sent" {
			if missed++; missed == senders*each-1 {
				return io.EOF
			}
		}
		return nil
	}, func(bool) error { return nil })
	if err != io.EOF {
		t.Errorf("after coming back: %v, %d told", err, missed)
	}
	testbed.Problem(t, m.News(ctx, m.odile, key, "rubbish", nil, func(bool) error { return nil }), model.BadRequest)
}

func TestADatabaseThatIsAwayIsSaidSo(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one")))
	pg := testbed.Postgres(t)
	if err := pg.Down(); err != nil {
		t.Fatal(err)
	}
	_, err := m.send(m.tamsin, handoffs.Change{Path: "b.png"})
	testbed.Problem(t, err, model.Unavailable)
	if m.Ready(t.Context()) == nil {
		t.Error("ready without a database")
	}
	if err := pg.Up(t.Context()); err != nil {
		t.Fatal(err)
	}
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "b.png", 0, 0, "two")))
	if _, _, err := m.History(t.Context(), m.odile, key, "", "a.png"); err != nil {
		t.Errorf("after the restart: %v", err)
	}
}

func TestFoldersAndPages(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	var changes []handoffs.Change
	for i := range 7 {
		changes = append(changes, m.change(m.tamsin, fmt.Sprintf("textures/rust/%d.png", i), 0, 0, fmt.Sprint("r", i)))
	}
	changes = append(changes, m.change(m.tamsin, "textures/fog.png", 0, 0, "fog"), m.change(m.tamsin, "texturesque.txt", 0, 0, "no"),
		m.change(m.tamsin, "top.png", 0, 0, "top"))
	ok(t)(m.send(m.tamsin, changes...))
	names := func(folder, search, after string, limit int) string {
		page, err := m.Folder(ctx, m.viewer, key, folder, "", search, after, limit)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, f := range page.Folders {
			out = append(out, fmt.Sprintf("%s/ (%d)", f.Name, f.Assets))
		}
		for _, a := range page.Assets {
			out = append(out, a.Path)
		}
		if page.Next != "" {
			out = append(out, "more")
		}
		return strings.Join(out, " ")
	}
	for _, c := range []struct{ folder, search, after, want string }{
		{"", "", "", "textures/ (8) texturesque.txt top.png"},
		{"textures", "", "", "rust/ (7) textures/fog.png"},
		{"textures/rust", "", "", "textures/rust/0.png textures/rust/1.png textures/rust/2.png more"},
		{"textures/rust", "", "textures/rust/2.png", "textures/rust/3.png textures/rust/4.png textures/rust/5.png more"},
		{"textures/rust", "", "textures/rust/5.png", "textures/rust/6.png"},
		{"", "FOG", "", "textures/fog.png"},
		{"", "%", "", ""},
		{"nothing", "", "", ""},
	} {
		if got := names(c.folder, c.search, c.after, 3); got != c.want {
			t.Errorf("in %q, search %q, after %q: %s; want %s", c.folder, c.search, c.after, got, c.want)
		}
	}
	total, after := 0, ""
	for {
		page, err := m.Changes(ctx, m.viewer, key, history.Changes{After: after, Limit: 4})
		if err != nil || page.At != 1 {
			t.Fatalf("as of h%d, %v", page.At, err)
		}
		total += len(page.Assets)
		if after = page.Next; after == "" {
			break
		}
	}
	if total != 10 {
		t.Errorf("%d assets in pages, want 10", total)
	}
	list, err := m.Handoffs(ctx, m.viewer, key, history.HandoffFilter{Author: "rurik"})
	if err != nil || len(list) != 0 {
		t.Errorf("handoffs of somebody who made none: %+v, %v", list, err)
	}
	if list, err = m.Handoffs(ctx, m.viewer, key, history.HandoffFilter{Author: "tamsin", Path: "Textures/Rust"}); err != nil ||
		len(list) != 1 || list[0].Count != 10 {
		t.Errorf("handoffs below a folder: %+v, %v", list, err)
	}
	if list, err = m.Handoffs(ctx, m.viewer, key, history.HandoffFilter{Path: "text"}); err != nil || len(list) != 0 {
		t.Errorf("a folder that only begins so: %+v, %v", list, err)
	}
}

// lockAtConsole locks one asset for the person's seat at the console.
func (m *team) lockAtConsole(ctx context.Context, actor ground.Actor, path string, version int) ([]model.Lock, error) {
	locks, err := m.TakeLocks(ctx, actor, key, locks.Wish{Workspace: model.KindConsole,
		Wants: []locks.Want{{Path: path, Version: version}}})
	return locks.Locks, err
}
