package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"kettletarn/demo/scene"
	"kettletarn/internal/testbed"
	"kettletarn/internal/workspace"
)

// desk opens somebody's desk in a browser.
func (p *person) desk() *browser {
	p.t.Helper()
	if err := os.MkdirAll(p.home, 0o700); err != nil {
		p.t.Fatal(err)
	}
	r := p.runIn(p.home, "", "desk", "--no-open", "--json")
	var at struct {
		Link    string
		Process int
	}
	if err := json.Unmarshal([]byte(r.Out), &at); err != nil || r.Status != 0 {
		p.t.Fatalf("no desk: %v %s %s", err, r.Out, r.Errs)
	}
	p.t.Cleanup(func() { _ = syscall.Kill(at.Process, syscall.SIGTERM) })
	b := browse(p.t, at.Link[:strings.Index(at.Link, "/desk/")])
	b.do(chromedp.Navigate(at.Link))
	return b
}

// deskProcess is the number of the process of somebody's desk.
func (p *person) deskProcess() int {
	p.t.Helper()
	text, err := os.ReadFile(filepath.Join(p.home, ".state", "kettle-tarn", "desk", "address.json"))
	var at struct{ Process int }
	if err == nil {
		err = json.Unmarshal(text, &at)
	}
	if err != nil {
		p.t.Fatal(err)
	}
	return at.Process
}

// workspace is the id of somebody's workspace.
func (p *person) workspace() string {
	p.t.Helper()
	m, err := workspace.ReadMarker(p.dir)
	if err != nil {
		p.t.Fatal(err)
	}
	return m.Workspace
}

func field(name string) string { return fmt.Sprintf(`//label[contains(., %q)]//input`, name) }

// TestADayAtTheDesk: from an empty home to a clash that is settled, for two people, without a terminal.
func TestADayAtTheDesk(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"textures/rust.png": string(scene.Albedo("rust", 64, 0)),
		"textures/fog.png": string(scene.Albedo("fog", 64, 0)),
		"sounds/horn.wav":  string(scene.Sound("fog-horn", 0)), "old/tape.wav": "tape"})
	if err := d.AddPerson(t.Context(), "rurik", testbed.Passphrase); err != nil {
		t.Fatal(err)
	}
	odile.tarn(0, "member", "add", "rurik", "--role", "artist")
	rurik := d.machine("rurik")

	// The first day: who one is, what one needs, where it shall be.
	b := rurik.desk()
	b.do(b.sees("Welcome to Kettle Tarn"), chromedp.SendKeys(`input[name=service]`, d.URL), chromedp.SendKeys(`input[name=handle]`, "rurik"),
		chromedp.SendKeys(`input[name=passphrase]`, "wrong\n"), b.sees("passphrase"),
		chromedp.SendKeys(`input[name=passphrase]`, kb.End+strings.Repeat(kb.Backspace, 5)+testbed.Passphrase+"\n"),
		b.sees("Nothing is here yet"), chromedp.Click(`//a[.="Bring another project here"]`), b.sees("brinelight"),
		chromedp.Click(ready("Choose")),
		b.sees("What you need of it"), chromedp.Click(`//label[contains(., "old")]//input`), b.sees("the rest can come later"),
		chromedp.Click(ready("Bring it here")), b.until(`location.pathname === "/desk"`), b.sees("Nothing has changed here"))
	rurik.dir = filepath.Join(rurik.home, "brinelight")
	rurik.has("textures/rust.png", string(scene.Albedo("rust", 64, 0)))
	if _, err := os.Stat(filepath.Join(rurik.dir, "old")); err == nil {
		t.Error("what was left out is here")
	}

	// Begin on the page of an asset; what is changed shows by itself, is looked at, and is sent.
	b.do(chromedp.Navigate(b.url+"/p/brinelight/asset/textures/rust.png"), chromedp.Click(ready("Begin")), b.sees("It is yours"))
	says(t, odile.tarn(0, "holders"), "rurik")
	b.do(chromedp.Navigate(b.url+"/desk"), b.sees("You hold"))
	rurik.write(map[string]string{"textures/rust.png": string(scene.Albedo("rust", 64, 1)),
		"textures/moss.png": string(scene.Albedo("kelp", 64, 0))})
	b.do(b.sees("New here"), b.sees("textures/moss.png"), b.sees("Changed here"), chromedp.Click(`//a[.="What changed"]`),
		b.sees("pixels changed"), b.until(`[...document.querySelectorAll("main img")].filter(i => i.naturalWidth === 64).length >= 2`),
		chromedp.Click(`//a[.="My work"]`), chromedp.Click(`input[aria-label="Send textures/moss.png"]`),
		chromedp.SendKeys(`textarea[name=note]`, "Rust, deeper"), chromedp.SendKeys(field("Tasks"), "BRL-9"),
		chromedp.Click(ready("Send 1 of 2")),
		b.until(`!document.body.innerText.includes("textures/rust.png")`), b.sees("textures/moss.png"))
	says(t, odile.tarn(0, "history"), "Rust, deeper", "BRL-9")

	// It comes in at the other one's desk.
	o := odile.desk()
	o.do(o.sees("Came in"), o.sees("Rust, deeper"), chromedp.Click(ready("Bring it here")), o.sees("Nothing has changed here"))
	odile.has("textures/rust.png", string(scene.Albedo("rust", 64, 1)))

	// Put away, and back.
	b.do(chromedp.Click(`button[aria-label="Put away textures/moss.png"]`), b.asked("Put your textures/moss.png away"), b.act("Put away"),
		b.asked(), b.sees("Nothing has changed here"), chromedp.Click(ready("What was put away here")),
		chromedp.Click(`button[aria-label="Bring back textures/moss.png"]`), b.sees("New here"))

	// Both change one asset; it is settled by looking.
	odile.tarn(0, "lock", "textures/fog.png")
	rurik.write(map[string]string{"textures/fog.png": string(scene.Albedo("fog", 64, 1))})
	b.do(b.sees("odile holds it"), chromedp.SendKeys(`textarea[name=note]`, "Fog"), chromedp.Click(ready("Send 2 assets")),
		b.sees("Wait in line"),
		chromedp.Click(`//button[starts-with(., "Ask them")]`), b.asked("Ask for fog.png"),
		chromedp.SendKeys(`[role=alertdialog] input`, "two minutes"), b.act("Ask"), b.asked())
	o.do(o.sees("They ask you to let go"), o.sees("two minutes"), chromedp.Click(ready("Not yet")), o.asked("Not yet"), o.act("Tell them"),
		o.asked())
	odile.write(map[string]string{"textures/fog.png": string(scene.Albedo("fog", 64, 2))})
	o.do(o.sees("Changed here"), chromedp.SendKeys(`textarea[name=note]`, "Fog, thinner"), chromedp.Click(ready("Send 1 asset")),
		o.sees("Nothing has changed here"))
	b.do(b.sees("Which one goes on?"), b.sees("Fog, thinner"), chromedp.Click(ready("Use theirs")),
		b.until(`!document.body.innerText.includes("Which one goes on?")`))
	rurik.has("textures/fog.png", string(scene.Albedo("fog", 64, 2)))

	// The rest of the project, after all.
	b.do(chromedp.Click(ready("some folders")), b.sees("Which folders are here"), chromedp.Click(`//label[contains(., "old")]//input`),
		b.until(`[...document.querySelectorAll("[role=dialog] input:checked")].length === 3`))
	testbed.Eventually(t, "the folder comes down", func() bool {
		text, err := os.ReadFile(filepath.Join(rurik.dir, "old", "tape.wav"))
		return err == nil && string(text) == "tape"
	})
}

// TestTheDeskIsForEverybody: its pages, with something of everything on them, and with very many changed files.
func TestTheDeskIsForEverybody(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	files := map[string]string{"textures/rust.png": string(scene.Albedo("rust", 64, 0)), "a.png": "a", "held.png": "h", "gone.png": "g",
		"wait.png": "w", "new.png": "n"}
	odile.start(files)
	rurik.join(odile, "artist")
	rurik.tarn(0, "lock", "textures/rust.png", "held.png", "gone.png")
	odile.tarn(0, "ask", "-m", "the build", "held.png")
	odile.tarn(0, "lock", "a.png", "wait.png", "new.png")
	rurik.tarn(0, "lock", "--wait", "wait.png")
	rurik.write(map[string]string{"textures/rust.png": string(scene.Albedo("rust", 64, 1)), "textures/fresh.png": "f", "a.png": "rurik's"})
	if err := os.Remove(filepath.Join(rurik.dir, "gone.png")); err != nil {
		t.Fatal(err)
	}
	odile.write(map[string]string{"a.png": "odile's", "new.png": "newer"})
	odile.tarn(0, "send", "-m", "Both")
	b := rurik.desk()
	b.do(b.sees("Which one goes on?"), b.sees("New here"), b.sees("Came in"), b.sees("They ask you to let go"), b.sees("You wait for"),
		chromedp.Click(ready("What was put away here")), b.sees("Nothing is put away"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("/desk")
	for _, page := range []string{"/desk/bring", "/desk/changed?path=textures/rust.png&workspace=" + rurik.workspace(),
		"/p/brinelight/asset/new.png"} {
		b.do(chromedp.Navigate(b.url+page), b.until(`document.querySelector("h1")`), b.evaluate(axe(t)), b.still())
		if page == "/desk/bring" {
			b.do(chromedp.Click(ready("Choose")), b.sees("What you need of it"), chromedp.Click(ready("Choose a folder")),
				b.sees("It would track"), b.still())
		}
		b.isForEverybody(page)
	}
	for i := range 2500 {
		rurik.write(map[string]string{fmt.Sprintf("many/f%04d.png", i): "x"})
	}
	b.do(chromedp.Navigate(b.url+"/desk"), b.sees("Send 2,50"), b.still())
	if n := b.number(`document.querySelectorAll("*").length`); n > 3000 {
		t.Errorf("%.0f nodes", n)
	}
}

// TestTheDeskGoesOn: a desk that is killed in the middle of a send goes on with it, and one whose service is away with what it knows.
func TestTheDeskGoesOn(t *testing.T) {
	t.Parallel()
	d := serve(t)
	rurik := d.person("rurik")
	rurik.start(map[string]string{"a.png": "a"})
	b := rurik.desk()
	b.do(b.sees("Nothing has changed here"))
	rurik.tarn(0, "lock", "a.png")
	b.do(b.sees("You hold"))
	d.Kill()
	rurik.write(map[string]string{"a.png": "b"})
	b.do(b.sees("Changed here"), b.sees("the service is away"), chromedp.SendKeys(`textarea[name=note]`, "Sent while it was away"),
		chromedp.Click(ready("Send 1 asset")), b.sees("On its way"))
	if err := syscall.Kill(rurik.deskProcess(), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	b.do(b.sees("Your desk does not answer"))
	rurik.write(map[string]string{"a.png": "c"}) // editing goes on
	d.start()
	again := rurik.desk()
	again.do(again.sees("connected"))
	testbed.Eventually(t, "what was set aside is sent", func() bool {
		return strings.Contains(rurik.tarn(0, "history"), "Sent while it was away")
	})
	again.do(again.until(`!document.body.innerText.includes("On its way")`), again.sees("Changed here"))
	rurik.tarn(0, "export", "--at", "h2", filepath.Join(rurik.home, "out"))
	if text, err := os.ReadFile(filepath.Join(rurik.home, "out", "a.png")); err != nil || string(text) != "b" {
		t.Errorf("%q, %v", text, err)
	}
	// A watch in the folder joins the desk, and ends with it.
	watch := rurik.command(rurik.dir, "watch")
	out, err := watch.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := watch.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	if !lines.Scan() || !strings.Contains(lines.Text(), "your desk watches brinelight") {
		t.Errorf("watch says %q", lines.Text())
	}
	says(t, rurik.runIn(rurik.home, "", "desk", "--end").Out, "has ended")
	if err := watch.Wait(); err == nil {
		t.Error("the watch says nothing of its desk's end")
	}
	says(t, rurik.runIn(rurik.home, "", "desk", "--end").Out, "did not run")
	if r := rurik.runIn(rurik.home, "", "desk", "https://tarn.example"); r.Status != 1 || !strings.Contains(r.Errs, "no link to a desk") {
		t.Errorf("%d %s", r.Status, r.Errs)
	}
}

// TestTheExamplesForEditors: the module for Python and the shell's client do by the document alone what an editor would.
func TestTheExamplesForEditors(t *testing.T) {
	t.Parallel()
	d := serve(t)
	rurik := d.person("rurik")
	rurik.start(map[string]string{"textures/rust.png": "one", "a.txt": "a"})
	t.Cleanup(func() { rurik.runIn(rurik.home, "", "desk", "--end") })
	examples, err := filepath.Abs("../examples")
	if err != nil {
		t.Fatal(err)
	}
	run := func(name string, args ...string) string {
		t.Helper()
		ctx, stop := context.WithTimeout(t.Context(), time.Minute)
		defer stop()
		c := exec.CommandContext(ctx, name, args...)
		c.Dir, c.Env = rurik.dir, append(rurik.command(rurik.dir).Env, "TARN="+filepath.Join(bin, "tarn"), "OPEN=false")
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
		}
		return string(out)
	}
	module := filepath.Join(examples, "desk.py")
	testbed.Eventually(t, "the desk knows the file", func() bool {
		c := exec.Command("python3", module, "state", "textures/rust.png")
		c.Dir, c.Env = rurik.dir, append(rurik.command(rurik.dir).Env, "TARN="+filepath.Join(bin, "tarn"))
		out, err := c.CombinedOutput()
		return err == nil && strings.Contains(string(out), "same, version 1 of 1, free")
	})
	says(t, run("python3", module, "begin", "textures/rust.png"), "textures/rust.png is yours")
	rurik.write(map[string]string{"textures/rust.png": "two"})
	says(t, run("python3", module, "state", "textures/rust.png"), "edited, version 1 of 1, yours")
	says(t, run("python3", module, "send", "textures/rust.png", "Rust, deeper"), "h2: 1 asset sent in the background")
	says(t, run("sh", filepath.Join(examples, "desk.sh"), "textures/rust.png"), "textures/rust.png is yours")
	says(t, rurik.tarn(0, "holders"), "textures/rust.png", "yours")
}

// editor runs a script that plays somebody at a program with its add-on. Stand-ins of the programs' interfaces take their places.
func (p *person) editor(script string, args ...string) string {
	p.t.Helper()
	folder, err := filepath.Abs("testdata/editors")
	if err != nil {
		p.t.Fatal(err)
	}
	ctx, stop := context.WithTimeout(p.t.Context(), time.Minute)
	defer stop()
	c := exec.CommandContext(ctx, "python3", append([]string{filepath.Join(folder, script)}, args...)...)
	c.Dir = p.dir
	c.Env = append(p.command(p.dir).Env, "TARN="+filepath.Join(bin, "tarn"), "PYTHONPATH="+filepath.Join(folder, "standin"))
	out, err := c.CombinedOutput()
	if err != nil {
		p.t.Fatalf("%s: %v\n%s", script, err, out)
	}
	return string(out)
}

// TestTheAddOnsForEditors: those of a modelling program and of a board editor, against stand-ins.
func TestTheAddOnsForEditors(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	const board = "(kicad_pcb (version 20211014) (generator pcbnew)\n  (general (thickness 1.6))\n  (paper \"A4\")\n  (layers\n" +
		"    (0 \"F.Cu\" signal)\n    (31 \"B.Cu\" signal)\n    (44 \"Edge.Cuts\" user)\n  )\n  (net 0 \"\")\n)\n"
	odile.start(map[string]string{"tarn.toml": "otherwise = \"asset\"\n\n[[set]]\nmatch = \"*.kicad_*\"\nby = \"stem\"\n",
		"tide.kicad_pcb": board, "tide.kicad_sch": "(kicad_sch)\n"})
	rurik.join(odile, "artist")
	t.Cleanup(func() { rurik.runIn(rurik.home, "", "desk", "--end") })
	rurik.desk()
	addOn := func(name string) string {
		name, err := filepath.Abs("../examples/" + name)
		if err != nil {
			t.Fatal(err)
		}
		return name
	}

	out := rurik.editor("drive_board.py", addOn("board_addon.py"), filepath.Join(rurik.dir, "tide.kicad_pcb"))
	says(t, out, "Save the board first", "tide.kicad_pcb: same, version 1 of 1, free", "tide.kicad_pcb is yours", "tide.kicad_sch is yours",
		"edited, version 1 of 1, yours", "Nothing was sent", "On its way.")
	testbed.Eventually(t, "the board is sent", func() bool { return strings.Contains(odile.tarn(0, "history"), "A wider trace") })

	scene, other := filepath.Join(rurik.dir, "lamp.blend"), filepath.Join(rurik.home, "other.blend")
	out = rurik.editor("drive_modelling.py", addOn("modelling_addon.py"), scene, "first", other)
	says(t, out, "WORDS new", "On its way", "lamp.blend is yours")
	rurik.tarn(0, "unlock", "lamp.blend")
	odile.tarn(0, "update")
	odile.tarn(0, "lock", "lamp.blend")
	text, err := os.ReadFile(other)
	if err != nil {
		t.Fatal(err)
	}
	odile.write(map[string]string{"lamp.blend": string(text)})
	odile.tarn(0, "send", "-m", "A lamp, second pass")
	out = rurik.editor("drive_modelling.py", addOn("modelling_addon.py"), scene, "second")
	says(t, out, "REFUSED", "same, version 2 of 2, yours")
	rurik.has("lamp.blend", string(text))
}

// cable is a line to the service, which can be pulled out, or go dead without a word.
type cable struct {
	URL string
	mu  sync.Mutex
	out bool
	all map[net.Conn]*atomic.Bool // what goes over it, and whether that is lost
}

func newCable(t *testing.T, d *daemon) *cable {
	t.Helper()
	l, err := listen()
	if err != nil {
		t.Fatal(err)
	}
	c := &cable{URL: "http://" + l.Addr().String(), all: map[net.Conn]*atomic.Bool{}}
	t.Cleanup(func() {
		_ = l.Close()
		c.pull()
	})
	go func() {
		for {
			here, err := l.Accept()
			if err != nil {
				return
			}
			there, err := net.Dial("tcp", strings.TrimPrefix(d.URL, "http://"))
			c.mu.Lock()
			if err != nil || c.out {
				_ = here.Close()
				c.mu.Unlock()
				continue
			}
			lost := &atomic.Bool{}
			c.all[here], c.all[there] = lost, lost
			c.mu.Unlock()
			carry := func(from, to net.Conn) {
				defer from.Close()
				defer to.Close()
				buffer := make([]byte, 32<<10)
				for {
					n, err := from.Read(buffer)
					if n > 0 && !lost.Load() {
						_, err = to.Write(buffer[:n])
					}
					if err != nil {
						return
					}
				}
			}
			go carry(here, there)
			go carry(there, here)
		}
	}()
	return c
}

// pull ends all that goes over it, and lets nothing through until it is plugged in again.
func (c *cable) pull() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.out = true
	for conn := range c.all {
		_ = conn.Close()
	}
	clear(c.all)
}

func (c *cable) plug() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.out = false
}

// lose loses whatever is said over it from now on by those who talk over it now.
func (c *cable) lose() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, lost := range c.all {
		lost.Store(true)
	}
}

// TestTheDeskSleeps: a machine that sleeps, that changes its network, and, with SOAK=1, whose line goes dead without a word: each time the
// page shows what happened meanwhile, and nobody does anything for that.
func TestTheDeskSleeps(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a", "b.png": "b", "c.png": "c", "d.png": "d"})
	if err := d.AddPerson(t.Context(), "rurik", testbed.Passphrase); err != nil {
		t.Fatal(err)
	}
	line := newCable(t, d)
	rurik := d.machine("rurik")
	if r := rurik.runIn(rurik.home, testbed.Passphrase+"\n", "sign-in", line.URL, "--as", "rurik"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	rurik.join(odile, "artist")
	b := rurik.desk()
	b.do(b.sees("Nothing has changed here"))
	meanwhile := func(name string) {
		odile.write(map[string]string{name: "other"})
		odile.tarn(0, "lock", name)
		odile.tarn(0, "send", "-m", "A pass over "+name)
	}

	// It sleeps, and its connections are gone when it wakes up.
	desk := rurik.deskProcess()
	if err := syscall.Kill(desk, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	line.pull()
	meanwhile("a.png")
	rurik.write(map[string]string{"b.png": "rurik's"})
	line.plug()
	if err := syscall.Kill(desk, syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	b.do(b.sees("A pass over a.png"), b.sees("b.png"), b.sees("connected"))

	// It is in no network for a while.
	line.pull()
	b.do(b.sees("the service is away"))
	meanwhile("c.png")
	line.plug()
	b.do(b.sees("connected"), b.sees("A pass over c.png"))
	if now := rurik.deskProcess(); now != desk {
		t.Error("it is another desk")
	}

	if os.Getenv("SOAK") != "" {
		line.lose()
		meanwhile("d.png")
		for until := time.Now().Add(2 * time.Minute); !strings.Contains(b.text(), "A pass over d.png"); time.Sleep(time.Second) {
			if time.Now().After(until) {
				t.Fatal("the page does not show it")
			}
		}
	}
}

// TestFilesAtTheDesk: files that are chosen on a folder's page go into the folder of the machine; several assets are begun at once; what
// the rules leave out says why, and is asked for.
func TestFilesAtTheDesk(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"textures/rust.png": "one", "textures/kelp.png": "one",
		"tarn.toml": "otherwise = \"asset\"\n\n[[rule]]\nmatch = \"*.log\"\nkind = \"ignored\"\n"})
	rurik.join(odile, "artist")
	odile.tarn(0, "lock", "textures/kelp.png")
	odile.write(map[string]string{"textures/kelp.png": "two"})
	odile.tarn(0, "send", "-m", "Kelp, greener", "--keep-locks")
	from := t.TempDir()
	var given []string
	for name, text := range map[string]string{"moss.png": "moss", "rust.png": "from elsewhere", "made.log": "made"} {
		file := filepath.Join(from, name)
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		given = append(given, file)
	}
	b := rurik.desk()
	choose := chromedp.SetUploadFiles(`input[aria-label="Files to put here"]`, given)
	b.do(chromedp.Navigate(b.url+"/p/brinelight/assets/textures"), b.sees("rust.png"), b.sees("Put files here"), choose,
		b.asked("Put 3 files into the folder on this machine?", "Nobody else gets it"), b.act("Put here"),
		b.asked("1 file put here", "1 file of that name is here already", "textures/rust.png", "leave 1 of these out", "textures/made.log"))
	rurik.has("textures/rust.png", "one")
	b.do(b.act("Put 1 file over"), b.asked("2 files put here"), b.act("Done"), b.asked())
	rurik.has("textures/moss.png", "moss")
	rurik.has("textures/rust.png", "from elsewhere")

	// Two are begun: one of them is newer there, and comes; one that somebody holds is refused, and says so.
	b.do(b.until(`document.querySelector("[role=row] input")`), b.choose("textures/kelp.png", false), b.choose("textures/rust.png", false),
		b.chosen("2 assets"), b.act("Begin"), b.asked("Begin 2 assets?"), b.act("Begin"),
		b.asked("1 asset is yours", "odile"), b.act("Done"), b.asked())
	says(t, odile.tarn(0, "holders"), "rurik")

	// Why one is left out, and asking for it.
	b.do(chromedp.Navigate(b.url+"/desk"), b.sees("1 file or folder here is left out"),
		chromedp.Click(`//button[contains(., "left out")]`), b.sees("“*.log” in line 4 of tarn.toml"),
		chromedp.Click(`button[aria-label="Have textures/made.log tracked"]`),
		chromedp.SendKeys(field("Why it is needed"), "the bake is proof"), chromedp.Click(ready("Go on")), b.sees("The leads are asked"))
	says(t, odile.tarn(0, "news"), "textures/made.log")
}
