//go:build linux

package workspace

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"kettletarn/internal/core/bundle"
	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// passes sends three handoffs: files, changes of two of them with one new and one gone, and one more change.
func passes(t *testing.T) *pair {
	t.Helper()
	p := newPair(t)
	write(t, p.odile, "levels/a", "a1")
	write(t, p.odile, "levels/b", "b1")
	write(t, p.odile, "sounds/c", "c1")
	send(t, p.odile, SendOptions{})
	locked(t, p.odile, "levels/a", "levels/b", "sounds/c")
	write(t, p.odile, "levels/a", "a2")
	write(t, p.odile, "levels/new", "n1")
	if err := os.Remove(filepath.Join(p.odile.Root, "sounds", "c")); err != nil {
		t.Fatal(err)
	}
	send(t, p.odile, SendOptions{WithGone: true})
	locked(t, p.odile, "levels/b")
	write(t, p.odile, "levels/b", strings.Repeat("b2 and more ", 400_000))
	send(t, p.odile, SendOptions{})
	return p
}

func TestGoingBackComesDownHere(t *testing.T) {
	p := passes(t)
	ctx := t.Context()
	update(t, p.rurik)
	write(t, p.rurik, "levels/a", "unsent")
	plan, _, err := p.rurik.Rollback(ctx, RollbackOptions{All: true, To: "h1", Preview: true})
	if err != nil || len(plan.Changes) != 4 || len(plan.Refusals) != 1 || plan.Refusals[0].Reason != "edited" {
		t.Fatalf("%+v, %v", plan, err)
	}
	_, _, err = p.rurik.Rollback(ctx, RollbackOptions{All: true, To: "h1"})
	testbed.Refused(t, err)
	has(t, p.rurik, "levels/a", "unsent")
	// What is not touched may stay as it is.
	back, u, err := p.rurik.Rollback(ctx, RollbackOptions{Paths: []string{"sounds"}, To: "h1"})
	if err != nil || back.Handoff.Count != 1 || len(u.Brought) != 1 || len(u.Refusals) != 0 {
		t.Fatalf("%+v, %+v, %v", back, u, err)
	}
	has(t, p.rurik, "sounds/c", "c1")
	if _, err := p.rurik.Discard(ctx, []string{"levels/a"}); err != nil {
		t.Fatal(err)
	}
	back, _, err = p.rurik.Rollback(ctx, RollbackOptions{Without: 2})
	if err == nil {
		t.Fatalf("h2 was undone though sounds/c moved on: %+v", back)
	}
	if r := testbed.Refused(t, err); r[0].Reason != "moved-on" || r[0].Path != "sounds/c" {
		t.Errorf("%+v", r)
	}
	back, u, err = p.rurik.Rollback(ctx, RollbackOptions{All: true, To: "h1", Note: "all of it"})
	if err != nil || back.Handoff.Note != "all of it\n\nBack to h1" || len(u.Removed) != 1 || len(u.Refusals) != 0 {
		t.Fatalf("%+v, %+v, %v", back, u, err)
	}
	has(t, p.rurik, "levels/a", "a1")
	has(t, p.rurik, "levels/b", "b1")
	if _, err := os.Lstat(filepath.Join(p.rurik.Root, "levels", "new")); !errors.Is(err, os.ErrNotExist) {
		t.Error("levels/new is here still")
	}
}

func TestAnExportLeavesTheWorkspaceAsItIs(t *testing.T) {
	p := passes(t)
	ctx := t.Context()
	if _, err := p.rurik.AddScope(ctx, []string{"levels"}); err == nil {
		t.Log("the scope was all before")
	}
	update(t, p.rurik)
	before := states(t, p.rurik)
	dir := filepath.Join(t.TempDir(), "old", "state")
	out, err := NewFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	done, err := p.rurik.Export(ctx, ExportOptions{At: "h1", Out: out})
	if err != nil || done.At != 1 || done.Assets != 3 || done.Size != 6 {
		t.Fatalf("%+v, %v", done, err)
	}
	for path, want := range map[string]string{"levels/a": "a1", "levels/b": "b1", "sounds/c": "c1"} {
		if text, err := os.ReadFile(filepath.Join(dir, path)); err != nil || string(text) != want {
			t.Errorf("%s has %q, %v", path, text, err)
		}
	}
	if _, err := os.Lstat(filepath.Join(dir, ".tarn")); err == nil {
		t.Error("an export is no workspace")
	}
	// What is not empty, and what lies in a workspace, is left alone.
	for _, bad := range []string{dir, filepath.Join(p.rurik.Root, "old")} {
		if _, err := NewFolder(bad); err == nil {
			t.Errorf("%s was taken", bad)
		}
	}
	var data bytes.Buffer
	w, _ := bundle.New(bundle.Tar, &data)
	if _, err := p.rurik.Export(ctx, ExportOptions{Paths: []string{"levels"}, Out: w}); err != nil {
		t.Fatal(err)
	}
	var names []string
	for r := tar.NewReader(&data); ; {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		text, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		if names = append(names, h.Name); h.Name == "levels/b" && string(text) != strings.Repeat("b2 and more ", 400_000) {
			t.Errorf("%s has %d bytes of something", h.Name, len(text))
		}
	}
	if !slices.Equal(names, []string{"levels/a", "levels/b", "levels/new"}) {
		t.Error(names)
	}
	_, err = p.rurik.Export(ctx, ExportOptions{At: "h1", Paths: []string{"levels/new"}, Out: w})
	testbed.Refused(t, err)
	_, err = p.rurik.Export(ctx, ExportOptions{At: "no-such-milestone", Out: w})
	testbed.Problem(t, err, model.NotFound)
	if after := states(t, p.rurik); after != before {
		t.Errorf("%s, and was %s", after, before)
	}
}

// Chunks come from this disk where they can, and a file that was changed meanwhile does not spoil an export.
func TestAnExportTrustsNoFileHere(t *testing.T) {
	p := passes(t)
	update(t, p.rurik)
	path := filepath.Join(p.rurik.Root, "levels", "b")
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	info, _ := os.Stat(path)
	text[100] ^= 1
	if err := os.WriteFile(path, text, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(path, info.ModTime(), info.ModTime()); err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "out")
	out, _ := NewFolder(dir)
	if _, err := p.rurik.Export(t.Context(), ExportOptions{Out: out}); err != nil {
		t.Fatal(err)
	}
	if got, err := os.ReadFile(filepath.Join(dir, "levels", "b")); err != nil || string(got) != strings.Repeat("b2 and more ", 400_000) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
}

func TestALostWorkspaceIsMadeAgain(t *testing.T) {
	p := passes(t)
	ctx := t.Context()
	if err := p.rurik.SetScope([]string{"levels"}); err != nil {
		t.Fatal(err)
	}
	if _, err := p.rurik.Update(ctx, UpdateOptions{To: 2}); err != nil {
		t.Fatal(err)
	}
	list, err := p.rurik.Client.Workspaces(ctx, key)
	if err != nil || len(list.Workspaces) != 1 || !slices.Equal(list.Workspaces[0].Scope, []string{"levels"}) ||
		list.Workspaces[0].Follows != 2 || list.Workspaces[0].Folder != p.rurik.Root {
		t.Fatalf("%+v, %v", list, err)
	}
	other := p.join("rurik")
	if fresh, err := other.Fresh(); err != nil || !fresh {
		t.Errorf("%v, %v", fresh, err)
	}
	if err := other.Take(list.Workspaces[0]); err != nil {
		t.Fatal(err)
	}
	u := update(t, other)
	if u.At != 2 || len(u.Brought) != 3 {
		t.Errorf("%+v", u)
	}
	has(t, other, "levels/new", "n1")
	if _, err := os.Lstat(filepath.Join(other.Root, "sounds")); err == nil {
		t.Error("what was out of scope came down")
	}
}

// What is not sent yet is compared with the version that it was made from: looked into where it is small enough, and piece by piece
// however large it is.
func TestWhatIsUnsentIsCompared(t *testing.T) {
	p := newPair(t)
	ctx := t.Context()
	write(t, p.odile, "text/keeper.txt", "one\ntwo\n")
	r := rand.New(rand.NewPCG(1, 2))
	var level strings.Builder
	for level.Len() < 20<<20 {
		fmt.Fprintf(&level, "%d,\n", r.Uint64())
	}
	big := level.String()
	write(t, p.odile, "levels/big.json", big)
	send(t, p.odile, SendOptions{})
	locked(t, p.odile, "text/keeper.txt", "levels/big.json")

	write(t, p.odile, "text/keeper.txt", "one\ntwo lamps\n")
	out, err := p.odile.CompareUnsent(ctx, "text/keeper.txt")
	if err != nil || out.Version != 1 || out.Path != "text/keeper.txt" || len(out.Rows) != 2 || out.Rows[1].Old != "two" ||
		out.Drawn["difference.png"] == nil {
		t.Errorf("%+v, %v", out.Rows, err)
	}
	// A file that was moved, too, is compared with what it was.
	if err := os.Rename(filepath.Join(p.odile.Root, "text", "keeper.txt"), filepath.Join(p.odile.Root, "text", "old-keeper.txt")); err != nil {
		t.Fatal(err)
	}
	write(t, p.odile, "text/old-keeper.txt", "one\ntwo\n")
	if out, err = p.odile.CompareUnsent(ctx, "text/old-keeper.txt"); err != nil || out.Version != 1 || out.Path != "text/keeper.txt" ||
		!out.Same {
		t.Errorf("%s@v%d: %+v, %v", out.Path, out.Version, out.Rows, err)
	}
	// What is too large to be looked into is not brought for it; which part of it is different is known here.
	write(t, p.odile, "levels/big.json", big[:len(big)/2]+"something new"+big[len(big)/2:])
	out, err = p.odile.CompareUnsent(ctx, "levels/big.json")
	if err != nil || out.Version != 1 || !strings.Contains(out.After.Trouble, "larger than what is looked into") || out.Strip == nil ||
		out.Strip.After != int64(len(big)+13) || out.Strip.Changed == 0 || out.Strip.Changed > 4<<20 {
		t.Errorf("%+v, %+v, %v", out, out.Strip, err)
	}
	write(t, p.odile, "text/new.txt", "new")
	if out, err = p.odile.CompareUnsent(ctx, "text/new.txt"); err != nil || out.Version != 0 {
		t.Errorf("%+v, %v", out, err)
	}
}
