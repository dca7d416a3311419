package service_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/google/uuid"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/testbed"
)

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
	list, _, err := m.Handoffs(ctx, m.odile, key, history.HandoffFilter{Limit: 10})
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
	list, _, err := m.Handoffs(t.Context(), m.odile, key, history.HandoffFilter{})
	if arrived != 1 || err != nil || len(list) != 1 || list[0].Number != 1 {
		t.Errorf("%d sends arrived, %d handoffs, %v", arrived, len(list), err)
	}
}
