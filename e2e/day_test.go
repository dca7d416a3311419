package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"kettletarn/internal/testbed"
)

// Two people, two workspaces, a full day.
func TestADay(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"levels/harbour.glb": "harbour one", "textures/rust.png": "rust one", "text/empty.txt": ""})
	rurik.join(odile, "artist")
	rurik.has("levels/harbour.glb", "harbour one")
	rurik.has("text/empty.txt", "")

	// Lock and refused lock.
	says(t, odile.tarn(0, "lock", "--note", "north quay", "levels/harbour.glb"), "is yours")
	says(t, rurik.tarn(1, "lock", "levels/harbour.glb", "textures/rust.png"), "odile holds it", "north quay", "odile-pc")
	var refused struct {
		Refusals []struct{ Path, Reason, Message, Remedy string }
	}
	rurik.json(1, &refused, "lock", "levels/harbour.glb")
	if len(refused.Refusals) != 1 || refused.Refusals[0].Reason != "held" || refused.Refusals[0].Path != "levels/harbour.glb" ||
		refused.Refusals[0].Remedy == "" {
		t.Errorf("the refusal in JSON: %+v", refused)
	}
	says(t, rurik.tarn(0, "holders"), "levels/harbour.glb", "odile", "odile-pc: brinelight", "north quay")

	// Edit without the lock: seen, listed, and refused only when sent.
	rurik.write(map[string]string{"levels/harbour.glb": "rurik was here", "textures/new.png": "new"})
	if got := rurik.state("levels/harbour.glb"); got != "edited" {
		t.Errorf("an edit is %q", got)
	}
	says(t, rurik.tarn(1, "send", "-m", "try"), "odile holds it")
	says(t, rurik.tarn(0, "send", "-m", "Only the new one", "--task", "BRL-7", "--stage", "rough", "textures/new.png"), "h2", "new",
		"textures/new.png")

	// Odile sends; Rurik's edit is a clash now, and the rest comes.
	odile.write(map[string]string{"levels/harbour.glb": "harbour two"})
	says(t, odile.tarn(0, "send", "-m", "North quay"), "h3", "edited")
	says(t, rurik.tarn(1, "update"), "levels/harbour.glb", "version 2 by odile")
	rurik.has("levels/harbour.glb", "rurik was here")
	if got := rurik.state("levels/harbour.glb"); got != "clash" {
		t.Errorf("edited here and newer there is %q", got)
	}
	says(t, rurik.tarn(1, "lock", "levels/harbour.glb"), "version 2 is newer than yours (1)")
	odile.tarn(0, "update")
	odile.has("textures/new.png", "new")

	// Discard puts away, and brings back on request.
	says(t, rurik.tarn(0, "discard", "levels/harbour.glb"), "put away")
	rurik.has("levels/harbour.glb", "harbour two")
	says(t, rurik.tarn(0, "discard", "--list"), "levels/harbour.glb")
	rurik.tarn(0, "discard", "--restore", "levels/harbour.glb")
	rurik.has("levels/harbour.glb", "rurik was here")
	rurik.tarn(0, "lock", "levels/harbour.glb")
	says(t, rurik.tarn(0, "send", "--keep-locks", "-m", "Mine after all"), "h4", "you keep their locks")
	says(t, odile.tarn(0, "holders"), "rurik")
	rurik.tarn(0, "unlock", "levels/harbour.glb")

	// Roll back, for everyone.
	odile.tarn(0, "update")
	says(t, odile.tarn(0, "rollback", "levels/harbour.glb", "--to", "v1"), "h5", "as in v1", "was v3, now v4", "Nothing was deleted")
	odile.has("levels/harbour.glb", "harbour one")
	rurik.tarn(0, "update")
	rurik.has("levels/harbour.glb", "harbour one")
	says(t, odile.tarn(0, "history", "levels/harbour.glb"), "4 versions", "Mine after all", "v1", "h5")
	says(t, odile.tarn(0, "history"), "h1", "h5", "BRL-7", "[rough]")
	says(t, odile.tarn(0, "history", "textures"), "h2")
	says(t, odile.tarn(0, "show", "h3"), "North quay", "odile", "v2")
	says(t, odile.tarn(0, "show", "levels/harbour.glb@v3"), "digest", "rurik")
	odile.tarn(1, "show", "h99")
	says(t, odile.tarn(1, "show", "what"), "no milestone and no branch what")

	// Deletions are listed, and go only when asked for.
	if err := os.Remove(filepath.Join(odile.dir, "textures", "rust.png")); err != nil {
		t.Fatal(err)
	}
	if got := odile.state("textures/rust.png"); got != "gone" {
		t.Errorf("a deleted file is %q", got)
	}
	says(t, odile.tarn(0, "send", "-m", "nothing"), "nothing to send", "textures/rust.png")
	says(t, odile.tarn(1, "send", "-m", "gone", "--with-gone"), "textures/rust.png", "lock")
	odile.tarn(0, "lock", "textures/rust.png")
	says(t, odile.tarn(0, "send", "-m", "Rust is not used", "--with-gone"), "gone")
	rurik.tarn(0, "update")
	rurik.has("textures/rust.png", "")
	says(t, rurik.tarn(0, "rollback", "textures/rust.png", "--to", "v1"), "now v3")
	rurik.has("textures/rust.png", "rust one")

	// A lost disk is no loss.
	if err := os.RemoveAll(rurik.home); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(rurik.home, 0o755); err != nil {
		t.Fatal(err)
	}
	if r := rurik.runIn(rurik.home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "rurik"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	if r := rurik.runIn(rurik.home, "", "join", "brinelight"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	rurik.has("levels/harbour.glb", "harbour one")
	rurik.has("textures/rust.png", "rust one")
	if status := d.Stop(); status != 0 {
		t.Errorf("tarnd ends with %d on SIGTERM: %s", status, d.Log)
	}
}

func TestBeginBringsLocksAndOpens(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "one", "b.png": "b"})
	rurik.join(odile, "artist")
	odile.tarn(0, "begin", "--no-open", "a.png")
	odile.write(map[string]string{"a.png": "two"})
	odile.tarn(0, "send", "-m", "two")
	opened := filepath.Join(rurik.home, "opened")
	if err := os.MkdirAll(filepath.Join(rurik.home, "bin"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(rurik.home, "bin", "xdg-open"), []byte("#!/bin/sh\necho \"$1\" >'"+opened+"'\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	says(t, rurik.tarn(0, "begin", "a.png"), "a.png is yours", "version 2 by odile")
	rurik.has("a.png", "two")
	testbed.Eventually(t, "opening the file", func() bool {
		text, err := os.ReadFile(opened)
		return err == nil && strings.TrimSpace(string(text)) == filepath.Join(rurik.dir, "a.png")
	})
	odile.write(map[string]string{"tool.exe": "MZ"})
	odile.tarn(0, "send", "-m", "a tool", "tool.exe")
	rurik.tarn(0, "update")
	if err := os.Remove(opened); err != nil {
		t.Fatal(err)
	}
	says(t, rurik.tarn(0, "begin", "tool.exe"), "tool.exe is yours", "opening it might run it", "It was not opened")
	if _, err := os.Stat(opened); err == nil {
		t.Error("a program that somebody sent was opened")
	}
	says(t, odile.tarn(1, "begin", "--no-open", "a.png"), "rurik holds it")
	if err := os.Remove(filepath.Join(odile.dir, "b.png")); err != nil {
		t.Fatal(err)
	}
	odile.tarn(1, "begin", "--no-open", "no-such.png")
	rurik.write(map[string]string{"a.png": "rurik"})
	says(t, odile.tarn(0, "unlock", "--override", "--reason", "away", "a.png"), "free")
	says(t, rurik.tarn(1, "send", "-m", "late"), "no longer hold")
	rurik.has("a.png", "rurik")
	says(t, rurik.tarn(1, "unlock", "--override", "--reason", "x", "a.png"), "nothing is locked")
	rurik.tarn(2, "unlock", "--override", "a.png")
}

func TestJoinHereOverwritesNothing(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"same.png": "same", "differs.png": "theirs", "lacking.png": "lacking", "x/deep.png": "deep"})
	odile.tarn(0, "member", "add", "rurik")
	rurik.write(map[string]string{"same.png": "same", "differs.png": "mine!!", "new.png": "new"})
	if r := rurik.runIn(rurik.home, "", "join", "brinelight"); r.Status != 1 {
		t.Errorf("joining into a folder that is not empty: %+v", r)
	} else {
		says(t, r.Errs, "not empty", "--here")
	}
	for range 2 { // it can be repeated
		says(t, rurik.tarn(0, "join", "brinelight", "--here"), "1 file taken over", "differs.png", "new.png", "3 assets")
	}
	rurik.has("differs.png", "mine!!")
	if got := rurik.state("same.png") + " " + rurik.state("differs.png") + " " + rurik.state("new.png") + " " +
		rurik.state("lacking.png"); got != "same clash new behind" {
		t.Errorf("the states are %s", got)
	}
	says(t, rurik.tarn(1, "update"), "differs.png")
	rurik.has("lacking.png", "lacking")
	rurik.has("differs.png", "mine!!")
}

// A folder copied from a colleague, marker and all.
func TestACopiedWorkspaceIsMadeOnesOwn(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "a"})
	odile.tarn(0, "member", "add", "rurik")
	if err := os.CopyFS(rurik.dir, os.DirFS(odile.dir)); err != nil {
		t.Fatal(err)
	}
	says(t, rurik.tarn(1, "status"), "copied from elsewhere", "--here")
	says(t, rurik.tarn(1, "join", "brinelight", "."), "somebody else's workspace", "--here")
	says(t, rurik.tarn(0, "join", "brinelight", "--here"), "2 files taken over")
	says(t, rurik.tarn(0, "lock", "a.png"), "yours")
	says(t, odile.tarn(0, "holders"), "rurik-pc")
}

func TestAWorkspaceInsideAWorkspaceIsRefused(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a/b.png": "b"})
	inside := filepath.Join(odile.dir, "a")
	for _, args := range [][]string{{"start", "second", "--yes"}, {"join", "brinelight", "new"}, {"join", "brinelight", "--here"}} {
		r := odile.runIn(inside, "", args...)
		if r.Status != 1 || !strings.Contains(r.Errs, odile.dir) || !strings.Contains(r.Errs, "brinelight") {
			t.Errorf("%v: %+v", args, r)
		}
	}
	says(t, odile.tarn(1, "start", "second", "--yes"), "is a workspace of the project brinelight already")
	other := filepath.Join(odile.home, "other")
	if err := os.MkdirAll(other, 0o755); err != nil {
		t.Fatal(err)
	}
	if r := odile.runIn(other, "", "start", "brinelight", "--yes"); r.Status != 1 || !strings.Contains(r.Errs, "already") {
		t.Errorf("a second project of the same name: %+v", r)
	}
	if r := odile.runIn(other, "", "start", "Not/A/Key", "--yes"); r.Status != 1 || !strings.Contains(r.Errs, "small letters") {
		t.Errorf("a bad key: %+v", r)
	}
	if r := odile.runIn(other, "", "start", "third"); r.Status != 1 || !strings.Contains(r.Errs, "--yes") {
		t.Errorf("without a terminal and without --yes: %+v", r)
	}
	if r := odile.runIn(other, "", "status"); r.Status != 1 || !strings.Contains(r.Errs, "does not lie in a workspace") {
		t.Errorf("status outside: %+v", r)
	}
}

func TestNamesThatCantBeTaken(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.write(map[string]string{"good.png": "g", "a:b.png": "x", "trailing.": "x", "nul.png": "x", "new\nline.png": "x",
		"Twin.png": "1", "twin.png": "2", "caf\u00e9.png": "1", "cafe\u0301.png": "2", "Folder/1.png": "x", "folder/2.png": "x",
		".git/config": "secret", "sub/.git/HEAD": "x", ".GIT/x": "x", ".tarn-mine": "x", "cache/junk": "x", "x.tmp": "x",
		"tarn.toml": "[[rule]]\nmatch = [\"cache/\", \"*.tmp\"]\nkind = \"ignored\"\n"})
	if err := os.Symlink("/etc/passwd", filepath.Join(odile.dir, "link.png")); err != nil {
		t.Fatal(err)
	}
	preview := odile.tarn(0, "start", "brinelight", "--preview")
	says(t, preview, "would track 5 files", "a:b.png", "trailing.", "nul.png", "line.png", "twin.png", "folder/2.png", "link.png",
		"Left out: 2 files and folders")
	if strings.Contains(preview, "secret") || strings.Contains(preview, ".git/config") {
		t.Error("what belongs to git is spoken of")
	}
	odile.tarn(0, "start", "brinelight", "--yes")
	var h struct{ Assets []struct{ Path string } }
	odile.json(0, &h, "show", "h1")
	var paths []string
	for _, a := range h.Assets {
		paths = append(paths, a.Path)
	}
	if got := strings.Join(paths, " "); got != "Folder/1.png Twin.png cafe\u0301.png good.png tarn.toml" {
		t.Errorf("the baseline is %q", got)
	}
	says(t, odile.tarn(1, "send", "-m", "x", "nul.png"), "device")
	odile.write(map[string]string{"tarn.toml": "ignroe = []\n"})
	says(t, odile.tarn(1, "send", "-m", "x"), "ignroe")
}

func TestSigningIn(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	fresh := d.machine("fresh")
	for _, c := range []struct {
		says   string
		status int
		input  string
		args   []string
	}{
		{"handle or the passphrase is wrong", 1, "wrong passphrase\n", []string{"sign-in", d.URL, "--as", "odile"}},
		{"can't be reached", 3, "x\n", []string{"sign-in", "http://127.0.0.1:1", "--as", "odile"}},
		{"not the address of a service", 2, "", []string{"sign-in", "odile"}},
		{"does not know this sign-in", 1, "tarn_rubbish\n", []string{"sign-in", d.URL, "--token-stdin"}},
		{"not signed in", 1, "", []string{"whoami"}},
		{"not signed in", 1, "", []string{"sign-out"}},
		{"not signed in", 1, "", []string{"join", "brinelight"}},
		{"no command", 2, "", []string{"juggle"}},
		{"flag", 2, "", []string{"status", "--no-such-flag"}},
		{"tarn sign-in URL", 0, "", []string{"--help"}},
	} {
		r := fresh.runIn(fresh.home, c.input, c.args...)
		if r.Status != c.status || !strings.Contains(r.Out+r.Errs, c.says) {
			t.Errorf("tarn %v: %+v, want %d and %q", c.args, r, c.status, c.says)
		}
	}
	odile.dir = odile.home
	says(t, odile.tarn(0, "whoami"), "odile", d.URL)
	says(t, odile.tarn(0, "sign-out"), "Signed out")
	says(t, odile.tarn(1, "project", "list"), "not signed in")
}

func TestEveryCommandHasHelpWithAnExample(t *testing.T) {
	t.Parallel()
	d := serve(t)
	p := d.machine("reader")
	p.dir = p.home
	for _, command := range []string{"sign-in", "sign-out", "whoami", "project list", "project show", "member list", "member add",
		"member remove", "start", "join", "status", "begin", "send", "update", "discard", "lock", "unlock", "holders", "history", "show",
		"rollback"} {
		help := p.tarn(0, append(strings.Fields(command), "--help")...)
		says(t, help, "tarn "+command, "Example: tarn "+command, "--json")
	}
	for _, shell := range []string{"bash", "zsh", "fish", "pwsh"} {
		if out := p.tarn(0, "completion", shell); len(out) < 100 {
			t.Errorf("the completion script for %s is %q", shell, out)
		}
	}
	says(t, p.tarn(0, "--generate-shell-completion"), "status", "rollback")
}
