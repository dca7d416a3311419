//go:build linux

package workspace

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/mainline"
	"kettletarn/internal/testbed"
)

func TestWhatWasHandedOffSinceIsNotPassedOver(t *testing.T) {
	p := newPair(t)
	// Nobody's own settings: filters and hooks of this machine have no say.
	t.Setenv("GIT_CONFIG_GLOBAL", os.DevNull)
	t.Setenv("GIT_CONFIG_NOSYSTEM", "1")
	dir := t.TempDir()
	git := func(args ...string) {
		t.Helper()
		cmd := exec.Command("git", args...)
		cmd.Dir = dir
		cmd.Env = append(cmd.Environ(), "GIT_AUTHOR_NAME=odile", "GIT_AUTHOR_EMAIL=odile@gull.example", "GIT_COMMITTER_NAME=odile",
			"GIT_COMMITTER_EMAIL=odile@gull.example")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %s: %v: %s", strings.Join(args, " "), err, out)
		}
	}
	git("init", "-q", "-b", "main", ".")
	ctx := t.Context()
	commit := func(path, text string) {
		t.Helper()
		w := &Workspace{Root: dir}
		write(t, w, path, text)
		git("add", "-A")
		git("commit", "-q", "-m", "change "+filepath.Base(path))
	}
	commit("a.png", "a 1")
	commit("b.png", "b 1")
	repo, err := mainline.Find(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	r := rules.Default()
	bring := func(o BringOptions) (*Brought, error) { return p.odile.BringPast(ctx, repo, r, o) }
	if out, err := bring(BringOptions{Note: "Baseline"}); err != nil || out.Handoffs != 1 || out.Versions != 2 {
		t.Fatalf("%+v, %v", out, err)
	}
	update(t, p.rurik)
	has(t, p.rurik, "a.png", "a 1")
	locked(t, p.rurik, "a.png")
	write(t, p.rurik, "a.png", "a by rurik")
	commit("b.png", "b 2")
	if out, err := bring(BringOptions{History: true}); err != nil || out.Handoffs != 1 || out.Commits != 1 {
		t.Fatalf("what came since: %+v, %v", out, err)
	}
	// A lock is respected, and so is what was sent.
	commit("c.png", "c 1")
	commit("a.png", "a 2 in git")
	_, err = bring(BringOptions{History: true})
	if list := testbed.Refused(t, err); len(list) != 1 || list[0].Reason != "held" || !strings.Contains(list[0].Message, "rurik holds it") {
		t.Errorf("%+v", list)
	}
	send(t, p.rurik, SendOptions{})
	_, err = bring(BringOptions{History: true})
	if list := testbed.Refused(t, err); len(list) != 1 || list[0].Reason != "behind" || !strings.Contains(list[0].Message, "by rurik (h3)") {
		t.Errorf("%+v", list)
	}
	if out, err := bring(BringOptions{History: true, Over: true}); err != nil || out.Handoffs != 2 {
		t.Fatalf("%+v, %v", out, err)
	}
	update(t, p.rurik)
	has(t, p.rurik, "a.png", "a 2 in git")
	has(t, p.rurik, "c.png", "c 1")
	h, err := p.rurik.Client.Asset(ctx, key, "", "a.png")
	if err != nil || len(h.Versions) != 3 || h.Versions[1].Author != "rurik" || h.Versions[1].Note != "a pass" {
		t.Errorf("%+v, %v", h.Versions, err)
	}
	// What was removed here does not come back unasked.
	locked(t, p.rurik, "c.png")
	if err := os.Remove(filepath.Join(p.rurik.Root, "c.png")); err != nil {
		t.Fatal(err)
	}
	send(t, p.rurik, SendOptions{WithGone: true})
	commit("c.png", "c 2")
	_, err = bring(BringOptions{History: true})
	if list := testbed.Refused(t, err); len(list) != 1 || list[0].Reason != "behind" || list[0].Path != "c.png" {
		t.Errorf("%+v", list)
	}
	if _, err := bring(BringOptions{History: true, Over: true}); err != nil {
		t.Fatal(err)
	}
	// Where the pin is in the tree, what goes from git was moved over, and stays.
	git("rm", "-q", "--cached", "a.png")
	commit(rules.Pin, "anything")
	git("rm", "-q", "--cached", "b.png")
	commit("d.png", "d 1")
	if out, err := bring(BringOptions{History: true}); err != nil || out.Handoffs != 1 {
		t.Fatalf("%+v, %v", out, err)
	}
	update(t, p.rurik)
	has(t, p.rurik, "b.png", "b 2")
	has(t, p.rurik, "d.png", "d 1")
	// A past that was rewritten is another one.
	git("commit", "-q", "--amend", "-m", "otherwise")
	git("reflog", "expire", "--expire=now", "--all")
	_, err = bring(BringOptions{History: true})
	testbed.Problem(t, err, model.Taken)
}
