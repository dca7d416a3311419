package e2e

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// tree is what a folder holds: by path, the content, with "x " before it where it is executable.
func tree(t *testing.T, folder string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(folder, func(name string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			if err == nil && slices.Contains([]string{".git", ".tarn"}, e.Name()) {
				return filepath.SkipDir
			}
			return err
		}
		text, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		path, err := filepath.Rel(folder, name)
		if err != nil {
			return err
		}
		mark := ""
		if info.Mode()&0o100 != 0 {
			mark = "x "
		}
		out[path] = mark + string(text)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func sameTree(t *testing.T, what string, got, want map[string]string) {
	t.Helper()
	for path, text := range want {
		if got[path] != text {
			t.Errorf("%s: %q is %.60q, want %.60q", what, path, got[path], text)
		}
	}
	for path := range got {
		if _, there := want[path]; !there {
			t.Errorf("%s: %q should not be there", what, path)
		}
	}
}

// lively is a project with everything that a past can have: odd names, moves, deletions, a branch that came in, one that did not, a
// milestone, a review.
func lively(t *testing.T, d *daemon) (odile, rurik *person) {
	t.Helper()
	odile, rurik = d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"levels/bell.glb": strings.Repeat("bell one ", 90_000), "textures/rust.png": "rust one",
		"textures/b\u00fcro fog.png": "fog", "textures/fog's \u00e9cume.png": "rust one", "empty.png": "", "gone/once.png": "once"})
	rurik.join(odile, "artist")
	odile.tarn(0, "milestone", "add", "first-light", "-m", "As shown to the mayor")
	rurik.tarn(0, "branch", "add", "second-chapter", "--switch")
	rurik.tarn(0, "lock", "levels")
	rurik.write(map[string]string{"levels/bell.glb": "bell, drowned", "levels/reef.glb": "reef one"})
	rurik.tarn(0, "send", "-m", "The bell goes under", "--task", "KT-7")
	odile.tarn(0, "lock", "textures", "gone/once.png")
	odile.write(map[string]string{"textures/rust.png": "rust two"})
	if err := os.Rename(filepath.Join(odile.dir, "textures/fog's \u00e9cume.png"), filepath.Join(odile.dir, "textures/foam.png")); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(odile.dir, "gone/once.png")); err != nil {
		t.Fatal(err)
	}
	odile.tarn(0, "send", "--with-gone", "-m", "Rust redder\n\nand foam has a name; nothing is there once.")
	rurik.tarn(0, "review", "open", "second-chapter", "--ask", "odile", "-m", "Does the bell read?")
	odile.tarn(0, "review", "say", "r1", "-m", "It does")
	odile.tarn(0, "merge", "second-chapter", "-m", "The second chapter")
	rurik.tarn(0, "lock", "levels/reef.glb")
	rurik.write(map[string]string{"levels/reef.glb": "reef two"})
	rurik.tarn(0, "send", "-m", "A deeper reef")
	return odile, rurik
}

// states are all handoffs of a project, each as tarn export writes it.
func (p *person) states(handoffs ...string) map[string]map[string]string {
	p.t.Helper()
	out := map[string]map[string]string{}
	for _, h := range handoffs {
		folder := filepath.Join(p.t.TempDir(), h)
		p.tarn(0, "export", "--at", h, folder)
		out[h] = tree(p.t, folder)
	}
	return out
}

// TestAProjectGoesAnywhere: the whole past in one file that a reader of forty lines understands, in a stream that git takes, and back
// again.
func TestAProjectGoesAnywhere(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := lively(t, d)
	says(t, odile.tarn(0, "history"), "h5")
	want := odile.states("h1", "h2", "h3", "h4", "h5")
	if _, there := want["h3"]["gone/once.png"]; there || want["h3"]["textures/foam.png"] == "" ||
		want["h3"]["textures/rust.png"] != "rust two" {
		t.Fatalf("h3 has %q", slices.Sorted(maps.Keys(want["h3"])))
	}
	reader, err := filepath.Abs("../examples/project_reader.py")
	if err != nil {
		t.Fatal(err)
	}
	python := func(status int, args ...string) string {
		t.Helper()
		cmd := exec.Command("python3", append([]string{reader}, args...)...)
		out, _ := cmd.CombinedOutput()
		if got := cmd.ProcessState.ExitCode(); got != status {
			t.Fatalf("project_reader.py %v ends with %d:\n%s", args, got, out)
		}
		return string(out)
	}

	// The archive.
	home := t.TempDir()
	file := filepath.Join(home, "brinelight.tar")
	says(t, rurik.tarn(0, "project", "download", "brinelight", file), file+" has all of brinelight", "docs/project-file.md")
	says(t, rurik.tarn(1, "project", "download", "brinelight", file), "is there already")
	says(t, rurik.runIn(rurik.home, "", "project", "download", "brinelght", file+"2").Errs, "no project")
	says(t, python(0, file, "check"), "Everything is there and sound")
	says(t, python(0, file, "list"), "h1  ", "odile  main", "h2  ", "rurik  second-chapter  The bell goes under")
	readBack := func(file string) {
		t.Helper()
		for h, files := range want {
			to := filepath.Join(t.TempDir(), h)
			python(0, file, "state", h, to)
			sameTree(t, h, tree(t, to), files)
		}
	}
	readBack(file)
	to := filepath.Join(t.TempDir(), "milestone")
	python(0, file, "state", "first-light", to)
	sameTree(t, "the milestone", tree(t, to), want["h1"])
	records, err := exec.Command("tar", "-xOf", file, "records/reviews.json", "records/record.json", "records/members.json").Output()
	if err != nil {
		t.Fatal(err)
	}
	says(t, string(records), "Does the bell read?", "It does", "h3 by odile: Rust redder", `"artist"`)

	// Cut off anywhere, it goes on, and is whole; what is damaged is seen.
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, cut := range []int{0, 1, 511, 512, 1600, len(whole) / 5, len(whole) / 2, len(whole)*4/5 + 77, len(whole) - 2000, len(whole)} {
		again := filepath.Join(home, "again.tar")
		if err := os.WriteFile(again+".part", whole[:cut], 0o600); err != nil {
			t.Fatal(err)
		}
		rurik.tarn(0, "project", "download", "brinelight", again)
		says(t, python(0, again, "check"), "Everything is there and sound")
		if cut == len(whole)/2 {
			readBack(again)
		}
		if err := os.Remove(again); err != nil {
			t.Fatal(err)
		}
	}
	bad := filepath.Join(home, "bad.tar")
	if err := os.WriteFile(bad, bytes.Replace(whole, []byte("bell, drowned"), []byte("bell, drowneD"), 1), 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, python(1, bad, "check"), "is damaged")
	if err := os.WriteFile(bad, whole[:len(whole)*2/3], 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, python(1, bad, "check"), "not whole")

	// The stream, by git itself.
	stream := filepath.Join(home, "brinelight.stream")
	says(t, rurik.tarn(0, "project", "download", "brinelight", "--stream", stream), "git fast-import")
	repo := filepath.Join(home, "repo")
	rurik.gitIn(home, 0, "init", "-q", repo)
	in, err := os.Open(stream)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	marks := filepath.Join(home, "marks")
	cmd := exec.Command("git", "-C", repo, "fast-import", "--quiet", "--export-marks="+marks)
	cmd.Stdin = in
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	text, err := os.ReadFile(marks)
	if err != nil {
		t.Fatal(err)
	}
	rurik.gitIn(repo, 0, "config", "core.quotePath", "false")
	for h, files := range want {
		_, rest, found := strings.Cut("\n"+string(text), "\n:"+h[1:]+" ")
		commit, _, _ := strings.Cut(rest, "\n")
		if !found {
			t.Fatalf("%s has no mark: %s", h, text)
		}
		to := filepath.Join(t.TempDir(), h)
		rurik.gitIn(home, 0, "-C", repo, "worktree", "add", "-q", "--detach", to, commit)
		got := tree(t, to)
		delete(got, ".git")
		sameTree(t, "the commit of "+h, got, files)
	}
	logged := rurik.gitIn(repo, 0, "log", "--format=%an <%ae> %at %s%n%b", "second-chapter")
	says(t, logged, "rurik <rurik@kettle-tarn.invalid> ", "A deeper reef", "Tasks: KT-7")
	says(t, rurik.gitIn(repo, 0, "log", "-1", "--format=%P", "main"), " ") // a merge has two parents
	says(t, rurik.gitIn(repo, 0, "tag", "-n"), "first-light", "As shown to the mayor")

	// Back again, as another project: the line of main is the same, with its authors, dates and notes.
	keiko := d.person("keiko")
	if err := os.MkdirAll(keiko.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	says(t, keiko.tarn(0, "adopt", "copied", "--stream", stream, "--yes"), "of copied")
	var history struct {
		Handoffs []model.Handoff `json:"handoffs"`
	}
	keiko.json(0, &history, "history")
	if n := len(history.Handoffs); n < 3 {
		t.Errorf("%+v", history)
	}
	says(t, keiko.tarn(0, "history"), "odile (in git)", "Rust redder", "The second chapter")
	delete(want["h4"], "tarn.toml") // of which each project has its own
	sameTree(t, "what came back", assets(keiko), want["h4"])
	if _, err := os.Lstat(filepath.Join(keiko.dir, ".git")); err == nil {
		t.Error("the repository of the stream stays")
	}
	says(t, keiko.tarn(0, "status"), "copied")
	says(t, keiko.tarn(0, "branch", "list"), "second-chapter")
	keiko.tarn(0, "lock", "textures/rust.png")
}

// assets is what a workspace holds, without what is the workspace's own.
func assets(p *person) map[string]string {
	got := tree(p.t, p.dir)
	for path := range got {
		if strings.HasPrefix(path, ".") || path == "tarn.toml" {
			delete(got, path)
		}
	}
	return got
}

// TestAStreamComesIn: of a program that is not git, cut off, of something else, killed, and once more.
func TestAStreamComesIn(t *testing.T) {
	t.Parallel()
	d := serve(t)
	keiko := d.person("keiko")
	if err := os.MkdirAll(keiko.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	var s bytes.Buffer
	s.WriteString("feature done\nreset refs/heads/trunk\n")
	at := func(i int) string { return time.Unix(1_700_000_000+int64(i)*3600, 0).UTC().Format("2006-01-02") }
	for i := range 12 {
		author := []string{"Tamsin Reyle <tamsin@gull.example>", "<nobody>", "Rurik \u00d8sk <r@gull.example>"}[i%3]
		unix := 1_700_000_000 + i*3600
		s.WriteString("commit refs/heads/trunk\nmark :" + strconv.Itoa(i+1) + "\nauthor " + author + " " + strconv.Itoa(unix) +
			" +0100\ncommitter " + author + " " +
			strconv.Itoa(unix) + " +0100\ndata <<END\nRevision " + strconv.Itoa(i) + "\nEND\n")
		if i > 0 {
			s.WriteString("from :" + strconv.Itoa(i) + "\n")
		}
		body := strings.Repeat("rust "+strconv.Itoa(i)+"\n", 2000)
		s.WriteString("M 100644 inline \"tex/old \\\"rust\\\" \\303\\251.png\"\ndata " + strconv.Itoa(len(body)) + "\n" + body + "\n")
		switch i {
		case 3:
			s.WriteString("M 100755 inline tex/fog.png\ndata 3\nfog\n")
		case 5:
			s.WriteString("R tex/fog.png tex/mist.png\n")
		case 7:
			s.WriteString("C tex/mist.png tex/haze.png\n")
		case 9:
			s.WriteString("D tex/mist.png\n")
		}
		s.WriteString("\n")
	}
	// Other branches: one with a name that none has here, one from that, a name for an older state, and a past of its own.
	on := func(mark int, ref, from, note, rest string) {
		s.WriteString(fmt.Sprintf("commit refs/heads/%s\nmark :%d\nauthor Tamsin Reyle <tamsin@gull.example> %d +0000\n"+
			"committer Tamsin Reyle <tamsin@gull.example> %d +0000\ndata <<END\n%s\nEND\n%s%s\n", ref, mark, 1_700_000_000+mark*60,
			1_700_000_000+mark*60, note, from, rest))
	}
	on(101, "chapters/second#1", "from :6\n", "Mist, thicker", "M 100644 inline tex/mist.png\ndata 7\nthicker\n")
	on(102, "chapters/second#1", "", "No asset", "")
	on(103, "chapters/second#1", "", "Moved", "R tex/mist.png tex/second/mist.png\n")
	on(104, "third", "from :103\n", "A lamp", "M 100644 inline lamp.png\ndata 4\nlamp\n")
	s.WriteString("reset refs/heads/label\nfrom :5\n\nreset refs/heads/alone\n")
	on(105, "alone", "", "Alone", "M 100644 inline alone.png\ndata 5\nalone\n")
	s.WriteString("done\n")
	file := filepath.Join(t.TempDir(), "trunk.stream")
	put := func(text []byte) {
		t.Helper()
		if err := os.WriteFile(file, text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	says(t, keiko.tarn(1, "adopt", "brinelight", "--stream", file, "--yes"), "can't be read")
	put(s.Bytes()[:s.Len()/2])
	says(t, keiko.tarn(1, "adopt", "brinelight", "--stream", file, "--yes"), "git can't read the stream",
		"the whole of what a fast-export wrote")
	put([]byte("commit refs/heads/trunk\nnot a stream"))
	says(t, keiko.tarn(1, "adopt", "brinelight", "--stream", file, "--yes"), "git can't read the stream")
	put([]byte("feature done\ndone\n"))
	says(t, keiko.tarn(1, "adopt", "brinelight", "--stream", file, "--yes"), "has no branch")
	put(s.Bytes())
	keiko.write(map[string]string{"mine.png": "mine"})
	says(t, keiko.tarn(1, "adopt", "brinelight", "--stream", file, "--yes"), "is not empty")
	if err := os.Remove(filepath.Join(keiko.dir, "mine.png")); err != nil {
		t.Fatal(err)
	}
	// Killed at some moment, the same again goes on.
	done := false
	for _, wait := range []time.Duration{30, 120, 250} {
		cmd := keiko.command(keiko.dir, "adopt", "brinelight", "--stream", file, "--yes")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(wait * time.Millisecond)
		_ = cmd.Process.Kill()
		if done = cmd.Wait() == nil; done {
			break
		}
	}
	if !done {
		says(t, keiko.tarn(0, "adopt", "brinelight", "--stream", file, "--yes"), "chapters/second-1", "alone has no state in common")
	}
	keiko.has("tex/old \"rust\" \u00e9.png", strings.Repeat("rust 11\n", 2000))
	keiko.has("tex/haze.png", "fog")
	var history struct {
		Handoffs []model.Handoff `json:"handoffs"`
	}
	keiko.json(0, &history, "history", "--branch", "main")
	// The rules of the project come last.
	if len(history.Handoffs) != 13 || !strings.Contains(history.Handoffs[1].Note, "Revision 11") ||
		history.Handoffs[1].At.UTC().Format("2006-01-02") != at(11) {
		t.Errorf("%d handoffs: %+v", len(history.Handoffs), history.Handoffs)
	}
	says(t, keiko.tarn(0, "history"), "Rurik \u00d8sk", "Tamsin Reyle")
	says(t, keiko.tarn(0, "history", "tex/haze.png"), "Revision 7")
	var branches model.Branches
	keiko.json(0, &branches, "branch", "list")
	said := map[string]string{}
	for _, b := range branches.Branches {
		said[b.Name] = fmt.Sprintf("from %s at h%d, %d ahead", b.From, b.At, b.Ahead)
	}
	// h5 is the label's state, h6 that which the second chapter began with; the last of main is its rules.
	for name, want := range map[string]string{"chapters/second-1": "from main at h6, 2 ahead",
		"third": "from chapters/second-1 at h14, 1 ahead", "label": "from main at h5, 0 ahead"} {
		if said[name] != want {
			t.Errorf("%s is %q, want %q", name, said[name], want)
		}
	}
	if _, there := said["alone"]; there {
		t.Error("a past of its own came in")
	}
	keiko.tarn(0, "switch", "third")
	keiko.has("tex/second/mist.png", "thicker")
	keiko.has("lamp.png", "lamp")
	keiko.has("tex/old _rust_ \u00e9~d1497b.png", strings.Repeat("rust 5\n", 2000))
	says(t, keiko.tarn(0, "history", "tex/second/mist.png"), "Mist, thicker", "Tamsin Reyle", "Moved")
	says(t, d.tarnd(0, "verify", "--deep"), "sound")
}

// TestAProjectComesToAnotherService: with every state byte for byte, its branches, milestones and reviews; those who have a handle there
// are matched, the others stay by name. What is damaged leaves nothing behind, and work goes on.
func TestAProjectComesToAnotherService(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, _ := lively(t, d)
	handoffs := []string{"h1", "h2", "h3", "h4", "h5"}
	want := odile.states(handoffs...)
	odile.tarn(0, "branch", "add", "idle", "-m", "Nothing is on it yet")
	file := filepath.Join(t.TempDir(), "brinelight.tar")
	odile.tarn(0, "project", "download", "brinelight", file)

	other := serve(t)
	says(t, other.tarnd(1, "import", file, "--owner", "keiko"), `no person "keiko"`)
	keiko, there := other.person("keiko"), other.person("odile")
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	bad := filepath.Join(t.TempDir(), "bad.tar")
	for name, text := range map[string][]byte{"damaged": bytes.Replace(data, []byte("bell, drowned"), []byte("bell, drowneD"), 1),
		"cut off": data[:len(data)*2/3], "something else": []byte("rust")} {
		if err := os.WriteFile(bad, text, 0o600); err != nil {
			t.Fatal(err)
		}
		says(t, other.tarnd(1, "import", bad, "--owner", "keiko"), "not a whole file of a project", "download it again")
		if got := keiko.runIn(keiko.home, "", "project", "list").Out; strings.Contains(got, "brinelight") {
			t.Errorf("%s leaves %s", name, got)
		}
	}
	other.tarnd(0, "person", "steward", "keiko")
	got := keiko.runIn(keiko.home, "", "record", "--service").Out
	if says(t, got, "steward"); strings.Contains(got, "brinelight") {
		t.Errorf("of what never came in, the record says\n%s", got)
	}
	// One that is killed leaves nothing that the next one minds.
	cmd := other.command("import", file, "--owner", "keiko")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(60 * time.Millisecond)
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	if got := keiko.runIn(keiko.home, "", "project", "list").Out; strings.Contains(got, "brinelight") {
		t.Logf("it was done before it was killed: %s", got)
		keiko.runIn(keiko.home, "brinelight\n", "project", "delete", "brinelight")
		other.sql(`update projects set goes = now()`)
		other.tarnd(0, "collect")
	}
	says(t, other.tarnd(0, "import", file, "--owner", "keiko"), "brinelight is here: 5 handoffs with", "3 branches, 1 milestone, 1 review",
		"the role that they had: odile", "under their name: rurik", "keiko owns it")
	says(t, other.tarnd(1, "import", file, "--owner", "keiko"), "there is a project brinelight already", "--key")
	says(t, other.tarnd(0, "import", file, "--owner", "keiko", "--key", "second"), "second is here")
	says(t, other.tarnd(0, "verify", "--deep"), "sound")

	for _, p := range []*person{keiko, there} {
		if r := p.runIn(p.home, "", "join", "brinelight"); r.Status != 0 {
			t.Fatal(r.Errs)
		}
	}
	states := keiko.states(handoffs...)
	for _, h := range handoffs {
		sameTree(t, h, states[h], want[h])
	}
	says(t, keiko.tarn(0, "history"), "rurik (elsewhere)", "odile", "A deeper reef", "The second chapter")
	says(t, keiko.tarn(0, "show", "h4"), "where h2 came in", "The second chapter")
	says(t, keiko.tarn(0, "history", "textures/foam.png"), "2 versions", "moved from textures/fog", "h1")
	says(t, keiko.tarn(0, "branch", "list"), "second-chapter", "idle", "Nothing is on it yet")
	says(t, keiko.tarn(0, "milestone", "list"), "first-light", "As shown to the mayor", "odile")
	says(t, keiko.tarn(0, "review", "show", "r1"), "rurik (elsewhere): Does the bell read?", "It does")
	says(t, keiko.tarn(0, "record", "--about", "project"), "brought brinelight in from a file of "+d.URL)
	says(t, keiko.tarn(0, "member", "list"), "odile", "owner")

	// Work goes on, on both lines, and the packs alone tell all of it.
	there.tarn(0, "lock", "textures/rust.png")
	there.write(map[string]string{"textures/rust.png": "rust, here"})
	says(t, there.tarn(0, "send", "-m", "Rust, as it is here"), "h6")
	says(t, keiko.tarn(0, "merge", "second-chapter", "-m", "The deeper reef"), "h7")
	keiko.has("textures/rust.png", "rust, here")
	keiko.has("levels/reef.glb", "reef two")
	other.stopWithin(20 * time.Second)
	fresh := testbed.Migrated(t)
	says(t, other.tarnd(0, "--db", fresh, "rebuild", "--owner", "keiko"), "brinelight is back: 7 handoffs")
	says(t, other.tarnd(0, "--db", fresh, "verify"), "sound")
}
