package service_test

import (
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/keeping"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/store"
	"kettletarn/internal/testbed"
)

// merge brings a branch into another one.
func (m *team) merge(actor ground.Actor, from, into string, decide ...string) (model.MergeAnswer, error) {
	q := model.MergeRequest{Workspace: m.space[actor.Handle], From: from, Into: into}
	for _, d := range decide {
		pattern, way, _ := strings.Cut(d, "=")
		q.Decide = append(q.Decide, model.Decision{Pattern: pattern, Way: way})
	}
	return m.Merge(m.Context(), actor, key, q, uuid.NewString())
}

// on sends as somebody on a branch, taking what locks that needs, whatever others have.
func (m *team) on(actor ground.Actor, branch string, changes ...handoffs.Change) int {
	m.Helper()
	for i, c := range changes {
		if c.Base == 0 {
			continue
		}
		path := c.Path
		if c.MovedFrom != "" {
			path = c.MovedFrom
		}
		g, err := m.TakeLocks(m.Context(), actor, key, locks.Wish{Workspace: m.space[actor.Handle], Branch: branch, Diverge: true,
			Wants: []locks.Want{{Path: path, Version: c.Base}}})
		if err != nil {
			m.Fatal(err)
		}
		changes[i].Fence = g.Locks[0].Fence
	}
	receipt, err := m.Send(m.Context(), actor, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space[actor.Handle], Branch: branch,
		About: model.About{Note: "on " + branch}, TakeFree: true, Older: true, Changes: changes}, nil)
	if err != nil {
		m.Fatal(err)
	}
	return receipt.Handoff.Number
}

// sound looks everything through.
func (m *team) sound() {
	m.Helper()
	if out, err := m.Verify(m.Context(), keeping.VerifyOptions{}); err != nil || len(out.Findings) != 0 {
		m.Errorf("%+v, %v", out.Findings, err)
	}
}

func comes(list []model.MergeChange) string {
	var out []string
	for _, c := range list {
		text := fmt.Sprintf("%s %s v%d", c.Change, c.Path, c.Version)
		if c.Made {
			text += " made"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

// TestAMergeThatGoesByItself: what one side changed comes as it is, what both did to an asset, one this and the other that, is put
// together.
func TestAMergeThatGoesByItself(t *testing.T) {
	m := newTeam(t, nil)
	m.on(m.tamsin, "main", m.change(m.tamsin, "a.png", 0, 0, "a1"), m.change(m.tamsin, "b.png", 0, 0, "b1"),
		m.change(m.tamsin, "c.png", 0, 0, "c1"), m.change(m.tamsin, "levels/bell.ktl", 0, 0, "bell"))
	m.addBranch("second/chapter", "")
	m.on(m.tamsin, "second/chapter", m.change(m.tamsin, "a.png", 1, 0, "a2"), m.change(m.tamsin, "new.png", 0, 0, "new"),
		handoffs.Change{Path: "b.png", Base: 1, Gone: true})
	moved := m.change(m.tamsin, "far/bell.ktl", 1, 0, "bell")
	moved.MovedFrom = "levels/bell.ktl"
	m.on(m.tamsin, "second/chapter", moved)
	m.on(m.rurik, "main", m.change(m.rurik, "c.png", 1, 0, "c2"), m.change(m.rurik, "levels/bell.ktl", 1, 0, "bell, louder"))

	q := model.MergeRequest{Workspace: m.space["rurik"], From: "Second/Chapter", Preview: true}
	seen, err := m.Merge(t.Context(), m.rurik, key, q, "")
	if err != nil {
		t.Fatal(err)
	}
	want := "edited a.png v2, gone b.png v2, moved far/bell.ktl v4 made, new new.png v1"
	if got := comes(seen.Comes); got != want || seen.Open != 0 || len(seen.Refusals) != 0 || seen.Since != 1 || seen.Into != "main" ||
		seen.At != 4 || seen.AtFrom != 3 || seen.Made != 1 || seen.Handoff != nil {
		t.Errorf("%s; %+v", got, seen)
	}
	if got := m.held("main"); got != "a.png=v1 b.png=v1 c.png=v2 levels/bell.ktl=v3" {
		t.Errorf("a preview changed something: %s", got)
	}
	done, err := m.merge(m.rurik, "second/chapter", "")
	if err != nil {
		t.Fatal(err)
	}
	if got := m.held("main"); got != "a.png=v2 c.png=v2 far/bell.ktl=v4 new.png=v1" {
		t.Errorf("main has %s", got)
	}
	h, err := m.Handoff(t.Context(), m.viewer, key, "h5")
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, a := range h.Assets {
		told = append(told, fmt.Sprintf("%s %s v%d-v%d", a.Change, a.Path, a.Before, a.Version))
	}
	if !slices.Equal(h.Parents, []int{4, 3}) || h.Count != 4 || done.Handoff == nil || done.Handoff.Number != 5 ||
		strings.Join(told, ", ") != "edited a.png v1-v2, gone b.png v1-v2, moved far/bell.ktl v3-v4, new new.png v0-v1" {
		t.Errorf("%v %+v", told, h)
	}
	if list, _, err := m.Handoffs(t.Context(), m.viewer, key, historyFilter("new.png")); err != nil || len(list) != 2 {
		t.Errorf("%d handoffs are about new.png, %v", len(list), err)
	}
	// There is nothing left to bring, and the branch gets the rest the other way.
	testbed.Problem(t, second(m.merge(m.rurik, "second/chapter", "main")), model.BadRequest)
	if _, err := m.merge(m.tamsin, "main", "second/chapter"); err != nil {
		t.Fatal(err)
	}
	if got := m.held("second/chapter"); got != m.held("main") {
		t.Errorf("the branch has %s", got)
	}
	// Locks find nothing apart any more.
	for path, version := range map[string]int{"a.png": 2, "far/bell.ktl": 4, "c.png": 2} {
		m.lock(m.tamsin, path, version)
	}
	m.sound()
}

// A merge is planned once, with everything locked: it asks the database for what a look does, whether that is still so behind the locks,
// and what writing takes.
func TestAMergeIsPlannedOnce(t *testing.T) {
	m := newTeam(t, nil)
	m.on(m.tamsin, "main", m.change(m.tamsin, "a.png", 0, 0, "a1"))
	m.addBranch("apart", "")
	m.on(m.tamsin, "apart", m.change(m.tamsin, "a.png", 1, 0, "a2"))
	ctx, whole := testbed.Counted(t.Context())
	q := model.MergeRequest{Workspace: m.space["tamsin"], From: "apart", Into: "main", Preview: true}
	if _, err := m.Merge(ctx, m.tamsin, key, q, ""); err != nil {
		t.Fatal(err)
	}
	look := whole.Swap(0)
	q.Preview = false
	if _, err := m.Merge(ctx, m.tamsin, key, q, uuid.NewString()); err != nil {
		t.Fatal(err)
	}
	const writing = 21
	if whole.Load() > look+writing {
		t.Errorf("a look takes %d statements, and the merge %d", look, whole.Load())
	}
}

// What is put together line by line is put together of what both branches have when it comes in, also where one of them moves on after the
// texts were read.
func TestATextThatMovesOnIsReadAgain(t *testing.T) {
	for at := 1; at <= 3; at++ {
		m := newTeam(t, nil)
		m.on(m.tamsin, "main", m.change(m.tamsin, "d.json", 0, 0, "one\ntwo\nthree\nfour\nfive\n"))
		m.addBranch("rev-c", "")
		m.on(m.tamsin, "rev-c", m.change(m.tamsin, "d.json", 1, 0, "ONE\ntwo\nthree\nfour\nfive\n"))
		m.on(m.rurik, "main", m.change(m.rurik, "d.json", 1, 0, "one\ntwo\nthree\nfour\nFIVE\n"))
		begun, edited := 0, false
		ctx := testbed.Before(t.Context(), func(sql string) {
			if strings.Contains(sql, "insert into send_keys") {
				if begun++; begun == at {
					edited = true
					m.on(m.rurik, "main", m.change(m.rurik, "d.json", 3, 0, "one\ntwo\nTHREE\nfour\nFIVE\n"))
				}
			}
		})
		if _, err := m.Merge(ctx, m.tamsin, key, model.MergeRequest{Workspace: m.space["tamsin"], From: "rev-c", Into: "main",
			Decide: []model.Decision{{Pattern: "d.json", Way: model.WayLines}}}, uuid.NewString()); err != nil {
			t.Fatal(at, err)
		}
		want := "ONE\ntwo\nthree\nfour\nFIVE\n"
		if edited {
			want = "ONE\ntwo\nTHREE\nfour\nFIVE\n"
		}
		if got := m.text("d.json"); got != want || at == 1 && !edited {
			t.Errorf("moved on at %d: it is %q, not %q", at, got, want)
		}
		m.sound()
	}
}

// TestAMergeBringsWhatIsThere: whoever holds an asset sends on the branch that comes while the merge is under way, before each of its
// statements up to the one that locks the assets. Until that send the lock was in the way, so that what comes is what was sent.
func TestAMergeBringsWhatIsThere(t *testing.T) {
	locked := false
	for at := 1; !locked; at++ {
		t.Run(fmt.Sprint(at), func(t *testing.T) {
			m := newTeam(t, nil)
			m.on(m.tamsin, "main", m.change(m.tamsin, "a.png", 0, 0, "a1"))
			m.addBranch("apart", "")
			m.on(m.tamsin, "apart", m.change(m.tamsin, "a.png", 1, 0, "a2"))
			ok(t)(m.TakeLocks(t.Context(), m.tamsin, key, locks.Wish{Workspace: m.space["tamsin"], Branch: "apart", Diverge: true,
				Wants: []locks.Want{{Path: "a.png", Version: 2}}}))
			n := 0
			ctx := testbed.Before(t.Context(), func(sql string) {
				if n++; n < at {
					locked = locked || strings.Contains(sql, "for update of a")
				} else if n == at && !locked {
					m.on(m.tamsin, "apart", m.change(m.tamsin, "a.png", 2, 0, "a3"))
				}
			})
			_, err := m.Merge(ctx, m.rurik, key, model.MergeRequest{Workspace: m.space["rurik"], From: "apart", Into: "main"}, uuid.NewString())
			if locked {
				reason(t, err, "held") // it was not sent before
			} else if got := m.text("a.png"); err != nil || got != "a3" {
				t.Errorf("%q came, %v", got, err)
			}
			m.sound()
		})
	}
}

// text is what a file has now.
func (m *team) text(path string) string {
	m.Helper()
	p, v, err := m.VersionOf(m.Context(), m.viewer, key, path, 0)
	if err != nil {
		m.Fatal(path, err)
	}
	c, err := m.OpenDigest(m.Context(), p, v.Content)
	if err != nil {
		m.Fatal(err)
	}
	defer c.Close()
	data, err := io.ReadAll(c)
	if err != nil {
		m.Fatal(err)
	}
	return string(data)
}

// TestWhatBothChangedIsDecided, file by file, in each of the ways; and what nobody decided stops the merge.
func TestWhatBothChangedIsDecided(t *testing.T) {
	m := newTeam(t, nil)
	names := []string{"a.png", "b.png", "c.png", "d.json", "e.json", "gone.png", "mine.png"}
	var first []handoffs.Change
	for _, n := range names {
		first = append(first, m.change(m.tamsin, n, 0, 0, "one\ntwo\nthree\nfour\n"))
	}
	m.on(m.tamsin, "main", first...)
	m.addBranch("rev-c", "")
	edits := func(actor ground.Actor, branch, data string, names ...string) {
		var list []handoffs.Change
		for _, n := range names {
			list = append(list, m.change(actor, n, 1, 0, data))
		}
		m.on(actor, branch, list...)
	}
	edits(m.tamsin, "rev-c", "ONE\ntwo\nthree\nfour\n", "a.png", "b.png", "c.png", "d.json", "e.json", "gone.png")
	m.on(m.tamsin, "rev-c", handoffs.Change{Path: "mine.png", Base: 1, Gone: true})
	edits(m.rurik, "main", "one\ntwo\nthree\nFOUR\n", "a.png", "b.png", "c.png", "d.json", "mine.png")
	edits(m.rurik, "main", "uno\ntwo\nthree\nfour\n", "e.json")
	m.on(m.rurik, "main", handoffs.Change{Path: "gone.png", Base: 1, Gone: true})

	seen, err := m.Merge(t.Context(), m.rurik, key, model.MergeRequest{Workspace: m.space["rurik"], From: "rev-c", Into: "main", Preview: true,
		Decide: []model.Decision{{Pattern: "*.json", Way: "lines"}, {Pattern: "b.png", Way: "lines"}, {Pattern: "gone.png", Way: "both"}}}, "")
	if err != nil {
		t.Fatal(err)
	}
	var open []string
	for _, c := range seen.Undecided {
		open = append(open, c.Path+" "+c.Why)
		if c.Message == "" || len(c.Ways) < 2 {
			t.Errorf("%+v", c)
		}
		if slices.Contains(c.Ways, "lines") != (c.Path == "e.json") {
			t.Errorf("%s is offered as %v", c.Path, c.Ways)
		}
		if c.Path == "e.json" && (len(c.Places) != 1 || !strings.HasSuffix(c.Message, "in 1 place") ||
			c.Places[0].There[0] != "ONE" || c.Places[0].Here[0] != "uno") {
			t.Errorf("%+v", c.Places)
		}
	}
	if strings.Join(open, ", ") != "a.png both-edited, c.png both-edited, e.json both-edited, gone.png gone-here, mine.png gone-there" ||
		comes(seen.Comes) != "edited b.png v4 made, edited d.json v4 made" {
		t.Errorf("open are %v; it brings %s", open, comes(seen.Comes))
	}
	_, err = m.merge(m.rurik, "rev-c", "main", "*.json=lines")
	reason(t, err, "undecided")
	testbed.Problem(t, second(m.merge(m.rurik, "rev-c", "main", "a.png=perhaps")), model.BadRequest)
	testbed.Problem(t, second(m.merge(m.rurik, "rev-c", "main", "!a.png=here")), model.BadRequest)
	done, err := m.merge(m.rurik, "rev-c", "main", "*.json=lines", "e.json=there", "*.png=here", "b.png=there", "c.png=both", "gone.png=there")
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"a.png": "one\ntwo\nthree\nFOUR\n", "b.png": "ONE\ntwo\nthree\nfour\n",
		"c.png": "one\ntwo\nthree\nFOUR\n", "c (rev-c).png": "ONE\ntwo\nthree\nfour\n", "d.json": "ONE\ntwo\nthree\nFOUR\n",
		"e.json": "ONE\ntwo\nthree\nfour\n", "gone.png": "ONE\ntwo\nthree\nfour\n", "mine.png": "one\ntwo\nthree\nFOUR\n"} {
		if got := m.text(path); got != want {
			t.Errorf("%s is %q", path, got)
		}
	}
	if done.Made != 8 || done.Handoff.Count != 8 {
		t.Errorf("%+v", done)
	}
	// All of it is settled for good: both ways round there is nothing more to decide.
	back, err := m.merge(m.tamsin, "main", "rev-c")
	if err != nil || back.Made != 0 || m.held("rev-c") != m.held("main") {
		t.Errorf("%+v, %v; %s", back, err, m.held("rev-c"))
	}
	m.sound()
}

// TestLocksAndMerges: what somebody else holds stands in the way; what one holds oneself stays held, and is not apart any more.
func TestLocksAndMerges(t *testing.T) {
	m := newTeam(t, nil)
	m.on(m.tamsin, "main", m.change(m.tamsin, "a.png", 0, 0, "a1"), m.change(m.tamsin, "b.png", 0, 0, "b1"))
	m.addBranch("apart", "")
	m.on(m.tamsin, "apart", m.change(m.tamsin, "a.png", 1, 0, "a2"))
	wish := locks.Wish{Workspace: m.space["rurik"], Diverge: true, Wants: []locks.Want{{Path: "a.png", Version: 1}}}
	ok(t)(m.TakeLocks(t.Context(), m.rurik, key, wish))
	m.lock(m.odile, "b.png", 1)
	_, err := m.merge(m.tamsin, "apart", "main")
	reason(t, err, "held")
	seen, err := m.Merge(t.Context(), m.tamsin, key, model.MergeRequest{Workspace: m.space["tamsin"], From: "apart", Into: "main",
		Preview: true}, "")
	if err != nil || len(seen.Refusals) != 1 || seen.Refusals[0].Path != "a.png" {
		t.Errorf("%+v, %v", seen.Refusals, err)
	}
	// Whoever holds it may bring it in. They keep it, and it is not apart any more: but what they have is an old version by now.
	if _, err := m.merge(m.rurik, "apart", "main"); err != nil {
		t.Fatal(err)
	}
	held, err := m.Locks(t.Context(), m.viewer, key, "a.png")
	if err != nil || len(held) != 1 || held[0].Holder != "rurik" || held[0].Diverged != 0 {
		t.Errorf("%+v, %v", held, err)
	}
	_, err = m.send(m.rurik, m.change(m.rurik, "a.png", 1, held[0].Fence, "a3"))
	reason(t, err, "behind")
	if _, err = m.send(m.rurik, m.change(m.rurik, "a.png", 2, held[0].Fence, "a3")); err != nil {
		t.Error(err)
	}
	m.sound()
}

// TestAMergeIsOneHandoff: the same key gets the same answer, what has moved on since somebody decided is refused, and without it everything
// is as it was.
func TestAMergeIsOneHandoff(t *testing.T) {
	m := newTeam(t, nil)
	m.on(m.tamsin, "main", m.change(m.tamsin, "a.png", 0, 0, "a1"), m.change(m.tamsin, "b.png", 0, 0, "b1"))
	m.addBranch("apart", "")
	m.on(m.tamsin, "apart", m.change(m.tamsin, "a.png", 1, 0, "a2"), handoffs.Change{Path: "b.png", Base: 1, Gone: true},
		m.change(m.tamsin, "c.png", 0, 0, "c1"))
	before := m.state("main")
	q := model.MergeRequest{Workspace: m.space["tamsin"], From: "apart", Into: "main", Seen: 1, SeenFrom: 7}
	testbed.Problem(t, second(m.Merge(t.Context(), m.tamsin, key, q, uuid.NewString())), model.MovedOn)
	q.SeenFrom = 2
	sendKey := uuid.NewString()
	first, err := m.Merge(t.Context(), m.tamsin, key, q, sendKey)
	if err != nil {
		t.Fatal(err)
	}
	again, err := m.Merge(t.Context(), m.tamsin, key, q, sendKey)
	if err != nil || again.Handoff == nil || again.Handoff.Number != first.Handoff.Number {
		t.Errorf("%+v, %v", again, err)
	}
	testbed.Problem(t, second(m.Merge(t.Context(), m.viewer, key, q, uuid.NewString())), model.NotAllowed)
	if _, err := m.back(m.tamsin, model.RollbackRequest{Without: first.Handoff.Number, Note: "not yet"}); err != nil {
		t.Fatal(err)
	}
	if got := m.state("main"); got != before {
		t.Errorf("without the merge it is %s, and was %s", got, before)
	}
	ok(t)(m.SetBranchState(t.Context(), m.tamsin, key, "apart", model.Closed))
	if _, err := m.merge(m.tamsin, "main", "apart"); err == nil {
		t.Error("a closed branch takes a merge")
	}
	m.sound()
}

func historyFilter(path string) history.HandoffFilter { return history.HandoffFilter{Path: path} }

// TestRulesOfBranches: who hands off on a branch directly, and from where merges come, is what the rules of the first branch say.
func TestRulesOfBranches(t *testing.T) {
	m := newTeam(t, nil)
	m.on(m.odile, "main", m.change(m.odile, "a.png", 0, 0, "a1"), m.change(m.odile, "tarn.toml", 0, 0, `
[[branch]]
match = ["main", "release/*"]
direct = "lead"

[[branch]]
match = "release/*"
direct = "nobody"
from = "main"
`))
	for _, name := range []string{"release/1", "bell"} {
		m.addBranch(name, "")
	}
	send := func(actor ground.Actor, branch string) error {
		_, err := m.Send(t.Context(), actor, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space[actor.Handle], Branch: branch,
			About: model.About{Note: "on " + branch}, Changes: []handoffs.Change{m.change(actor, "new-"+uuid.NewString()+".png", 0, 0, "new")}}, nil)
		return err
	}
	for _, c := range []struct {
		actor  ground.Actor
		branch string
		may    bool
	}{{m.tamsin, "main", false}, {m.odile, "main", true}, {m.odile, "release/1", false}, {m.tamsin, "bell", true}} {
		err := send(c.actor, c.branch)
		if c.may && err != nil {
			t.Errorf("%s on %s: %v", c.actor.Handle, c.branch, err)
		}
		if !c.may {
			testbed.Problem(t, err, model.NotAllowed)
			if !strings.Contains(err.Error(), "in line") || !strings.Contains(err.Error(), "tarn merge") {
				t.Error(err)
			}
		}
	}
	// What may not be handed off directly, may come in; from where the rules say.
	if _, err := m.merge(m.tamsin, "bell", "main"); err != nil {
		t.Error(err)
	}
	m.on(m.tamsin, "bell", m.change(m.tamsin, "late.png", 0, 0, "late"))
	_, err := m.merge(m.tamsin, "bell", "release/1")
	reason(t, err, "branch")
	if r := testbed.Refused(t, err)[0]; !strings.Contains(r.Message, "into release/1 come only main") {
		t.Errorf("%+v", r)
	}
	if _, err := m.merge(m.tamsin, "main", "release/1"); err != nil {
		t.Error(err)
	}
	testbed.Problem(t, second(m.back(m.tamsin, model.RollbackRequest{To: "h1", All: true})), model.NotAllowed)
}

// TestAServiceThatJustStartedMerges: it has read no rules yet, and reads those that a merge asks for.
func TestAServiceThatJustStartedMerges(t *testing.T) {
	directory, err := store.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	m := newTeam(t, directory)
	m.on(m.odile, "main", m.change(m.odile, "a.png", 0, 0, "a1"), m.change(m.odile, "tarn.toml", 0, 0, "presets = [\"game\"]\n"))
	m.addBranch("rev-c", "")
	m.on(m.tamsin, "rev-c", m.change(m.tamsin, "a.png", 1, 0, "a2"))
	for _, preview := range []bool{true, false} {
		started := service.New(m.DB, directory, t.TempDir(), slog.New(slog.DiscardHandler))
		out, err := started.Merge(t.Context(), m.rurik, key, model.MergeRequest{Workspace: m.space["rurik"], From: "rev-c", Into: "main",
			Preview: preview}, uuid.NewString())
		if err != nil || comes(out.Comes) != "edited a.png v2" {
			t.Errorf("preview %v: %s, %v", preview, comes(out.Comes), err)
		}
	}
}

// TestAllThatAMergeWouldChange: a preview lists what people can look at; who writes it down elsewhere gets all of it.
func TestAllThatAMergeWouldChange(t *testing.T) {
	m := newTeam(t, nil)
	m.on(m.tamsin, "main", m.change(m.tamsin, "a.png", 0, 0, "a1"))
	m.addBranch("rev-c", "")
	many := model.MaxMergeListed + 7
	var list []handoffs.Change
	one := m.change(m.tamsin, "b.png", 0, 0, "the same in all")
	for i := range many {
		one.Path = fmt.Sprintf("many/%05d.png", i)
		list = append(list, one)
	}
	m.on(m.tamsin, "rev-c", list...)
	for _, whole := range []bool{false, true} {
		out, err := m.Merge(t.Context(), m.rurik, key, model.MergeRequest{Workspace: m.space["rurik"], From: "rev-c", Into: "main", Preview: true,
			Whole: whole}, "")
		want := model.MaxMergeListed
		if whole {
			want = many
		}
		if err != nil || len(out.Comes) != want || out.Count != many {
			t.Errorf("whole %v: %d of %d are listed, want %d, %v", whole, len(out.Comes), out.Count, want, err)
		}
	}
}
