//go:build linux

package workspace

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"kettletarn/internal/core/model"
)

// refusedFolder opens a workspace that is refused, and gives back the words.
func refusedFolder(t *testing.T, root string) string {
	t.Helper()
	w, err := Open(root, nil, nil)
	var problem *model.Problem
	if !errors.As(err, &problem) || !strings.Contains(problem.Remedy, "--here") {
		if w != nil {
			_ = w.Close()
		}
		t.Fatalf("%s: %v", root, err)
	}
	return problem.Detail
}

// TestACopiedFolderIsAnotherWorkspace: an update in a copy never makes old work of the original look new.
func TestACopiedFolderIsAnotherWorkspace(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	update(t, p.rurik)
	copied := filepath.Join(t.TempDir(), "copy")
	if out, err := exec.Command("cp", "-a", p.rurik.Root, copied).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if said := refusedFolder(t, copied); !strings.Contains(said, "is a copy of the workspace in "+p.rurik.Root) {
		t.Errorf("%s", said)
	}
	if _, err := Join(t.Context(), copied, key, false, p.rurik.Client, nil); err == nil {
		t.Error("a copy is joined without being asked for")
	}
	c, err := Join(t.Context(), copied, key, true, p.rurik.Client, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if c.Marker.Workspace == p.rurik.Marker.Workspace {
		t.Fatal("two folders are one workspace")
	}
	if out, err := c.Adopt(t.Context()); err != nil || out.Taken != 1 {
		t.Fatalf("%+v, %v", out, err)
	}
	locked(t, p.odile, "a")
	write(t, p.odile, "a", "two")
	send(t, p.odile, SendOptions{})
	update(t, c)
	has(t, c, "a", "two")
	if err := p.rurik.Refresh(t.Context()); err != nil {
		t.Fatal(err)
	}
	if got := states(t, p.rurik); got != "a behind" {
		t.Errorf("the original: %q", got)
	}
	if err := os.Remove(filepath.Join(c.Root, "a")); err != nil {
		t.Fatal(err)
	}
	if got := states(t, p.rurik); got != "a behind" {
		t.Errorf("the original, after a deletion in the copy: %q", got)
	}
	again, err := Open(p.rurik.Root, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	_ = again.Close()
}

// TestAMovedFolderStaysItsWorkspace: a folder that was moved as a whole goes on.
func TestAMovedFolderStaysItsWorkspace(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	moved := p.odile.Root + "-moved"
	if err := os.Rename(p.odile.Root, moved); err != nil {
		t.Fatal(err)
	}
	w, err := Open(moved, p.odile.Client, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	if got := states(t, w); got != "" {
		t.Errorf("states are %q", got)
	}
}

// TestAFolderOfABackupIsAskedAbout: old files in the place of newer ones are no edits.
func TestAFolderOfABackupIsAskedAbout(t *testing.T) {
	for _, elsewhere := range []bool{false, true} {
		p := newPair(t)
		write(t, p.odile, "a", "one")
		write(t, p.odile, "same", "the same")
		send(t, p.odile, SendOptions{})
		update(t, p.rurik)
		backup := filepath.Join(t.TempDir(), "backup")
		if out, err := exec.Command("cp", "-a", p.rurik.Root, backup).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
		locked(t, p.odile, "a")
		write(t, p.odile, "a", "two")
		send(t, p.odile, SendOptions{})
		update(t, p.rurik)
		root := p.rurik.Root
		if err := os.RemoveAll(root); err != nil {
			t.Fatal(err)
		}
		if elsewhere {
			root += "-elsewhere"
		}
		if out, err := exec.Command("cp", "-a", backup, root).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
		if said := refusedFolder(t, root); !strings.Contains(said, "put here anew") {
			t.Errorf("%s", said)
		}
		w, err := Join(t.Context(), root, key, true, p.rurik.Client, nil)
		if err != nil {
			t.Fatal(err)
		}
		defer w.Close()
		out, err := w.Adopt(t.Context())
		if err != nil || out.Taken != 1 || len(out.Differ) != 1 || out.Differ[0].Path != "a" {
			t.Errorf("%+v, %v", out, err)
		}
		if got := states(t, w); got != "a clash" {
			t.Errorf("states are %q", got)
		}
		if w.Marker.Workspace != p.rurik.Marker.Workspace {
			t.Error("its put-away files are out of sight")
		}
		again, err := Open(root, nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		_ = again.Close()
	}
}

// TestAnIndexOfTheLastReleaseOpens: there, nothing told a folder from its copies yet.
func TestAnIndexOfTheLastReleaseOpens(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a", "one")
	send(t, p.odile, SendOptions{})
	if err := p.odile.notePlace(placed{Root: p.odile.Root, Marker: p.odile.Marker}); err != nil {
		t.Fatal(err)
	}
	copied := filepath.Join(t.TempDir(), "copy")
	if out, err := exec.Command("cp", "-a", p.odile.Root, copied).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if said := refusedFolder(t, copied); !strings.Contains(said, "is a copy") {
		t.Errorf("%s", said)
	}
	w, err := Open(p.odile.Root, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	if got := states(t, w); got != "" {
		t.Errorf("states are %q", got)
	}
}

// TestNothingOfAWorkspaceGetsIntoGit: git add -A takes neither the marker nor an asset, from the first moment on.
func TestNothingOfAWorkspaceGetsIntoGit(t *testing.T) {
	p := newPair(t)
	write(t, p.odile, "a.png", "one")
	write(t, p.odile, "tarn.toml", "otherwise = \"code\"\n[[rule]]\nmatch = [\"*.png\"]\nkind = \"asset\"\n")
	send(t, p.odile, SendOptions{})
	repo := t.TempDir()
	git := func(args ...string) string {
		out, err := exec.Command("git", append([]string{"-C", repo, "-c", "user.name=keiko", "-c", "user.email=keiko@example.com"},
			args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("git %v: %v %s", args, err, out)
		}
		return string(out)
	}
	git("init", "-q")
	if err := os.WriteFile(filepath.Join(repo, "main.c"), []byte("int main;"), 0o644); err != nil {
		t.Fatal(err)
	}
	w, err := Join(t.Context(), repo, key, true, p.rurik.Client, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	git("add", "-A")
	if got := git("ls-files"); strings.Contains(got, "tarn-") || !strings.Contains(got, "main.c") {
		t.Errorf("git took %s", got)
	}
	update(t, w)
	git("add", "-A")
	if got := git("ls-files"); strings.Contains(got, "png") || strings.Contains(got, "tarn-") {
		t.Errorf("git took %s", got)
	}
}
