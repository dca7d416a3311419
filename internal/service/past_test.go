package service_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/keeping"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/service/people"
	"kettletarn/internal/testbed"
)

func commitID(n string) string { return strings.Repeat("0", 40-len(n)) + n }

func TestWhoMayBringThePastInAndWhatIsKept(t *testing.T) {
	m := newTeam(t, nil)
	rust := m.content(m.odile, []byte("rust"))
	change := func(path string) []model.SendChange {
		return []model.SendChange{{Path: path, Content: rust.Content, Size: rust.Size}}
	}
	at := time.Date(2019, 3, 4, 5, 6, 7, 0, time.UTC)
	ctx := t.Context()
	q := model.PastRequest{Workspace: m.space["odile"], Commits: []model.PastCommit{
		{Commit: commitID("a"), Name: "Ada Brine", Mail: "ada@else.example", At: &at, Note: "  \x00", Changes: change("a.png")},
		{Commit: commitID("b"), Name: "tamsin", Mail: "nobody@else.example", At: &at, Note: "b",
			Changes: []model.SendChange{{Path: "b.png", MovedFrom: "a.png", Content: rust.Content, Size: rust.Size}}},
		{Commit: commitID("c"), Name: "x", Note: "nothing new",
			Changes: []model.SendChange{{Path: "b.png", Content: rust.Content, Size: rust.Size}, {Path: "never.png", Gone: true}}},
	}}
	_, err := m.BringPast(ctx, m.tamsin, key, q)
	testbed.Problem(t, err, model.NotAllowed)
	out, err := m.BringPast(ctx, m.odile, key, q)
	if err != nil || len(out) != 3 || out[0].Author != "Ada Brine" || out[0].Known || out[1].Author != "tamsin (in git)" ||
		out[2].Handoff != 0 {
		t.Fatalf("%+v, %v", out, err)
	}
	again, err := m.BringPast(ctx, m.odile, key, q)
	if err != nil || again[0].Handoff != out[0].Handoff || again[1].Handoff != out[1].Handoff || again[2].Handoff != 0 {
		t.Errorf("again: %+v, %v", again, err)
	}
	h, err := m.Handoff(ctx, m.odile, key, fmt.Sprintf("h%d", out[0].Handoff))
	if err != nil || h.Author != "Ada Brine" || !h.At.Equal(at) || h.Note != "(without a message)" || h.Commit != commitID("a") {
		t.Errorf("%+v, %v", h, err)
	}
	b, err := m.Handoff(ctx, m.odile, key, fmt.Sprintf("h%d", out[1].Handoff))
	if err != nil || len(b.Assets) != 1 || b.Assets[0].Change != "moved" || b.Assets[0].MovedFrom != "a.png" {
		t.Errorf("a rename is %+v, %v", b.Assets, err)
	}
	past, err := m.Past(ctx, m.viewer, key, "")
	if err != nil || past.Commit != commitID("b") || past.Handoff != out[1].Handoff {
		t.Errorf("%+v, %v", past, err)
	}
	for name, bad := range map[string]model.PastRequest{
		"no commit": {Workspace: q.Workspace},
		"no id":     {Workspace: q.Workspace, Commits: []model.PastCommit{{Commit: "HEAD", Note: "x", Changes: change("x.png")}}},
		"the rules": {Workspace: q.Workspace, Commits: []model.PastCommit{{Commit: commitID("d"), Note: "x", Changes: change("tarn.toml")}}},
		"a claimed base": {Workspace: q.Workspace, Commits: []model.PastCommit{{Commit: commitID("d"), Note: "x",
			Changes: []model.SendChange{{Path: "x.png", Base: 3, Content: rust.Content, Size: rust.Size}}}}},
	} {
		if _, err := m.BringPast(ctx, m.odile, key, bad); err == nil {
			t.Errorf("%s: it is taken", name)
		}
	}
	// All or nothing: the second of the two can't be.
	q.Commits = []model.PastCommit{{Commit: commitID("e"), Note: "fine", Changes: change("e.png")},
		{Commit: commitID("f"), Note: "not", Changes: change("aux.png")}}
	_, err = m.BringPast(ctx, m.odile, key, q)
	if list := testbed.Refused(t, err); len(list) != 1 || list[0].Reason != "path-device" {
		t.Errorf("%+v", list)
	}
	if now, err := m.Past(ctx, m.odile, key, ""); err != nil || now != past {
		t.Errorf("half of it is there: %+v, %v", now, err)
	}
}

func TestATokenForOneProject(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	if _, err := m.StartProject(ctx, m.odile, "other-one"); err != nil {
		t.Fatal(err)
	}
	made, err := m.NewToken(ctx, m.odile, key, model.TokenRequest{Role: model.Viewer, Days: 30, Label: "build machine"})
	if err != nil || made.Token == "" || time.Until(made.Expires) > 31*24*time.Hour || time.Until(made.Expires) < 29*24*time.Hour {
		t.Fatalf("%+v, %v", made, err)
	}
	machine, err := m.Authenticate(ctx, made.Token)
	if err != nil || machine.Handle != "odile" {
		t.Fatalf("%+v, %v", machine, err)
	}
	if list, err := m.Projects(ctx, machine); err != nil || len(list) != 1 || list[0].Key != key || list[0].Role != model.Viewer {
		t.Errorf("it sees %+v, %v", list, err)
	}
	if p, err := m.Project(ctx, machine, key); err != nil || p.Role != model.Viewer {
		t.Errorf("it is %+v, %v", p, err)
	}
	_, err = m.Project(ctx, machine, "other-one")
	testbed.Problem(t, err, model.NotFound)
	_, err = m.SetMember(ctx, machine, key, "tamsin", model.Lead)
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.StartProject(ctx, machine, "third-one")
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.SetNewsSettings(ctx, machine, model.NewsSettings{Mail: "evil@else.example"})
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.NewToken(ctx, machine, key, model.TokenRequest{Role: model.Viewer, Days: 30})
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.TakeLocks(ctx, machine, key, locks.Wish{Workspace: m.space["odile"], Wants: []locks.Want{{Path: "a.png"}}})
	testbed.Problem(t, err, model.NotAllowed)
	// Nobody gives more than they have, and a token is never more than its person is by then.
	_, err = m.NewToken(ctx, m.tamsin, key, model.TokenRequest{Role: model.Lead, Days: 1})
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.NewToken(ctx, m.tamsin, key, model.TokenRequest{Role: model.Viewer, Days: people.MaxTokenDays + 1})
	testbed.Problem(t, err, model.BadRequest)
	artists, err := m.NewToken(ctx, m.tamsin, key, model.TokenRequest{Role: model.Artist, Days: 1})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := m.SetMember(ctx, m.odile, key, "tamsin", model.Viewer); err != nil {
		t.Fatal(err)
	}
	hers, err := m.Authenticate(ctx, artists.Token)
	if p, failed := m.Project(ctx, hers, key); err != nil || failed != nil || p.Role != model.Viewer {
		t.Errorf("%+v, %v, %v", p, err, failed)
	}
	if own, err := m.Tokens(ctx, m.tamsin, key); err != nil || len(own) != 1 || own[0].ID != artists.ID || own[0].Token != "" {
		t.Errorf("tamsin sees %+v, %v", own, err)
	}
	if every, err := m.Tokens(ctx, m.odile, key); err != nil || len(every) != 2 {
		t.Errorf("odile sees %+v, %v", every, err)
	}
	testbed.Problem(t, m.EndToken(ctx, m.tamsin, key, made.ID), model.NotFound)
	if err := m.EndToken(ctx, m.odile, key, artists.ID); err != nil {
		t.Fatal(err)
	}
	_, err = m.Authenticate(ctx, artists.Token)
	testbed.Problem(t, err, model.SignInExpired)
}

func TestPinsThatAreTold(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	sent, err := m.send(m.odile, m.change(m.odile, "a.png", 0, 0, "a"))
	if err != nil {
		t.Fatal(err)
	}
	h := sent.Handoff
	told := model.PinnedCommit{Commit: commitID("1"), Author: "keiko", Subject: "Row\x1b[31m", At: time.Unix(1_700_000_000, 0).UTC(),
		Handoff: h.Number, Digest: h.Digest}
	foreign := told
	foreign.Commit, foreign.Digest = commitID("2"), strings.Repeat("0", 64)
	_, err = m.TellPins(ctx, m.viewer, key, []model.PinnedCommit{told})
	testbed.Problem(t, err, model.NotAllowed)
	for range 2 {
		known, err := m.TellPins(ctx, m.tamsin, key, []model.PinnedCommit{told, foreign})
		if err != nil || len(known) != 1 || known[0].Commit != told.Commit || strings.Contains(known[0].Subject, "\x1b") {
			t.Errorf("%+v, %v", known, err)
		}
	}
	if list, err := m.Pins(ctx, m.viewer, key, h.Number); err != nil || len(list) != 1 {
		t.Errorf("%+v, %v", list, err)
	}
	told.Commit = "HEAD"
	_, err = m.TellPins(ctx, m.tamsin, key, []model.PinnedCommit{told})
	testbed.Problem(t, err, model.BadRequest)
}

// TestCommitsAtOnceAreThoseOneByOne: a random past is the same here, however many of its commits come with a request.
func TestCommitsAtOnceAreThoseOneByOne(t *testing.T) {
	one, many := newTeam(t, nil), newTeam(t, nil)
	random := rand.New(rand.NewPCG(3, 5))
	names := []string{"a.png", "B.png", "Dir/c.png", "Dir/deep/d.wav", "e.glb", "Dir/f.txt", "g.bin"}
	contents := make([]testbed.Material, 6)
	for i := range contents {
		data := []byte(strings.Repeat("x", i*100+1))
		contents[i] = one.content(one.odile, data)
		many.content(many.odile, data)
	}
	there := map[string]bool{}
	var commits []model.PastCommit
	for i := range testbed.Steps(120, 3000) {
		at := time.Date(2020, 1, 1, 0, i, 0, 0, time.UTC)
		c := model.PastCommit{Commit: fmt.Sprintf("%040x", i+1), Name: []string{"Ada Brine", "Bo Salt"}[random.IntN(2)], At: &at,
			Note: fmt.Sprint("pass ", i)}
		used := map[string]bool{}
		for range random.IntN(4) {
			path := names[random.IntN(len(names))]
			if used[path] {
				continue
			}
			used[path] = true
			content := contents[random.IntN(len(contents))]
			change := model.SendChange{Path: path, Content: content.Content, Size: content.Size, Executable: random.IntN(5) == 0}
			switch {
			case random.IntN(4) == 0:
				change = model.SendChange{Path: path, Gone: true}
				there[path] = false
			case random.IntN(12) == 0 && there[path]:
				// To a name that nothing had: which of two that were at one place is meant goes by which was claimed first, and at once that
				// is by name.
				change.Path, change.MovedFrom = fmt.Sprintf("moved/%03d-%d.png", i, len(c.Changes)), path
				used[change.Path], there[change.Path], there[path] = true, true, false
				names[random.IntN(len(names))] = change.Path
			default:
				there[path] = true
			}
			c.Changes = append(c.Changes, change)
		}
		commits = append(commits, c)
	}
	bring := func(m *team, list []model.PastCommit) []model.PastHandoff {
		t.Helper()
		out, err := m.BringPast(t.Context(), m.odile, key, model.PastRequest{Workspace: m.space["odile"], Commits: list})
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	var singly, together []model.PastHandoff
	for i := range commits {
		singly = append(singly, bring(one, commits[i:i+1])...)
	}
	for at := 0; at < len(commits); {
		n := min(1+random.IntN(40), len(commits)-at)
		again := max(0, at-random.IntN(3)) // some come twice
		together = append(together, bring(many, commits[again:at+n])[at-again:]...)
		at += n
	}
	if !slices.Equal(singly, together) {
		t.Fatalf("%v\nare not\n%v", together, singly)
	}
	told := func(m *team) string {
		var out strings.Builder
		for _, h := range singly {
			if h.Handoff == 0 {
				continue
			}
			x, err := m.Handoff(t.Context(), m.odile, key, fmt.Sprint("h", h.Handoff))
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprintln(&out, x.Number, x.Parents, x.Author, x.At, x.Commit, x.Size)
			for _, a := range x.Assets {
				fmt.Fprintln(&out, " ", a.Path, a.Change, a.Version, a.Before, a.MovedFrom, a.Size, a.Content)
			}
		}
		page, err := m.Folder(t.Context(), m.odile, key, history.Listing{Below: true})
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range page.Assets {
			fmt.Fprintln(&out, a.Path, a.Newest, a.Size, a.Handoff, a.Author)
			_, versions, err := m.History(t.Context(), m.odile, key, "", a.Path)
			if err != nil {
				t.Fatal(err)
			}
			for _, v := range versions {
				fmt.Fprintln(&out, " ", v.Version, v.Parents, v.Path, v.Handoff, v.Content, v.Executable, v.Gone)
			}
		}
		return out.String()
	}
	if v, err := many.Verify(t.Context(), keeping.VerifyOptions{}); err != nil || len(v.Findings) > 0 {
		t.Errorf("%+v %v", v.Findings, err)
	}
	if a, b := told(one), told(many); a != b {
		la, lb := strings.Split(a, "\n"), strings.Split(b, "\n")
		for i := range la {
			if i >= len(lb) || la[i] != lb[i] {
				t.Fatalf("line %d: one by one %q, at once %q", i, la[i], lb[min(i, len(lb)-1)])
			}
		}
	}
}
