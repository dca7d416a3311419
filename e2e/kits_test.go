package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestAKit: one project releases a set of assets, another one uses it, changes one of them, and brings what is newer.
func TestAKit(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	noise := strings.Repeat("brass ", 300_000) // more than one chunk
	odile.start(map[string]string{"models/lamp.glb": "lamp", "models/boat.glb": "boat", "textures/brass.png": noise, "parts/old/x.png": "x"})
	odile.tarn(0, "rules")
	rulesFile := filepath.Join(odile.dir, "tarn.toml")
	text, err := os.ReadFile(rulesFile)
	if err != nil {
		t.Fatal(err)
	}
	odile.write(map[string]string{"tarn.toml": string(text) + "\n[[kit]]\nname = \"lamp-parts\"\n" +
		"match = [\"models/lamp*\", \"textures/brass*\"]\n"})
	odile.tarn(0, "lock", "tarn.toml")
	odile.tarn(0, "send", "-m", "A kit of lamp parts")
	says(t, odile.tarn(0, "kit", "list"), "lamp-parts", "not released yet")
	says(t, odile.tarn(1, "kit", "release", "lamps", "-m", "none"), `name no kit "lamps"`, "[[kit]]")
	says(t, odile.tarn(0, "kit", "release", "lamp-parts", "-m", "Lamp and brass"), "brinelight/lamp-parts@1 is released, as of h2")
	says(t, odile.tarn(0, "kit", "show", "lamp-parts"), "models/lamp.glb", "textures/brass.png", "2 assets", "Lamp and brass")
	says(t, odile.tarn(0, "record", "--about", "kits"), "odile released lamp-parts@1")

	// Another project, of somebody who may not look into the first one at first.
	rurik.dir = filepath.Join(rurik.home, "undertow")
	if err := os.MkdirAll(rurik.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	rurik.write(map[string]string{"reef.glb": "reef", "kits/mine.txt": "mine",
		"tarn.toml": "otherwise = \"code\"\n[[rule]]\nmatch = [\"*.glb\", \"*.png\", \"*.txt\"]\nkind = \"asset\"\n"})
	rurik.tarn(0, "start", "undertow", "--yes")
	says(t, rurik.tarn(1, "kit", "use", "brinelight/lamp-parts"), `no project "brinelight" that you belong to`)
	says(t, rurik.tarn(1, "kit", "use", "undertow/lamp-parts"), "undertow makes this kit itself")
	odile.tarn(0, "member", "add", "rurik", "--role", "viewer")
	says(t, rurik.tarn(1, "kit", "use", "brinelight/lamps"), "has released no such kit")
	says(t, rurik.tarn(1, "kit", "use", "brinelight/lamp-parts", "--stay", "9"), "lamp-parts@9 was not released: the latest is @1",
		"tarn kit show brinelight/lamp-parts")
	says(t, rurik.tarn(0, "kit", "use", "brinelight/lamp-parts", "--in", "parts/lamp", "--preview"), "would be brinelight/lamp-parts@1",
		"models/lamp.glb", "new")
	if _, err := os.Stat(filepath.Join(rurik.dir, "parts")); err == nil {
		t.Error("a preview brought it")
	}
	says(t, rurik.tarn(0, "kit", "use", "brinelight/lamp-parts", "--in", "parts/lamp", "-m", "Lamps for the reef"),
		"h2: parts/lamp is brinelight/lamp-parts@1, with 2 assets")
	rurik.has("parts/lamp/models/lamp.glb", "lamp")
	rurik.has("parts/lamp/textures/brass.png", noise)
	says(t, rurik.tarn(0, "kit", "list"), "parts/lamp", "brinelight/lamp-parts@1", "the latest")
	says(t, rurik.tarn(1, "kit", "use", "brinelight/lamp-parts", "--in", "parts/lamp"), "parts/lamp holds brinelight/lamp-parts already")
	says(t, rurik.tarn(1, "kit", "use", "brinelight/lamp-parts", "--in", "parts"), "a kit does not lie in another one")
	says(t, rurik.tarn(0, "kit", "use", "brinelight/lamp-parts", "--stay", "1"), "kits/lamp-parts is brinelight/lamp-parts@1")
	says(t, rurik.tarn(0, "status"), "Nothing has changed here")

	// One is changed where it is used; the maker releases more.
	watch := rurik.watch()
	watch.says("watching")
	says(t, rurik.tarn(0, "begin", "--no-open", "parts/lamp/models/lamp.glb"),
		"parts/lamp/models/lamp.glb comes from the kit brinelight/lamp-parts@1", "change models/lamp.glb in brinelight",
		"tarn kit detach parts/lamp")
	rurik.write(map[string]string{"parts/lamp/models/lamp.glb": "lamp of the reef"})
	watch.says("comes from the kit brinelight/lamp-parts@1")
	rurik.tarn(0, "send", "-m", "A lamp of our own")
	for _, f := range []string{"models/lamp.glb", "textures/brass.png"} {
		odile.tarn(0, "lock", f)
	}
	odile.write(map[string]string{"models/lamp.glb": "lamp, lit", "models/lamp-post.glb": "post", "textures/brass.png": "brass, worn"})
	odile.tarn(0, "send", "-m", "Worn, and lit")
	says(t, odile.tarn(0, "kit", "release", "lamp-parts", "-m", "Worn, and lit"), "lamp-parts@2")
	says(t, odile.tarn(0, "kit", "compare", "lamp-parts@1", "lamp-parts@2"), "models/lamp-post.glb", "new", "changed")
	says(t, odile.tarn(0, "kit", "show", "lamp-parts@1"), "2 assets")
	says(t, rurik.tarn(0, "kit", "list"), "behind: the latest is @2; 1 asset changed here", "keeps to it; the latest is @2")
	watch.says("odile released brinelight/lamp-parts@2, a kit that is used here")
	says(t, rurik.tarn(0, "status", "--fetch"), "Kits of which there is a later release (1)", "parts/lamp", "the latest is @2")
	says(t, rurik.tarn(0, "kit", "show", "brinelight/lamp-parts"), "Used in:", "undertow", "parts/lamp", "kits/lamp-parts")
	says(t, odile.tarn(0, "kit", "show", "lamp-parts"), "models/lamp-post.glb")
	says(t, rurik.tarn(1, "kit", "offer", "parts/lamp", "-m", "Lit by the reef"), "in brinelight")
	odile.tarn(0, "member", "add", "rurik", "--role", "artist")
	says(t, rurik.tarn(2, "kit", "offer", "parts/lamp"), "say why")
	says(t, rurik.tarn(0, "kit", "offer", "parts/lamp", "-m", "Lit by the reef"), "brinelight has it on the branch undertow/lamp-parts",
		"with the review r1: odile is asked to look", "models/lamp.glb", "comes with the next release of lamp-parts")
	says(t, odile.tarn(0, "review", "show", "r1"), "Lit by the reef", "From parts/lamp in undertow")

	// Over what is not sent nothing is brought; what was changed stays.
	rurik.write(map[string]string{"parts/lamp/textures/brass.png": "not sent"})
	says(t, rurik.tarn(1, "kit", "update", "parts/lamp"), "parts/lamp/textures/brass.png", "not sent")
	rurik.tarn(0, "discard", "parts/lamp/textures/brass.png")
	says(t, rurik.tarn(0, "kit", "update", "parts/lamp", "--preview"), "would be brinelight/lamp-parts@2, from @1")
	says(t, rurik.tarn(0, "kit", "update", "--all", "-m", "The worn ones"), "parts/lamp is brinelight/lamp-parts@2, from @1",
		"models/lamp-post.glb", "Changed here before, and left as they are", "models/lamp.glb")
	rurik.has("parts/lamp/models/lamp.glb", "lamp of the reef")
	rurik.has("parts/lamp/models/lamp-post.glb", "post")
	rurik.has("parts/lamp/textures/brass.png", "brass, worn")
	rurik.has("kits/lamp-parts/textures/brass.png", noise)
	says(t, rurik.tarn(0, "kit", "update", "--all"), "No use is behind")
	if got := rurik.tarn(0, "status"); strings.Contains(got, "later release") {
		t.Errorf("it is behind yet: %s", got)
	}
	// From another project of one's own, all can be brought at once.
	says(t, odile.tarn(0, "kit", "release", "lamp-parts", "-m", "The same again"), "lamp-parts@3")
	says(t, odile.tarn(2, "kit", "update", "--everywhere"), "--all")
	if r := rurik.runIn(rurik.home, "", "join", "brinelight"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	rurik.dir = filepath.Join(rurik.home, "brinelight")
	says(t, rurik.tarn(0, "kit", "update", "--all", "--everywhere", "-m", "All"), "In undertow:",
		"parts/lamp is brinelight/lamp-parts@3, from @2")
	says(t, rurik.tarn(0, "kit", "update", "--all", "--everywhere"), "No use is behind, in none of your projects")
	rurik.dir = filepath.Join(rurik.home, "undertow")
	rurik.tarn(0, "update")
	says(t, rurik.tarn(1, "kit", "update", "kits"), "kits does not come from a kit")

	// The maker's rights later on take nothing away; what came stays, also detached.
	odile.tarn(0, "member", "remove", "rurik")
	says(t, rurik.tarn(0, "kit", "list"), "its project is not yours to look at")
	says(t, rurik.tarn(0, "kit", "detach", "parts/lamp"), "ordinary assets from then on")
	rurik.has("parts/lamp/textures/brass.png", "brass, worn")
	says(t, rurik.tarn(0, "history", "parts/lamp/models/lamp.glb"), "A lamp of our own", "Lamps for the reef")
	if got := rurik.tarn(0, "kit", "list"); strings.Contains(got, "parts/lamp") {
		t.Errorf("it is a use still: %s", got)
	}
	says(t, rurik.tarn(0, "rollback", "--all", "--to", "h2"), "Nothing was deleted")
	says(t, rurik.tarn(0, "kit", "list"), "parts/lamp", "brinelight/lamp-parts@1")
	// Releases come along with the project.
	file := filepath.Join(t.TempDir(), "brinelight.tar")
	odile.tarn(0, "project", "download", "brinelight", file)
	d.tarnd(0, "import", file, "--owner", "odile", "--key", "elsewhere")
	there := *odile
	there.dir = filepath.Join(odile.home, "elsewhere")
	if r := odile.runIn(odile.home, "", "join", "elsewhere"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	says(t, there.tarn(0, "kit", "show", "lamp-parts@2"), "Worn, and lit", "3 assets")
	says(t, there.tarn(0, "kit", "release", "lamp-parts", "-m", "Again"), "elsewhere/lamp-parts@4")

	// Nor does the end of the project that made it.
	if r := odile.runIn(odile.home, "brinelight\n", "project", "delete", "brinelight"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	d.sql(`update projects set goes = now() where deleted is not null`)
	d.tarnd(0, "collect")
	says(t, rurik.tarn(0, "kit", "list"), "parts/lamp", "its project is not yours to look at")
	rurik.tarn(0, "update")
	rurik.has("parts/lamp/textures/brass.png", noise)
	says(t, d.tarnd(0, "verify", "--deep"), "sound")
}

// TestKitsInTheBrowser: somebody who never opens a terminal releases, uses, brings, offers and detaches.
func TestKitsInTheBrowser(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	kit := "otherwise = \"code\"\n[[rule]]\nmatch = [\"*.glb\", \"*.png\"]\nkind = \"asset\"\nlock = \"free\"\n" +
		"[[kit]]\nname = \"lamp-parts\"\nmatch = \"models/*\"\n"
	odile.start(map[string]string{"tarn.toml": kit, "models/lamp.glb": "lamp", "models/post.glb": "post"})
	rurik.join(odile, "artist")
	reef := *odile
	reef.dir = filepath.Join(odile.home, "undertow")
	if err := os.MkdirAll(reef.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	reef.write(map[string]string{"reef.glb": "reef", "tarn.toml": strings.Split(kit, "[[kit]]")[0]})
	reef.tarn(0, "start", "undertow", "--yes")

	b := open(t, d)
	b.signIn("odile")
	choose := func(label, value string) chromedp.Action[chromedp.Void] {
		return b.until(fmt.Sprintf(`[...document.querySelectorAll("label")].filter(l => l.innerText.startsWith(%q)).map(
			l => l.querySelector("select")).filter(s => s && [...s.options].some(o => o.value === %q)).slice(0, 1).map(s => {
				Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %q);
				s.dispatchEvent(new Event("change", {bubbles: true})); return s;
			}).length`, label, value, value))
	}
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/kits"), b.sees("Not released yet"), chromedp.Click(ready("Release @1")),
		b.asked("Release lamp-parts@1"), chromedp.SendKeys(field("What is new"), "Lamp and post"),
		b.act("Release @1"), b.asked(), b.sees("Lamp and post"),
		chromedp.Navigate(d.URL+"/p/undertow/kits"), b.sees("This project uses none"), chromedp.Click(ready("Use a kit")),
		b.asked("Use a kit in undertow"),
		choose("Made in", "brinelight"), choose("Kit", "lamp-parts"), b.asked("2 assets would change"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("using a kit")
	b.do(b.act("Use it"), b.asked(), b.sees("brinelight/lamp-parts@1"), b.sees("the latest"))
	reef.tarn(0, "update")
	reef.has("kits/lamp-parts/models/lamp.glb", "lamp")

	// One is changed here, and one there, which is heard of without a reload.
	reef.write(map[string]string{"kits/lamp-parts/models/post.glb": "post of the reef"})
	reef.tarn(0, "send", "-m", "A post of our own")
	b.do(b.sees("Changed here: models/post.glb"))
	odile.write(map[string]string{"models/lamp.glb": "lamp, lit", "models/hood.glb": "hood"})
	odile.tarn(0, "send", "-m", "Lit, with a hood")
	odile.tarn(0, "kit", "release", "lamp-parts", "-m", "Lit")
	b.do(b.sees("behind: the latest is @2"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("kits")
	b.do(chromedp.Navigate(d.URL+"/p/undertow"), b.sees("Kits of which there is a later release"), chromedp.Navigate(d.URL+"/p/undertow/kits"),
		b.sees("What is new"), b.evaluate(`[...document.querySelectorAll("a")].find(a => a.innerText === "What is new").click()`),
		b.sees("Different beside @1"), b.sees("models/hood.glb"), b.sees("behind: the latest is @2"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("a kit")
	b.do(chromedp.Click(`//button[starts-with(@aria-label, "Bring @2 to kits/lamp-parts in undertow")]`), b.asked("2 assets would change",
		"Changed here before, and left as they are: models/post.glb"), b.act("Bring @2"), b.asked(), b.sees("the latest; 1 asset changed there"))
	reef.tarn(0, "update")
	reef.has("kits/lamp-parts/models/lamp.glb", "lamp, lit")
	reef.has("kits/lamp-parts/models/post.glb", "post of the reef")

	// The page of an asset says where it comes from; what was changed is offered, and the folder made one's own.
	b.do(chromedp.Navigate(d.URL+"/p/undertow/asset/kits/lamp-parts/models/post.glb"), b.sees("This was changed here"),
		b.sees("change it in brinelight"),
		chromedp.Navigate(d.URL+"/p/undertow/kits"), b.sees("Offer the changes"), chromedp.Click(ready("Offer the changes")),
		b.asked("Offer what is changed"),
		chromedp.SendKeys(field("Why they"), "It stands in sand"), b.act("Offer it"), b.asked("on the branch undertow/lamp-parts"),
		b.act("Look at the review"), b.sees("It stands in sand"), b.sees("models/post.glb"),
		chromedp.Navigate(d.URL+"/p/undertow/kits"), b.sees("Detach"), chromedp.Click(ready("Detach")), b.asked("Detach kits/lamp-parts"),
		b.act("Detach"), b.asked(), b.sees("This project uses none"))
	if said := b.complained(); said != "" {
		t.Error(said)
	}
}
