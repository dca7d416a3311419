package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestWorkingApart: a branch is made, two people go their own ways, and it comes in: what goes by itself, what is decided, and what a lock
// was worth meanwhile.
func TestWorkingApart(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"levels/bell.glb": "bell one", "textures/rust.png": "rust one", "textures/fog.png": "fog one",
		"text/keeper.txt": "one\ntwo\nthree\nfour\n"})
	rurik.join(odile, "artist")
	says(t, rurik.tarn(0, "branch", "add", "second-chapter", "-m", "the drowned bell", "--switch"), "on second-chapter now", "h1")
	says(t, rurik.tarn(0, "status"), "brinelight, on second-chapter at h1")
	says(t, rurik.tarn(0, "branch", "list"), "second-chapter", "live", "main h1", "the same", "the drowned bell")
	says(t, rurik.tarn(1, "branch", "add", "Second-Chapter"), "there is a branch second-chapter already")
	says(t, rurik.tarn(2, "branch", "add", "h7"), "h7")

	rurik.tarn(0, "lock", "levels", "textures/rust.png", "text/keeper.txt")
	rurik.write(map[string]string{"levels/bell.glb": "bell, drowned", "textures/rust.png": "rust, greener",
		"text/keeper.txt": "ONE\ntwo\nthree\nfour\n",
		"levels/reef.glb": "reef one"})
	says(t, rurik.tarn(0, "send", "-m", "The bell goes under"), "h2")
	odile.tarn(0, "update")
	odile.has("levels/bell.glb", "bell one")

	// On main, the lock says what it would be worth.
	says(t, odile.tarn(1, "lock", "textures/rust.png"), "the branch second-chapter has version 2", "tarn merge second-chapter", "--diverge")
	says(t, odile.tarn(0, "lock", "--diverge", "textures/rust.png", "text/keeper.txt"), "everyone sees that")
	says(t, rurik.tarn(0, "holders"), "textures/rust.png", "odile", "version 1")
	odile.write(map[string]string{"textures/rust.png": "rust, redder", "text/keeper.txt": "one\ntwo\nthree\nFOUR\n"})
	says(t, odile.tarn(0, "send", "-m", "Rust redder, a last word"), "h3")
	says(t, odile.tarn(0, "branch", "show", "second-chapter"), "Since h1", "1 new, 3 changed", "2 changed", "textures/rust.png", "rurik, in")
	says(t, odile.tarn(0, "history"), "BRANCH", "second-chapter", "main")
	says(t, odile.tarn(0, "history", "--branch", "second-chapter"), "h2")
	if got := odile.tarn(0, "history", "--branch", "second-chapter"); strings.Contains(got, "h3") {
		t.Errorf("what was handed off on main is listed:\n%s", got)
	}

	// They look at it together.
	says(t, rurik.tarn(0, "review", "open", "second-chapter", "--ask", "odile", "-m", "Does the bell read from the boat?"), "r1",
		"odile hears of it")
	says(t, odile.tarn(0, "review", "list", "--mine"), "r1", "second-chapter", "1 to answer")
	says(t, odile.tarn(0, "review", "say", "r1", "textures/rust.png", "--where", "30%,45%", "-m", "Too green here"), "1 remark", "1 open")
	says(t, odile.tarn(2, "review", "say", "r1", "textures/rust.png", "--where", "over there", "-m", "Hm"), "30%,45%")
	says(t, rurik.tarn(0, "review", "say", "r1", "--settle", "1", "-m", "It is meant to be: the sea took it"), "2 remarks", "0 open")
	says(t, odile.tarn(2, "review", "answer", "r1"), "--not-yet")
	says(t, odile.tarn(0, "review", "answer", "r1", "--yes"), "1 yes")
	says(t, rurik.tarn(0, "review", "show", "r1"), "odile says yes", "on textures/rust.png@v2 at 30%,45%", "settled by rurik",
		"the sea took it")
	says(t, rurik.tarn(0, "news"), "Too green here")

	// Seen first; tried beside; then done.
	says(t, odile.tarn(1, "merge", "second-chapter", "--preview"), "their common state is h1", "By itself (2", "levels/reef.glb",
		"To be decided (2)",
		"textures/rust.png: edited on main (v3) and on second-chapter (v2)", "here, there, both, lines")
	says(t, odile.tarn(1, "merge", "second-chapter"), "text/keeper.txt", "--decide")
	trial := filepath.Join(t.TempDir(), "trial")
	says(t, odile.tarn(0, "merge", "second-chapter", "--to", trial), "nothing was merged")
	if text, err := os.ReadFile(filepath.Join(trial, "levels", "reef.glb")); err != nil || string(text) != "reef one" {
		t.Errorf("%q, %v", text, err)
	}
	says(t, odile.tarn(2, "merge", "second-chapter", "--decide", "rust"), "--decide")
	says(t, odile.tarn(0, "merge", "second-chapter", "--decide", "*.png=both", "--decide", "*.txt=lines", "-m", "The second chapter"),
		"h4", "5 assets", "text/keeper.txt", "rust (second-chapter).png")
	for path, want := range map[string]string{"levels/bell.glb": "bell, drowned", "levels/reef.glb": "reef one",
		"textures/rust.png":                  "rust, redder",
		"textures/rust (second-chapter).png": "rust, greener", "text/keeper.txt": "ONE\ntwo\nthree\nFOUR\n"} {
		odile.has(path, want)
	}
	says(t, rurik.tarn(0, "review", "close", "r1"), "r1 is closed")
	says(t, odile.tarn(0, "show", "h4"), "on main, where h2 came in", "The second chapter", "levels/reef.glb")
	says(t, odile.tarn(1, "merge", "second-chapter"), "main has all that second-chapter has")
	odile.tarn(0, "lock", "textures/rust.png")
	odile.tarn(0, "unlock", "textures/rust.png")

	// The branch is closed, keeps what it has, and takes nothing more.
	says(t, rurik.tarn(0, "branch", "done", "second-chapter"), "ready to come in")
	says(t, rurik.tarn(0, "branch", "close", "second-chapter"), "keeps everything")
	rurik.write(map[string]string{"levels/late.glb": "late"})
	says(t, rurik.tarn(1, "send", "-m", "Too late"), "is closed", "tarn branch reopen")
	// What is unsent goes along where it is the same on both, and stands in the way where it is not.
	rurik.write(map[string]string{"textures/fog.png": "fog, unsent"})
	says(t, rurik.tarn(0, "switch", "main"), "on main now, at h4")
	rurik.has("textures/fog.png", "fog, unsent")
	rurik.has("levels/late.glb", "late")
	rurik.has("text/keeper.txt", "ONE\ntwo\nthree\nFOUR\n")
	rurik.write(map[string]string{"text/keeper.txt": "mine\n"})
	says(t, rurik.tarn(1, "switch", "second-chapter"), "text/keeper.txt", "tarn discard")
	says(t, rurik.tarn(0, "export", "--at", "second-chapter", filepath.Join(t.TempDir(), "old")), "as of h2")
	says(t, rurik.tarn(0, "compare", "second-chapter", "main"), "text/keeper.txt")

	// A third person joins right there.
	keiko := d.person("keiko")
	odile.tarn(0, "member", "add", "keiko", "--role", "artist")
	if r := keiko.runIn(keiko.home, "", "join", "brinelight", "--branch", "second-chapter"); r.Status != 0 || !strings.Contains(r.Out,
		"on second-chapter as of h2") {
		t.Fatalf("%+v", r)
	}
	keiko.has("levels/bell.glb", "bell, drowned")
	says(t, keiko.tarn(1, "switch", "nowhere"), "no branch nowhere")
}

// TestWorkingApartInTheConsole: the same by somebody who never opens a terminal, beside somebody who does.
func TestWorkingApartInTheConsole(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"textures/rust.png": "rust one", "textures/fog.png": "fog one",
		"text/keeper.txt": "one\ntwo\nthree\nfour\n"})
	rurik.join(odile, "artist")
	b := open(t, d)
	b.signIn("odile")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight"), chromedp.Click(`//nav//a[.="Branches"]`), b.sees("Everything goes on main so far"),
		chromedp.Click(ready("Make a branch")), chromedp.SendKeys(`//label[contains(., "Name")]//input`, "second-chapter"),
		chromedp.SendKeys(`//label[contains(., "What it is for")]//input`, "the drowned bell"), chromedp.Click(ready("Make it")),
		b.sees("made by odile from main at h1"))

	rurik.tarn(0, "switch", "second-chapter")
	rurik.write(map[string]string{"textures/rust.png": "rust, greener", "text/keeper.txt": "ONE\ntwo\nthree\nfour\n",
		"textures/kelp.png": "kelp"})
	rurik.tarn(0, "lock", "textures/rust.png", "text/keeper.txt")
	rurik.tarn(0, "send", "-m", "The bell goes under")
	b.do(b.sees("1 handoff of its own"), b.sees("1 new, 2 changed"), b.sees("rurik (rurik-pc"))
	odile.tarn(0, "lock", "--diverge", "textures/rust.png", "text/keeper.txt")
	odile.write(map[string]string{"textures/rust.png": "rust, redder", "text/keeper.txt": "one\ntwo\nthree\nFOUR\n"})
	odile.tarn(0, "send", "-m", "Rust redder, a last word")
	b.do(b.sees("Changed on both, and to be decided when they meet (2)"))

	// Who is asked finds it on the first page, answers there, and says something about a thing.
	b.do(chromedp.Click(ready("Ask people to look")),
		chromedp.SendKeys(`//label[contains(., "What is to be looked at")]//input`, "Does it read?"),
		chromedp.SendKeys(`//label[contains(., "Who is asked")]//input`, "rurik"), chromedp.Click(ready("Ask them")),
		b.sees("r1: Does it read?"),
		b.sees("Asked, and not answered yet: rurik"))
	o := open(t, d)
	o.signIn("rurik")
	o.do(chromedp.Navigate(d.URL+"/p/brinelight"), o.sees("odile asks you to look at second-chapter"),
		chromedp.Click(`//a[.="Does it read?"]`),
		chromedp.SendKeys(`input[aria-label="Why, or what is missing"]`, "the ring is missing"), chromedp.Click(ready("Not yet")),
		o.sees("rurik says not yet"))
	says(t, rurik.tarn(0, "review", "say", "r1", "textures/rust.png", "--where", "30%,45%", "-m", "Too green here"), "1 remark")
	b.do(b.sees("rurik says not yet"), b.sees("Too green here"), chromedp.SendKeys(`input[aria-label="Answer remark 1"]`, "The sea took it\n"),
		b.sees("The sea took it"), chromedp.Click(ready("Settled")), b.sees("settled by odile"))

	// What both changed is decided thing by thing, and a decision may be taken back.
	b.do(chromedp.Click(`//a[.="Bring it into main"]`), b.sees("2 things left to decide"),
		chromedp.WaitVisible(button("Bring it in")+"[@disabled]"))
	inside := func(path, word string) string {
		return `//article[@aria-label="` + path + `"]` + button(word)
	}
	// The bar at the bottom covers what is below it, until one scrolls.
	tall := chromedp.EmulateViewport(1280, 1600)
	b.do(tall, chromedp.Click(inside("text/keeper.txt", "Line by line")), b.sees("1 thing left to decide"),
		chromedp.Click(`(`+inside("textures/rust.png", "This one")+`)[2]`), b.sees("Nothing is left to decide"),
		chromedp.Click(`(`+inside("textures/rust.png", "This one")+`)[2]`), b.sees("1 thing left to decide"),
		chromedp.Click(inside("textures/rust.png", "Keep both")), b.sees("Nothing is left to decide"),
		chromedp.SendKeys(`input[aria-label="Why"]`, "The second chapter"), chromedp.Click(ready("Bring it in")), b.sees("brings in h2"))
	odile.tarn(0, "update")
	for path, want := range map[string]string{"textures/kelp.png": "kelp", "textures/rust.png": "rust, redder",
		"textures/rust (second-chapter).png": "rust, greener", "text/keeper.txt": "ONE\ntwo\nthree\nFOUR\n"} {
		odile.has(path, want)
	}
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/branches"), b.sees("came in at h4"), chromedp.Click(`//li//a[.="second-chapter"]`),
		chromedp.Click(ready("Close it")), b.sees("Closed: it keeps everything"))
	says(t, odile.tarn(0, "branch", "list"), "closed")
}
