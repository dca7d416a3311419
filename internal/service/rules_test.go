package service_test

import (
	"errors"
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/scope"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/keeping"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/testbed"
)

const gameRules = "presets = [\"game\"]\notherwise = \"code\"\n\n[[rule]]\nmatch = \"/text/\"\nkind = \"asset\"\nlock = \"free\"\n"

func TestTheServiceEnforcesTheRules(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.odile, m.change(m.odile, "tarn.toml", 0, 0, gameRules), m.change(m.odile, "a.png", 0, 0, "a"),
		m.change(m.odile, "text/k.txt", 0, 0, "k")))
	// Where new assets may not be.
	_, err := m.send(m.rurik, m.change(m.rurik, "cache/b.png", 0, 0, "b"))
	reason(t, err, "not-an-asset")
	_, err = m.send(m.rurik, m.change(m.rurik, "main.go", 0, 0, "b"))
	reason(t, err, "not-an-asset")
	// What needs its lock, and what does not, but for somebody who holds it.
	_, err = m.send(m.rurik, m.change(m.rurik, "a.png", 1, 0, "a2"))
	reason(t, err, "not-locked")
	ok(t)(m.send(m.rurik, m.change(m.rurik, "text/k.txt", 1, 0, "k2")))
	m.lock(m.tamsin, "text/k.txt", 2)
	_, err = m.send(m.rurik, m.change(m.rurik, "text/k.txt", 2, 0, "k3"))
	reason(t, err, "held")
	// Only leads change the rules; a broken file is refused with its line, and the old one holds on.
	_, err = m.send(m.rurik, m.change(m.rurik, "tarn.toml", 1, 0, ""))
	reason(t, err, "role")
	_, err = m.send(m.odile, m.change(m.odile, "tarn.toml", 1, 0, "\notherwise = \"cod\"\n"))
	reason(t, err, "rules-broken")
	if r := testbed.Refused(t, err); !strings.Contains(r[0].Message, "line 2, column 1") ||
		!strings.Contains(r[0].Message, `did you mean "code"?`) {
		t.Errorf("%+v", r)
	}
	// The rules that a send carries hold for it, and what they leave out by now stays an asset.
	ok(t)(m.send(m.odile, m.change(m.odile, "tarn.toml", 1, 0, "[[rule]]\nmatch = \"*.png\"\nkind = \"ignored\"\n"),
		m.change(m.odile, "main.go", 0, 0, "code")))
	fence := m.lock(m.rurik, "a.png", 1)
	ok(t)(m.send(m.rurik, m.change(m.rurik, "a.png", 1, fence, "a2")))
	_, err = m.send(m.rurik, m.change(m.rurik, "b.png", 0, 0, "b"))
	reason(t, err, "not-an-asset")
	// What was an asset once may come back.
	fence = m.lock(m.rurik, "a.png", 2)
	ok(t)(m.send(m.rurik, handoffs.Change{Path: "a.png", Base: 2, Fence: fence, Gone: true}))
	ok(t)(m.send(m.rurik, m.change(m.rurik, "a.png", 0, 0, "back")))
}

func TestRulesPageAndRequests(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.odile, m.change(m.odile, "tarn.toml", 0, 0, gameRules), m.change(m.odile, "a.png", 0, 0, "four"),
		m.change(m.odile, "text/k.txt", 0, 0, "k")))
	page, err := m.Rules(ctx, m.viewer, key)
	if err != nil || page.Version != 1 || page.Otherwise != "code" || page.Uncovered != 0 {
		t.Fatalf("%+v, %v", page, err)
	}
	covered := map[string]int{}
	for _, r := range page.Rules {
		covered[r.In] += r.Assets
	}
	if covered["tarn.toml"] != 1 || covered["preset game"] != 1 || covered["built in"] != 1 {
		t.Errorf("they cover %v", covered)
	}
	tested, err := m.TestRules(ctx, m.viewer, key, "cache/sky.png")
	if err != nil || tested.Kind != "ignored" || !strings.Contains(tested.KindBy, "preset game") || tested.Asset {
		t.Errorf("%+v, %v", tested, err)
	}
	_, err = m.TestRules(ctx, m.viewer, key, "../x")
	testbed.Problem(t, err, model.BadRequest)

	_, err = m.AskForRule(ctx, m.viewer, key, "cache/sky.png", "x")
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.AskForRule(ctx, m.rurik, key, "b.png", "x")
	testbed.Problem(t, err, model.BadRequest)
	asked, err := m.AskForRule(ctx, m.rurik, key, "cache/sky.png", "painted by hand")
	if err != nil {
		t.Fatal(err)
	}
	if again, err := m.AskForRule(ctx, m.tamsin, key, "Cache/sky.png", ""); err != nil || again.ID != asked.ID {
		t.Errorf("asked twice: %+v, %v", again, err)
	}
	testbed.Problem(t, m.AnswerRuleRequest(ctx, m.tamsin, key, asked.ID, true, ""), model.NotAllowed)
	if err := m.AnswerRuleRequest(ctx, m.odile, key, asked.ID, true, "of course"); err != nil {
		t.Fatal(err)
	}
	testbed.Problem(t, m.AnswerRuleRequest(ctx, m.odile, key, asked.ID, true, ""), model.NotFound)
	if page, err = m.Rules(ctx, m.odile, key); err != nil || page.Version != 2 || !strings.HasPrefix(page.Text, gameRules) ||
		page.Requests[0].AnsweredBy != "odile" || !page.Requests[0].Accepted {
		t.Errorf("%+v, %v", page, err)
	}
	ok(t)(m.send(m.rurik, m.change(m.rurik, "cache/sky.png", 0, 0, "sky")))
	other, err := m.AskForRule(ctx, m.rurik, key, "cache/sea.png", "")
	if err != nil {
		t.Fatal(err)
	}
	if err := m.AnswerRuleRequest(ctx, m.odile, key, other.ID, false, "made by the build"); err != nil {
		t.Fatal(err)
	}
	_, err = m.send(m.rurik, m.change(m.rurik, "cache/sea.png", 0, 0, "sea"))
	reason(t, err, "not-an-asset")
}

// TestRulesAreTried: rules that are not handed off yet are read, and what they would change is told of what is there.
func TestRulesAreTried(t *testing.T) {
	m := newTeam(t, nil)
	ok(t)(m.send(m.odile, m.change(m.odile, "tarn.toml", 0, 0, "otherwise = \"asset\"\n"), m.change(m.odile, "a.png", 0, 0, "a"),
		m.change(m.odile, "b.png", 0, 0, "b"), m.change(m.odile, "text/k.txt", 0, 0, "k"), m.change(m.odile, "cache/x.tmp", 0, 0, "x")))
	try := func(text string) model.RulesTried {
		t.Helper()
		out, err := m.TryRules(t.Context(), m.viewer, key, text)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	if out := try("otherwise = \"asset\"\n"); len(out.Changes) != 0 || out.Looked != 5 || out.Trouble != nil {
		t.Errorf("the same rules: %+v", out)
	}
	out := try("otherwise = \"asset\"\n[[rule]]\nmatch = \"*.png\"\nlock = \"free\"\n\n[[rule]]\nmatch = \"*.txt\"\nlock = \"on-edit\"\n" +
		"[[rule]]\nmatch = \"/cache/\"\nkind = \"ignored\"\n")
	got := map[string]string{}
	for _, c := range out.Changes {
		got[c.What] = fmt.Sprint(c.Count, c.Paths)
	}
	want := map[string]string{model.RulesFree: "2 [a.png b.png]", model.RulesOnEdit: "1 [text/k.txt]", model.RulesLeaveOut: "1 [cache/x.tmp]"}
	if !maps.Equal(got, want) {
		t.Errorf("they would change %v, not %v", got, want)
	}
	if last := out.Rules[len(out.Rules)-1]; last.In != rules.File || last.Line != 9 || last.Kind != "ignored" {
		t.Errorf("the last rule is %+v", last)
	}
	if out := try("otherwise = \"asset\"\n[[rule]]\nmatsch = \"*.png\"\n"); out.Trouble == nil || out.Trouble.Line != 3 ||
		!strings.Contains(out.Trouble.Message, "match") {
		t.Errorf("the trouble is %+v", out.Trouble)
	}
	outsider, _ := m.Person(t, "stranger")
	_, err := m.TryRules(t.Context(), outsider, key, "")
	testbed.Problem(t, err, model.NotFound)
}

// TestACheckKnowsTheRulesThatCome: before their content is there, their text decides about what comes with them.
func TestACheckKnowsTheRulesThatCome(t *testing.T) {
	m := newTeam(t, nil)
	send := handoffs.Send{Workspace: m.space["odile"], Changes: []handoffs.Change{{Path: "tarn.toml"}, {Path: "a.png"}, {Path: "notes.xyz"}}}
	check := func(text string) error {
		_, err := m.CheckSend(t.Context(), m.odile, key, handoffs.Question{Send: send, Rules: []byte(text)})
		return err
	}
	if _, err := m.CheckSend(t.Context(), m.odile, key, handoffs.Question{Send: send}); err != nil {
		t.Errorf("without them: %v", err)
	}
	err := check("otherwise = \"code\"\npresets = [\"game\"]\n")
	var refused *model.Refused
	if !errors.As(err, &refused) || len(refused.Refusals) != 1 || refused.Refusals[0].Path != "notes.xyz" {
		t.Errorf("with them: %v", err)
	}
	reason(t, check("otherwise = \"coda\"\n"), "rules-broken")
}

func TestRulesAreProposed(t *testing.T) {
	m := newTeam(t, nil)
	out, err := m.ProposeRules(model.RulesQuestion{Paths: []string{"a.png", "b.kicad_pcb", "readme.md"}})
	if err != nil || out.Assets != 2 && out.Assets != 3 {
		t.Fatalf("%+v, %v", out, err)
	}
	taken := map[string]bool{}
	for _, p := range out.Presets {
		taken[p.Name] = p.Taken && p.Fits
	}
	if !taken["game"] || !taken["board"] || taken["sound"] {
		t.Errorf("they are of %v", taken)
	}
	out, err = m.ProposeRules(model.RulesQuestion{Paths: []string{"a.png", "b.wav"}, Presets: &[]string{"sound"}, Otherwise: "code"})
	if err != nil || out.Assets != 1 || !strings.Contains(out.Text, `presets = ["sound"]`) {
		t.Errorf("%+v, %v", out, err)
	}
	_, err = m.ProposeRules(model.RulesQuestion{Presets: &[]string{"nothing"}})
	testbed.Problem(t, err, model.BadRequest)
}

func TestMovesKeepTheAsset(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.odile, m.change(m.odile, "a.png", 0, 0, "a"), m.change(m.odile, "b.png", 0, 0, "b"),
		m.change(m.odile, "old/x.png", 0, 0, "x")))
	moved := func(from, to string, base int, fence int64, data string) handoffs.Change {
		c := m.change(m.rurik, to, base, fence, data)
		c.MovedFrom = from
		return c
	}
	_, err := m.send(m.rurik, moved("a.png", "c.png", 1, 0, "a"))
	reason(t, err, "not-locked")
	fence := m.lock(m.rurik, "a.png", 1)
	for what, c := range map[string]handoffs.Change{
		"behind":        moved("a.png", "b.png", 1, fence, "a"),
		"unknown":       moved("nothing.png", "d.png", 1, 0, "a"),
		"path-collides": moved("a.png", "old/x.png/deeper.png", 1, fence, "a"),
		"move":          {Path: "e.png", MovedFrom: "tarn.toml", Gone: true},
	} {
		_, err := m.send(m.rurik, c)
		reason(t, err, what)
	}
	receipt, err := m.send(m.rurik, moved("a.png", "deep/A.png", 1, fence, "a"))
	if err != nil || receipt.Handoff.Assets[0].Change != "moved" || receipt.Handoff.Assets[0].MovedFrom != "a.png" {
		t.Fatalf("%+v, %v", receipt.Handoff.Assets, err)
	}
	asset, versions, err := m.History(ctx, m.viewer, key, "", "deep/a.png")
	if err != nil || asset.Path != "deep/A.png" || len(versions) != 2 || versions[1].Path != "a.png" {
		t.Errorf("%+v, %+v, %v", asset, versions, err)
	}
	// Only its spelling: the same asset, the same place.
	fence = m.lock(m.rurik, "deep/A.png", 2)
	ok(t)(m.send(m.rurik, moved("deep/A.png", "deep/a.png", 2, fence, "a2")))
	// Two that change places in one handoff.
	fa, fb := m.lock(m.rurik, "deep/a.png", 3), m.lock(m.rurik, "b.png", 1)
	ok(t)(m.send(m.rurik, moved("deep/a.png", "b.png", 3, fa, "a2"), moved("b.png", "deep/a.png", 1, fb, "b")))
	if asset, _, _ := m.History(ctx, m.viewer, key, "", "b.png"); asset.Newest != 4 {
		t.Errorf("%+v", asset)
	}
	// A place that somebody else's asset has left has a history of its own.
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, "another")))
	if _, versions, err := m.History(ctx, m.viewer, key, "", "a.png"); err != nil || len(versions) != 1 {
		t.Errorf("%+v, %v", versions, err)
	}
	// What changed is told as it was, at every handoff.
	for at, want := range map[int]string{1: "a.png b.png old/x.png", 2: "b.png deep/A.png old/x.png", 3: "b.png deep/a.png old/x.png",
		5: "a.png b.png deep/a.png old/x.png"} {
		page, err := m.Changes(ctx, m.viewer, key, history.Changes{At: fmt.Sprintf("h%d", at)})
		if err != nil {
			t.Fatal(err)
		}
		var paths []string
		for _, a := range page.Assets {
			paths = append(paths, a.Path)
		}
		if got := strings.Join(paths, " "); got != want {
			t.Errorf("h%d has %s, want %s", at, got, want)
		}
	}
	back, err := m.Changes(ctx, m.viewer, key, history.Changes{Since: 2, At: "h1"})
	if err != nil || len(back.Assets) != 2 || back.Assets[0].Gone || !back.Assets[1].Gone {
		t.Errorf("%+v, %v", back.Assets, err)
	}
	out, err := m.Verify(ctx, keeping.VerifyOptions{})
	if err != nil || len(out.Findings) != 0 {
		t.Errorf("%+v, %v", out, err)
	}
}

func TestScopedChangesCostOnlyTheirFolders(t *testing.T) {
	m := newTeam(t, nil)
	var changes []handoffs.Change
	for _, path := range []string{"a/1", "a/2", "b/1", "b/deep/2", "b/deep/keep/3", "c", "z/1"} {
		changes = append(changes, m.change(m.odile, path, 0, 0, path))
	}
	ok(t)(m.send(m.odile, changes...))
	for _, c := range []struct {
		scope scope.Scope
		want  string
	}{
		{nil, "a/1 a/2 b/1 b/deep/2 b/deep/keep/3 c z/1"},
		{scope.Scope{"B"}, "b/1 b/deep/2 b/deep/keep/3"},
		{scope.Scope{"-b/deep", "b/deep/keep"}, "a/1 a/2 b/1 b/deep/keep/3 c z/1"},
		{scope.Scope{"a", "z"}, "a/1 a/2 z/1"},
		{scope.Scope{"nothing"}, ""},
	} {
		var paths []string
		q := history.Changes{Scope: c.scope, Limit: 2}
		for {
			page, err := m.Changes(t.Context(), m.viewer, key, q)
			if err != nil {
				t.Fatal(err)
			}
			for _, a := range page.Assets {
				paths = append(paths, a.Path)
			}
			if q.After = page.Next; q.After == "" {
				break
			}
		}
		if got := strings.Join(paths, " "); got != c.want {
			t.Errorf("scope %v has %s, want %s", c.scope, got, c.want)
		}
	}
	_, err := m.Changes(t.Context(), m.viewer, key, history.Changes{Scope: scope.Scope{"../x"}})
	testbed.Problem(t, err, model.BadRequest)
}

func TestUnsentChanges(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.odile, m.change(m.odile, "a.png", 0, 0, "a"), m.change(m.odile, "b.png", 0, 0, "b")))
	since := time.Now().Add(-time.Hour).UTC().Truncate(time.Second)
	tell := func(changes ...model.UnsentChange) error {
		return m.SetHeadsUps(ctx, m.rurik, key, m.space["rurik"], changes)
	}
	if err := tell(model.UnsentChange{Path: "a.png", State: model.Edited, Size: 4, Since: since},
		model.UnsentChange{Path: "b.png", State: model.Gone, Since: time.Now().Add(time.Hour)},
		model.UnsentChange{Path: "never.png", State: model.Edited}, model.UnsentChange{Path: "../x", State: model.Edited}); err != nil {
		t.Fatal(err)
	}
	list, err := m.HeadsUps(ctx, m.viewer, key)
	if err != nil || len(list) != 2 || list[0].Path != "a.png" || !list[0].Since.Equal(since) ||
		list[1].Since.After(time.Now().Add(time.Minute)) {
		t.Fatalf("%+v, %v", list, err)
	}
	grant, err := m.TakeLocks(ctx, m.tamsin, key, locks.Wish{Workspace: m.space["tamsin"],
		Wants: []locks.Want{{Path: "a.png", Version: 1}}})
	if err != nil || len(grant.Assets[0].HeadsUp) != 1 || grant.Assets[0].HeadsUp[0].Handle != "rurik" {
		t.Errorf("%+v, %v", grant, err)
	}
	testbed.Problem(t, tell(model.UnsentChange{Path: "a.png", State: "eaten"}), model.BadRequest)
	testbed.Problem(t, m.SetHeadsUps(ctx, m.tamsin, key, m.space["rurik"], nil), model.NotFound)
	// What is sent is unsent no more; what is not told of any more neither.
	fence := m.lock(m.rurik, "b.png", 1)
	ok(t)(m.send(m.rurik, handoffs.Change{Path: "b.png", Base: 1, Fence: fence, Gone: true}))
	if list, _ = m.HeadsUps(ctx, m.viewer, key); len(list) != 1 {
		t.Errorf("%+v", list)
	}
	if err := tell(); err != nil {
		t.Fatal(err)
	}
	if list, _ = m.HeadsUps(ctx, m.viewer, key); len(list) != 0 {
		t.Errorf("%+v", list)
	}
}
