package service_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/testbed"
)

// take wants locks in somebody's workspace.
func (m *team) take(actor ground.Actor, wish locks.Wish, paths ...string) (locks.Grant, error) {
	wish.Workspace = m.space[actor.Handle]
	for _, p := range paths {
		wish.Wants = append(wish.Wants, locks.Want{Path: p, Version: 1})
	}
	return m.TakeLocks(m.Context(), actor, key, wish)
}

func (m *team) giveBack(actor ground.Actor, paths ...string) {
	m.Helper()
	if err := m.GiveBackLocks(m.Context(), actor, key, m.space[actor.Handle], paths, false, ""); err != nil {
		m.Fatal(err)
	}
}

// board is what everyone sees of the locks, in a few words.
func (m *team) board() string {
	m.Helper()
	list, err := m.Locks(m.Context(), m.viewer, key, "")
	if err != nil {
		m.Fatal(err)
	}
	var out []string
	for _, l := range list {
		text := l.Path + ":" + l.Holder
		for _, w := range l.Waitlist {
			text += " <" + w.Handle
			if w.OfferedUntil != nil {
				text += "!"
			}
		}
		for _, k := range l.Asks {
			text += " ?" + k.Person + k.Answer
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

// sql changes the database directly: time passes faster so.
func (m *team) sql(statement string, args ...any) {
	m.Helper()
	conn, err := pgx.Connect(m.Context(), m.URL)
	if err == nil {
		_, err = conn.Exec(m.Context(), statement, args...)
		_ = conn.Close(m.Context())
	}
	if err != nil {
		m.Fatal(err)
	}
}

// heard collects what one person is told from now on, the kinds of news that concern them in brackets, until something is said and a while
// after.
func (m *team) heard(actor ground.Actor) func(until string) string {
	ctx, stop := context.WithCancel(m.Context())
	list := make(chan string, 100)
	ready, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		started := false
		_ = m.News(ctx, actor, key, "", func(e model.Event) error {
			if e.Text != "" {
				list <- strings.TrimPrefix("["+e.News+"] "+e.Text, "[] ")
			}
			return nil
		}, func(bool) error {
			if !started {
				started = true
				close(ready)
			}
			return nil
		})
	}()
	<-ready
	time.Sleep(50 * time.Millisecond) // the place in the news is taken right after
	return func(until string) string {
		var out []string
		for quiet := time.After(10 * time.Second); ; {
			select {
			case text := <-list:
				if out = append(out, text); strings.Contains(text, until) {
					quiet = time.After(400 * time.Millisecond)
				}
			case <-quiet:
				stop()
				<-done
				return strings.Join(out, "; ")
			}
		}
	}
}

func newLine(t *testing.T) *team {
	m := newTeam(t, nil)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "one"), m.change(m.tamsin, "b.png", 0, 0, "two"),
		m.change(m.tamsin, "c.png", 0, 0, "three")))
	return m
}

func TestALineIsServedInOrder(t *testing.T) {
	m := newLine(t)
	fence := m.lock(m.tamsin, "a.png", 1)
	g, err := m.take(m.rurik, locks.Wish{Wait: true, Note: "a rail"}, "a.png", "b.png")
	if err != nil || len(g.Locks) != 1 || len(g.Waiting) != 1 || g.Waiting[0] != (model.Waiting{Path: "a.png", Place: 1, Holder: "tamsin"}) {
		t.Fatalf("waiting for one and getting the other: %+v, %v", g, err)
	}
	ok(t)(m.take(m.odile, locks.Wish{Wait: true}, "a.png"))
	if got := m.board(); got != "a.png:tamsin <rurik <odile, b.png:rurik" {
		t.Errorf("the board says %s", got)
	}
	hears := m.heard(m.rurik)
	// A send gives it back, to the line; whoever waits has to bring the newest version.
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 1, fence, "second")))
	_, err = m.take(m.odile, locks.Wish{}, "a.png")
	reason(t, err, "offered")
	_, err = m.take(m.rurik, locks.Wish{}, "a.png")
	reason(t, err, "behind")
	if g, err = m.take(m.rurik, locks.Wish{WillUpdate: true}, "a.png"); err != nil || g.Locks[0].Holder != "rurik" ||
		g.Assets[0].Newest != 2 {
		t.Errorf("%+v, %v", g, err)
	}
	if said := hears("[work]"); !strings.Contains(said, "[turn] It is your turn: a.png is offered to you until") ||
		!strings.Contains(said, "[work] h2 by tamsin") {
		t.Errorf("rurik hears: %s", said)
	}
	if err := m.LeaveLines(t.Context(), m.odile, key, []string{"a.png"}); err != nil {
		t.Fatal(err)
	}
	m.giveBack(m.rurik, "a.png", "b.png")
	if got := m.board(); got != "" {
		t.Errorf("at the end the board says %s", got)
	}
}

func TestAskingAndAnswering(t *testing.T) {
	m := newLine(t)
	m.lock(m.tamsin, "a.png", 1)
	ok(t)(m.take(m.odile, locks.Wish{Wait: true}, "a.png"))
	hears := m.heard(m.tamsin)
	w, err := m.Ask(t.Context(), m.rurik, key, m.space["rurik"], "a.png", "two minutes for the rail")
	if err != nil || w != (model.Waiting{Path: "a.png", Place: 2, Holder: "tamsin"}) {
		t.Fatalf("%+v, %v", w, err)
	}
	ok(t)(m.Ask(t.Context(), m.rurik, key, m.space["rurik"], "a.png", "two minutes for the rail")) // the answer was lost, say
	if said := hears("[asked]"); !strings.Contains(said, "[asked] rurik asks you to let go of a.png: two minutes for the rail") ||
		!strings.Contains(said, "[waits] rurik waits in line for a.png") || strings.Count(said, "[asked]") != 1 {
		t.Errorf("tamsin hears: %s", said)
	}
	reason(t, m.AnswerAsk(t.Context(), m.odile, key, locks.Answer{Path: "a.png", Give: true}), "held")
	hears = m.heard(m.rurik)
	if err := m.AnswerAsk(t.Context(), m.tamsin, key,
		locks.Answer{Path: "a.png", Word: "half the reef is moved", Until: time.Now().Add(time.Hour)}); err != nil {
		t.Fatal(err)
	}
	if got := m.board(); got != "a.png:tamsin <odile <rurik ?ruriknot-yet" {
		t.Errorf("the board says %s", got)
	}
	if err := m.AnswerAsk(t.Context(), m.tamsin, key, locks.Answer{Path: "a.png", Give: true, To: "rurik"}); err != nil {
		t.Fatal(err)
	}
	if got := m.board(); got != "a.png: <rurik! <odile" {
		t.Errorf("given to rurik, the board says %s", got)
	}
	if said := hears("[turn]"); !strings.Contains(said, "[answered] tamsin answered about a.png: not yet until") ||
		!strings.Contains(said, "half the reef is moved") || !strings.Contains(said, "[turn]") {
		t.Errorf("rurik hears: %s", said)
	}
	testbed.Problem(t, func() error {
		_, err := m.Ask(t.Context(), m.viewer, key, m.space["keiko"], "a.png", "please")
		return err
	}(), model.NotAllowed)
	testbed.Problem(t, func() error {
		_, err := m.Ask(t.Context(), m.rurik, key, m.space["rurik"], "a.png", " ")
		return err
	}(), model.BadRequest)
}

func TestTimePasses(t *testing.T) {
	m := newLine(t)
	m.lock(m.tamsin, "a.png", 1)
	ok(t)(m.take(m.rurik, locks.Wish{Wait: true}, "a.png"))
	ok(t)(m.take(m.odile, locks.Wish{Wait: true}, "a.png"))
	m.giveBack(m.tamsin, "a.png")
	hears := m.heard(m.rurik)
	m.sql(`update waits set until = now() where until is not null`)
	m.sql(`notify tarnd_news`)
	testbed.Eventually(t, "the offer lapses", func() bool { return m.board() == "a.png: <odile! <rurik" })
	if said := hears("[turn]"); !strings.Contains(said, "[turn] Your offer of a.png has lapsed. You stay in line") {
		t.Errorf("rurik hears: %s", said)
	}
	// An ask that nobody answers.
	m.lock(m.tamsin, "b.png", 1)
	hears = m.heard(m.rurik)
	ok(t)(m.Ask(t.Context(), m.rurik, key, m.space["rurik"], "b.png", "for the bell"))
	m.sql(`update asks set late = now(), at = at - interval '4 hours'`)
	m.sql(`notify tarnd_news`)
	if said := hears("[answered]"); strings.Count(said, "[answered] tamsin has not answered about b.png yet") != 1 {
		t.Errorf("rurik hears: %s", said)
	}
}

func TestAForgottenLockIsMarkedAndItsHolderReminded(t *testing.T) {
	m := newLine(t)
	m.lock(m.tamsin, "a.png", 1)
	m.lock(m.rurik, "b.png", 1)
	ok(t)(nil, m.SetHeadsUps(t.Context(), m.rurik, key, m.space["rurik"],
		[]model.UnsentChange{{Path: "b.png", State: model.Edited, Since: time.Now()}}))
	hears := m.heard(m.tamsin)
	m.sql(`update assets set locked = now() - interval '5 days' where holder_id is not null`)
	m.sql(`update workspaces set seen = now() - interval '4 days'`)
	ok(t)(nil, m.Remind(t.Context()))
	ok(t)(nil, m.Remind(t.Context()))
	list, err := m.Locks(t.Context(), m.viewer, key, "")
	if err != nil || len(list) != 2 || !list[0].Forgotten || list[1].Forgotten || !list[1].Unsent {
		t.Errorf("%+v, %v", list, err)
	}
	if said := hears("[lost]"); strings.Count(said, "[lost] You hold a.png since") != 1 {
		t.Errorf("tamsin hears: %s", said)
	}
	// Heard of again, it is forgotten no more.
	m.Heard(t.Context(), m.tamsin, m.space["tamsin"])
	if list, _ = m.Locks(t.Context(), m.viewer, key, "a.png"); len(list) != 1 || list[0].Forgotten {
		t.Errorf("%+v", list)
	}
	m.Heard(t.Context(), m.rurik, m.space["tamsin"]) // somebody else's says nothing
}

func TestManyAtOnce(t *testing.T) {
	m := newLine(t)
	m.lock(m.tamsin, "a.png", 1)
	_, err := m.take(m.rurik, locks.Wish{}, "a.png", "b.png", "nowhere.png")
	reason(t, err, "unknown")
	if got := m.board(); got != "a.png:tamsin" {
		t.Errorf("after a refusal: %s", got)
	}
	g, err := m.take(m.rurik, locks.Wish{Any: true}, "a.png", "b.png", "nowhere.png")
	if err != nil || len(g.Locks) != 1 || len(g.Refusals) != 2 || g.Refusals[0].Path != "nowhere.png" {
		t.Errorf("%+v, %v", g, err)
	}
	if got := m.board(); got != "a.png:tamsin, b.png:rurik" {
		t.Errorf("those that could be had: %s", got)
	}
}

func TestAPathCanBeReserved(t *testing.T) {
	m := newLine(t)
	_, err := m.take(m.tamsin, locks.Wish{}, "levels/new.glb")
	reason(t, err, "unknown")
	wish := locks.Wish{Reserve: true, Workspace: m.space["tamsin"], Note: "the next level", Wants: []locks.Want{{Path: "levels/new.glb"}}}
	g, err := m.TakeLocks(t.Context(), m.tamsin, key, wish)
	if err != nil || len(g.Locks) != 1 {
		t.Fatalf("%+v, %v", g, err)
	}
	_, err = m.send(m.rurik, m.change(m.rurik, "Levels/new.glb", 0, 0, "rurik's"))
	reason(t, err, "held")
	for path, want := range map[string]string{"a.png/below": "path-collides", "CON.png": "reserved", "../x": "dots", "A.PNG": ""} {
		wish.Wants = []locks.Want{{Path: path, Version: 1}}
		_, err := m.TakeLocks(t.Context(), m.tamsin, key, wish)
		if want == "" && err != nil || want != "" && (err == nil || len(err.(*model.Refused).Refusals) != 1) {
			t.Errorf("reserving %s: %v", path, err)
		}
	}
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "levels/new.glb", 0, g.Locks[0].Fence, "tamsin's")))
	if got := m.board(); got != "a.png:tamsin" {
		t.Errorf("after the send: %s", got)
	}
}

func TestAnOldVersionIsLockedKnowingly(t *testing.T) {
	m := newLine(t)
	fence := m.lock(m.tamsin, "a.png", 1)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 1, fence, "second")))
	_, err := m.take(m.rurik, locks.Wish{}, "a.png")
	reason(t, err, "behind")
	if g, err := m.take(m.rurik, locks.Wish{Diverge: true}, "a.png"); err != nil || g.Locks[0].Diverged != 1 {
		t.Fatalf("%+v, %v", g, err)
	}
	if list, _ := m.Locks(t.Context(), m.viewer, key, ""); len(list) != 1 || list[0].Diverged != 1 {
		t.Errorf("everyone sees %+v", list)
	}
	_, err = m.send(m.rurik, m.change(m.rurik, "a.png", 1, 0, "from the old one"))
	reason(t, err, "behind")
	m.giveBack(m.rurik, "a.png")
	// Where the rules only warn, it takes no word.
	rules := "[locks]\nwhen-behind = \"warn\"\noffer-for = \"30 minutes\"\n"
	ok(t)(m.send(m.odile, m.change(m.odile, "tarn.toml", 0, 0, rules)))
	if g, err := m.take(m.rurik, locks.Wish{}, "a.png"); err != nil || g.Locks[0].Diverged != 1 {
		t.Errorf("%+v, %v", g, err)
	}
	ok(t)(m.take(m.tamsin, locks.Wish{Wait: true}, "a.png"))
	m.giveBack(m.rurik, "a.png")
	list, _ := m.Locks(t.Context(), m.viewer, key, "")
	if left := time.Until(*list[0].Waitlist[0].OfferedUntil); left > 30*time.Minute || left < 20*time.Minute {
		t.Errorf("the rules offer for 30 minutes, and it is %s", left)
	}
}

func TestALockIsBroughtToAnotherWorkspace(t *testing.T) {
	m := newLine(t)
	fence := m.lock(m.tamsin, "a.png", 1)
	laptop, err := m.AddWorkspace(t.Context(), m.tamsin, key, "tamsin-laptop")
	ok(t)(laptop, err)
	wish := locks.Wish{Workspace: laptop.ID, Wants: []locks.Want{{Path: "a.png", Version: 1}}}
	_, err = m.TakeLocks(t.Context(), m.tamsin, key, wish)
	reason(t, err, "held-elsewhere")
	wish.Bring = true
	if g, err := m.TakeLocks(t.Context(), m.tamsin, key, wish); err != nil || g.Locks[0].WorkspaceID != laptop.ID ||
		g.Locks[0].Fence <= fence {
		t.Fatalf("%+v, %v", g, err)
	}
	_, err = m.send(m.tamsin, m.change(m.tamsin, "a.png", 1, fence, "from the desk"))
	reason(t, err, "held-elsewhere")
}

func TestTheRecord(t *testing.T) {
	m := newLine(t)
	fence := m.lock(m.tamsin, "a.png", 1)
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 1, fence, "second")))
	m.lock(m.rurik, "b.png", 1)
	ok(t)(m.take(m.tamsin, locks.Wish{Wait: true}, "b.png"))
	ok(t)(nil, m.GiveBackLocks(t.Context(), m.odile, key, m.space["odile"], []string{"b.png"}, true, "on leave"))
	m.lock(m.tamsin, "b.png", 1)
	m.sql(`update waits set since = since - interval '8 days', ended = ended - interval '1 day'`)
	tell := func(q locks.RecordQuery) string {
		list, _, err := m.Record(t.Context(), m.viewer, key, q)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, h := range list {
			out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s %s %s %s h%d", h.Path, h.Person, h.Ending, h.EndedBy, h.Word, h.Handoff)))
		}
		return strings.Join(out, ", ")
	}
	all := "b.png tamsin    h0, b.png rurik overridden odile on leave h0, a.png tamsin sent   h2"
	for want, q := range map[string]locks.RecordQuery{
		all:                      {},
		"a.png tamsin sent   h2": {Path: "A.png"},
		"b.png rurik overridden odile on leave h0":   {Ending: "overridden"},
		"b.png tamsin    h0":                         {Ending: "held"},
		"b.png tamsin    h0, a.png tamsin sent   h2": {Person: "tamsin"},
		"": {Since: time.Now().AddDate(0, 0, -1), Until: time.Now().AddDate(0, 0, -1)},
	} {
		if got := tell(q); got != want {
			t.Errorf("%+v: %s, want %s", q, got, want)
		}
	}
	weeks, err := m.Contested(t.Context(), m.viewer, key, 4)
	total := int64(0)
	for _, w := range weeks {
		total += w.Seconds
		if w.Path != "b.png" || w.People != 1 {
			t.Errorf("%+v", w)
		}
	}
	if err != nil || len(weeks) < 2 || total < 7*86400-60 || total > 7*86400+60 {
		t.Errorf("a week of waiting is %+v, %v", weeks, err)
	}
}

func TestWhoLeavesTheProjectLeavesNothingLocked(t *testing.T) {
	m := newLine(t)
	m.lock(m.tamsin, "a.png", 1)
	m.lock(m.rurik, "b.png", 1)
	ok(t)(m.take(m.rurik, locks.Wish{Wait: true}, "a.png"))
	ok(t)(m.Ask(t.Context(), m.tamsin, key, m.space["tamsin"], "b.png", "a moment"))
	ok(t)(nil, m.RemoveMember(t.Context(), m.odile, key, "tamsin"))
	if got := m.board(); got != "b.png:rurik, a.png: <rurik!" {
		t.Errorf("the board says %s", got)
	}
}

// What comes over the wire may be anything: it is refused or done, and never a fault.
func FuzzLockRequests(f *testing.F) {
	for _, seed := range []string{
		`{"assets":[{"path":"a.png","version":1}],"wait":true}`, `{"assets":[{"path":"../x"},{"path":""}],"reserve":true,"any":true}`,
		`{"assets":[{"path":"a.png","version":-1}],"diverge":true}`, `{"assets":[{"path":"a.png\u0000"}],"reserve":true,"note":"\u0000"}`,
		`{"assets":[{"path":"\u202ea.png"}],"bring":true,"will_update":true}`, `{"assets":[]}`,
	} {
		f.Add([]byte(seed))
	}
	s := testbed.NewService(f, nil)
	actor, _ := s.Person(f, "tamsin")
	ok(f)(s.StartProject(f.Context(), actor, key))
	space, err := s.AddWorkspace(f.Context(), actor, key, "tamsin-pc")
	ok(f)(space, err)
	f.Fuzz(func(t *testing.T, text []byte) {
		var q model.LockRequest
		if json.Unmarshal(text, &q) != nil || len(q.Assets) > 100 {
			return
		}
		wish := locks.Wish{Workspace: space.ID, Note: q.Note, WillUpdate: q.WillUpdate, Any: q.Any, Wait: q.Wait, Diverge: q.Diverge,
			Bring: q.Bring, Reserve: q.Reserve}
		for _, a := range q.Assets {
			wish.Wants = append(wish.Wants, locks.Want(a))
		}
		_, err := s.TakeLocks(t.Context(), actor, key, wish)
		var refused *model.Refused
		var problem *model.Problem
		if err != nil && !asAny(err, &refused, &problem) {
			t.Errorf("%s: %v", text, err)
		}
	})
}

func asAny(err error, refused **model.Refused, problem **model.Problem) bool {
	return errors.As(err, refused) || errors.As(err, problem)
}

// What one gives back under a folder is what one holds there, and the lines that one waits in; others' locks stay, but for a lead who takes
// them.
func TestUnlockingUnderAFolder(t *testing.T) {
	m := newTeam(t, nil)
	var changes []handoffs.Change
	for _, path := range []string{"levels/A.glb", "levels/b.glb", "levels-old/c.glb", "levels/d.glb", "e.png"} {
		changes = append(changes, m.change(m.tamsin, path, 0, 0, path))
	}
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "a pass"}}, changes...)
	for path, who := range map[string]ground.Actor{"levels/a.glb": m.tamsin, "levels/b.glb": m.rurik, "levels-old/c.glb": m.tamsin,
		"levels/d.glb": m.tamsin, "e.png": m.tamsin} {
		m.lock(who, path, 1)
	}
	for path, who := range map[string]ground.Actor{"levels/b.glb": m.tamsin, "levels/d.glb": m.rurik} {
		if _, err := m.TakeLocks(t.Context(), who, key, locks.Wish{Workspace: m.space[who.Handle], Wait: true,
			Wants: []locks.Want{{Path: path, Version: 1}}}); err != nil {
			t.Fatal(err)
		}
	}
	unlock := func(who ground.Actor, override bool, under ...string) (string, error) {
		out, err := m.Unlock(t.Context(), who, key, model.UnlockRequest{Workspace: m.space[who.Handle], Under: under, Override: override,
			Reason: "it is Friday"})
		slices.Sort(out.Freed)
		return fmt.Sprint(out.Freed, out.Left, out.Next), err
	}
	for _, x := range []struct {
		who      ground.Actor
		override bool
		under    []string
		want     string
	}{
		{m.tamsin, false, []string{"LEVELS/", "levels/a.glb"}, "[levels/a.glb levels/d.glb] [levels/b.glb] map[levels/d.glb:rurik]"},
		{m.tamsin, false, []string{"*.png"}, "[e.png] [] map[]"},
		{m.odile, true, []string{"levels"}, "[levels/b.glb levels/d.glb] [] map[]"},
		{m.tamsin, false, []string{""}, "[levels-old/c.glb] [] map[]"},
	} {
		if got, err := unlock(x.who, x.override, x.under...); err != nil || !strings.EqualFold(got, x.want) {
			t.Errorf("%v: %s, %v; want %s", x.under, got, err, x.want)
		}
	}
	_, err := unlock(m.tamsin, false, "levels")
	reason(t, err, "not-locked")
	if held, err := m.Locks(t.Context(), m.odile, key, ""); err != nil ||
		slices.ContainsFunc(held, func(l model.Lock) bool { return l.Holder != "" }) {
		t.Errorf("%+v, %v", held, err)
	}
}
