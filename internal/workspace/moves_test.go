//go:build linux

package workspace

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
	"kettletarn/internal/workspace/index"
)

func rename(t *testing.T, w *Workspace, from, to string) {
	t.Helper()
	testbed.Rename(t, w.Root, from, to)
}

// moves is "to<from state, …" of what was moved.
func moves(t *testing.T, w *Workspace) string {
	t.Helper()
	s, err := w.Status(t.Context(), Question{})
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, a := range s.Assets {
		if a.MovedFrom != "" {
			out = append(out, a.Path+"<"+a.MovedFrom+" "+a.State)
		}
	}
	return strings.Join(out, ", ")
}

func TestAPlainMoveIsRecognisedAndKeepsTheAsset(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "levels/harbour.glb", "quay and posts")
	write(t, p.odile, "other.png", "other")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	rename(t, p.odile, "levels/harbour.glb", "old/quay.glb")
	if got := moves(t, p.odile); got != "old/quay.glb<levels/harbour.glb same" {
		t.Fatalf("moves are %q", got)
	}
	// Edited afterwards, it is both.
	write(t, p.odile, "old/quay.glb", "quay, and more posts")
	if got := moves(t, p.odile); got != "old/quay.glb<levels/harbour.glb edited" {
		t.Fatalf("moves are %q", got)
	}
	locked(t, p.odile, "old/quay.glb")
	sent := send(t, p.odile, SendOptions{})
	if len(sent.Handoff.Assets) != 1 || sent.Handoff.Assets[0].MovedFrom != "levels/harbour.glb" || sent.Handoff.Assets[0].Version != 2 {
		t.Errorf("%+v", sent.Handoff.Assets)
	}
	if got := states(t, p.odile); got != "" {
		t.Errorf("after the send: %s", got)
	}
	history, err := p.odile.Client.Asset(t.Context(), key, "", "old/quay.glb")
	if err != nil || len(history.Versions) != 2 || history.Versions[1].Path != "levels/harbour.glb" {
		t.Errorf("%+v, %v", history, err)
	}
	u := update(t, p.rurik)
	if len(u.Brought) != 1 || len(u.Removed) != 1 || u.Removed[0].MovedTo != "old/quay.glb" {
		t.Errorf("%+v", u)
	}
	has(t, p.rurik, "old/quay.glb", "quay, and more posts")
	if _, err := os.Stat(filepath.Join(p.rurik.Root, "levels")); !os.IsNotExist(err) {
		t.Error("the old folder is still there")
	}
	// The old name is free for something else, with a history of its own.
	write(t, p.rurik, "levels/harbour.glb", "a new harbour")
	fresh := send(t, p.rurik, SendOptions{})
	if a := fresh.Handoff.Assets[0]; a.Change != model.New || a.Version != 1 {
		t.Errorf("%+v", a)
	}
}

func TestAMoveByContentAcrossCopies(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a.png", "the same bytes")
	write(t, p.odile, "empty.png", "")
	send(t, p.odile, SendOptions{})
	// Copied with a new time, and the first one deleted: only the content tells.
	write(t, p.odile, "b.png", "the same bytes")
	if err := os.Remove(filepath.Join(p.odile.Root, "a.png")); err != nil {
		t.Fatal(err)
	}
	if got := moves(t, p.odile); got != "b.png<a.png same" {
		t.Errorf("moves are %q", got)
	}
	// Put back by hand, it is no move any more.
	rename(t, p.odile, "b.png", "a.png")
	if got := moves(t, p.odile) + states(t, p.odile); got != "" {
		t.Errorf("after moving it back: %q", got)
	}
	// An empty file says nothing about where it was.
	rename(t, p.odile, "empty.png", "void.png")
	if got := moves(t, p.odile); got != "" {
		t.Errorf("an empty file counts as moved: %q", got)
	}
}

func TestMoveCommand(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "in/a.png", "one")
	write(t, p.odile, "in/b.png", "two")
	write(t, p.odile, "c.png", "three")
	send(t, p.odile, SendOptions{})
	for _, bad := range [][2]string{{"c.png", "in/a.png"}, {"nothing", "x"}, {"in", "in/deeper"}, {"c.png", "con.png"},
		{"c.png", ".git/c.png"}, {"c.png", "c.png"}, {"in/a.png", "In/a.png"}} {
		if _, err := p.odile.Move(t.Context(), bad[0], bad[1]); err == nil {
			t.Errorf("%s goes to %s", bad[0], bad[1])
		}
	}
	if list, err := p.odile.Move(t.Context(), "in", "out/there"); err != nil || len(list) != 2 {
		t.Fatalf("%v, %v", list, err)
	}
	// Moved on, it is still where it was sent from; moved back, nothing happened.
	if _, err := p.odile.Move(t.Context(), "out/there/a.png", "a.png"); err != nil {
		t.Fatal(err)
	}
	if got := moves(t, p.odile); got != "a.png<in/a.png same, out/there/b.png<in/b.png same" {
		t.Errorf("moves are %q", got)
	}
	if _, err := p.odile.Move(t.Context(), "out/there/b.png", "in/b.png"); err != nil {
		t.Fatal(err)
	}
	if got := moves(t, p.odile); got != "a.png<in/a.png same" {
		t.Errorf("moves are %q", got)
	}
	// Discarding a mere move takes the file back to its place.
	if d, err := p.odile.Discard(t.Context(), []string{"a.png"}); err != nil || len(d.PutAway) != 0 {
		t.Errorf("%+v, %v", d, err)
	}
	has(t, p.odile, "in/a.png", "one")
	// The lock holds on to the asset, wherever it is: nobody else moves it meanwhile.
	update(t, p.rurik)
	locked(t, p.rurik, "c.png")
	if _, err := p.odile.Move(t.Context(), "c.png", "d.png"); err != nil {
		t.Fatal(err)
	}
	_, err := p.odile.Send(t.Context(), SendOptions{About: model.About{Note: "mine"}})
	if r := testbed.Refused(t, err); r[0].Reason != "held" {
		t.Errorf("%+v", r)
	}
}

// Another case of its name is another name for a file, and no other place.
func TestMoveToAnotherSpelling(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "in/a.png", "one")
	write(t, p.odile, "b.png", "two")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	locked(t, p.odile, "in/a.png", "b.png")
	for _, m := range [][2]string{{"in/a.png", "in/A.png"}, {"b.png", "B.png"}} {
		if list, err := p.odile.Move(t.Context(), m[0], m[1]); err != nil || len(list) != 1 {
			t.Fatalf("%s to %s: %v, %v", m[0], m[1], list, err)
		}
	}
	if got := moves(t, p.odile); got != "B.png<b.png same, in/A.png<in/a.png same" {
		t.Errorf("moves are %q", got)
	}
	send(t, p.odile, SendOptions{KeepLocks: true})
	update(t, p.rurik)
	has(t, p.rurik, "in/A.png", "one")
	has(t, p.rurik, "B.png", "two")
	if !p.rurik.free("in/a.png") {
		t.Error("the old spelling stays beside the new one")
	}
	if got := states(t, p.rurik) + states(t, p.odile); got != "" {
		t.Errorf("states are %q", got)
	}
	// A folder, too; and where both names are taken, nothing is replaced.
	if list, err := p.odile.Move(t.Context(), "in", "In"); err != nil || len(list) != 1 {
		t.Fatalf("%v, %v", list, err)
	}
	send(t, p.odile, SendOptions{KeepLocks: true})
	update(t, p.rurik)
	has(t, p.rurik, "In/A.png", "one")
	write(t, p.odile, "b.png", "in the way")
	if _, err := p.odile.Move(t.Context(), "B.png", "b.png"); err == nil {
		t.Error("a move replaces a file")
	}
	has(t, p.odile, "b.png", "in the way")
}

func TestAnUnsentChangeFollowsItsAsset(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a.png", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	write(t, p.rurik, "a.png", "rurik's change")
	rename(t, p.odile, "a.png", "deep/a.png")
	locked(t, p.odile, "a.png")
	send(t, p.odile, SendOptions{})
	u := update(t, p.rurik)
	if len(u.Moved) != 1 || len(u.Clashes) != 0 {
		t.Errorf("%+v", u)
	}
	has(t, p.rurik, "deep/a.png", "rurik's change")
	if got := states(t, p.rurik); got != "deep/a.png edited" {
		t.Errorf("states are %q", got)
	}
}

func TestSwappedAndChainedMoves(t *testing.T) {
	p := newPair(t)
	for _, name := range []string{"a", "b", "c"} {
		write(t, p.odile, name, "content of "+name)
	}
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	// c goes to d, b to c: the second comes to a place that the first leaves in the same send.
	if _, err := p.odile.Move(t.Context(), "c", "d"); err != nil {
		t.Fatal(err)
	}
	if _, err := p.odile.Move(t.Context(), "b", "e"); err != nil {
		t.Fatal(err)
	}
	locked(t, p.odile, "d", "e")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	for name, text := range map[string]string{"a": "content of a", "d": "content of c", "e": "content of b"} {
		has(t, p.rurik, name, text)
	}
	if got := states(t, p.rurik) + states(t, p.odile); got != "" {
		t.Errorf("states are %q", got)
	}
}

func TestAFileInUseIsLeftWhole(t *testing.T) {
	p := newerThere(t, "a", "b")
	open, err := os.OpenFile(filepath.Join(p.rurik.Root, "a"), os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	u := update(t, p.rurik)
	if len(u.Refusals) != 1 || u.Refusals[0].Reason != "in-the-way" || len(u.Brought) != 1 {
		t.Errorf("%+v", u)
	}
	has(t, p.rurik, "a", "one")
	has(t, p.rurik, "b", "two")
	if _, err := open.WriteString("written by the program that has it open"); err != nil {
		t.Fatal(err)
	}
	_ = open.Close()
	if u := update(t, p.rurik); len(u.Clashes) != 1 {
		t.Errorf("what was written meanwhile is not seen: %+v", u)
	}
	has(t, p.rurik, "a", "written by the program that has it open")
}

func TestLooksWithinTheClocksResolutionAreNotTrusted(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	full := filepath.Join(p.odile.Root, "a")
	info, err := os.Stat(full)
	if err != nil {
		t.Fatal(err)
	}
	// The same size, the same inode, the same time: only a look that was late enough could have told.
	if err := os.WriteFile(full, []byte("two"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(full, time.Time{}, info.ModTime()); err != nil {
		t.Fatal(err)
	}
	if err := p.odile.update(func(t index.Tx) error {
		b, _, err := t.Base("a")
		b.Stamp.Looked = b.Stamp.Time + int64(time.Millisecond)
		if err != nil {
			return err
		}
		return t.SetBase("a", b, nil)
	}); err != nil {
		t.Fatal(err)
	}
	if got := states(t, p.odile); got != "a edited" {
		t.Errorf("states are %q", got)
	}
}
