package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"kettletarn/demo/scene"
	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// through is an address of the service at which each request passes gate first: true means that it was held back, and is not answered. over
// is closed when the test ends: a browser that is still there asks again and again.
func through(t *testing.T, d *daemon, gate func(r *http.Request, over <-chan struct{}) bool) string {
	t.Helper()
	target, err := url.Parse(d.URL)
	if err != nil {
		t.Fatal(err)
	}
	proxy := &httputil.ReverseProxy{FlushInterval: -1, Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(target)
		r.Out.Host = r.In.Host
	}}
	over := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !gate(r, over) {
			proxy.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(func() {
		close(over)
		s.CloseClientConnections()
		s.Close()
	})
	return s.URL
}

// without is an address of the service at which one call is never answered: what a page does without it shows.
func without(t *testing.T, d *daemon, end string) string {
	return through(t, d, func(r *http.Request, over <-chan struct{}) bool {
		if !strings.HasSuffix(r.URL.Path, end) {
			return false
		}
		select {
		case <-r.Context().Done():
		case <-over:
		}
		return true
	})
}

// TestALostRaceIsExplained: what somebody else was quicker at is said above the page, where no live change takes it away, with the ways out
// as buttons, and without a command.
func TestALostRaceIsExplained(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "a", "b.png": "b"})
	rurik.join(odile, "artist")
	b := browse(t, without(t, d, "/brinelight/news")) // the page does not hear of it
	b.signIn("odile")
	b.do(chromedp.Navigate(b.url+"/p/brinelight/assets"), chromedp.WaitVisible(`button[aria-label="Lock a.png"]`))
	rurik.tarn(0, "lock", "a.png", "b.png")
	b.do(chromedp.Click(`button[aria-label="Lock a.png"]`), chromedp.Click(`//*[@role="menuitem"][contains(., "this page")]`),
		b.sees("rurik holds it, taken a moment ago"), b.sees("Wait in line, or ask them to let go."),
		// The row knows by now, and the words are there still.
		b.until(`!document.querySelector('button[aria-label="Lock a.png"]')`),
		b.sees("rurik holds it, taken a moment ago"), chromedp.Click(ready("Ask rurik")),
		// Enter in a field does it.
		chromedp.SendKeys(`//label[contains(., "What you need it for")]//input`, "two posts"+kb.Enter),
		chromedp.WaitNotPresent(`//*[@role="alertdialog"]`), b.until(`!document.body.innerText.includes("taken a moment ago")`))
	says(t, rurik.tarn(0, "holders"), "odile asks", "two posts")
	b.do(chromedp.Click(`button[aria-label="Lock b.png"]`), chromedp.Click(`//*[@role="menuitem"][contains(., "this page")]`),
		chromedp.Click(ready("Wait in line")), b.until(`document.body.textContent.includes("You are in line for b.png")`))
	says(t, rurik.tarn(0, "holders", "b.png"), "1st in line: odile")
	if text := b.text(); strings.Contains(text, "tarn ") {
		t.Errorf("the page names a command: %s", text)
	}
}

// TestSearchingLosesNoLetter, wherever the caret is, and one comes back to what one was looking for.
func TestSearchingLosesNoLetter(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	files := map[string]string{}
	for i := range 60 {
		files[fmt.Sprintf("textures/rust-%02d.png", i)] = fmt.Sprint(i)
	}
	files["sounds/fog-horn.wav"] = "horn"
	odile.start(files)
	b := open(t, d)
	b.signIn("odile")
	field := `input[type=search]`
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets"), chromedp.WaitVisible(field), chromedp.SendKeys(field, "rst-0"),
		chromedp.KeyEvent(kb.Home), chromedp.KeyEvent(kb.ArrowRight), chromedp.KeyEvent("u"), b.sees("10 assets in all folders"),
		b.until(`document.querySelector("input[type=search]").value === "rust-0"`), b.until(`location.search === "?search=rust-0"`),
		chromedp.Click(`//a[.="textures/rust-03.png"]`), b.sees("Version 1 by odile"), chromedp.NavigateBack(),
		b.sees("10 assets in all folders"),
		b.until(`document.querySelector("input[type=search]").value === "rust-0"`), b.until(`document.title.startsWith("Assets · brinelight")`),
		chromedp.Click(ready("Filters")), b.evaluate(`document.activeElement.blur()`),
		chromedp.Click(ready("Without filters")), b.until(`document.querySelector("input[type=search]").value === ""`))
	// A kind, the size, the order: each in the address.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets?kind=sound"), b.sees("1 asset in all folders"), b.sees("sounds/fog-horn.wav"),
		chromedp.Navigate(d.URL+"/p/brinelight/assets/textures?order=size&down=true"),
		b.until(`document.querySelector('[aria-sort="descending"]')?.innerText.startsWith("Size")`),
		chromedp.Click(`button[title="Sort by name"]`), b.until(`location.search === ""`))
	// The same as pictures; the keyboard goes through the folders.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/textures"), chromedp.Click(`//button[@role="radio"][.="Pictures"]`),
		b.until(`location.search === "?view=pictures"`), b.until(`document.querySelectorAll('[role=listitem] img').length > 10`),
		b.until(`[...document.querySelectorAll("nav[aria-label=Folders] a")].find(a => a.textContent === "sounds")`),
		b.evaluate(`[...document.querySelectorAll("nav[aria-label=Folders] a")].find(a => a.textContent === "sounds").focus()`),
		chromedp.KeyEvent(kb.ArrowDown), b.until(`document.activeElement.textContent === "textures"`), chromedp.KeyEvent(kb.ArrowUp),
		chromedp.KeyEvent(kb.Enter), b.until(`location.pathname === "/p/brinelight/assets/sounds"`), b.sees("fog-horn.wav"))
	// A key leads to what finds anything, as one types.
	b.do(chromedp.KeyEvent("/"), b.until(`location.pathname === "/p/brinelight/find"`), b.until(`document.activeElement.type === "search"`),
		chromedp.KeyEvent("fog horn/"), b.sees("sounds/fog-horn.wav"), b.until(`document.title.startsWith("Find fog horn")`),
		b.evaluate(`document.activeElement.select()`), chromedp.KeyEvent("baseline"), b.sees("Baseline: everything as it stands"),
		chromedp.Click(`//a[.="Baseline: everything as it stands"]`), b.sees("Handoffs / h1"))
	says(t, odile.tarn(0, "find", "fog", "horn"), "sounds/fog-horn.wav", "v1")
	says(t, odile.tarn(0, "find", "baseline"), "h1", "odile")
	says(t, odile.tarn(0, "find", "lantern"), "Nothing fits")
	var found model.Found
	if odile.json(0, &found, "find", "rust-07"); len(found.Assets) != 1 || found.Assets[0].Path != "textures/rust-07.png" {
		t.Errorf("%+v", found)
	}
}

// TestWhoIsSignedOutSignsInOnTheSpot: the page stays, with what was typed.
func TestWhoIsSignedOutSignsInOnTheSpot(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a"})
	b := open(t, d)
	b.signIn("odile")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/handoffs/1"), b.sees("Baseline"), chromedp.Click(ready("Name it")),
		chromedp.SendKeys(`//*[@role="alertdialog"]//input`, "first-light"),
		b.evaluate(`fetch("/api/v1/sign-out", {method: "POST"})`), b.sees("Sign in again"),
		b.until(`document.activeElement.name === "passphrase"`),
		chromedp.SendKeys(`input[name=passphrase]`, testbed.Passphrase+"\n"), chromedp.WaitNotPresent(`input[name=passphrase]`),
		b.until(`document.querySelector('[role=alertdialog] input').value === "first-light"`),
		chromedp.Click(`//*[@role="alertdialog"]//button[@type="submit"]`), b.sees("first-light"))
	says(t, odile.tarn(0, "milestone", "list"), "first-light")
	// The first page has what concerns one, until one has seen it; keys of a single character can be switched off.
	rurik := d.person("rurik")
	rurik.join(odile, "artist")
	odile.tarn(0, "lock", "a.png")
	rurik.tarn(0, "ask", "-m", "two posts", "a.png")
	b.do(chromedp.Navigate(d.URL+"/"), b.sees("rurik asks you to let go of a.png: two posts."),
		b.until(`!document.body.innerText.includes("tarn answer")`),
		chromedp.Click(ready("I have seen these")), chromedp.WaitNotPresent(button("I have seen these")),
		chromedp.KeyEvent("?"), b.sees("Keys of a single character"),
		chromedp.Click(`//*[@role="dialog"]//input`), chromedp.Click(ready("Close")),
		chromedp.Click(`//a[contains(., "brinelight")]`), b.sees("Who is on what"), chromedp.KeyEvent("/"), chromedp.Sleep(300*time.Millisecond),
		b.until(`location.pathname === "/p/brinelight"`))
	// An address that leads nowhere, a project that is none, and one that one does not belong to, each say so.
	b.do(chromedp.Navigate(d.URL+"/nowhere"), b.sees("There is nothing at this address"), chromedp.Navigate(d.URL+"/p/brinelight/nowhere"),
		b.sees("There is nothing at this address"), chromedp.Navigate(d.URL+"/p/salt"), b.sees("There is no project salt for you"),
		b.until(`!document.body.innerText.includes("No connection")`))
}

// requests counts what a page asked the service for since it was asked last, but for pictures.
const requests = `(() => {
	const list = performance.getEntriesByType("resource").filter(e => e.name.includes("/api/v1/") &&
		!/thumbnail|look\/file|\/news\b/.test(e.name));
	performance.clearResourceTimings();
	return list.map(e => e.name.replace(/.*\/projects\/brinelight/, ""));
})()`

// TestPagesStayLight, whatever the project: how much is sent for the first view, how many nodes there are, how many requests a lock
// elsewhere takes, and from the beginning of a list to its end.
func TestPagesStayLight(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	files := map[string]string{}
	for i := range 1100 {
		files[fmt.Sprintf("textures/rust-%04d.png", i)] = fmt.Sprint(i)
	}
	odile.start(files)
	rurik.join(odile, "artist")
	b := open(t, d)
	b.do(chromedp.Navigate(d.URL+"/sign-in"), chromedp.WaitVisible(`input[name=handle]`))
	if sent := b.number(`[...performance.getEntriesByType("navigation"), ...performance.getEntriesByType("resource")]
		.reduce((sum, e) => sum + e.transferSize, 0)`); sent < 50_000 || sent > 250*1024 {
		t.Errorf("the first view takes %.0f bytes", sent)
	}
	b.signIn("odile")
	light := func(page, has string) {
		t.Helper()
		b.do(chromedp.Navigate(d.URL+"/p/brinelight"+page), b.sees(has))
		if n := b.number(`document.querySelectorAll("*").length`); n > 3000 {
			t.Errorf("%s has %.0f nodes", page, n)
		}
	}
	// last goes to the end, which is further down than it was thought where rows are as high as what is in them.
	last := func(has string) chromedp.Action[chromedp.Void] {
		return b.until(fmt.Sprintf(`(scrollTo(0, document.body.scrollHeight), document.querySelector("main").innerText.includes(%q))`, has))
	}
	light("/assets/textures", "rust-0000.png")
	b.do(last("rust-1099.png"))
	light("/assets/textures?view=pictures&edge=96", "rust-0000.png")
	light("/handoffs/1", "rust-0000.png")
	b.do(last("rust-1099.png"))
	light("/handoffs/1?view=pictures", "rust-0000.png")

	// A lock elsewhere is brought up to date where it stands: one small request, however many rows there are.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/textures"), b.sees("rust-0000.png"), last("rust-1099.png"),
		b.evaluate(`window.before = document.querySelectorAll("[role=row]").length`), b.evaluate(requests))
	rurik.tarn(0, "lock", "textures/rust-1095.png")
	b.do(b.until(`[...document.querySelectorAll("[role=cell]")].some(c => c.innerText === "rurik")`))
	made, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]string](requests))
	if err != nil || len(made) != 1 || !strings.HasPrefix(made[0], "/locks?path=") {
		t.Errorf("a lock elsewhere took the requests %v, %v", made, err)
	}
	// What somebody sends elsewhere leaves this folder alone.
	rurik.write(map[string]string{"text/readme.txt": "read me"})
	rurik.tarn(0, "send", "-m", "A word")
	b.do(b.until(`performance.getEntriesByType("resource").some(e => e.name.endsWith("/projects/brinelight"))`))
	made, err = chromedp.Run(b.ctx, chromedp.Evaluate[[]string](requests))
	for _, r := range made {
		if strings.HasPrefix(r, "/folder?path=textures&") && !strings.Contains(r, "limit=1&") && !strings.HasSuffix(r, "limit=1") {
			t.Errorf("the folder was asked for again: %v, %v", made, err)
		}
	}
	// A new version is brought up to date where it stands, too.
	b.do(b.evaluate(`performance.clearResourceTimings()`))
	rurik.write(map[string]string{"textures/rust-1095.png": "rustier"})
	rurik.tarn(0, "send", "-m", "Rustier")
	b.do(b.until(`[...document.querySelectorAll("[role=row]")].some(r =>
		r.innerText.includes("rust-1095.png") && r.innerText.includes("v2"))`))
	made, err = chromedp.Run(b.ctx, chromedp.Evaluate[[]string](requests))
	if err != nil || !slices.Contains(made, "/assets/at") || slices.ContainsFunc(made, func(r string) bool {
		return strings.HasPrefix(r, "/folder?path=textures&")
	}) {
		t.Errorf("a new version elsewhere took the requests %v, %v", made, err)
	}
	// Unsent changes are told by path: the page of another asset asks for nothing.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/asset/textures/rust-1095.png"), b.sees("Version 2 by rurik"),
		b.evaluate(`performance.clearResourceTimings()`))
	rurik.write(map[string]string{"textures/rust-1095.png": "browner", "textures/rust-0001.png": "brown"})
	rurik.tarn(0, "status", "--fetch")
	b.do(b.sees("rurik: changed"), b.evaluate(`performance.clearResourceTimings()`))
	rurik.write(map[string]string{"textures/rust-0001.png": "brown again"})
	rurik.tarn(0, "status", "--fetch")
	rurik.tarn(0, "lock", "textures/rust-1096.png") // when this is known, that before it is
	b.do(b.until(`performance.getEntriesByType("resource").every(e => !/[/]asset[?]/.test(e.name))`))

	rurik.tarn(0, "lock", "textures")
	light("", "1,100 assets")
	light("/locks", "textures/rust-0000.png")
	b.do(last("textures/rust-1099.png"))
	rurik.tarn(0, "unlock", "--edits", "leave", "textures")
	light("/locks/record", "1,101 entries")

	// Many versions of one asset, from any place on.
	if n := b.number(`(async () => {
		for (let v = 1; v < 105; v++) {
			const q = new URLSearchParams({path: "textures/rust-0000.png", base: String(v), note: "a pass"});
			const r = await fetch("/api/v1/projects/brinelight/drop?" + q, {method: "POST", body: "version " + v, headers: {
				"Content-Type": "application/octet-stream", "Idempotency-Key": "00000000-0000-4000-8000-" + String(v).padStart(12, "0")}});
			if (!r.ok) return v;
		}
		return 105;
	})()`); n != 105 {
		t.Fatalf("version %.0f was not taken", n)
	}
	light("/asset/textures/rust-0000.png", "Version 105 by odile")
	light("/asset/textures/rust-0000.png?version=3", "Version 3 by odile")
	b.do(last("v1 Baseline"))
	light("/handoffs", "h106")
	b.do(last("Baseline"))
}

// TestPagesAreForEverybody runs axe-core over every page, in both themes, and leaves no finding out: with SOAK=1 at all widths.
func TestPagesAreForEverybody(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"textures/rust.png": string(scene.Albedo("rust", 64, 0)),
		"sounds/horn.wav": string(scene.Sound("fog-horn", 0)), "models/lamp.glb": string(scene.Model("lamp", 0)), "text/keeper.txt": "one\ntwo\n",
		"board/a.kicad_sch": string(scene.Schematic(0))})
	rurik.join(odile, "artist")
	rurik.tarn(0, "branch", "add", "glow", "--switch")
	rurik.tarn(0, "lock", "textures", "text", "board", "sounds", "models")
	rurik.write(map[string]string{"textures/rust.png": string(scene.Albedo("rust", 64, 1)), "text/keeper.txt": "one\n2\n",
		"board/a.kicad_sch": string(scene.Schematic(1)), "sounds/horn.wav": string(scene.Sound("fog-horn", 1))})
	rurik.tarn(0, "send", "--keep-locks", "-m", "It glows")
	rurik.tarn(0, "review", "open", "glow", "--ask", "odile", "-m", "Does it?")
	rurik.tarn(0, "review", "say", "r1", "textures/rust.png", "--where", "30%,40%", "-m", "Here")
	odile.tarn(0, "ask", "-m", "the build", "models/lamp.glb")
	odile.tarn(0, "milestone", "add", "first-light", "--at", "h1")
	var link model.Showing
	odile.json(0, &link, "showing", "add", "first-light", "--for", "Harbour Press")
	shown := strings.TrimPrefix(link.Address, d.URL)
	b := open(t, d)
	b.do(chromedp.Navigate(d.URL+"/sign-in"), chromedp.WaitVisible(`input[name=handle]`))
	b.do(b.evaluate(axe(t)))
	b.isForEverybody("/sign-in")
	b.signIn("odile")
	b.do(b.evaluate(axe(t)))
	for _, page := range []string{"/", "/me", "/nowhere", "/p/brinelight", "/p/brinelight/assets", "/p/brinelight/assets/textures?lock=held",
		"/p/brinelight/assets/textures?view=pictures", "/p/brinelight/asset/textures/rust.png", "/p/brinelight/asset/sounds/horn.wav",
		"/p/brinelight/asset/models/lamp.glb", "/p/brinelight/asset/text/keeper.txt", "/p/brinelight/asset/board/a.kicad_sch",
		"/p/brinelight/handoffs", "/p/brinelight/handoffs/1", "/p/brinelight/handoffs/milestones",
		"/p/brinelight/handoffs/between?from=h1&to=glow", "/p/brinelight/handoffs/shown", "/p/brinelight/locks", "/p/brinelight/locks/record",
		"/p/brinelight/locks/waiting",
		"/p/brinelight/branches", "/p/brinelight/branches/glow", "/p/brinelight/merge?from=glow&into=main", "/p/brinelight/reviews/1",
		"/p/brinelight/compare?path=textures/rust.png&a=1&b=2", "/p/brinelight/compare?path=text/keeper.txt&a=1&b=2",
		"/p/brinelight/compare?path=sounds/horn.wav&a=1&b=2", "/p/brinelight/compare?path=board/a.kicad_sch&a=1&b=2",
		"/p/brinelight/code", "/p/brinelight/rules", "/p/brinelight/wall", "/p/brinelight/news", "/p/brinelight/find?text=rust", shown} {
		b.do(chromedp.Navigate(d.URL+page), b.until(`document.querySelector("h1")`), b.evaluate(axe(t)),
			b.until(`performance.getEntriesByType("resource").length > 2 && document.fonts.status === "loaded"`), b.still())
		b.isForEverybody(page)
	}
}

// axe is what makes a page able to be looked at. Colours on their way from one theme to the other are none of either.
func axe(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	return string(text) + `; document.head.insertAdjacentHTML("beforeend", "<style>* { transition: none !important }</style>")`
}

// isForEverybody runs axe-core over the page that is open, in both themes: in the suite, wide in the dark theme and narrow in the light
// one.
func (b *browser) isForEverybody(page string) {
	t := b.t
	t.Helper()
	looked := map[string][]int64{"dark": {1280}, "light": {320, 390}}
	if os.Getenv("SOAK") != "" {
		looked = map[string][]int64{"dark": {320, 390, 768, 1280}, "light": {320, 390, 768, 1280}}
	}
	for theme, widths := range looked {
		b.do(b.evaluate(fmt.Sprintf(`document.documentElement.dataset.theme = %q`, theme)))
		for _, width := range widths {
			b.do(chromedp.EmulateViewport(width, 800))
			if over := b.number(`document.documentElement.scrollWidth - document.documentElement.clientWidth`); over > 0 {
				t.Errorf("%s at %d pixels is %.0f too wide", page, width, over)
			}
			if width == 320 {
				continue // as at 390
			}
			found, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`axe.run(document, {resultTypes: ["violations"]}).then(r => JSON.stringify(
					r.violations.map(v => v.id + ": " + v.nodes.slice(0, 3).map(n => n.html.slice(0, 200) + " " +
						n.any.concat(n.all, n.none).map(c => c.message).slice(0, 1)).join(" | "))))`, chromedp.EvalAwaitPromise))
			var list []string
			if err == nil {
				err = json.Unmarshal([]byte(found), &list)
			}
			if err != nil || len(list) > 0 {
				t.Errorf("%s, %s, %d wide: %v\n%s", page, theme, width, err, strings.Join(list, "\n"))
			}
		}
	}
	b.do(chromedp.EmulateViewport(1280, 800))
}

// TestManyFilesAtOnce: each is what its name says, an asset that is there is not made anew, and what somebody holds is left alone.
func TestManyFilesAtOnce(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"art/a.png": "a", "art/b.png": "b"})
	rurik.join(odile, "artist")
	rurik.tarn(0, "lock", "art/b.png")
	b := open(t, d)
	b.signIn("odile")
	fall := func(names string) chromedp.Action[chromedp.Void] {
		return b.evaluate(fmt.Sprintf(`(() => {
			const data = new DataTransfer();
			for (const name of %q.split(" ")) data.items.add(new File(["new " + name], name));
			for (const kind of ["dragover", "drop"]) document.querySelector("main section").dispatchEvent(
				new DragEvent(kind, {bubbles: true, cancelable: true, dataTransfer: data}));
		})()`, names))
	}
	note := func(text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(`textarea[name=note]`, text)
	}
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/art"), b.sees("a.png"), fall("a.png b.png c.png"), b.sees("Send 3 files"),
		b.sees("becomes version 2 of"), b.sees("rurik holds it"), b.sees("becomes a new asset"), b.sees("1 file is left out"),
		note("Three at once"), chromedp.SendKeys(`//label[contains(., "Tasks")]//input`, "BRL-7"), chromedp.Click(ready("Send 2 files")),
		b.until(`!document.querySelector("[role=alertdialog]")`), b.sees("c.png"),
		b.until(`[...document.querySelectorAll("[role=row]")].some(r => r.innerText.includes("a.png") && r.innerText.includes("v2"))`))
	rurik.tarn(0, "update")
	rurik.has("art/a.png", "new a.png")
	rurik.has("art/c.png", "new c.png")
	rurik.has("art/b.png", "b")
	says(t, odile.tarn(0, "holders"), "art/b.png") // and nothing is left locked of what was sent
	if out := odile.tarn(0, "holders"); strings.Contains(out, "a.png") {
		t.Errorf("a lock is left: %s", out)
	}
	says(t, odile.tarn(0, "show", "h2"), "Three at once", "BRL-7", "art/a.png", "art/c.png") // one handoff of both
	// The one that is there now becomes a version more, also where it is chosen twice in a row.
	choose := chromedp.SetUploadFiles(`input[aria-label="Files to send"]`, []string{filepath.Join(odile.dir, "art", "c.png")})
	odile.tarn(0, "update")
	odile.write(map[string]string{"art/c.png": "c once more"})
	b.do(choose, b.sees("Send version 2"), chromedp.Click(ready("Cancel")), choose, b.sees("Send version 2"), note("Again"),
		chromedp.Click(ready("Send")),
		b.until(`[...document.querySelectorAll("[role=row]")].some(r => r.innerText.includes("c.png") && r.innerText.includes("v2"))`))
}
