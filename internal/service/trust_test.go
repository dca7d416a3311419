package service_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/testbed"
)

// move is a change that moves an asset and leaves its content as it is.
func move(from handoffs.Change, to string) handoffs.Change {
	return handoffs.Change{Path: to, MovedFrom: from.Path, Base: 1, Content: from.Content, Size: from.Size}
}

// TestAFolderOfManyIsMovedAtOnce: what it takes grows with the number, and not with its square. Compared pair by pair, it would take hours.
func TestAFolderOfManyIsMovedAtOnce(t *testing.T) {
	k := newKept(t)
	const many = 20_000
	first := k.change(k.tamsin, "old/0.txt", 0, 0, "the same in all")
	changes := make([]handoffs.Change, many)
	for i := range changes {
		changes[i] = first
		changes[i].Path = fmt.Sprintf("old/%05d.txt", i)
	}
	ok(t)(k.sendAs(t.Context(), k.tamsin, uuid.NewString(), changes...))
	for i := range changes {
		changes[i] = move(changes[i], fmt.Sprintf("new/%05d.txt", i))
	}
	ctx, stop := context.WithTimeout(t.Context(), 2*time.Minute)
	defer stop()
	if _, err := k.Send(ctx, k.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: k.space["tamsin"],
		About: model.About{Note: "moved"}, Changes: changes,
		TakeFree: true}, nil); err != nil {
		t.Fatal(err)
	}
	k.has("new/00000.txt", "the same in all")
	if _, err := k.History2(t, "old/00000.txt"); err == nil {
		t.Error("the old place is still an asset's")
	}
}

// History2 is the history of an asset, for whether there is one.
func (k *kept) History2(t *testing.T, path string) (model.Asset, error) {
	a, _, err := k.History(t.Context(), k.odile, key, "", path)
	if err == nil && a.Path != path {
		err = errors.New("it is elsewhere")
	}
	return a, err
}

// TestWhoWaitsForANameWaitsForWhatComesThere: an asset that is moved onto a name that is kept for somebody is refused to anybody else;
// moved there by the keeper, it takes the line along.
func TestWhoWaitsForANameWaitsForWhatComesThere(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	c := m.change(m.tamsin, "a.txt", 0, 0, "one")
	ok(t)(m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "n"},
		Changes: []handoffs.Change{c}}, nil))
	keep := func(actor ground.Actor, wait bool) (locks.Grant, error) {
		return m.TakeLocks(ctx, actor, key, locks.Wish{Workspace: m.space[actor.Handle], Reserve: true, Wait: wait,
			Wants: []locks.Want{{Path: "kept.txt"}}})
	}
	ok(t)(keep(m.odile, false))
	ok(t)(keep(m.rurik, true))
	moving := func(actor ground.Actor) error {
		_, err := m.Send(ctx, actor, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space[actor.Handle],
			About:   model.About{Note: "moved"},
			Changes: []handoffs.Change{move(c, "kept.txt")}, TakeFree: true}, nil)
		return err
	}
	if err := moving(m.tamsin); !refusedFor(err, "locked") && !refusedFor(err, "held") {
		t.Errorf("held by odile: %v", err)
	}
	// Given back, it is offered to rurik: tamsin may not take it either.
	if err := m.GiveBackLocks(ctx, m.odile, key, m.space["odile"], []string{"kept.txt"}, false, ""); err != nil {
		t.Fatal(err)
	}
	if err := moving(m.tamsin); err == nil {
		t.Error("an offered name was taken by somebody else")
	}
	// Rurik takes it, odile waits now; rurik moves the asset there.
	ok(t)(keep(m.rurik, false))
	ok(t)(keep(m.odile, true))
	if err := moving(m.rurik); err != nil {
		t.Fatal(err)
	}
	held, err := m.Locks(ctx, m.odile, key, "")
	if err != nil || len(held) != 1 || held[0].Path != "kept.txt" || len(held[0].Waitlist) != 1 || held[0].Waitlist[0].Handle != "odile" ||
		held[0].Waitlist[0].OfferedUntil == nil {
		t.Fatalf("%+v, %v", held, err)
	}
	if n := m.one(`select count(*) from waits w where w.ended is null and not exists (select from claims c where c.asset_id =
		w.asset_id)`); n != 0 {
		t.Errorf("%d wait for what is not there", n)
	}
	ok(t)(m.TakeLocks(ctx, m.odile, key, locks.Wish{Workspace: m.space["odile"], Wants: []locks.Want{{Path: "kept.txt", Version: 2}}}))
}

// one is a number out of the database.
func (m *team) one(sql string, args ...any) (n int) {
	m.Helper()
	conn, err := pgx.Connect(m.Context(), m.URL)
	if err != nil {
		m.Fatal(err)
	}
	defer conn.Close(context.WithoutCancel(m.Context()))
	if err := conn.QueryRow(m.Context(), sql, args...).Scan(&n); err != nil {
		m.Fatal(err)
	}
	return n
}

// TestLeftoverLinesHoldNobodyUp: rows of lines without an asset, as an earlier version left them, do not keep due offers of others from
// being seen.
func TestLeftoverLinesHoldNobodyUp(t *testing.T) {
	m := newTeam(t, nil)
	m.one(`with x as (insert into waits (project_id, asset_id, person_id, workspace_id, note, since, place, until)
		select 1, 1000000 + n, p.id, w.id, '', now(), 0, now() - interval '1 day' 
		from generate_series(1, 1000) n, people p, workspaces w
		where p.handle = 'rurik' and w.person_id = p.id returning 1) select count(*) from x`)
	var due []records.Due
	if err := m.DB.Use(t.Context(), func(tx *records.Tx) (err error) {
		due, _, err = tx.DueLocks(t.Context(), 200)
		return err
	}); err != nil || len(due) != 0 {
		t.Errorf("%d are due, %v", len(due), err)
	}
}

// TestTheRecordNeverShowsTwoHolders: a lock that waits for the row of another one is taken after that was given back, by the clock, too.
func TestTheRecordNeverShowsTwoHolders(t *testing.T) {
	k := newKept(t)
	ok(t)(k.sendAs(t.Context(), k.tamsin, uuid.NewString(), k.change(k.tamsin, "a.txt", 0, 0, "one")))
	take := func(ctx context.Context, actor ground.Actor) error {
		_, err := k.TakeLocks(ctx, actor, key, locks.Wish{Workspace: k.space[actor.Handle], Wants: []locks.Want{{Path: "a.txt", Version: 1}}})
		return err
	}
	back := func(actor ground.Actor) error {
		return k.GiveBackLocks(t.Context(), actor, key, k.space[actor.Handle], []string{"a.txt"}, false, "")
	}
	interleave(t, k, func(ctx context.Context, _ int) error {
		if err := take(ctx, k.rurik); err != nil {
			return err
		}
		return k.GiveBackLocks(ctx, k.rurik, key, k.space["rurik"], []string{"a.txt"}, false, "")
	}, func(ctx context.Context, _ int) error {
		if err := take(ctx, k.tamsin); err != nil {
			return err
		}
		return back(k.tamsin)
	}, func(n int, one, two error) {
		holds, _, err := k.Record(t.Context(), k.odile, key, locks.RecordQuery{})
		if err != nil {
			t.Fatal(err)
		}
		for i := range holds {
			for j := range holds {
				if i != j && holds[i].Taken.Before(*holds[j].Ended) && holds[j].Taken.Before(*holds[i].Ended) {
					t.Fatalf("round %d: %s held it from %s to %s, and %s from %s to %s", n, holds[i].Person, holds[i].Taken, holds[i].Ended,
						holds[j].Person, holds[j].Taken, holds[j].Ended)
				}
			}
		}
	})
}

// TestTheRecordKnowsTheRulesForPaths: letters beyond ASCII have two cases, too.
func TestTheRecordKnowsTheRulesForPaths(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "n"},
		Changes: []handoffs.Change{m.change(m.tamsin, "Ölfässer/Ä.txt", 0, 0, "one")}}, nil))
	ok(t)(m.TakeLocks(ctx, m.rurik, key, locks.Wish{Workspace: m.space["rurik"],
		Wants: []locks.Want{{Path: "Ölfässer/Ä.txt", Version: 1}}}))
	for _, path := range []string{"Ölfässer/Ä.txt", "ölfässer/ä.txt", "ÖLFÄSSER", "Ölfässer", ""} {
		if holds, _, err := m.Record(ctx, m.odile, key, locks.RecordQuery{Path: path}); err != nil || len(holds) != 1 {
			t.Errorf("%q: %d entries, %v", path, len(holds), err)
		}
	}
	if holds, _, err := m.Record(ctx, m.odile, key, locks.RecordQuery{Path: "ölfäss"}); err != nil || len(holds) != 0 {
		t.Errorf("half a name: %d entries, %v", len(holds), err)
	}
}

// TestTheStorageLimitHoldsOnEveryWayIn: whatever a client says, and by whichever way content comes, a project takes no more than it may.
func TestTheStorageLimitHoldsOnEveryWayIn(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "n"},
		Changes: []handoffs.Change{m.change(m.tamsin, "a.txt", 0, 0, "one")}}, nil))
	steward := m.odile
	steward.Steward = true
	stored := int64(m.one(`select sum(size) from packs`))
	p, err := m.SetLimit(ctx, steward, key, stored+1000)
	if err != nil || p.Limit != stored+1000 {
		t.Fatalf("%+v, %v", p, err)
	}
	full := func(what string, err error) {
		t.Helper()
		testbed.Problem(t, err, model.LimitReached)
		if err != nil && !strings.Contains(err.Error(), "steward") {
			t.Errorf("%s: who can help is not said: %v", what, err)
		}
		if now := int64(m.one(`select coalesce(sum(size), 0) from packs`)); now > stored+1000 {
			t.Errorf("%s: %d of %d bytes are taken", what, now, stored+1000)
		}
	}
	big := testbed.Cut(t, hiss(5000))
	_, err = m.StoreChunks(ctx, m.tamsin, key, testbed.From(big.Records))
	full("chunks", err)
	_, err = m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "n"},
		Changes: []handoffs.Change{{Path: "b.txt", Content: big.Content, Size: big.Size}}}, testbed.From(big.Records))
	full("a send that brings its content", err)
	_, err = m.Drop(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: model.KindConsole, About: model.About{Note: "n"},
		Changes: []handoffs.Change{{Path: "c.txt"}}}, strings.NewReader(string(hiss(6000))))
	full("a dropped file", err)
	// What fits is taken, until nothing fits; together no more than one by one.
	results := make(chan error, 8)
	for i := range 8 {
		go func() {
			small := testbed.Cut(t, []byte(fmt.Sprintf("%d%s", i, hiss(200))))
			_, err := m.StoreChunks(ctx, m.tamsin, key, testbed.From(small.Records))
			results <- err
		}()
	}
	taken := 0
	for range 8 {
		if <-results == nil {
			taken++
		}
	}
	if now := int64(m.one(`select sum(size) from packs`)); taken == 0 || taken == 8 || now > stored+1000 {
		t.Errorf("%d of 8 were taken, %d of %d bytes", taken, now, stored+1000)
	}
	// A limit above what fits into 32 bits.
	if p, err = m.SetLimit(ctx, steward, key, 5<<40); err != nil || p.Limit != 5<<40 {
		t.Errorf("%+v, %v", p, err)
	}
}

func hiss(n int) []byte {
	out := make([]byte, 0, n+32)
	for d := chunk.Sum([]byte("noise")); len(out) < n; d = chunk.Sum(d[:]) {
		out = append(out, d[:]...)
	}
	return out[:n]
}

// TestAManifestThatUnfoldsIsBounded: one node in many places stands for any size.
func TestAManifestThatUnfoldsIsBounded(t *testing.T) {
	m := newTeam(t, nil)
	data := make([]byte, chunk.Max)
	records := []pack.Record{pack.Encode(pack.Chunk, chunk.Sum(data), data)}
	item := manifest.Item{Digest: chunk.Sum(data), Size: chunk.Max}
	for level := range 5 {
		node := manifest.Node{Format: manifest.Format, Level: level}
		for range 64 {
			node.Items = append(node.Items, item)
		}
		block := manifest.Encode(&node)
		records = append(records, pack.Encode(pack.Manifest, block.Digest, block.Data))
		item = manifest.Item{Digest: block.Digest, Size: node.Size()}
	}
	ok(t)(m.StoreChunks(t.Context(), m.tamsin, key, testbed.From(records)))
	ctx, stop := context.WithTimeout(t.Context(), time.Minute)
	defer stop()
	_, err := m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "n"},
		Changes: []handoffs.Change{{Path: "bomb", Content: item.Digest, Size: item.Size}}}, nil)
	testbed.Problem(t, err, model.TooLarge)
}

// TestASendThatGoesBackSaysSo: content of an older version is refused until somebody says that it is meant.
func TestASendThatGoesBackSaysSo(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	send := func(older bool, changes ...handoffs.Change) error {
		_, err := m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "n"},
			TakeFree: true,
			Older:    older, Changes: changes}, nil)
		return err
	}
	for i, text := range []string{"one", "two", "three"} {
		if err := send(false, m.change(m.tamsin, "a.txt", i, 0, text)); err != nil {
			t.Fatal(err)
		}
	}
	back := m.change(m.tamsin, "a.txt", 3, 0, "one")
	err := send(false, back)
	if !refusedFor(err, model.OlderVersion) || !strings.Contains(err.Error(), "version 1 by tamsin") ||
		!strings.Contains(err.Error(), "--older") {
		t.Errorf("%v", err)
	}
	if _, err := m.CheckSend(ctx, m.tamsin, key, handoffs.Question{Send: handoffs.Send{Workspace: m.space["tamsin"], TakeFree: true,
		Changes: []handoffs.Change{back}}}); !refusedFor(err, model.OlderVersion) {
		t.Errorf("a check: %v", err)
	}
	if err := send(true, back); err != nil {
		t.Error(err)
	}
	// The same as the newest, at another place, goes nowhere back; nor does what another asset had.
	if err := send(false, handoffs.Change{Path: "b.txt", MovedFrom: "a.txt", Base: 4, Content: back.Content, Size: back.Size}); err != nil {
		t.Error(err)
	}
	if err := send(false, m.change(m.tamsin, "c.txt", 0, 0, "two")); err != nil {
		t.Error(err)
	}
	ok(t)(m.Rollback(ctx, m.tamsin, key, model.RollbackRequest{Workspace: m.space["tamsin"], Paths: []string{"b.txt"}, Version: 2},
		uuid.NewString()))
}

// TestWordsAreText: what can't be shown is not taken, wherever people write.
func TestWordsAreText(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "n"},
		Changes: []handoffs.Change{m.change(m.tamsin, "a.txt", 0, 0, "one")}}, nil))
	for _, bad := range []string{"a\x1b[2J", "a\u202eb", "a\u0085b", "a\x07", "a\u2066b", "a\x00b", "broken\xff"} {
		for what, say := range map[string]func() error{
			"a note": func() error {
				_, err := m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: bad},
					Changes: []handoffs.Change{m.change(m.tamsin, "n"+uuid.NewString(), 0, 0, "x")}}, nil)
				return err
			},
			"a stage": func() error {
				_, err := m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "n",
					Stage: bad},
					Changes: []handoffs.Change{m.change(m.tamsin, "n"+uuid.NewString(), 0, 0, "x")}}, nil)
				return err
			},
			"a task": func() error {
				_, err := m.Send(ctx, m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "n",
					Tasks: []string{bad}},
					Changes: []handoffs.Change{m.change(m.tamsin, "n"+uuid.NewString(), 0, 0, "x")}}, nil)
				return err
			},
			"a lock's note": func() error {
				_, err := m.TakeLocks(ctx, m.tamsin, key, locks.Wish{Workspace: m.space["tamsin"], Note: bad,
					Wants: []locks.Want{{Path: "a.txt", Version: 1}}})
				return err
			},
			"an ask": func() error { _, err := m.Ask(ctx, m.rurik, key, m.space["rurik"], "a.txt", bad); return err },
			"an override": func() error {
				return m.GiveBackLocks(ctx, m.odile, key, m.space["odile"], []string{"a.txt"}, true, bad)
			},
			"an answer":   func() error { return m.AnswerAsk(ctx, m.tamsin, key, locks.Answer{Path: "a.txt", Word: bad}) },
			"a workspace": func() error { _, err := m.AddWorkspace(ctx, m.tamsin, key, bad+strings.Repeat("x", 100)); return err },
			"a token": func() error {
				_, err := m.NewToken(ctx, m.tamsin, key, model.TokenRequest{Label: bad, Role: model.Viewer, Days: 1})
				return err
			},
			"a milestone": func() error {
				_, err := m.AddMilestone(ctx, m.odile, key, model.MilestoneRequest{Name: "first", Note: bad})
				return err
			},
			"its name": func() error {
				_, err := m.AddMilestone(ctx, m.odile, key, model.MilestoneRequest{Name: bad})
				return err
			},
			"a rule asked": func() error { _, err := m.AskForRule(ctx, m.tamsin, key, "x.tmp", bad); return err },
		} {
			var problem *model.Problem
			if err := say(); !errors.As(err, &problem) || problem.Type != model.BadRequest {
				t.Errorf("%s with %q: %v", what, bad, err)
			}
		}
	}
}

// TestOnePersonKeepsSoManyNames: names for assets that come later are no way to fill a project.
func TestOnePersonKeepsSoManyNames(t *testing.T) {
	m := newTeam(t, nil)
	keep := func(n int, prefix string) error {
		wants := make([]locks.Want, n)
		for i := range wants {
			wants[i].Path = fmt.Sprintf("%s/%d.txt", prefix, i)
		}
		_, err := m.TakeLocks(t.Context(), m.tamsin, key, locks.Wish{Workspace: m.space["tamsin"], Reserve: true, Wants: wants})
		return err
	}
	if err := keep(locks.MaxReserved, "a"); err != nil {
		t.Fatal(err)
	}
	testbed.Problem(t, keep(1, "b"), model.TooMany)
}

// TestAStrangersRequestSilencesNobody: naming somebody's workspace notes nothing of it.
func TestAStrangersRequestSilencesNobody(t *testing.T) {
	m := newTeam(t, nil)
	m.one(`with x as (update workspaces set seen = now() - interval '1 day' returning 1) select count(*) from x`)
	m.Heard(t.Context(), m.rurik, m.space["tamsin"])
	m.Heard(t.Context(), m.tamsin, m.space["tamsin"])
	if n := m.one(`select count(*) from workspaces where seen > now() - interval '1 hour'`); n != 1 {
		t.Errorf("%d workspaces were heard of", n)
	}
}

// TestNewsIsForMembersAndByRole: somebody who is not in the project hears nothing, not even that there is a stream; a viewer nothing of
// credentials.
func TestNewsIsForMembersAndByRole(t *testing.T) {
	m := newTeam(t, nil)
	stranger, _ := m.Person(t, "stranger")
	err := m.News(t.Context(), stranger, key, "", func(model.Event) error { return nil }, func(bool) error {
		t.Error("a stream begins for a stranger")
		return nil
	})
	testbed.Problem(t, err, model.NotFound)
	ok(t)(m.NewToken(t.Context(), m.odile, key, model.TokenRequest{Label: "build machine", Role: model.Viewer, Days: 1}))
	ok(t)(m.Send(t.Context(), m.tamsin, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "n"},
		Changes: []handoffs.Change{m.change(m.tamsin, "a.txt", 0, 0, "one")}}, nil))
	heard := func(actor ground.Actor) (list []model.Event) {
		ctx, stop := context.WithTimeout(t.Context(), 10*time.Second)
		defer stop()
		_ = m.News(ctx, actor, key, "0-0", func(e model.Event) error {
			list = append(list, e)
			if e.Kind == "token.made" {
				stop()
			}
			return nil
		}, func(bool) error { return nil })
		return list
	}
	for actor, open := range map[ground.Actor]bool{m.viewer: false, m.tamsin: false, m.odile: true} {
		told := false
		for _, e := range heard(actor) {
			if e.Kind == "token.made" {
				told = e.Subject["label"] == "build machine"
			}
		}
		if told != open {
			t.Errorf("%s is told of a token: %v", actor.Handle, told)
		}
	}
}

// TestAStreamEndsWithItsSignIn: signed out, ended or expired, within seconds.
func TestAStreamEndsWithItsSignIn(t *testing.T) {
	m := newTeam(t, nil)
	signed, err := m.SignIn(t.Context(), "tamsin", testbed.Passphrase, "test", false)
	if err != nil {
		t.Fatal(err)
	}
	actor, err := m.Authenticate(t.Context(), signed.Token)
	if err != nil {
		t.Fatal(err)
	}
	ended, stands := make(chan error, 1), make(chan struct{}, 100)
	go func() {
		ended <- m.News(t.Context(), actor, key, "", func(model.Event) error { return nil }, func(bool) error {
			stands <- struct{}{}
			return nil
		})
	}()
	<-stands
	if err := m.SignOut(t.Context(), actor, signed.Token); err != nil {
		t.Fatal(err)
	}
	select {
	case err := <-ended:
		testbed.Problem(t, err, model.SignInExpired)
	case <-time.After(10 * time.Second):
		t.Fatal("the stream goes on")
	}
}

// TestAMachinesTokenIsNoOwner: it makes no owners, and does not read its person's mail address.
func TestAMachinesTokenIsNoOwner(t *testing.T) {
	m := newTeam(t, nil)
	made, err := m.NewToken(t.Context(), m.odile, key, model.TokenRequest{Label: "build machine", Role: model.Owner, Days: 1})
	if err != nil {
		t.Fatal(err)
	}
	machine, err := m.Authenticate(t.Context(), made.Token)
	if err != nil {
		t.Fatal(err)
	}
	_, err = m.SetMember(t.Context(), machine, key, "tamsin", model.Owner)
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.NewsSettings(t.Context(), machine)
	testbed.Problem(t, err, model.NotAllowed)
	ok(t)(m.SetMember(t.Context(), machine, key, "tamsin", model.Lead))
}

// TestWhoHangsUpIsNoOutage: a caller who is gone says nothing of the database.
func TestWhoHangsUpIsNoOutage(t *testing.T) {
	m := newTeam(t, nil)
	ctx, stop := context.WithCancel(t.Context())
	stop()
	_, err := m.Projects(ctx, m.odile)
	var problem *model.Problem
	if err == nil || errors.As(err, &problem) {
		t.Errorf("%v", err)
	}
}

// TestAnotherPersonsSendKey is neither theirs to close nor to repeat.
func TestAnotherPersonsSendKey(t *testing.T) {
	m := newTeam(t, nil)
	send := handoffs.Send{Key: uuid.NewString(), Workspace: m.space["tamsin"], About: model.About{Note: "n"},
		Changes: []handoffs.Change{m.change(m.tamsin, "a.txt", 0, 0, "one")}}
	ok(t)(m.Send(t.Context(), m.tamsin, key, send, nil))
	_, err := m.CloseSend(t.Context(), m.rurik, key, send.Key)
	testbed.Problem(t, err, model.NotAllowed)
	send.Workspace = m.space["rurik"]
	_, err = m.Send(t.Context(), m.rurik, key, send, nil)
	testbed.Problem(t, err, model.KeyReused)
}
