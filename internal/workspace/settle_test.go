//go:build linux

package workspace

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/core/scope"
	"kettletarn/internal/testbed"
)

// clashed is a pair in which rurik's change of each path stands against a newer version of odile's.
func clashed(t *testing.T, paths ...string) *pair {
	p := newPair(t)
	for _, name := range paths {
		write(t, p.odile, name, "base")
	}
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	locked(t, p.odile, paths...)
	for _, name := range paths {
		write(t, p.odile, name, "odile's")
		write(t, p.rurik, name, "rurik's")
	}
	send(t, p.odile, SendOptions{})
	if u := update(t, p.rurik); len(u.Clashes) != len(paths) {
		t.Fatalf("%+v", u)
	}
	return p
}

func TestSettle(t *testing.T) {
	p := clashed(t, "a.png", "b.png", "c.tar.gz")
	mine, err := p.rurik.Settle(t.Context(), "a.png", UseMine)
	if err != nil || !mine.Superseded || mine.Theirs.Newest != 2 || mine.Theirs.Author != "odile" {
		t.Errorf("%+v, %v", mine, err)
	}
	theirs, err := p.rurik.Settle(t.Context(), "b.png", UseTheirs)
	if err != nil || theirs.PutAway == nil || theirs.Superseded {
		t.Errorf("%+v, %v", theirs, err)
	}
	both, err := p.rurik.Settle(t.Context(), "c.tar.gz", UseBoth)
	if err != nil || both.Beside != "c.tar-v2-odile.gz" {
		t.Errorf("%+v, %v", both, err)
	}
	has(t, p.rurik, "a.png", "rurik's")
	has(t, p.rurik, "b.png", "odile's")
	has(t, p.rurik, "c.tar.gz", "rurik's")
	has(t, p.rurik, "c.tar-v2-odile.gz", "odile's")
	if got := states(t, p.rurik); got != "a.png edited, c.tar-v2-odile.gz new, c.tar.gz edited" {
		t.Errorf("states are %q", got)
	}
	if _, err := p.rurik.Settle(t.Context(), "b.png", UseMine); err == nil {
		t.Error("what is settled is settled again")
	}
	locked(t, p.rurik, "a.png", "c.tar.gz")
	if sent := send(t, p.rurik, SendOptions{}); sent.Handoff.Count != 3 {
		t.Errorf("%+v", sent.Handoff)
	}
	if _, err := p.rurik.Restore(t.Context(), []string{"b.png"}); err != nil {
		t.Fatal(err)
	}
	has(t, p.rurik, "b.png", "rurik's")
}

func TestSettleWhatWasNeverSentOrIsGone(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "fresh.png", "odile's")
	write(t, p.odile, "gone.png", "base")
	send(t, p.odile, SendOptions{})
	write(t, p.rurik, "fresh.png", "rurik's own, never sent")
	u := update(t, p.rurik)
	if len(u.Clashes) != 1 || len(u.Brought) != 1 {
		t.Fatalf("%+v", u)
	}
	has(t, p.rurik, "fresh.png", "rurik's own, never sent")
	if _, err := p.rurik.Settle(t.Context(), "fresh.png", UseBoth); err != nil {
		t.Fatal(err)
	}
	has(t, p.rurik, "fresh-v1-odile.png", "odile's")
	locked(t, p.odile, "gone.png")
	if err := os.Remove(filepath.Join(p.odile.Root, "gone.png")); err != nil {
		t.Fatal(err)
	}
	send(t, p.odile, SendOptions{WithGone: true})
	write(t, p.rurik, "gone.png", "still wanted")
	update(t, p.rurik)
	s, err := p.rurik.Settle(t.Context(), "gone.png", UseMine)
	if err != nil || s.Superseded {
		t.Errorf("%+v, %v", s, err)
	}
	if got := states(t, p.rurik); !strings.Contains(got, "gone.png new") {
		t.Errorf("states are %q", got)
	}
}

func TestFollowingAHandoff(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	locked(t, p.odile, "a")
	write(t, p.odile, "a", "two")
	write(t, p.odile, "late", "came later")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	preview, err := p.rurik.Update(t.Context(), UpdateOptions{To: 1, Preview: true})
	if err != nil || len(preview.Brought) != 1 || len(preview.Removed) != 1 {
		t.Errorf("%+v, %v", preview, err)
	}
	has(t, p.rurik, "a", "two")
	if _, err := p.rurik.Update(t.Context(), UpdateOptions{To: 1}); err != nil {
		t.Fatal(err)
	}
	has(t, p.rurik, "a", "one")
	if _, err := os.Stat(filepath.Join(p.rurik.Root, "late")); err == nil {
		t.Error("a file of later is there")
	}
	// It stays there, whatever comes.
	write(t, p.odile, "more", "m")
	send(t, p.odile, SendOptions{})
	u := update(t, p.rurik)
	if len(u.Brought) != 0 || u.Follows != 1 || u.At != 1 {
		t.Errorf("%+v", u)
	}
	s, err := p.rurik.Status(t.Context(), Question{})
	if err != nil || s.Follows != 1 || s.View.Newest != 3 || len(s.Assets) != 0 {
		t.Errorf("%+v, %v", s, err)
	}
	_, err = p.rurik.Lock(t.Context(), []string{"a"}, LockOptions{})
	if r := testbed.Refused(t, err); r[0].Reason != "behind" {
		t.Errorf("%+v", r)
	}
	_, err = p.rurik.Update(t.Context(), UpdateOptions{To: 99})
	testbed.Problem(t, err, model.NotFound)
	if u, err := p.rurik.Update(t.Context(), UpdateOptions{Newest: true}); err != nil || u.At != 3 {
		t.Errorf("%+v, %v", u, err)
	}
	has(t, p.rurik, "a", "two")
	has(t, p.rurik, "more", "m")
}

func TestScope(t *testing.T) {
	p := newPair(t)
	for _, name := range []string{"levels/a", "levels/b", "sounds/raw/x", "sounds/y", "top"} {
		write(t, p.odile, name, "content of "+name)
	}
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	write(t, p.rurik, "sounds/y", "changed")
	_, err := p.rurik.RemoveScope(t.Context(), []string{"sounds"})
	if r := testbed.Refused(t, err); len(r) != 1 || r[0].Path != "sounds/y" {
		t.Errorf("%+v", r)
	}
	_, err = p.rurik.RemoveScope(t.Context(), []string{"nothing"})
	if r := testbed.Refused(t, err); r[0].Reason != "unknown" {
		t.Errorf("%+v", r)
	}
	u, err := p.rurik.RemoveScope(t.Context(), []string{"sounds/raw", "levels"})
	if err != nil || len(u.Removed) != 3 {
		t.Fatalf("%+v, %v", u, err)
	}
	if _, err := os.Stat(filepath.Join(p.rurik.Root, "levels")); err == nil {
		t.Error("the folder is still there")
	}
	write(t, p.odile, "levels/c", "new there")
	write(t, p.odile, "sounds/z", "new there")
	send(t, p.odile, SendOptions{})
	if u := update(t, p.rurik); len(u.Brought) != 1 || u.Brought[0].Path != "sounds/z" {
		t.Errorf("%+v", u.Brought)
	}
	write(t, p.rurik, "levels/mine", "m")
	if got := states(t, p.rurik); got != "levels/mine outside, sounds/y edited" {
		t.Errorf("states are %q", got)
	}
	_, err = p.rurik.Send(t.Context(), SendOptions{About: model.About{Note: "n"}, Paths: []string{"levels/mine"}})
	if r := testbed.Refused(t, err); r[0].Reason != model.Outside {
		t.Errorf("%+v", r)
	}
	if u, err = p.rurik.AddScope(t.Context(), []string{"levels"}); err != nil || len(u.Brought) != 3 {
		t.Errorf("%+v, %v", u, err)
	}
	has(t, p.rurik, "levels/c", "new there")
	if s, _ := p.rurik.Scope(); len(s) != 1 || s[0] != "-sounds/raw" {
		t.Errorf("the scope is %v", s)
	}
	// A workspace may begin with a scope.
	third := p.join("odile")
	if err := third.SetScope([]string{"levels/"}); err != nil {
		t.Fatal(err)
	}
	coming, err := third.Coming(t.Context())
	if err != nil || coming.Files != 3 || len(coming.Folders) != 1 || coming.Folders[0].Name != "levels/" {
		t.Errorf("%+v, %v", coming, err)
	}
	if u := update(t, third); len(u.Brought) != 3 {
		t.Errorf("%+v", u)
	}
	if got, _ := third.Scope(); !got.Has("levels/x") || got.Has("top") || !got.Has(rules.File) || scope.Scope(got).Check() != nil {
		t.Errorf("the scope is %v", got)
	}
}

func TestRulesInTheFolder(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, rules.File, "presets = [\"game\"]\notherwise = \"code\"\npoint-out = \"10 KB\"\n\n[[rule]]\nmatch = \"/text/\"\nkind "+
		"= \"asset\"\nlock = \"free\"\n")
	write(t, p.odile, "a.png", "a")
	write(t, p.odile, "text/keeper.txt", "one")
	write(t, p.odile, "cache/b.png", "b")
	write(t, p.odile, "main.go", "package main")
	write(t, p.odile, "film.raw", strings.Repeat("\x00", 20000))
	write(t, p.odile, "long.go", strings.Repeat("// text\n", 5000))
	write(t, p.odile, ".gitignore", "/art/\n*.wav\n")
	write(t, p.odile, "art/sky.png", "s")
	write(t, p.odile, "horn.wav", "w")
	s, err := p.odile.Status(t.Context(), Question{LeftOut: true})
	if err != nil {
		t.Fatal(err)
	}
	if got := states(t, p.odile); got != "a.png new, tarn.toml new, text/keeper.txt new" {
		t.Errorf("states are %q", got)
	}
	left := map[string]string{}
	for _, l := range s.LeftOut {
		left[l.Path] = l.State + " " + l.By.String()
	}
	for path, want := range map[string]string{"cache/": "ignored", "main.go": "code", "film.raw": "code",
		"art/": `ignored "/art/" in line 1 of .gitignore`, "horn.wav": `ignored "*.wav" in line 2 of .gitignore`} {
		if !strings.HasPrefix(left[path], want) {
			t.Errorf("%s is %q, want %q", path, left[path], want)
		}
	}
	if len(s.Uncovered) != 1 || s.Uncovered[0].Path != "film.raw" {
		t.Errorf("pointed out are %+v", s.Uncovered)
	}
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	// What is free needs no lock; the rest does; what somebody holds is held.
	write(t, p.rurik, "text/keeper.txt", "two")
	send(t, p.rurik, SendOptions{})
	update(t, p.odile)
	locked(t, p.odile, "text/keeper.txt")
	write(t, p.rurik, "text/keeper.txt", "three")
	_, err = p.rurik.Send(t.Context(), SendOptions{About: model.About{Note: "n"}})
	if r := testbed.Refused(t, err); r[0].Reason != "held" {
		t.Errorf("%+v", r)
	}
	// An artist asks; a lead writes the exception.
	write(t, p.rurik, "cache/sky.png", "painted")
	asked, err := p.rurik.Include(t.Context(), []string{"cache/sky.png", "a.png"}, "painted by hand")
	if err != nil || len(asked.Asked) != 1 || len(asked.Already) != 1 {
		t.Errorf("%+v, %v", asked, err)
	}
	if out, err := p.odile.Include(t.Context(), []string{"cache/b.png"}, ""); err != nil || len(out.Included) != 1 {
		t.Errorf("%+v, %v", out, err)
	}
	if got := states(t, p.odile); got != "cache/b.png new, tarn.toml edited" {
		t.Errorf("states are %q", got)
	}
	tests, err := p.odile.TestRules(t.Context(), []string{"cache/b.png", "horn.wav", "art/sky.png"})
	if err != nil || tests[0].Kind != rules.Asset || tests[1].Kind != rules.Ignored || tests[2].Kind != rules.Ignored {
		t.Errorf("%+v, %v", tests, err)
	}
	// Assets that new rules would leave out stay.
	write(t, p.odile, rules.File, "[[rule]]\nmatch = \"*.png\"\nkind = \"ignored\"\n")
	if stay, err := p.odile.Stay(t.Context()); err != nil || len(stay) != 1 || stay[0].Path != "a.png" {
		t.Errorf("%+v, %v", stay, err)
	}
	if got := states(t, p.odile); strings.Contains(got, "a.png") && !strings.Contains(got, "cache/b.png") {
		t.Errorf("states are %q", got)
	}
}

func TestReadOnlyWhereTheRulesAskForIt(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, rules.File, "read-only = true\n[[rule]]\nmatch = \"*.txt\"\nlock = \"free\"\n")
	write(t, p.odile, "a.png", "one")
	write(t, p.odile, "b.txt", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	writable := func(w *Workspace, name string) bool {
		info, err := os.Stat(filepath.Join(w.Root, name))
		if err != nil {
			t.Fatal(err)
		}
		return info.Mode()&0o200 != 0
	}
	for _, w := range []*Workspace{p.odile, p.rurik} {
		if writable(w, "a.png") || !writable(w, "b.txt") || !writable(w, rules.File) {
			t.Errorf("a.png is writable: %v, b.txt: %v", writable(w, "a.png"), writable(w, "b.txt"))
		}
	}
	locked(t, p.rurik, "a.png")
	if !writable(p.rurik, "a.png") {
		t.Error("what one holds is read-only")
	}
	write(t, p.rurik, "a.png", "two")
	send(t, p.rurik, SendOptions{})
	if writable(p.rurik, "a.png") {
		t.Error("what was sent stays writable")
	}
	update(t, p.odile)
	if has(t, p.odile, "a.png", "two"); writable(p.odile, "a.png") {
		t.Error("what came is writable")
	}
	write(t, p.odile, rules.File, "")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	if !writable(p.rurik, "a.png") || !writable(p.odile, "a.png") {
		t.Error("the rules ask for it no more, and it is read-only")
	}
}

func TestSetsAndWhatBelongsTogether(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, rules.File, "[[set]]\nmatch = \"textures/\"\nby = \"stem\"\n")
	for _, name := range []string{"textures/rust-albedo.png", "textures/rust-normal.png", "textures/kelp-albedo.png", "models/lamp.gltf",
		"models/lamp.bin"} {
		write(t, p.odile, name, "one of "+name)
	}
	send(t, p.odile, SendOptions{})
	taken, err := p.odile.Lock(t.Context(), []string{"textures/rust-albedo.png"}, LockOptions{Set: true})
	if err != nil || len(taken.Locks) != 2 {
		t.Fatalf("%+v, %v", taken, err)
	}
	write(t, p.odile, "textures/rust-albedo.png", "two")
	write(t, p.odile, "textures/rust-normal.png", "two")
	if sent := send(t, p.odile, SendOptions{Paths: []string{"textures/rust-normal.png"}, Set: true}); sent.Handoff.Count != 2 {
		t.Errorf("%+v", sent.Handoff)
	}
	h, _, err := p.odile.Rollback(t.Context(), RollbackOptions{Paths: []string{"textures/rust-albedo.png"}, Version: 1, Set: true})
	if err != nil || h.Handoff.Count != 2 {
		t.Errorf("%+v, %v", h, err)
	}
	has(t, p.odile, "textures/rust-normal.png", "one of textures/rust-normal.png")
	// A model names its buffer, which changed too and is not in the send.
	locked(t, p.odile, "models")
	write(t, p.odile, "models/lamp.gltf", `{"buffers":[{"uri":"lamp.bin"}],"images":[{"uri":"../textures/kelp-albedo.png"}]}`)
	write(t, p.odile, "models/lamp.bin", "two")
	var apart []Reference
	_, err = p.odile.Send(t.Context(), SendOptions{About: model.About{Note: "n"}, Paths: []string{"models/lamp.gltf"},
		Apart: func(list []Reference) bool {
			apart = list
			return false
		}})
	if err == nil || len(apart) != 1 || apart[0].To != "models/lamp.bin" {
		t.Errorf("%+v, %v", apart, err)
	}
}
