package e2e

import (
	"archive/tar"
	"archive/zip"
	"encoding/csv"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"kettletarn/demo/scene"
	"kettletarn/internal/testbed"
)

// passes makes a project with six handoffs by two people: h1 to h6.
func passes(t *testing.T) (d *daemon, odile, rurik *person) {
	t.Helper()
	d = serve(t)
	odile, rurik = d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"textures/rust.png": string(scene.Albedo("rust", 64, 0)),
		"textures/fog.png": string(scene.Albedo("fog", 64, 0)), "sounds/horn.wav": string(scene.Sound("oar-stroke", 0)),
		"text/dialogue-keeper.txt": string(scene.Dialogue("keeper", 0)),
		"tarn.toml": "presets = [\"game\", \"sound\"]\n\n[[task]]\nmatch = \"BRL-*\"\nlink = " +
			"\"https://tasks.saltpan.example/{task}\"\n"})
	rurik.join(odile, "artist")
	rurik.hand("Rust bites deeper", "textures/rust.png", scene.Albedo("rust", 64, 1), "--task", "BRL-117", "--stage", "polish")
	odile.hand("Keeper's lines cut by half", "text/dialogue-keeper.txt", scene.Dialogue("keeper", 1), "--task", "BRL-131")
	rurik.hand("Horn a third lower", "sounds/horn.wav", scene.Sound("oar-stroke", 1))
	rurik.hand("Rust catches the lamp", "textures/rust.png", scene.Albedo("rust", 64, 2), "--stage", "final")
	rurik.hand("Fog warmer at its edge", "textures/fog.png", scene.Albedo("fog", 64, 1))
	return d, odile, rurik
}

// hand begins a file, changes it and sends it.
func (p *person) hand(note, path string, data []byte, more ...string) {
	p.t.Helper()
	p.tarn(0, "update")
	p.tarn(0, "begin", "--no-open", path)
	p.write(map[string]string{path: string(data)})
	p.tarn(0, append([]string{"send", "-m", note, path}, more...)...)
}

func TestLookingBackAtTheCommandLine(t *testing.T) {
	t.Parallel()
	d, odile, rurik := passes(t)

	// One timeline, by everything that it can be filtered by.
	for want, args := range map[string][]string{
		"h6 h5 h4 h2": {"--by", "rurik"}, "h5 h2": {"--by", "rurik", "--text", "rust"}, "h3 h1": {"--kind", "text"}, "h4 h1": {"--kind", "sound"},
		"h2": {"--task", "BRL-117"}, "h5": {"--stage", "final"},
		"h5 h2 ": {"--text", "rust"}, "h6 h5 h4 h3 h2 h1": {"--since", "2020-01-01"}, "": {"--until", "2020-01-01"}, "h6 h5 h2 h1": {"textures"},
		"h6 h5 h2 h1 ": {"*.png"}, "h1": {"--before", "h2"},
	} {
		var list struct{ Handoffs []struct{ Number int } }
		odile.json(0, &list, append([]string{"history"}, args...)...)
		var got []string
		for _, h := range list.Handoffs {
			got = append(got, fmt.Sprintf("h%d", h.Number))
		}
		if strings.Join(got, " ") != strings.TrimSpace(want) {
			t.Errorf("history %v: %v, want %s", args, got, want)
		}
	}
	rows, err := csv.NewReader(strings.NewReader(odile.tarn(0, "history", "--csv", "--by", "rurik"))).ReadAll()
	if err != nil || len(rows) != 5 || rows[0][0] != "number" {
		t.Errorf("%q, %v", rows, err)
	}
	says(t, odile.tarn(0, "history", "textures/rust.png"), "3 versions", "v3", "BRL-117", "[final]")
	says(t, odile.tarn(0, "show", "h2"), "BRL-117  https://tasks.saltpan.example/BRL-117", "v1 → v2")
	says(t, odile.tarn(0, "history", "--lines", "text/dialogue-keeper.txt"), "v2  odile", "v1  odile", "KEEPER: Oil, a dry wick")
	says(t, odile.tarn(1, "history", "--lines", "textures/rust.png"), "textures/rust.png")

	// Names that stay: given by whoever may send, never moved, taken away by leads alone; commands take them.
	says(t, rurik.tarn(0, "milestone", "add", "quay-walk", "--at", "h3", "-m", "One walks the quay"), "quay-walk")
	says(t, rurik.tarn(1, "milestone", "add", "quay-walk", "--at", "h4"), "h3")
	says(t, odile.tarn(2, "milestone", "add", "h9"), "names a handoff already")
	says(t, rurik.tarn(1, "milestone", "remove", "quay-walk"), "lead")
	odile.tarn(0, "milestone", "add", "first-light")
	says(t, odile.tarn(0, "milestone", "list"), "first-light", "h6", "quay-walk", "h3", "One walks the quay")
	says(t, odile.tarn(0, "compare", "quay-walk", "first-light"), "3 assets", "textures", "rurik", "sounds/horn.wav", "v1 → v2")
	says(t, odile.tarn(0, "history"), "<first-light>", "<quay-walk>")

	// The past beside the present: a folder, archives, and a workspace of its own. The workspace at hand is not touched.
	old := string(scene.Albedo("rust", 64, 1))
	odile.tarn(0, "update")
	odile.write(map[string]string{"textures/fog.png": "unsent"})
	target := filepath.Join(odile.home, "then")
	says(t, odile.tarn(0, "export", "--at", "quay-walk", target, "textures"), "as of h3", "The workspace is as it was")
	if data, err := os.ReadFile(filepath.Join(target, "textures", "rust.png")); err != nil || string(data) != old {
		t.Errorf("%d bytes, %v", len(data), err)
	}
	says(t, odile.tarn(1, "export", "--at", "h3", target), "is not empty")
	odile.tarn(0, "export", "--at", "h3", "--zip", target+".zip")
	if z, err := zip.OpenReader(target + ".zip"); err != nil || len(z.File) != 5 {
		t.Errorf("%v", err)
	} else {
		_ = z.Close()
	}
	odile.tarn(0, "export", "--at", "h3", "--tar", target+".tar", "textures")
	if f, err := os.Open(target + ".tar"); err != nil {
		t.Error(err)
	} else {
		n := 0
		for r := tar.NewReader(f); ; n++ {
			if _, err := r.Next(); err == io.EOF {
				break
			} else if err != nil {
				t.Fatal(err)
			}
		}
		if n != 2 {
			t.Errorf("%d files in the tar archive", n)
		}
	}
	odile.has("textures/fog.png", "unsent")
	if r := rurik.runIn(rurik.home, "", "join", "brinelight", "before", "--at", "quay-walk"); r.Status != 0 {
		t.Errorf("join --at: %s", r.Errs)
	}
	if data, err := os.ReadFile(filepath.Join(rurik.home, "before", "textures", "rust.png")); err != nil || string(data) != old {
		t.Errorf("%d bytes, %v", len(data), err)
	}

	// Going back: looked at first, refused over what is unsent and what others hold, and one handoff undone where nothing came after it.
	says(t, odile.tarn(1, "rollback", "textures", "--to", "quay-walk", "--preview"), "would be a handoff", "rust.png", "not sent")
	odile.tarn(0, "discard", "textures/fog.png")
	rurik.tarn(0, "lock", "textures/fog.png")
	says(t, odile.tarn(1, "rollback", "--all", "--to", "quay-walk"), "rurik holds it")
	rurik.tarn(0, "unlock", "textures/fog.png")
	says(t, odile.tarn(1, "rollback", "--without", "h2"), "h5", "textures/rust.png")
	says(t, odile.tarn(0, "rollback", "--without", "h4", "-m", "It fought with the gulls"), "h7: It fought with the gulls", "as in v1",
		"now v3")
	says(t, odile.tarn(0, "show", "h7"), "Without h4: Horn a third lower")
	says(t, odile.tarn(0, "rollback", "--all", "--to", "quay-walk"), "h8: Back to quay-walk (h3)", "textures/fog.png", "textures/rust.png")
	odile.has("textures/rust.png", old)
	says(t, odile.tarn(0, "rollback", "textures", "--to", "h7"), "h9")
	odile.has("textures/rust.png", string(scene.Albedo("rust", 64, 2)))
	odile.tarn(2, "rollback", "textures")
	odile.tarn(1, "rollback", "textures", "--to", "no-such-name")

	// A machine that is lost: the service remembers the workspace, its scope too.
	rurik.tarn(0, "update")
	rurik.tarn(0, "scope", "remove", "sounds")
	fresh := d.machine("rurik")
	fresh.machine.Handle = "new-machine"
	if r := fresh.runIn(fresh.home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "rurik"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	r := fresh.runIn(fresh.home, "", "join", "brinelight", "elsewhere")
	says(t, r.Errs, "You had brinelight in", "without sounds", `With --like "rurik-pc: brinelight"`)
	if r = fresh.runIn(fresh.home, "", "join", "brinelight", "--like", "rurik-pc: brinelight"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	fresh.has("textures/rust.png", string(scene.Albedo("rust", 64, 2)))
	says(t, fresh.tarn(0, "scope"), "without sounds")
	fresh.has("sounds/horn.wav", "")
}

func TestLookingBackInTheBrowser(t *testing.T) {
	t.Parallel()
	d, odile, _ := passes(t)
	odile.tarn(0, "milestone", "add", "quay-walk", "--at", "h3")
	b := open(t, d)
	b.signIn("odile")

	// A filter is an address, and the form makes it.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/handoffs?author=rurik&path=textures&text=rust"), b.sees("Rust bites deeper"),
		b.sees("Rust catches the lamp"), chromedp.WaitNotPresent(`//a[contains(., "Horn a third lower")]`))
	b.do(chromedp.Click(ready("All handoffs")), b.sees("Horn a third lower"), b.sees("quay-walk"),
		chromedp.SendKeys(`//label[contains(., "Stage")]//input`, "final"), b.until(`location.search === "?stage=final"`),
		chromedp.WaitNotPresent(`//a[contains(., "Horn a third lower")]`), b.sees("Rust catches the lamp"))
	if n := b.number(`document.querySelectorAll('a[href="https://tasks.saltpan.example/BRL-117"]').length`); n != 0 {
		t.Errorf("a task of a handoff that does not fit is linked")
	}
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/handoffs/2"), chromedp.WaitVisible(`a[href="https://tasks.saltpan.example/BRL-117"]`),
		b.sees("before v1"), b.sees("after v2"))
	b.loaded()

	// Who changed each line, and lists as spreadsheets.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/asset/text/dialogue-keeper.txt"),
		chromedp.WaitVisible(`table[aria-label="Who changed each line last"]`), b.sees("KEEPER: Oil, a dry wick"))
	for _, address := range []string{"handoffs.csv?author=rurik", "asset.csv?path=textures/rust.png", "between.csv?from=h3&to=h6",
		"milestones.csv"} {
		rows := b.number(fmt.Sprintf(`fetch("/api/v1/projects/brinelight/%s").then((r) => r.ok ? r.text() : "").then((t) => `+
			`t.trim().split("\r\n").length)`, address))
		want := map[string]float64{"handoffs.csv?author=rurik": 5, "asset.csv?path=textures/rust.png": 4, "between.csv?from=h3&to=h6": 4,
			"milestones.csv": 2}[address]
		if rows != want {
			t.Errorf("%s has %.0f rows, want %.0f", address, rows, want)
		}
	}

	// A state gets a name, and two names are a page.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/handoffs/milestones"), b.sees("quay-walk"), chromedp.Click(ready("Name the newest state")),
		chromedp.SendKeys(`//label[contains(., "Name")]//input`, "first-light"), chromedp.Click(ready("Name it")),
		b.sees("What came since quay-walk"),
		chromedp.Click(`//a[contains(., "What came since quay-walk")]`), b.sees("3 assets"), b.sees("By folder"), b.sees("By person"))
	b.loaded()

	// The project as it was, browsed like the present, and had as one file.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/textures?at=quay-walk"), b.sees("As it was at"), b.sees("Rust bites deeper"))
	response, err := http.Get(d.URL + "/api/v1/projects/brinelight/archive?at=quay-walk&form=zip")
	if err != nil || response.StatusCode != http.StatusUnauthorized {
		t.Errorf("an archive without signing in: %v, %v", response.Status, err)
	}
	if n := b.number(`fetch("/api/v1/projects/brinelight/archive?at=quay-walk&form=zip").then((r) => r.arrayBuffer()).then((a) => ` +
		`a.byteLength)`); n < 20000 {
		t.Errorf("the archive has %.0f bytes", n)
	}

	// Going back, looked at first: a handoff is undone, and the whole project goes back.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/handoffs/6"), chromedp.Click(ready("Undo this handoff")), b.sees("A new handoff of 1 asset"),
		b.sees("as in version 1"), chromedp.Click(ready("Go back")), chromedp.WaitNotPresent(`//div[@role="alertdialog"]`),
		chromedp.Navigate(d.URL+"/p/brinelight/handoffs"), b.sees("Without h6: Fog warmer at its edge"),
		chromedp.Navigate(d.URL+"/p/brinelight/handoffs/2"), chromedp.Click(ready("Undo this handoff")), b.sees("This stands in the way"),
		b.sees("textures/rust.png"), chromedp.Click(ready("Cancel")),
		chromedp.Navigate(d.URL+"/p/brinelight/assets?at=h1"), chromedp.Click(ready("Bring all of it back")), b.sees("as in version 1"),
		chromedp.Click(ready("Go back")), chromedp.WaitNotPresent(`//div[@role="alertdialog"]`))
	odile.tarn(0, "update")
	odile.has("textures/rust.png", string(scene.Albedo("rust", 64, 0)))
	odile.has("text/dialogue-keeper.txt", string(scene.Dialogue("keeper", 0)))
}

// TestMovedAndThenDeleted: a file that was moved and deleted while somebody was away is gone from where they have it.
func TestMovedAndThenDeleted(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "a", "hull.png": "hull"})
	rurik.join(odile, "artist")
	odile.tarn(0, "lock", "hull.png")
	odile.tarn(0, "move", "hull.png", "ship/hull.png")
	odile.tarn(0, "send", "-m", "moved")
	odile.tarn(0, "lock", "ship/hull.png")
	if err := os.Remove(filepath.Join(odile.dir, "ship", "hull.png")); err != nil {
		t.Fatal(err)
	}
	odile.tarn(0, "send", "--with-gone", "-m", "no longer wanted")
	says(t, rurik.tarn(0, "update"), "hull.png", "removed")
	rurik.has("hull.png", "")
	says(t, rurik.tarn(0, "status"), "Nothing has changed here")
}
