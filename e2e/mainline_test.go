package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/rules"
)

// git runs git in a folder and returns what it prints on both. It has to end with the status.
func (p *person) gitIn(dir string, status int, args ...string) string {
	p.t.Helper()
	cmd := exec.Command("git", append([]string{"-c", "init.defaultBranch=main", "-c", "protocol.file.allow=always"}, args...)...)
	cmd.Dir = dir
	cmd.Env = append(p.command(dir).Env, "PATH="+bin+":"+os.Getenv("PATH"), "GIT_CONFIG_NOSYSTEM=1", "GIT_AUTHOR_NAME="+p.handle,
		"GIT_AUTHOR_EMAIL="+p.handle+"@gull.example",
		"GIT_COMMITTER_NAME="+p.handle, "GIT_COMMITTER_EMAIL="+p.handle+"@gull.example")
	out, _ := cmd.CombinedOutput()
	if got := cmd.ProcessState.ExitCode(); got != status {
		p.t.Fatalf("%s: git %s ends with %d, want %d:\n%s", p.handle, strings.Join(args, " "), got, status, out)
	}
	return string(out)
}

func (p *person) git(args ...string) string {
	p.t.Helper()
	return p.gitIn(p.dir, 0, args...)
}

// withCode starts a project in a repository that has code, and commits the pin.
func withCode(t *testing.T) (d *daemon, keiko, tamsin *person) {
	d = serve(t)
	keiko, tamsin = d.person("keiko"), d.person("tamsin")
	keiko.write(map[string]string{"main.go": "package main\n", "textures/rust.png": "rust 1", "sounds/oar.wav": "oar 1"})
	keiko.git("init", "-q")
	keiko.tarn(0, "start", "brinelight", "--preset", "game", "--preset", "sound", "--yes")
	tamsin.join(keiko, "artist")
	says(t, keiko.tarn(0, "pin"), "tarn.pin says h1 now", ".gitignore")
	keiko.git("add", ".")
	keiko.git("commit", "-q", "-m", "Begin")
	return d, keiko, tamsin
}

func TestTheCodeNamesItsAssets(t *testing.T) {
	t.Parallel()
	d, keiko, tamsin := withCode(t)
	if got := keiko.git("ls-files"); got != ".gitignore\nmain.go\ntarn.pin\n" {
		t.Errorf("git has %q", got)
	}
	text, err := os.ReadFile(filepath.Join(keiko.dir, rules.Pin))
	if err != nil || !strings.Contains(string(text), "service = \""+d.URL+"\"\nproject = \"brinelight\"\nbranch = \"main\"\nhandoff = 1\n") ||
		strings.Contains(string(text), "tarn_") {
		t.Errorf("the pin is %s, %v", text, err)
	}

	// New work, and the pin follows; unsent work can't be pinned by accident.
	tamsin.tarn(0, "begin", "--no-open", "textures/rust.png")
	tamsin.write(map[string]string{"textures/rust.png": "rust 2", "textures/kelp.png": "kelp"})
	tamsin.tarn(0, "send", "-m", "rust and kelp")
	says(t, keiko.tarn(0, "status", "--fetch"), "Newer there (2)")
	says(t, keiko.tarn(1, "pin"), "this is not one handoff", "tarn update brings them")
	keiko.tarn(0, "update")
	keiko.write(map[string]string{"sounds/oar.wav": "oar, half done"})
	says(t, keiko.tarn(1, "pin"), "sounds/oar.wav", "not sent", "--leave-unsent")
	says(t, keiko.tarn(0, "pin", "--leave-unsent"), "tarn.pin says h2 now (it said h1)", "Not in it", "sounds/oar.wav")
	keiko.git("commit", "-q", "-a", "-m", "Kelp in the harbour")
	says(t, keiko.tarn(0, "pin", "--leave-unsent"), "says h2 already")

	// Going back to a commit goes back to its assets; what was not sent stays.
	says(t, keiko.tarn(0, "update", "--commit", "HEAD~1"), "Changed here and not sent", "sounds/oar.wav",
		"this is h1; the workspace stays there")
	keiko.has("textures/rust.png", "rust 1")
	keiko.has("textures/kelp.png", "")
	keiko.has("sounds/oar.wav", "oar, half done")
	says(t, keiko.tarn(1, "update", "--commit", "nowhere"), "no commit nowhere")
	says(t, keiko.tarn(0, "update", "--pinned"), "this is h2, as tarn.pin says; the workspace follows the pin")
	keiko.has("textures/rust.png", "rust 2")

	// It follows the pin and not the newest, until it is told to.
	tamsin.tarn(0, "begin", "--no-open", "textures/kelp.png")
	tamsin.write(map[string]string{"textures/kelp.png": "kelp 2"})
	tamsin.tarn(0, "send", "-m", "darker kelp")
	says(t, keiko.tarn(0, "update"), "Nothing to bring: this is h2, as tarn.pin says")
	says(t, keiko.tarn(0, "status", "--fetch"), "It follows the pin; the newest is h3")
	keiko.git("checkout", "-q", "HEAD~1")
	says(t, keiko.tarn(0, "status"), "It follows the pin, which says h1 now: tarn update brings it there")
	keiko.tarn(0, "update")
	keiko.has("textures/kelp.png", "")
	keiko.git("checkout", "-q", "main")
	says(t, keiko.tarn(0, "update", "--newest"), "this is h3.")
	keiko.has("textures/kelp.png", "kelp 2")
	keiko.tarn(0, "begin", "--no-open", "sounds/oar.wav")
	keiko.tarn(0, "send", "-m", "oar")
	says(t, keiko.tarn(0, "pin"), "h4")
	keiko.git("commit", "-q", "-a", "-m", "Oar")
	out := keiko.tarn(0, "pin", "between", "HEAD~1", "HEAD")
	says(t, out, "HEAD~1 pins h2, HEAD pins h4: 2 handoffs between", "darker kelp", "oar")
	says(t, keiko.tarn(1, "pin", "between", "HEAD~9"), "no commit")

	// A pin that was tampered with is not followed.
	keiko.write(map[string]string{rules.Pin: strings.Replace(string(text), "handoff = 1", "handoff = 2", 1)})
	says(t, keiko.tarn(1, "pin", "check"), "two histories")
	says(t, keiko.tarn(1, "update", "--pinned"), "two histories")
	keiko.write(map[string]string{rules.Pin: strings.Replace(string(text), "handoff = 1", "handoff = 99", 1)})
	says(t, keiko.tarn(1, "pin", "check"), "there is no such handoff")
	keiko.write(map[string]string{rules.Pin: strings.Replace(string(text), "brinelight", "tidepad", 1)})
	says(t, keiko.tarn(1, "pin", "check"), "the pin names the project tidepad")
	keiko.write(map[string]string{rules.Pin: "handoff = one\n"})
	says(t, keiko.tarn(1, "pin", "check"), "tarn.pin:")
}

func TestAMergeOfCodeAndItsPin(t *testing.T) {
	t.Parallel()
	_, keiko, _ := withCode(t)
	keiko.git("branch", "night")
	step := func(text string) {
		keiko.tarn(0, "begin", "--no-open", "textures/rust.png")
		keiko.write(map[string]string{"textures/rust.png": text})
		keiko.tarn(0, "send", "-m", text)
		keiko.tarn(0, "pin")
		keiko.git("commit", "-q", "-a", "-m", text)
	}
	step("rust 2")
	keiko.git("checkout", "-q", "night")
	step("rust 3")
	says(t, keiko.gitIn(keiko.dir, 1, "merge", "main"), "CONFLICT")
	says(t, keiko.tarn(1, "update", "--pinned"), "a merge left two pins in it: h3 of your side, and h2 of the side that was merged",
		"tarn pin --newer")
	says(t, keiko.tarn(1, "pin", "check"), "tarn pin --newer")
	says(t, keiko.tarn(0, "pin", "--newer"), "tarn.pin says h3, the newer of the two (the other side said h2)")
	keiko.git("commit", "-q", "-m", "Merge")
	says(t, keiko.tarn(0, "pin", "check", "--workspace"), "tarn.pin is true: h3", "exactly those: 3 assets")
	says(t, keiko.tarn(1, "pin", "--newer"), "not in conflict")
}

func TestAColleagueAndABuildMachineInTwoCommands(t *testing.T) {
	t.Parallel()
	d, keiko, _ := withCode(t)
	bare := filepath.Join(t.TempDir(), "code.git")
	keiko.git("clone", "-q", "--bare", ".", bare)
	rurik := d.person("rurik")
	keiko.tarn(0, "member", "add", "rurik", "--role", "artist")
	rurik.gitIn(rurik.home, 0, "clone", "-q", bare, rurik.dir)
	rurik.has("textures/rust.png", "")
	says(t, rurik.tarn(0, "join", "--pinned"), "brinelight is as tarn.pin says, h1: 3 assets")
	rurik.has("textures/rust.png", "rust 1")
	if out := rurik.git("status", "--porcelain"); out != "" {
		t.Errorf("git sees %s", out)
	}
	says(t, rurik.tarn(0, "join", "--pinned"), "0 assets", "3 were here")
	// What a cleaning took is brought again, to the same workspace.
	api := d.client(rurik)
	workspaces := func() int {
		list, err := api.Workspaces(t.Context(), "brinelight")
		if err != nil {
			t.Fatal(err)
		}
		return len(list.Workspaces)
	}
	before := workspaces()
	rurik.git("clean", "-fdxq")
	says(t, rurik.tarn(0, "join", "--pinned"), "3 assets")
	rurik.has("sounds/oar.wav", "oar 1")
	if after := workspaces(); after != before {
		t.Errorf("%d workspaces became %d", before, after)
	}
	// A file that stands in the way is not written over.
	rurik.git("clean", "-fdxq")
	rurik.write(map[string]string{"textures/rust.png": "my own"})
	says(t, rurik.tarn(0, "join", "--pinned"), "Changed here and not sent", "textures/rust.png")
	rurik.has("textures/rust.png", "my own")
	rurik.has("sounds/oar.wav", "oar 1")

	// A build machine: an address and a viewer's token.
	token := keiko.runIn(keiko.dir, "", "token", "new", "--role", "viewer", "--expires", "90d", "--label", "build machine")
	says(t, token.Errs, "shown this once", "brinelight alone", "a viewer")
	says(t, keiko.tarn(0, "token", "list"), "build machine", "viewer")
	builder := d.machine("builder")
	builder.gitIn(builder.home, 0, "clone", "-q", bare, builder.dir)
	builder.write(map[string]string{"textures/rust.png": "left from something else"})
	run := func(status int, url string, args ...string) string {
		t.Helper()
		cmd := builder.command(builder.dir, args...)
		cmd.Env = append(cmd.Env, "TARN_TOKEN="+strings.TrimSpace(token.Out))
		if url != "" {
			cmd.Env = append(cmd.Env, "TARN_URL="+url)
		}
		out, _ := cmd.CombinedOutput()
		if got := cmd.ProcessState.ExitCode(); got != status {
			t.Fatalf("tarn %s ends with %d, want %d: %s", strings.Join(args, " "), got, status, out)
		}
		return string(out)
	}
	// An address that only the repository names never gets the token.
	says(t, run(1, "", "join", "--pinned"), "not signed in")
	says(t, run(1, d.URL, "join", "--pinned"), "2 assets", "Left as they are here", "textures/rust.png")
	builder.has("textures/rust.png", "left from something else")
	run(0, d.URL, "settle", "textures/rust.png", "--use", "theirs")
	says(t, run(0, d.URL, "join", "--pinned"), "3 were here")
	says(t, run(0, d.URL, "pin", "check", "--workspace"), "exactly those")
	builder.write(map[string]string{"textures/rust.png": "spoilt", "textures/more.png": "more"})
	if err := os.Remove(filepath.Join(builder.dir, "sounds", "oar.wav")); err != nil {
		t.Fatal(err)
	}
	says(t, run(1, d.URL, "pin", "check", "--workspace"), "other   textures/rust.png", "missing sounds/oar.wav", "more    textures/more.png")
	for _, refused := range [][]string{{"lock", "textures/rust.png"}, {"send", "-m", "x"}, {"member", "add", "rurik"}, {"token", "new"},
		{"start", "other", "--yes"}} {
		run(1, d.URL, refused...)
	}
	var list struct{ Tokens []struct{ ID int } }
	keiko.json(0, &list, "token", "list")
	says(t, keiko.tarn(0, "token", "end", fmt.Sprint(list.Tokens[0].ID)), "can't be used any more")
	says(t, run(1, d.URL, "join", "--pinned"), "this sign-in ended on")
	says(t, keiko.tarn(2, "token", "new", "--expires", "soon"), "90d")
	says(t, keiko.tarn(1, "token", "new", "--expires", "9999d"), "between one day")
}

func TestHooksInTheRepository(t *testing.T) {
	t.Parallel()
	_, keiko, tamsin := withCode(t)
	hooks := filepath.Join(keiko.dir, ".git", "hooks")
	keiko.write(map[string]string{".git/hooks/pre-commit": "#!/bin/sh\necho theirs >> ran\n",
		".git/hooks/post-checkout": "#!/bin/sh\necho \"out $3\" >> ran\n"})
	for _, h := range []string{"pre-commit", "post-checkout"} {
		if err := os.Chmod(filepath.Join(hooks, h), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	says(t, keiko.tarn(0, "pin", "--hook"), "The hooks are in", "called first: post-checkout, pre-commit")
	says(t, keiko.tarn(0, "pin", "--hook"), "post-checkout, pre-commit")

	// Before a commit: an asset, a large binary that no rule covers, and code.
	keiko.write(map[string]string{"textures/stray.png": "x", "big.dat": "\x00" + strings.Repeat("b", 6<<20), "more.go": "package main\n"})
	keiko.git("add", "-f", "textures/stray.png", "big.dat", "more.go")
	out := keiko.gitIn(keiko.dir, 1, "commit", "-m", "all")
	says(t, out, "textures/stray.png: the rules call it an asset", "big.dat: it is a binary of 6.0 MiB, and no rule covers it",
		"git restore --staged")
	if strings.Contains(out, "more.go") {
		t.Errorf("code is refused: %s", out)
	}
	keiko.git("restore", "--staged", "textures/stray.png", "big.dat")
	keiko.git("commit", "-q", "-m", "code")
	keiko.has("ran", "theirs\nout 0\ntheirs\n")

	// After a checkout that moves the pin: told, or brought along.
	if err := os.Remove(filepath.Join(keiko.dir, "textures", "stray.png")); err != nil {
		t.Fatal(err)
	}
	tamsin.tarn(0, "begin", "--no-open", "textures/rust.png")
	tamsin.write(map[string]string{"textures/rust.png": "rust 2"})
	tamsin.tarn(0, "send", "-m", "rust 2")
	keiko.tarn(0, "update")
	keiko.tarn(0, "pin")
	keiko.git("commit", "-q", "-a", "-m", "pin h2")
	says(t, keiko.git("checkout", "HEAD~1"), "tarn.pin says h1 now; this workspace is at h2 and does not follow the pin")
	keiko.has("textures/rust.png", "rust 2")
	keiko.tarn(0, "update", "--pinned")
	keiko.has("textures/rust.png", "rust 1")
	says(t, keiko.git("checkout", "main"), "as tarn.pin says")
	keiko.has("textures/rust.png", "rust 2")
	if out := keiko.git("checkout", "-q", "-b", "same"); strings.Contains(out, "tarn") {
		t.Errorf("the pin did not move: %s", out)
	}
	keiko.git("checkout", "-q", "-b", "old", "HEAD~1")
	keiko.has("textures/rust.png", "rust 1")
	says(t, keiko.git("merge", "main"), "as tarn.pin says")
	keiko.has("textures/rust.png", "rust 2")
	ran, err := os.ReadFile(filepath.Join(keiko.dir, "ran"))
	if err != nil || !strings.Contains(string(ran), "out 1") {
		t.Errorf("their hook wrote %q, %v", ran, err)
	}

	says(t, keiko.tarn(0, "pin", "--no-hook"), "Taken out", "back")
	if text, err := os.ReadFile(filepath.Join(hooks, "pre-commit")); err != nil || !strings.Contains(string(text), "theirs") {
		t.Errorf("their hook is %s, %v", text, err)
	}
	if _, err := os.Stat(filepath.Join(hooks, "post-merge")); err == nil {
		t.Error("a hook of ours is left")
	}
	// Hooks that are part of the history are not written to.
	keiko.git("config", "core.hooksPath", "tools/hooks")
	says(t, keiko.tarn(1, "pin", "--hook"), "core.hooksPath", "pre-commit: tarn pin staged")
}

// A thousand handoffs later the repository has grown by the pins alone: it is compared with one in which the same commits change the code
// and no pin.
func TestAThousandPinsAreSmall(t *testing.T) {
	t.Parallel()
	_, keiko, _ := withCode(t)
	text, err := os.ReadFile(filepath.Join(keiko.dir, rules.Pin))
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.SplitAfter(string(text), "\n")
	const steps = 1000
	packed := func(pinned bool) int64 {
		dir := t.TempDir()
		keiko.gitIn(dir, 0, "init", "-q", "--bare")
		var script strings.Builder
		for i := range steps {
			message := fmt.Sprintf("Step %d", i)
			fmt.Fprintf(&script, "commit refs/heads/main\ncommitter keiko <keiko@gull.example> %d +0000\ndata %d\n%s\n", 1_800_000_000+i*3600,
				len(message), message)
			code := fmt.Sprintf("package main\n\nconst step = %d\n", i)
			fmt.Fprintf(&script, "M 100644 inline main.go\ndata %d\n%s\n", len(code), code)
			if pinned {
				lines[4], lines[5] = fmt.Sprintf("handoff = %d\n", i+1), fmt.Sprintf("digest = %q\n", digestOf(i))
				pin := strings.Join(lines, "")
				fmt.Fprintf(&script, "M 100644 inline tarn.pin\ndata %d\n%s\n", len(pin), pin)
			}
		}
		cmd := exec.Command("git", "fast-import", "--quiet")
		cmd.Dir, cmd.Stdin = dir, strings.NewReader(script.String())
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		keiko.gitIn(dir, 0, "repack", "-adfq")
		files, _ := filepath.Glob(filepath.Join(dir, "objects", "pack", "*.pack"))
		if len(files) != 1 {
			t.Fatalf("%d packs", len(files))
		}
		info, err := os.Stat(files[0])
		if err != nil {
			t.Fatal(err)
		}
		return info.Size()
	}
	without, with := packed(false), packed(true)
	t.Logf("packed, %d commits: %d bytes without a pin, %d with: %d bytes a commit for the pin", steps, without, with, (with-without)/steps)
	if with-without >= 200*steps {
		t.Errorf("the pins take %d bytes a commit", (with-without)/steps)
	}
}

func digestOf(i int) string { return chunk.Sum(fmt.Append(nil, i)).String() }

func TestAdoptingARepository(t *testing.T) {
	t.Parallel()
	d := serve(t)
	keiko, tamsin := d.person("keiko"), d.person("tamsin")
	keiko.gitIn(keiko.home, 0, "init", "-q", keiko.dir)
	commit := func(who *person, message string, files map[string]string) {
		t.Helper()
		keiko.write(files)
		keiko.git("add", "-A", ".")
		keiko.git("-c", "user.name=x", "-c", "user.email=x@x", "commit", "-q", "--author", who.handle+" <"+who.handle+"@gull.example>", "-m",
			message)
	}
	commit(keiko, "Begin", map[string]string{"main.go": "package main\n", "tex/rust.png": strings.Repeat("rust 1 ", 900)})
	commit(tamsin, "Rust, darker", map[string]string{"tex/rust.png": strings.Repeat("rust 2 ", 900), "a:b.png": "odd"})
	keiko.git("mv", "tex/rust.png", "tex/iron.png")
	commit(keiko, "It is iron", nil)
	commit(keiko, "A bell\n\nthat rings \x1b[31mred", map[string]string{"tex/bell.png": "bell"})
	keiko.git("rm", "-q", "tex/bell.png")
	commit(keiko, "No bell", nil)
	commit(keiko, "Only code", map[string]string{"main.go": "package main // 2\n"})
	head := strings.TrimSpace(keiko.git("rev-parse", "HEAD"))

	says(t, keiko.tarn(0, "adopt", "--preview"), "Under the presets game, assets are 4 paths in the history: 4 versions",
		"A clone of the repository weighs", "without them", "By kind:", "png", "The heaviest:", "tex/rust.png")
	says(t, keiko.tarn(0, "adopt", "--list-paths"), "a:b.png\n", "tex/rust.png\n")
	says(t, keiko.tarn(2, "adopt"), "name the project")
	says(t, keiko.tarn(1, "adopt", "brinelight", "--history"), "nothing was done", "--yes")

	// Beside what there is: git stays as it was.
	says(t, keiko.tarn(0, "adopt", "brinelight", "--history", "--beside", "--yes"), "5 handoffs, 5 versions: h1 to h5 of brinelight",
		"Kept by name", "tamsin (in git)", "a:b.png", "Git is as it was")
	if out := keiko.git("status", "--porcelain", "--untracked-files=no"); out != "" {
		t.Errorf("git sees %s", out)
	}
	history := keiko.tarn(0, "history", "tex/iron.png")
	says(t, history, "Begin", "Rust, darker", "It is iron")
	says(t, keiko.tarn(0, "history"), "tamsin (in git)", "commit ")
	shown := keiko.tarn(0, "show", "h4")
	says(t, shown, "h4 by keiko (in git)", "brought in from commit ", "  A bell\n", "that rings �[31mred")
	if strings.Contains(shown, "\x1b") {
		t.Errorf("a message gets at the terminal: %q", shown)
	}
	commit(keiko, "Kelp", map[string]string{"tex/kelp.png": "kelp"})
	says(t, keiko.tarn(0, "adopt", "--history", "--beside"), "1 handoff, 1 version: h7 of brinelight")
	says(t, keiko.tarn(0, "adopt", "--history", "--beside"), "has everything up to commit")

	// For good.
	keiko.write(map[string]string{"more.go": "package main\n"})
	keiko.git("add", "more.go")
	says(t, keiko.tarn(1, "adopt"), "something is staged", "more.go")
	keiko.git("restore", "--staged", "more.go")
	says(t, keiko.tarn(0, "adopt"), "A commit is prepared, and not made: 3 files out of git's index", "tarn.pin and .gitignore in it",
		"git commit")
	status := keiko.git("status", "--porcelain")
	says(t, status, "D  tex/iron.png", "D  tex/kelp.png", "A  tarn.pin", "A  .gitignore", "?? more.go")
	if strings.Contains(status, "tarn.toml") || strings.Contains(status, ".tarn") {
		t.Errorf("git sees %s", status)
	}
	keiko.has("tex/kelp.png", "kelp")
	says(t, keiko.tarn(0, "adopt"), "has everything", "0 files out of git's index") // as after one that was killed right at its end
	keiko.git("-c", "user.name=x", "-c", "user.email=x@x", "commit", "-q", "-m", "The assets live in Kettle Tarn")
	if after := strings.TrimSpace(keiko.git("rev-parse", "HEAD~2")); after != head {
		t.Errorf("the past of git was changed: %s, %s", after, head)
	}
	says(t, keiko.tarn(0, "adopt", "--history"), "has everything")
	says(t, keiko.tarn(0, "pin", "check", "--workspace"), "is true: h7", "exactly those: 4 assets")

	// A colleague gets the assets of any day.
	keiko.tarn(0, "member", "add", "tamsin", "--role", "artist")
	tamsin.gitIn(tamsin.home, 0, "clone", "-q", keiko.dir, tamsin.dir)
	says(t, tamsin.tarn(0, "join", "--pinned"), "4 assets")
	tamsin.has("tex/iron.png", strings.Repeat("rust 2 ", 900))
	if out := tamsin.git("status", "--porcelain"); out != "" {
		t.Errorf("git sees %s", out)
	}
	tamsin.tarn(0, "update", "--to", "h1")
	tamsin.has("tex/rust.png", strings.Repeat("rust 1 ", 900))

	elsewhere := d.machine("elsewhere")
	if err := os.MkdirAll(elsewhere.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	says(t, elsewhere.tarn(1, "adopt", "x", "--preview"), "does not lie in a git repository")
	elsewhere.git("init", "-q", ".")
	says(t, elsewhere.tarn(1, "adopt", "x", "--yes"), "no commit")
}

// A tarn adopt that is killed at any moment leaves nothing half done, and the same again goes on.
func TestAdoptingIsKilled(t *testing.T) {
	d := serve(t)
	keiko := d.person("keiko")
	keiko.gitIn(keiko.home, 0, "init", "-q", keiko.dir)
	for i := range 60 {
		keiko.write(map[string]string{fmt.Sprintf("tex/%d.png", i%7): strings.Repeat(fmt.Sprintf("step %d ", i), 20_000)})
		keiko.git("add", "-A", ".")
		keiko.git("commit", "-q", "-m", fmt.Sprintf("step %d", i))
	}
	killed := 0
	for wait := 15 * time.Millisecond; ; wait = wait * 7 / 5 { // so that a fast machine is interrupted as often as a slow one
		cmd := keiko.command(keiko.dir, "adopt", "brinelight", "--history", "--yes")
		var said strings.Builder
		cmd.Stderr = &said
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		select {
		case err := <-ended:
			if err != nil {
				t.Fatalf("after %d kills: %v: %s", killed, err, said.String())
			}
		case <-time.After(wait):
			_ = cmd.Process.Kill()
			<-ended
			killed++
			continue
		}
		break
	}
	t.Logf("killed %d times", killed)
	var list struct {
		Handoffs []struct {
			Number int
			Note   string
		}
	}
	keiko.json(0, &list, "history", "--limit", "200")
	if len(list.Handoffs) != 61 {
		t.Fatalf("%d handoffs, want 60 and the rules", len(list.Handoffs))
	}
	for _, h := range list.Handoffs[1:] {
		if h.Note != fmt.Sprintf("step %d", h.Number-1) {
			t.Errorf("h%d is %q", h.Number, h.Note)
		}
	}
	says(t, keiko.tarn(0, "pin", "check", "--workspace"), "exactly those")
	if killed < 3 {
		t.Errorf("it was killed %d times only", killed)
	}
}

func TestTheBlockFollowsTheRules(t *testing.T) {
	t.Parallel()
	_, keiko, tamsin := withCode(t)
	ignore := func() string {
		text, err := os.ReadFile(filepath.Join(keiko.dir, ".gitignore"))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	const ours = "\nnode_modules/\r\n!kept.png  \n# the end, without a line break"
	keiko.write(map[string]string{".gitignore": "first\n" + ignore() + ours})
	before := ignore()
	rulesText, err := os.ReadFile(filepath.Join(keiko.dir, rules.File))
	if err != nil {
		t.Fatal(err)
	}
	keiko.write(map[string]string{"sounds/bell.wav": "bell"})
	keiko.tarn(0, "send", "-m", "bell")
	keiko.tarn(0, "pin")
	if ignore() != before {
		t.Error("the block was rewritten though the rules did not change")
	}
	keiko.write(map[string]string{rules.File: string(rulesText) + "\n[[rule]]\nmatch = \"/bakes/\"\nkind = \"asset\"\n",
		"bakes/one.bin": "baked"})
	keiko.tarn(0, "send", "-m", "Bakes are assets")
	after := ignore()
	if !strings.HasPrefix(after, "first\n"+rules.FenceBegin) || !strings.HasSuffix(after, rules.FenceEnd+"\n"+ours) ||
		!strings.Contains(after, "/[bB][aA][kK][eE][sS]/") {
		t.Errorf("the ignore file is\n%s", after)
	}
	if out := keiko.git("status", "--porcelain"); strings.Contains(out, "bakes") {
		t.Errorf("git sees %s", out)
	}
	// Who has no such block gets none; and a damaged one is not guessed at.
	tamsin.tarn(0, "update")
	tamsin.has("bakes/one.bin", "baked")
	tamsin.has(".gitignore", "")
	keiko.write(map[string]string{".gitignore": strings.Replace(after, rules.FenceEnd, "", 1)})
	says(t, keiko.tarn(1, "pin"), "the line that ends the block of assets is gone")
}

func TestTheCodeInTheConsole(t *testing.T) {
	t.Parallel()
	d, keiko, _ := withCode(t)
	keiko.tarn(0, "pin", "--hook")
	b := open(t, d)
	b.signIn("keiko")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/code"), b.sees("No commit of the code names a state of these assets yet."))
	step := func(text, message string) string {
		t.Helper()
		keiko.tarn(0, "begin", "--no-open", "textures/rust.png")
		keiko.write(map[string]string{"textures/rust.png": text, "main.go": "package main // " + text + "\n"})
		keiko.tarn(0, "send", "-m", "Rust: "+text)
		keiko.tarn(0, "pin")
		keiko.git("commit", "-q", "-a", "-m", message)
		return strings.TrimSpace(keiko.git("rev-parse", "HEAD"))
	}
	// The commit is told by its hook, and shows by itself.
	first := step("two", "Doors open")
	b.do(b.sees("1 handoff more"), b.sees("Rust: two"))
	step("three", "Doors close")
	third := step("four", "Doors creak")
	b.do(b.sees("The code gains 1 handoff of assets (h4)"), b.sees("Rust: four"),
		chromedp.Navigate(d.URL+"/p/brinelight/code?from="+third+"&to="+first),
		b.sees("Going back, the code loses 2 handoffs of assets (h3 to h4)"),
		chromedp.Navigate(d.URL+"/p/brinelight/handoffs/4"), b.sees("The code goes with it since commit "+third[:10]+" by keiko: Doors creak"),
		chromedp.Navigate(d.URL+"/p/brinelight/handoffs"), b.sees("pinned by commit "+third[:10]))
}
