package e2e

import (
	"fmt"
	"io"
	"kettletarn/demo/scene"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// choose clicks the box of an asset; with held, Shift is down.
func (b *browser) choose(path string, held bool) chromedp.Action[chromedp.Void] {
	return b.until(fmt.Sprintf(`[...document.querySelectorAll('input[aria-label="Choose %s"]')].map(
		box => box.dispatchEvent(new MouseEvent("click", {bubbles: true, cancelable: true, shiftKey: %t}))).length`, path, held))
}

// chosen waits until the bar says how much is chosen.
func (b *browser) chosen(says string) chromedp.Action[chromedp.Void] {
	return b.until(fmt.Sprintf(`document.querySelector('section[aria-label="What is chosen"]')?.innerText.includes(%q)`, says))
}

// asked waits until a dialog says something, and until none is there where says is "".
func (b *browser) asked(says ...string) chromedp.Action[chromedp.Void] {
	if len(says) == 0 {
		return b.until(`!document.querySelector("[role=alertdialog]")`)
	}
	return b.until(fmt.Sprintf(`%q.split("|").every(s => document.querySelector("[role=alertdialog]")?.innerText.includes(s))`,
		strings.Join(says, "|")))
}

// act clicks a button of the bar, or of the dialog where one is open, once it can be clicked.
func (b *browser) act(name string) chromedp.Action[chromedp.Void] {
	return b.until(fmt.Sprintf(`[...(document.querySelector("[role=alertdialog]") ??
		document.querySelector('section[aria-label="What is chosen"]')).querySelectorAll("button")].filter(
		b => b.innerText.trim() === %q && !b.disabled).slice(0, 1).map(b => (b.click(), b)).length`, name))
}

// TestManyAtOnceInTheConsole: choosing with Shift, all, and what may be done with it; those it can't be done with are said, and left out.
func TestManyAtOnceInTheConsole(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	files := map[string]string{}
	for i := range 12 {
		files[fmt.Sprintf("art/a-%02d.png", i)] = fmt.Sprint("pass ", i)
	}
	odile.start(files)
	rurik.join(odile, "artist")
	rurik.tarn(0, "lock", "art/a-05.png")
	b := open(t, d)
	b.signIn("odile")
	typed := func(label, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(fmt.Sprintf(`//*[@role="alertdialog"]//label[contains(., %q)]//input`, label), text)
	}

	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/art"), b.sees("a-11.png"), b.choose("art/a-02.png", false), b.chosen("1 asset"),
		b.choose("art/a-08.png", true), b.chosen("7 assets"), b.act("Lock"),
		b.asked("Lock 6 assets?", "1 other that you chose is left out", "art/a-02.png"), b.act("Lock"), b.asked(),
		b.until(`[...document.querySelectorAll("[role=row]")].filter(r => r.innerText.includes("yours")).length === 6`))
	if out := odile.tarn(0, "holders"); strings.Count(out, "odile") < 6 {
		t.Errorf("odile holds:\n%s", out)
	}

	// What rurik holds can't be moved: it is said beforehand, and nothing is done.
	b.do(b.choose("art/a-05.png", false), b.chosen("1 asset"), b.act("Move"), b.asked("Into the folder"),
		typed("Into the folder", "/old"), typed("Why", "x"), b.asked("This stands in the way", "rurik"),
		b.until(`[...document.querySelectorAll("[role=alertdialog] button")].some(b => b.innerText === "Move" && b.disabled)`), b.act("Cancel"),
		b.asked(), b.act("Wait in line"), b.asked("Wait in line for 1 asset?"), b.act("Wait in line"), b.asked())
	says(t, rurik.tarn(0, "holders"), "odile")
	b.do(b.choose("art/a-05.png", false), b.act("Ask"), b.asked("Ask for 1 asset?"), typed("What you need", "the build"), b.act("Ask"),
		b.asked())
	says(t, rurik.tarn(0, "news"), "the build")

	// All at once, in pictures: what is one's own is given back.
	b.do(chromedp.Click(`//button[@role="radio"][.="Pictures"]`), b.until(`document.querySelector("input[aria-label='Choose art/a-00.png']")`),
		b.choose("art/a-00.png", false), b.act("Choose all 12"), b.chosen("12 assets"), b.act("Give back"),
		b.asked("Give 6 locks back?", "6 others that you chose are left out"), b.act("Give back"), b.asked(),
		chromedp.Click(`//button[@role="radio"][.="Rows"]`))
	if out := odile.tarn(0, "holders"); strings.Contains(out, "a-02") {
		t.Errorf("odile still holds:\n%s", out)
	}

	// Moved, removed and renamed, each as a handoff of its own.
	b.do(b.until(`document.querySelector("[role=row] input")`), b.choose("art/a-00.png", false), b.choose("art/a-01.png", false),
		b.chosen("2 assets"), b.act("Move"), b.asked("Into the folder"),
		b.evaluate(`document.querySelector("[role=alertdialog] input").select()`), typed("Into the folder", "art/old"),
		typed("Why", "They are old"),
		b.act("Move"), b.asked(), b.until(`!document.body.innerText.includes("a-00.png")`),
		b.choose("art/a-03.png", false), b.act("Remove"), b.asked("Remove 1 asset?"), typed("Why", "Never used"),
		b.act("Remove"), b.asked(), b.until(`!document.body.innerText.includes("a-03.png")`))
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/asset/art/a-04.png"), chromedp.Click(ready("Rename")), b.asked("Its path"),
		b.evaluate(`document.querySelector("[role=alertdialog] input").select()`), typed("Its path", "art/lamp.png"),
		typed("Why", "It is a lamp"),
		b.act("Rename"), b.until(`location.pathname === "/p/brinelight/asset/art/lamp.png"`), b.sees("lamp.png"))
	rurik.tarn(0, "update")
	for path, text := range map[string]string{"art/old/a-00.png": "pass 0", "art/old/a-01.png": "pass 1", "art/lamp.png": "pass 4"} {
		rurik.has(path, text)
	}
	for _, gone := range []string{"art/a-00.png", "art/a-03.png", "art/a-04.png"} {
		if _, err := os.Stat(filepath.Join(rurik.dir, gone)); err == nil {
			t.Errorf("%s is still there", gone)
		}
	}
	says(t, rurik.tarn(0, "history"), "They are old", "Never used", "It is a lamp")

	// Brought back, and downloaded in one file.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/art"), b.sees("lamp.png"), b.choose("art/lamp.png", false),
		b.choose("art/a-06.png", false), b.act("Go back"), b.asked("To which state"), typed("To which state", "h1"), b.act("Look at it"),
		b.asked("Bring 2 assets back to h1?", "art/a-04.png"), b.act("Cancel"), b.asked(), b.act("Download (ZIP)"), b.chosen("2 assets"))
	if n := b.number(`fetch("/api/v1/projects/brinelight/archive", {method: "POST", body: new URLSearchParams([["path", "art/lamp.png"],
		["path", "art/a-06.png"]])}).then(r => r.ok ? r.arrayBuffer() : {byteLength: 0}).then(b => b.byteLength)`); n < 100 {
		t.Errorf("the archive has %.0f bytes", n)
	}
}

// TestSendingFromThePageGoesOnWhereItStopped: what arrived before the page was left does not travel again, and what arrives is the file.
func TestSendingFromThePageGoesOnWhereItStopped(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"tarn.toml": "otherwise = \"asset\"\n", "art/a.png": "a"})
	// Only the first upload goes through, until the line is open.
	var line atomic.Bool
	var uploads atomic.Int64
	b := browse(t, through(t, d, func(r *http.Request, over <-chan struct{}) bool {
		if r.Method != http.MethodPost || !strings.HasSuffix(r.URL.Path, "/chunks") || uploads.Add(1) == 1 || line.Load() {
			return false
		}
		_, _ = io.Copy(io.Discard, r.Body)
		select {
		case <-r.Context().Done():
		case <-over:
		}
		return true
	}))
	b.signIn("odile")

	dir := filepath.Join(t.TempDir(), "levels")
	data := make([]byte, 30<<20)
	r := rand.New(rand.NewPCG(7, 7))
	for i := 0; i < len(data); i += 4 {
		n := r.Uint32()
		data[i], data[i+1], data[i+2], data[i+3] = byte(n), byte(n>>8), byte(n>>16), byte(n>>24)
	}
	if err := os.MkdirAll(filepath.Join(dir, "deep"), 0o755); err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string][]byte{"harbour.bin": data, "deep/kelp.bin": []byte("kelp"), "empty.bin": nil} {
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	folder := chromedp.SetUploadFiles(`input[aria-label="Folder to send"]`, []string{dir})
	b.do(chromedp.Navigate(b.url+"/p/brinelight/assets"), b.sees("Send a folder"), folder,
		b.asked("Send 3 files", "3 new assets", "levels/deep/kelp.bin"), chromedp.SendKeys(`textarea[name=note]`, "The levels"), b.act("Send"),
		b.until(`Number(document.querySelector("[role=progressbar]")?.getAttribute("aria-valuenow")) > 5`), b.act("Stop"),
		b.asked("It was stopped, and nothing of it is handed off"))
	line.Store(true)
	uploads.Store(0)
	b.do(chromedp.Navigate(b.url+"/p/brinelight/assets"), b.sees("3 files were on their way when this page was left"), folder,
		b.asked("What arrived of them does not travel again"), b.until(`document.querySelector("textarea").value === "The levels"`),
		b.act("Send"), b.asked(), b.sees("levels"))
	// 30 MiB that can't be packed are four requests; one of them had arrived.
	if n := uploads.Load(); n < 1 || n > 3 {
		t.Errorf("%d uploads", n)
	}
	odile.tarn(0, "update")
	odile.has("levels/harbour.bin", string(data))
	odile.has("levels/deep/kelp.bin", "kelp")
	odile.has("levels/empty.bin", "")
	says(t, odile.tarn(0, "show", "h2"), "The levels", "levels/harbour.bin", "levels/empty.bin")

	// The same again is nothing new.
	b.do(chromedp.Navigate(b.url+"/p/brinelight/assets"), b.sees("levels"), folder, b.asked("0 new assets and 3 new versions"),
		chromedp.SendKeys(`textarea[name=note]`, "Once more"), b.act("Send"), b.asked())
	if out := odile.tarn(0, "history"); strings.Contains(out, "h3") {
		t.Errorf("the same files became a handoff:\n%s", out)
	}
}

// TestAProjectFromThePageAndItsRules: a folder becomes a project, with the rules that fit; they are changed by a form that says before what
// that would change.
func TestAProjectFromThePageAndItsRules(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a"})
	// What is read of rules comes late: nobody waits for it between two changes.
	b := browse(t, through(t, d, func(r *http.Request, over <-chan struct{}) bool {
		if strings.HasSuffix(r.URL.Path, "/rules/try") {
			select {
			case <-time.After(700 * time.Millisecond):
			case <-over:
			}
		}
		return false
	}))
	b.signIn("odile")
	dir := filepath.Join(t.TempDir(), "Brine Light")
	files := map[string]string{"textures/rust.png": "rust", "text/keeper.md": "keeper", "cache/sky.png": "sky", "notes.xyz": "notes"}
	for name, text := range files {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	b.do(chromedp.Navigate(b.url+"/"), b.sees("Drop a folder here"),
		chromedp.SetUploadFiles(`input[aria-label="Folder of the new project"]`, []string{dir}),
		b.asked("Start a project", "4 files", "game, fits these files"),
		b.until(`document.querySelector("[role=alertdialog] input").value === "brine-light"`),
		chromedp.SetValue(`[role=alertdialog] select`, "code"), b.asked("1 file of them become assets"), b.act("Start"),
		b.asked("Send 5 files", "left out", "cache/sky.png"), b.act("Send 2 files"),
		b.until(`location.pathname === "/p/brine-light"`))
	says(t, odile.tarn(0, "project", "list"), "brine-light")
	b.do(chromedp.Navigate(b.url+"/p/brine-light/assets"), b.sees("tarn.toml"), b.sees("textures"))

	// The rules, changed by hand: what is wrong is said, and what would change.
	rule := func(n int, what string) string {
		return fmt.Sprintf(`//form[@aria-label="Rules"]//label[contains(., "rule %d")]//select[../span[contains(., %q)]]`, n, what)
	}
	b.do(chromedp.Navigate(b.url+"/p/brine-light/rules"), chromedp.Click(ready("Change the rules")), chromedp.Click(ready("Add a rule")),
		b.until(`document.querySelectorAll("form[aria-label=Rules] li textarea").length === 1`),
		b.evaluate(`document.querySelector("form[aria-label=Rules] li textarea").select()`),
		chromedp.SendKeys(`form[aria-label=Rules] li textarea`, "*.png\n*.tga\t"),
		b.until(`document.querySelector("textarea[aria-label='tarn.toml']").value.includes('["*.png", "*.tga"]')`),
		chromedp.SetValue(rule(1, "lock"), "free"), b.sees("1 asset would need no lock any more"),
		chromedp.Click(ready("Add a rule")), b.until(`document.querySelectorAll("form[aria-label=Rules] li textarea").length === 2`),
		chromedp.SetValue(rule(2, "makes"), "ignored"),
		chromedp.Click(`//button[@aria-label="Rule 2 before the one above"]`),
		b.until(`document.querySelector("form[aria-label=Rules] li textarea").value === "*.new"`),
		chromedp.Click(`//button[@aria-label="Remove rule 1"]`),
		b.until(`document.querySelectorAll("form[aria-label=Rules] li textarea").length === 1`),
		chromedp.SendKeys(`//form[@aria-label="Rules"]//label[contains(., "Why")]//input`, "Textures are nobody's alone"),
		b.until(`!document.querySelector("form[aria-label=Rules] button[type=submit]").disabled`),
		chromedp.Click(ready("Hand the rules off")), b.until(`!document.querySelector("form[aria-label=Rules]")`), b.sees("*.tga"))
	b.do(b.sees("no lock needed"))
}

// TestViewsTheWallAndTheTitle: what was filtered is kept under a name, the wall goes by itself, the title says what is new; models turn,
// and what is there twice is told.
func TestViewsTheWallAndTheTitle(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	lamp := string(scene.Model("lamp", 0))
	odile.start(map[string]string{"textures/rust.png": "rust", "textures/kelp.png": "kelp", "models/lamp.glb": lamp,
		"old/lamp.glb": lamp, "sounds/horn.wav": string(scene.Sound("fog-horn", 0))})
	rurik.join(odile, "artist")
	rurik.tarn(0, "lock", "textures/rust.png")
	b := open(t, d)
	b.signIn("odile")
	views := chromedp.SendKeys(`//button[starts-with(normalize-space(.), "View")]`, "\r")
	item := func(text string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(fmt.Sprintf(`//*[@role="menuitem"][contains(., %q)]`, text))
	}
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/textures?lock=held&view=pictures"), b.sees("1 asset below textures"), views,
		b.sees("Nothing is kept yet"), item("Keep what is shown"), b.asked("Keep this view"),
		chromedp.SendKeys(`[role=alertdialog] input`, "Taken textures"), chromedp.Click(`[role=alertdialog] input[type=checkbox]`), b.act("Keep"),
		b.asked(), b.sees("View: Taken textures"))
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets"), b.sees("tarn.toml"), views, b.sees("the team’s"), item("Taken textures"),
		b.until(`location.pathname + location.search === "/p/brinelight/assets/textures?lock=held&view=pictures"`),
		b.sees("1 asset below textures"), views, item("Remove Taken textures"), b.sees("Views"))

	b.do(chromedp.Navigate(d.URL+"/p/brinelight/wall"), b.sees("1 asset held"), b.sees("rust.png"), b.sees("Baseline"))
	rurik.tarn(0, "lock", "textures/kelp.png")
	b.do(b.sees("2 assets held"), b.sees("kelp.png"))
	rurik.write(map[string]string{"textures/kelp.png": "more kelp"})
	rurik.tarn(0, "send", "-m", "Kelp, greener")
	b.do(b.sees("Kelp, greener"), b.sees("1 asset held"), chromedp.Click(`//a[.="Leave the wall"]`),
		b.until(`location.pathname === "/p/brinelight"`))

	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/models?view=pictures"),
		b.until(`[...document.querySelectorAll("[role=listitem] a[aria-hidden]")].map(a => a.dispatchEvent(
			new PointerEvent("pointerover", {bubbles: true}))).length === 1`),
		b.until(`document.querySelector("[role=listitem] canvas")?.style.opacity === "1"`))
	// A sound is heard as long as the pointer stays on its picture.
	over := func(event string) chromedp.Action[chromedp.Void] {
		return b.evaluate(`document.querySelector("[role=listitem] a[aria-hidden]").dispatchEvent(new PointerEvent("` + event +
			`", {bubbles: true}))`)
	}
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/sounds?view=pictures"), b.sees("Listen"),
		b.evaluate(`HTMLMediaElement.prototype.play = function() { window.heard = this; return Promise.resolve() };
			HTMLMediaElement.prototype.pause = function() { if (window.heard === this) { delete window.heard; this.onpause?.() } }`),
		over("pointerover"), b.until(`window.heard?.src.includes("sound.wav") && document.body.innerText.includes("Stop")`),
		b.evaluate(`fetch(window.heard.src).then(async r => { window.bytes = r.ok ? (await r.blob()).size : 0 })`),
		b.until(`window.bytes > 10000`), over("pointerout"), b.until(`!window.heard && document.body.innerText.includes("Listen")`))
	says(t, odile.tarn(0, "find", "--twice"), "1 content is there more than once", "models/lamp.glb", "old/lamp.glb")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/find"), b.sees("1 file, byte for byte"), b.sees("old/lamp.glb"),
		chromedp.Navigate(d.URL+"/p/brinelight/asset/models/lamp.glb"), b.sees("The same file, byte for byte, is also"))

	b.do(chromedp.Navigate(d.URL+"/p/brinelight/news"), b.until(`document.title === "News · brinelight · Kettle Tarn"`),
		chromedp.Click(`//label[contains(., "Tell me in this browser")]//input`),
		b.until(`/^\(\d+\) News · brinelight · Kettle Tarn$/.test(document.title)`),
		chromedp.Click(`//label[contains(., "Tell me in this browser")]//input`),
		b.until(`document.title === "News · brinelight · Kettle Tarn"`))
}

// TestShownOutside: a link made on a page leads somebody who never signed in to that, and to nothing else; ended, it leads nowhere.
func TestShownOutside(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"textures/rust.png": string(scene.Albedo("rust", 64, 0)), "text/keeper.md": "Light the lamp.\n"})
	odile.tarn(0, "milestone", "add", "first-light")
	b, outside := open(t, d), open(t, d)
	b.signIn("odile")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/handoffs/milestones"), chromedp.Click(ready("Show to somebody outside")),
		b.asked("Show first-light to somebody outside"), chromedp.SendKeys(`[role=alertdialog] input`, "Harbour Press"), b.act("Make a link"),
		b.asked("A link for Harbour Press"))
	link, err := chromedp.Run(b.ctx, chromedp.Value(`[role=alertdialog] input[readonly]`))
	if err != nil {
		t.Fatal(err)
	}
	outside.do(chromedp.Navigate(link), outside.sees("first-light"), outside.sees("odile of brinelight shows this to Harbour Press"),
		outside.sees("3 assets"), chromedp.Click(`//a[contains(., "keeper.md")]`), outside.sees("Light the lamp."),
		outside.until(`document.title.startsWith("keeper.md")`), chromedp.Click(`//a[contains(., "All of first-light")]`),
		chromedp.SendKeys(`input[type=search]`, "RUST"),
		outside.until(`document.querySelectorAll("main li").length === 1`), chromedp.Click(`//a[contains(., "rust.png")]`),
		outside.sees("64 x 64"))

	outside.do(chromedp.Navigate(link+"?path=textures/rust.png&version=7"), outside.sees("This link does not show textures/rust.png"))
	says(t, odile.tarn(0, "showing", "add", "textures/rust.png@v1", "--for", "Salt Works", "--with-files"), "/shown/")
	list := odile.tarn(0, "showing", "list")
	says(t, list, "first-light (h1)", "Harbour Press", "textures/rust.png@v1", "Salt Works")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/handoffs/shown"), b.sees("to Harbour Press"), b.sees("opened 2 times"),
		b.sees("to Salt Works, who may take the files along"),
		chromedp.Click(`//*[@role="listitem"][contains(., "Harbour Press")]//button[.="End it"]`),
		b.asked("End the link for Harbour Press?"), b.act("End it"),
		b.asked(), b.sees("ended by odile"))
	outside.do(chromedp.Navigate(link), outside.sees("This link shows nothing any more, or never did"))
	says(t, odile.tarn(0, "showing", "off"), "Nothing of brinelight is shown outside any more")
	b.do(b.sees("A lead switched them off"), chromedp.Click(ready("Switch them on again")), b.sees("Switch them all off"))
	says(t, odile.tarn(1, "showing", "add", "no-such", "--for", "them"), "no-such")
	says(t, odile.tarn(2, "showing", "add", "first-light"), "--for")
}
