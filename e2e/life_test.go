package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// TestTheLifeOfAProject in one go: somebody is invited, works, leaves; the project is finished, downloaded and deleted for good at one
// service, and goes on at another.
func TestTheLifeOfAProject(t *testing.T) {
	t.Parallel()
	d := serve(t)
	d.Stop()
	d.Env = append(d.Env, "TARND_GRACE_DAYS=0")
	d.start()
	odile := d.person("odile")
	odile.start(map[string]string{"textures/rust.png": "rust", "levels/quay.glb": "quay"})
	value := func(name string) string { return fmt.Sprintf(`//input[@name=%q]`, name) }

	// A link lets rurik in.
	b := open(t, d)
	b.signIn("odile")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/people"), b.sees("Nobody is invited"), chromedp.Click(ready("Invite somebody")),
		b.asked("Invite somebody to brinelight"), b.act("Make the link"), b.asked("Whoever has it joins as artist"),
		b.until(`document.querySelector("input[aria-label=Link]")`))
	link, err := chromedp.Run(b.ctx, chromedp.Value(`input[aria-label="Link"]`))
	if err != nil {
		t.Fatal(err)
	}
	b.do(b.act("Done"), b.asked())
	r := open(t, d)
	r.do(chromedp.Navigate(link), r.sees("odile invites you to brinelight"), chromedp.SendKeys(value("handle"), "rurik"),
		chromedp.SendKeys(value("new"), testbed.Passphrase), chromedp.SendKeys(value("again"), testbed.Passphrase+"\n"),
		r.until(`location.pathname === "/p/brinelight"`), r.sees("Today"))

	// They work on a branch and on main, together; it is looked at, merged, named.
	rurik := d.machine("rurik")
	for _, line := range [][]string{{"sign-in", d.URL, "--as", "rurik"}, {"join", "brinelight"}} {
		if got := rurik.runIn(rurik.home, testbed.Passphrase+"\n", line...); got.Status != 0 {
			t.Fatal(got.Errs)
		}
	}
	rurik.tarn(0, "begin", "--no-open", "textures/rust.png")
	rurik.write(map[string]string{"textures/rust.png": "rust, deeper"})
	says(t, rurik.tarn(0, "send", "-m", "Rust on the north rail"), "h2")
	odile.tarn(0, "branch", "add", "second-chapter", "--switch", "-m", "a try")
	odile.tarn(0, "lock", "levels/quay.glb")
	odile.tarn(0, "move", "levels/quay.glb", "levels/old-quay.glb")
	odile.write(map[string]string{"levels/lamp-room.glb": "lamp room"})
	says(t, odile.tarn(0, "send", "-m", "The lamp room"), "h3")
	odile.tarn(0, "switch", "main")
	says(t, odile.tarn(0, "merge", "second-chapter"), "h4")
	odile.tarn(0, "update")
	odile.tarn(0, "milestone", "add", "first-light")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/handoffs"), b.sees("Rust on the north rail"), b.sees("The lamp room"))

	// Rurik leaves, with a lock; the project is done, and shut.
	rurik.tarn(0, "update")
	rurik.tarn(0, "lock", "levels/lamp-room.glb")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/people"), chromedp.Click(`button[aria-label="Take out rurik"]`),
		b.asked("Take rurik out of brinelight?", "1 lock is given back"), b.act("Take out"), b.asked(),
		b.sees("rurik is not in brinelight any more"))
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/usage"), b.sees("at the service"))
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/ending"), b.sees("For a project that is done"), chromedp.Click(ready("Archive it")),
		b.asked("Archive brinelight?"), b.act("Archive it"), b.asked(), b.sees("It is archived"))
	file := filepath.Join(t.TempDir(), "brinelight.tar")
	odile.tarn(0, "project", "download", "brinelight", file)
	past := func(p *person) (said string) {
		t.Helper()
		var all model.Handoffs
		p.json(0, &all, "history")
		for _, h := range all.Handoffs {
			said += fmt.Sprintf("h%d %s by %s at %s: %s, %d assets\n", h.Number, h.Branch, h.Author, h.At, h.Note, len(h.Assets))
		}
		return said
	}
	history := past(odile)
	record := odile.tarn(0, "record", "--about", "people")

	// It is deleted for good: nothing of it is left but the word of who did that.
	b.do(chromedp.Click(ready("Delete it")), b.asked("Delete brinelight?"), chromedp.SendKeys(`[role=alertdialog] input`, "brinelight"),
		b.act("Delete it"), b.until(`location.pathname === "/"`))
	d.tarnd(0, "collect")
	if packs, _ := filepath.Glob(filepath.Join(d.data, "packs", "*", "*")); len(packs) > 0 {
		t.Errorf("its packs are left: %v", packs)
	}
	says(t, d.tarnd(0, "person", "steward", "odile"), "odile is a steward now")
	says(t, odile.runIn(odile.home, "", "record", "--service").Out, "odile deleted brinelight", "the project brinelight was removed for good")
	if got := odile.runIn(odile.home, "", "project", "restore", "brinelight"); got.Status == 0 {
		t.Error("it came back")
	}

	// It goes on elsewhere, where rurik is somebody again, and its past is his still.
	other := serve(t)
	there := other.person("odile")
	other.person("rurik")
	says(t, other.tarnd(0, "import", file, "--owner", "odile"), "brinelight is here: 4 handoffs")
	if got := there.runIn(there.home, "", "join", "brinelight"); got.Status != 0 {
		t.Fatal(got.Errs)
	}
	there.has("textures/rust.png", "rust, deeper")
	there.has("levels/old-quay.glb", "quay")
	there.has("levels/lamp-room.glb", "lamp room")
	if got := past(there); got != history {
		t.Errorf("the history there is\n%s\nit was\n%s", got, history)
	}
	for _, line := range strings.Split(strings.TrimSpace(record), "\n")[1:] {
		_, what, _ := strings.Cut(line, "  ")
		says(t, there.tarn(0, "record", "--about", "people"), strings.TrimSpace(what))
	}
	if got := there.tarn(0, "news"); strings.Contains(got, "Rust on the north rail") {
		t.Errorf("what was done before is news: %s", got)
	}
	says(t, there.tarn(0, "milestone", "list"), "first-light")
	c := open(t, other)
	c.signIn("odile")
	c.do(chromedp.Navigate(other.URL+"/p/brinelight/handoffs"), c.sees("Rust on the north rail"), c.sees("The lamp room"),
		chromedp.Navigate(other.URL+"/p/brinelight/asset/levels/old-quay.glb"), c.sees("old-quay.glb"), c.sees("v1"))
	there.tarn(0, "begin", "--no-open", "levels/lamp-room.glb")
	there.write(map[string]string{"levels/lamp-room.glb": "lamp room, lit"})
	says(t, there.tarn(0, "send", "-m", "Lit"), "h5")
	says(t, other.tarnd(0, "verify", "--deep"), "sound")
	if err := os.Remove(file); err != nil {
		t.Error(err)
	}
}
