package service_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/core/bundle"
	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/testbed"
)

// as sends with a note, tasks and a stage.
func (m *team) as(actor ground.Actor, send handoffs.Send, changes ...handoffs.Change) int {
	m.Helper()
	send.Key, send.Workspace, send.Changes, send.TakeFree = uuid.NewString(), m.space[actor.Handle], changes, true
	receipt, err := m.Send(m.Context(), actor, key, send, nil)
	if err != nil {
		m.Fatal(err)
	}
	return receipt.Handoff.Number
}

// state is what a project holds as of a state: path=content's first bytes.
func (m *team) state(at string) string {
	m.Helper()
	page, err := m.Changes(m.Context(), m.odile, key, history.Changes{At: at})
	if err != nil {
		m.Fatal(err)
	}
	var list []string
	for _, a := range page.Assets {
		if !a.Gone {
			list = append(list, fmt.Sprintf("%s=%s", a.Path, a.Content[:8]))
		}
	}
	sort.Strings(list)
	return strings.Join(list, " ")
}

func (m *team) back(actor ground.Actor, q model.RollbackRequest) (model.RollbackAnswer, error) {
	q.Workspace = m.space[actor.Handle]
	return m.Rollback(m.Context(), actor, key, q, uuid.NewString())
}

func TestHandoffsAreFiltered(t *testing.T) {
	m := newTeam(t, nil)
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "Fog over the harbour", Tasks: []string{"BRL-7"}, Stage: "blockout"}},
		m.change(m.tamsin, "levels/harbour.json", 0, 0, "{}"))
	m.as(m.rurik, handoffs.Send{About: model.About{Note: "Rust, first pass", Tasks: []string{"BRL-9"}}}, m.change(m.rurik,
		"textures/Rust.PNG", 0, 0, "png"),
		m.change(m.rurik, "textures/deep/rust.tga", 0, 0, "tga"))
	m.as(m.rurik, handoffs.Send{About: model.About{Note: "Horn"}}, m.change(m.rurik, "sounds/horn.wav", 0, 0, "wav"),
		m.change(m.rurik, "sounds/read.me", 0, 0, "me"))
	m.sql(`update handoffs set at = now() - interval '3 days' where number = 1`)
	day := func(back int) string { return time.Now().UTC().AddDate(0, 0, -back).Format(time.DateOnly) }
	for name, c := range map[string]struct {
		f    history.HandoffFilter
		want []int
	}{
		"nothing":              {history.HandoffFilter{}, []int{3, 2, 1}},
		"a person":             {history.HandoffFilter{Author: "rurik"}, []int{3, 2}},
		"a folder, folded":     {history.HandoffFilter{Path: "textures"}, []int{2}},
		"a pattern":            {history.HandoffFilter{Path: "*.TGA"}, []int{2}},
		"a pattern of folders": {history.HandoffFilter{Path: "textures/*.tga"}, nil},
		"a kind":               {history.HandoffFilter{Kind: "sound"}, []int{3}},
		"what is no kind":      {history.HandoffFilter{Kind: "other"}, []int{3}},
		"a kind in a folder":   {history.HandoffFilter{Kind: "texture", Path: "sounds"}, nil},
		"a task":               {history.HandoffFilter{Task: "brl-7"}, []int{1}},
		"a stage":              {history.HandoffFilter{Stage: "Blockout"}, []int{1}},
		"a text":               {history.HandoffFilter{Text: "first PASS"}, []int{2}},
		"since":                {history.HandoffFilter{Since: day(1)}, []int{3, 2}},
		"until":                {history.HandoffFilter{Until: day(2)}, []int{1}},
		"a day":                {history.HandoffFilter{Since: day(3), Until: day(3)}, []int{1}},
		"a page":               {history.HandoffFilter{Before: 3, Limit: 1}, []int{2}},
		"% is no sign":         {history.HandoffFilter{Text: "%"}, nil},
	} {
		list, _, err := m.Handoffs(t.Context(), m.viewer, key, c.f)
		var got []int
		for _, h := range list {
			got = append(got, h.Number)
		}
		if err != nil || !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, %v; want %v", name, got, err, c.want)
		}
	}
	for _, f := range []history.HandoffFilter{{Kind: "spell"}, {Since: "yesterday"}, {Text: "a\x00"}, {Path: strings.Repeat("*", 3000)}} {
		_, _, err := m.Handoffs(t.Context(), m.viewer, key, f)
		testbed.Problem(t, err, model.BadRequest)
	}
	list, _, err := m.Handoffs(t.Context(), m.viewer, key, history.HandoffFilter{Assets: 1})
	if err != nil || len(list[0].Assets) != 1 || list[0].Count != 2 || list[1].Assets[0].Change != "new" {
		t.Errorf("%+v, %v", list, err)
	}
}

func TestMilestonesStay(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	_, err := m.AddMilestone(ctx, m.tamsin, key, model.MilestoneRequest{Name: "too-early"})
	testbed.Problem(t, err, model.NotFound)
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "one"}}, m.change(m.tamsin, "a", 0, 0, "one"))
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "two"}}, m.change(m.tamsin, "a", 1, 0, "two"))
	first, err := m.AddMilestone(ctx, m.tamsin, key, model.MilestoneRequest{Name: "First-Light", At: "h1", Note: "it glows"})
	if err != nil || first.Handoff != 1 || first.Person != "tamsin" || first.Digest == "" {
		t.Fatalf("%+v, %v", first, err)
	}
	// The same again is no mistake; another handoff under that name is one, however it is spelled.
	ok(t)(m.AddMilestone(ctx, m.rurik, key, model.MilestoneRequest{Name: "first-light", At: "h1"}))
	_, err = m.AddMilestone(ctx, m.odile, key, model.MilestoneRequest{Name: "FIRST-LIGHT"})
	testbed.Problem(t, err, model.Taken)
	for _, name := range []string{"h3", "v1", "", "a b", "2026-03-02", "newest", strings.Repeat("x", 61)} {
		_, err = m.AddMilestone(ctx, m.odile, key, model.MilestoneRequest{Name: name})
		testbed.Problem(t, err, model.BadRequest)
	}
	_, err = m.AddMilestone(ctx, m.viewer, key, model.MilestoneRequest{Name: "not-mine"})
	testbed.Problem(t, err, model.NotAllowed)
	if at1, at2 := m.state("first-LIGHT"), m.state("h1"); at1 != at2 || at1 == m.state("") {
		t.Errorf("%s and %s", at1, at2)
	}
	h, err := m.Handoff(ctx, m.viewer, key, "first-light")
	if err != nil || h.Number != 1 || !slices.Equal(h.Milestones, []string{"First-Light"}) {
		t.Errorf("%+v, %v", h, err)
	}
	testbed.Problem(t, m.RemoveMilestone(ctx, m.tamsin, key, "first-light"), model.NotAllowed)
	if err := m.RemoveMilestone(ctx, m.odile, key, "First-light"); err != nil {
		t.Error(err)
	}
	if list, err := m.Milestones(ctx, m.viewer, key); err != nil || len(list) != 0 {
		t.Errorf("%+v, %v", list, err)
	}
	_, err = m.Handoff(ctx, m.viewer, key, "first-light")
	testbed.Problem(t, err, model.NotFound)
	testbed.Problem(t, m.RemoveMilestone(ctx, m.odile, key, "first-light"), model.NotFound)
}

func TestAStateIsNamedByATime(t *testing.T) {
	m := newTeam(t, nil)
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "one"}}, m.change(m.tamsin, "a", 0, 0, "one"))
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "two"}}, m.change(m.tamsin, "a", 1, 0, "two"))
	m.sql(`update handoffs set at = '2026-03-02T10:00:00Z' where number = 1`)
	for _, at := range []string{"2026-03-02", "2026-03-02 10:00", "2026-05-01T00:00:00Z"} {
		if m.state(at) != m.state("h1") {
			t.Errorf("%s is not h1", at)
		}
	}
	_, err := m.Changes(t.Context(), m.odile, key, history.Changes{At: "2026-03-01"})
	testbed.Problem(t, err, model.NotFound)
}

func TestWhatIsBetweenTwoStates(t *testing.T) {
	m := newTeam(t, nil)
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "one"}}, m.change(m.tamsin, "levels/a.json", 0, 0, "one"),
		m.change(m.tamsin, "levels/b.json", 0, 0, "bee"), m.change(m.tamsin, "textures/c.png", 0, 0, "sea"))
	moved := m.change(m.rurik, "old/b.json", 1, 0, "bee")
	moved.MovedFrom = "levels/b.json"
	m.as(m.rurik, handoffs.Send{About: model.About{Note: "two"}}, moved, m.change(m.rurik, "levels/a.json", 1, 0, "one and more"),
		handoffs.Change{Path: "textures/c.png", Base: 1, Gone: true})
	m.as(m.rurik, handoffs.Send{About: model.About{Note: "three"}}, m.change(m.rurik, "sounds/d.wav", 0, 0, "dee"))
	b, err := m.Between(t.Context(), m.viewer, key, "h1", "", "", 0)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, a := range b.Assets {
		got = append(got, fmt.Sprintf("%s %s %s v%d v%d %d-%d", a.Change, a.MovedFrom, a.Path, a.Before, a.Version, a.SizeBefore, a.Size))
	}
	want := []string{"edited  levels/a.json v1 v2 3-12", "moved levels/b.json old/b.json v1 v2 3-3", "new  sounds/d.wav v0 v1 0-3",
		"gone  textures/c.png v1 v0 3-0"}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if fmt.Sprint(b.Folders) != "[{levels 0 1 0 0 3 12} {old 0 0 1 0 3 3} {sounds 1 0 0 0 0 3} {textures 0 0 0 1 3 0}]" ||
		fmt.Sprint(b.Kinds) != "[{data 0 1 1 0 6 15} {sound 1 0 0 0 0 3} {texture 0 0 0 1 3 0}]" {
		t.Errorf("%+v\n%+v", b.Folders, b.Kinds)
	}
	if len(b.People) != 1 || b.People[0].Person != "rurik" || b.People[0].Handoffs != 2 || b.People[0].Versions != 4 || b.From.Number != 1 ||
		b.To.Number != 3 {
		t.Errorf("%+v", b)
	}
	back, err := m.Between(t.Context(), m.viewer, key, "h3", "h1", "levels/b.json", 1)
	if err != nil || len(back.Assets) != 1 || back.Assets[0].Change != "gone" || back.Next != "sounds/d.wav" || back.Total.New != 1 ||
		len(back.People) != 1 {
		t.Errorf("%+v, %v", back, err)
	}
}

func TestGoingBackInEveryWay(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "one"}}, m.change(m.tamsin, "levels/a.json", 0, 0, "a1"), m.change(m.tamsin,
		"levels/b.json", 0, 0,
		"b1"),
		m.change(m.tamsin, "models/c.glb", 0, 0, "c1"))
	ok(t)(m.AddMilestone(ctx, m.tamsin, key, model.MilestoneRequest{Name: "stable"}))
	moved := m.change(m.tamsin, "attic/b.json", 1, 0, "b2")
	moved.MovedFrom = "levels/b.json"
	two := m.as(m.tamsin, handoffs.Send{About: model.About{Note: "two"}}, m.change(m.tamsin, "levels/a.json", 1, 0, "a2"), moved,
		m.change(m.tamsin, "levels/new.json", 0, 0, "n1"), handoffs.Change{Path: "models/c.glb", Base: 1, Gone: true})
	first, second := m.state("h1"), m.state("h2")

	// One handoff undone, looked at first.
	plan, err := m.back(m.rurik, model.RollbackRequest{Without: two, Preview: true})
	var did []string
	for _, c := range plan.Changes {
		did = append(did, fmt.Sprintf("%s %s %s", c.Change, c.MovedFrom, c.Path))
	}
	if err != nil || !slices.Equal(did, []string{"back  levels/a.json", "back attic/b.json levels/b.json", "goes  levels/new.json",
		"returns  models/c.glb"}) || plan.Handoff != nil || m.state("") != second || !strings.HasPrefix(plan.Note, "Without h2: two") {
		t.Errorf("%q, %+v, %v", did, plan, err)
	}
	done, err := m.back(m.rurik, model.RollbackRequest{Without: two, Seen: plan.Seen})
	if err != nil || m.state("") != first {
		t.Fatalf("%s, %v", m.state(""), err)
	}
	// The asset that was moved there and back is still the same one.
	if _, versions, err := m.History(ctx, m.odile, key, "", "levels/b.json"); err != nil || len(versions) != 3 ||
		versions[1].Path != "attic/b.json" {
		t.Errorf("%+v, %v", versions, err)
	}
	// Everything, there and back, by number and by name.
	ok(t)(m.back(m.rurik, model.RollbackRequest{All: true, To: "h2"}))
	if m.state("") != second {
		t.Error(m.state(""))
	}
	ok(t)(m.back(m.rurik, model.RollbackRequest{All: true, To: "stable"}))
	if m.state("") != first {
		t.Error(m.state(""))
	}
	// The same key again gets the same handoff.
	again := uuid.NewString()
	q := model.RollbackRequest{Workspace: m.space["rurik"], All: true, To: "h2"}
	one, err := m.Rollback(ctx, m.rurik, key, q, again)
	if err != nil {
		t.Fatal(err)
	}
	if other, err := m.Rollback(ctx, m.rurik, key, q, again); err != nil || other.Handoff == nil ||
		other.Handoff.Number != one.Handoff.Number {
		t.Errorf("%+v, %v", other, err)
	}
	// A folder: what left it comes back, what came goes, and nothing else is touched.
	ok(t)(m.back(m.rurik, model.RollbackRequest{Paths: []string{"levels"}, To: "h1"}))
	if got := m.state(""); got != strings.Replace(first, " models/c.glb="+strings.Split(first, "models/c.glb=")[1], "", 1) {
		t.Error(got)
	}
	// What has moved on stands in the way of undoing, and is named.
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "on"}}, m.change(m.tamsin, "levels/a.json", 7, 0, "a9"))
	_, err = m.back(m.rurik, model.RollbackRequest{Without: done.Handoff.Number})
	reason(t, err, "moved-on")
	if r := testbed.Refused(t, err); !strings.Contains(r[0].Message, "by tamsin") {
		t.Errorf("%+v", r)
	}
	// So does a lock of somebody else's, one's own unsent change, and what was sent since one looked.
	m.lock(m.tamsin, "levels/a.json", 8)
	plan, err = m.back(m.rurik, model.RollbackRequest{Paths: []string{"levels/a.json"}, To: "stable", Preview: true})
	if err != nil || len(plan.Refusals) != 1 || plan.Refusals[0].Reason != "held" {
		t.Errorf("%+v, %v", plan.Refusals, err)
	}
	_, err = m.back(m.rurik, model.RollbackRequest{Paths: []string{"levels/a.json"}, To: "stable", Seen: done.Handoff.Number})
	reason(t, err, "held")
	reason(t, err, "behind")
	for actor, want := range map[ground.Actor]int{m.tamsin: 1, m.odile: 0} {
		if err := m.SetHeadsUps(ctx, actor, key, m.space[actor.Handle],
			[]model.UnsentChange{{Path: "levels/a.json", State: model.Edited, Since: time.Now()}}); err != nil {
			t.Fatal(err)
		}
		plan, err = m.back(m.tamsin, model.RollbackRequest{Paths: []string{"levels/a.json"}, To: "stable", Preview: true})
		if err != nil || len(plan.Refusals) != want || len(plan.HeadsUps) != 1 {
			t.Errorf("%s: %+v, %v", actor.Handle, plan, err)
		}
		_ = m.SetHeadsUps(ctx, actor, key, m.space[actor.Handle], nil)
	}
	for _, bad := range []model.RollbackRequest{{}, {To: "h1"}, {To: "h1", All: true, Paths: []string{"a"}}, {Version: 1},
		{Version: 1, Paths: []string{"a", "b"}}, {Without: 1, All: true}, {Without: 1, To: "h1", All: true},
		{Paths: []string{"../a"}, To: "h1"}} {
		_, err := m.back(m.rurik, bad)
		testbed.Problem(t, err, model.BadRequest)
	}
	_, err = m.back(m.rurik, model.RollbackRequest{Paths: []string{"nowhere"}, To: "h1"})
	reason(t, err, "unknown")
	_, err = m.back(m.viewer, model.RollbackRequest{All: true, To: "h1"})
	testbed.Problem(t, err, model.NotAllowed)
}

// A project that people moved things about in goes back to each of its states, whatever lies where by then.
func TestGoingBackThroughARandomHistory(t *testing.T) {
	m := newTeam(t, nil)
	random := rand.New(rand.NewPCG(7, 7))
	states := []string{""}
	for n := 1; n <= 25; n++ {
		page, err := m.Changes(t.Context(), m.odile, key, history.Changes{})
		if err != nil {
			t.Fatal(err)
		}
		var changes []handoffs.Change
		taken := map[string]bool{}
		for _, a := range page.Assets {
			taken[a.Path] = true
		}
		for _, a := range page.Assets {
			place := fmt.Sprintf("f%d/x%d", random.IntN(3), random.IntN(6))
			switch random.IntN(5) {
			case 0:
				changes = append(changes, handoffs.Change{Path: a.Path, Base: a.Newest, Gone: true})
			case 1:
				changes = append(changes, m.change(m.tamsin, a.Path, a.Newest, 0, fmt.Sprint(random.Uint64())))
			case 2:
				if !taken[place] {
					taken[place] = true
					c := m.change(m.tamsin, place, a.Newest, 0, fmt.Sprint(random.Uint64()))
					c.MovedFrom = a.Path
					changes = append(changes, c)
				}
			}
		}
		for range 3 {
			if place := fmt.Sprintf("f%d/x%d", random.IntN(3), random.IntN(6)); !taken[place] {
				taken[place] = true
				changes = append(changes, m.change(m.tamsin, place, 0, 0, fmt.Sprint(random.Uint64())))
			}
		}
		if len(changes) == 0 {
			states = append(states, states[len(states)-1])
			n--
			continue
		}
		m.as(m.tamsin, handoffs.Send{About: model.About{Note: "on"}}, changes...)
		states = append(states, m.state(""))
		if n = len(states) - 1; n >= 25 {
			break
		}
	}
	for range 30 {
		to := 1 + random.IntN(24)
		if m.state(fmt.Sprintf("h%d", to)) == m.state("") {
			continue
		}
		if _, err := m.back(m.rurik, model.RollbackRequest{All: true, To: fmt.Sprintf("h%d", to)}); err != nil {
			t.Fatalf("back to h%d: %v", to, err)
		}
		if got, want := m.state(""), m.state(fmt.Sprintf("h%d", to)); got != want {
			t.Fatalf("back to h%d is\n%s, want\n%s", to, got, want)
		}
	}
}

func TestWhereLinesComeFrom(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "a draft"}}, m.change(m.tamsin, "dialogue.txt", 0, 0,
		"keeper: Who rows?\ngull: Kree.\n"))
	m.as(m.rurik, handoffs.Send{About: model.About{Note: "louder"}}, m.change(m.rurik, "dialogue.txt", 1, 0,
		"keeper: Who rows?\ngull: KREE.\nend\n"))
	moved := m.change(m.tamsin, "text/dialogue.txt", 2, 0, "Act 1\nkeeper: Who rows?\ngull: KREE.\nend\n")
	moved.MovedFrom = "dialogue.txt"
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "moved"}}, moved)
	out, err := m.Lines(ctx, m.viewer, key, "text/dialogue.txt", 0)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, l := range out.Lines {
		got = append(got, fmt.Sprintf("%d v%d %s %s", l.Line, l.Version, l.Author, l.Text))
	}
	if !slices.Equal(got, []string{"1 v3 tamsin Act 1", "2 v1 tamsin keeper: Who rows?", "3 v2 rurik gull: KREE.", "4 v2 rurik end"}) {
		t.Errorf("%q", got)
	}
	if out, err = m.Lines(ctx, m.viewer, key, "text/dialogue.txt", 1); err != nil || len(out.Lines) != 2 || out.Version != 1 {
		t.Errorf("%+v, %v", out, err)
	}
	m.as(m.rurik, handoffs.Send{About: model.About{Note: "a picture"}}, m.change(m.rurik, "a.png", 0, 0, "\x89PNG\x00"))
	_, err = m.Lines(ctx, m.viewer, key, "a.png", 0)
	testbed.Problem(t, err, model.BadRequest)
}

func TestAStateAsOneFile(t *testing.T) {
	m := newTeam(t, nil)
	big := strings.Repeat("brine ", 300_000)
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "one"}}, m.change(m.tamsin, "levels/a.json", 0, 0, "one"), m.change(m.tamsin,
		"levels/b.json", 0, 0,
		big),
		m.change(m.tamsin, "levels.txt", 0, 0, "x"))
	m.as(m.tamsin, handoffs.Send{About: model.About{Note: "two"}}, m.change(m.tamsin, "levels/a.json", 1, 0, "two"))
	read := func(form, at string, paths ...string) map[string]string {
		t.Helper()
		a, err := m.OpenArchive(t.Context(), m.viewer, key, at, paths...)
		if err != nil {
			t.Fatal(err)
		}
		var out bytes.Buffer
		w, _ := bundle.New(form, &out)
		if err := a.Write(t.Context(), w); err != nil {
			t.Fatal(err)
		}
		found := map[string]string{}
		if form == bundle.Tar {
			for r := tar.NewReader(&out); ; {
				h, err := r.Next()
				if err == io.EOF {
					break
				}
				text, err := io.ReadAll(r)
				if err != nil {
					t.Fatal(err)
				}
				found[h.Name] = string(text)
			}
		} else {
			r, err := zip.NewReader(bytes.NewReader(out.Bytes()), int64(out.Len()))
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range r.File {
				in, _ := f.Open()
				text, _ := io.ReadAll(in)
				found[f.Name] = string(text)
			}
		}
		if a.Assets != len(found) {
			t.Errorf("%d files, and %d were announced", len(found), a.Assets)
		}
		return found
	}
	if got := read(bundle.Zip, "h1", ""); len(got) != 3 || got["levels/a.json"] != "one" || got["levels/b.json"] != big {
		t.Errorf("%d files", len(got))
	}
	if got := read(bundle.Tar, "", "Levels"); len(got) != 2 || got["levels/a.json"] != "two" {
		t.Errorf("%d files", len(got))
	}
	if got := read(bundle.Tar, "h1", "levels/a.json"); len(got) != 1 || got["levels/a.json"] != "one" {
		t.Errorf("%q", got)
	}
	// Several at once: assets and folders, each once however often it is named.
	if got := read(bundle.Zip, "", "levels.txt", "levels/B.json"); len(got) != 2 || got["levels.txt"] != "x" || got["levels/b.json"] != big {
		t.Errorf("%d files", len(got))
	}
	if got := read(bundle.Zip, "", "levels/a.json", "levels", "levels.txt", "levels/"); len(got) != 3 {
		t.Errorf("%d files", len(got))
	}
	_, err := m.OpenArchive(t.Context(), m.viewer, key, "h1", "levels.txt", "nowhere")
	testbed.Problem(t, err, model.NotFound)
}

func TestWorkspacesAreRemembered(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	told := model.WorkspaceTold{Machine: "tamsin-pc", Folder: "/work/brinelight", Branch: "main", Scope: []string{"levels", "textures"},
		Follows: 3}
	if err := m.DescribeWorkspace(ctx, m.tamsin, key, m.space["tamsin"], told); err != nil {
		t.Fatal(err)
	}
	list, err := m.Workspaces(ctx, m.tamsin, key)
	if err != nil || list[0].Machine != "tamsin-pc" || !slices.Equal(list[0].Scope, told.Scope) || list[0].Follows != 3 ||
		list[0].Told == nil {
		t.Errorf("%+v, %v", list, err)
	}
	testbed.Problem(t, m.DescribeWorkspace(ctx, m.rurik, key, m.space["tamsin"], told), model.NotFound)
	// What is sent from a workspace goes to its branch: one that is not there is none.
	elsewhere := told
	elsewhere.Branch = "nowhere"
	testbed.Problem(t, m.DescribeWorkspace(ctx, m.tamsin, key, m.space["tamsin"], elsewhere), model.NotFound)
	told.Scope = []string{"../up"}
	testbed.Problem(t, m.DescribeWorkspace(ctx, m.tamsin, key, m.space["tamsin"], told), model.BadRequest)
}
