package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"kettletarn/demo/scene"
)

// TestAReviewOneThingAfterTheOther: by keyboard from thing to thing, pointing at what one sees, and the marks where remarks point.
func TestAReviewOneThingAfterTheOther(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a/rust.png": string(scene.Albedo("rust", 128, 0)), "b/board.kicad_sch": string(scene.Schematic(0)),
		"c/keeper.txt": "one\ntwo\nthree\nfour\n", "d/lamp.glb": string(scene.Model("lamp", 0)),
		"e/horn.wav": string(scene.Sound("fog-horn", 0)), "f/sheet.pdf": string(scene.DataSheet(0))})
	rurik.join(odile, "artist")
	rurik.tarn(0, "branch", "add", "glow", "--switch")
	rurik.tarn(0, "lock", "a", "b", "c", "d", "e", "f")
	rurik.write(map[string]string{"a/rust.png": string(scene.Albedo("rust", 128, 1)), "b/board.kicad_sch": string(scene.Schematic(1)),
		"c/keeper.txt": "one\ntwo\n3\nfour\n", "d/lamp.glb": string(scene.Model("lamp", 1)), "e/horn.wav": string(scene.Sound("fog-horn", 1)),
		"f/sheet.pdf": string(scene.DataSheet(1))})
	rurik.tarn(0, "send", "--keep-locks", "-m", "All of it glows")
	rurik.tarn(0, "review", "open", "glow", "--ask", "odile", "-m", "Does it glow?")
	rurik.tarn(0, "review", "say", "r1", "b/board.kicad_sch", "--where", "part U2", "-m", "Is it strong enough?")

	b := open(t, d)
	b.signIn("odile")
	tall := chromedp.EmulateViewport(1280, 1500)
	b.do(tall, chromedp.Navigate(d.URL+"/p/brinelight"), chromedp.Click(`//a[.="Does it glow?"]`), b.sees("1 of 6"), b.sees("a/rust.png"))
	// pointed is where the picture is that one points at, on the page.
	pointed := func(x, y float64) (float64, float64) {
		b.t.Helper()
		b.do(b.until(`document.querySelector("[data-pointed] img")?.complete && document.querySelector("[data-pointed] img").naturalWidth > 1`))
		side := func(low, size string) float64 {
			return b.number(fmt.Sprintf(`document.querySelector("[data-pointed]").getBoundingClientRect().%s`, low)) +
				b.number(fmt.Sprintf(`document.querySelector("[data-pointed]").getBoundingClientRect().%s`, size))*map[string]float64{"width": x,
					"height": y}[size]
		}
		return side("left", "width"), side("top", "height")
	}
	press := func(key string) chromedp.Action[chromedp.Void] { return chromedp.KeyEvent(key) }
	x, y := pointed(0.25, 0.75)
	b.do(chromedp.MouseClickXY(x, y), b.until(`/^Say something at 2\d(\.\d+)?%,7\d(\.\d+)?%$/.test(document.activeElement.placeholder)`),
		chromedp.KeyEvent("Too bright here\n"), b.sees("Too bright here"), chromedp.WaitVisible(`button[data-mark="2"]`))
	says(t, rurik.tarn(0, "review", "show", "r1"), "odile on a/rust.png@v2 at 2", "Too bright here")

	// On to the next, with a key; not while one writes.
	b.do(chromedp.Focus(`button[data-mark="2"]`), press("n"), b.sees("2 of 6"), b.sees("Is it strong enough?"),
		chromedp.WaitVisible(`button[data-mark="1"]`))
	// Where a part is drawn, one points at the part; the mark of the remark on it is there.
	x, y = b.number(`(r => r.left + r.width / 2)(document.querySelector('button[data-mark="1"]').getBoundingClientRect())`)+22,
		b.number(`(r => r.top + r.height / 2)(document.querySelector('button[data-mark="1"]').getBoundingClientRect())`)
	b.do(chromedp.MouseClickXY(x, y), b.until(`document.activeElement.placeholder === "Say something at part U2"`), chromedp.KeyEvent("bn"),
		b.sees("2 of 6"), chromedp.Click(ready("Next n")), b.sees("3 of 6"))
	b.do(chromedp.Click(`button[aria-label="Point at line 3"]`), chromedp.KeyEvent("A word, please\n"), b.sees("A word, please"),
		chromedp.WaitVisible(`table[aria-label="Line by line"] button[data-mark="3"]`))
	// The middle of a model, without a mouse.
	b.do(chromedp.Click(ready("Next n")), b.sees("4 of 6"), chromedp.WaitVisible(`canvas`), chromedp.Sleep(time.Second),
		chromedp.Focus(`canvas`), press(kb.Enter),
		b.until(`/^Say something at -?[\d.]+,-?[\d.]+,-?[\d.]+$/.test(document.activeElement.placeholder)`),
		chromedp.KeyEvent("Brass, here\n"), b.sees("Brass, here"), chromedp.WaitVisible(`button[data-mark="4"]`))
	b.do(chromedp.Click(ready("Next n")), b.sees("5 of 6"), b.sees("Point at 0:00"),
		b.evaluate(`(r => {
			Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(r, "0.5");
			r.dispatchEvent(new Event("input", {bubbles: true}));
		})(document.querySelector("input[type=range]"))`),
		chromedp.Click(ready("Point at 0:00.5")), chromedp.KeyEvent("A click\n"), b.sees("A click"),
		chromedp.WaitVisible(`button[data-mark="5"]`))
	// A place is on a page of a document, and a net has its mark on the drawing.
	b.do(chromedp.Click(ready("Next n")), b.sees("6 of 6"), chromedp.Click(`//nav[@aria-label="Pages"]/button[starts-with(., "2")]`))
	x, y = pointed(0.5, 0.25)
	b.do(chromedp.MouseClickXY(x, y),
		b.until(`/^Say something at page 2 (5\d|49)(\.\d+)?%,2\d(\.\d+)?%$/.test(document.activeElement.placeholder)`),
		chromedp.KeyEvent("A wider margin\n"), b.sees("A wider margin"), chromedp.WaitVisible(`button[data-mark="6"]`),
		b.sees("remarks"), chromedp.Click(`//nav[@aria-label="Pages"]/button[starts-with(., "1")]`),
		chromedp.WaitNotPresent(`button[data-mark="6"]`))
	rurik.tarn(0, "review", "say", "r1", "b/board.kicad_sch", "--where", "net GND", "-m", "Wide enough?")
	says(t, rurik.tarn(1, "review", "say", "r1", "a/rust.png", "--where", "page 2 1%,1%", "-m", "Here"), "has no pages")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/reviews/1?path=b/board.kicad_sch"), b.sees("Wide enough?"),
		chromedp.WaitVisible(`button[data-mark="7"]`), chromedp.WaitVisible(`button[data-mark="1"]`))

	// They stay with their versions, and show on the next where the same thing is there.
	rurik.write(map[string]string{"a/rust.png": string(scene.Albedo("rust", 128, 2)), "c/keeper.txt": "zero\none\ntwo\n3\nfour\n"})
	rurik.tarn(0, "send", "-m", "One more pass")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/reviews/1?path=c/keeper.txt"), b.sees("on v2, line 3, here line 4"),
		chromedp.WaitVisible(`table[aria-label="Line by line"] button[data-mark="3"][aria-label="Remark 3 at line 4"]`),
		chromedp.Click(ready("Back b")), chromedp.Click(ready("Back b")), b.sees("1 of 6"), b.sees("on v2, 2"),
		chromedp.WaitVisible(`button[data-mark="2"]`))
	says(t, rurik.tarn(0, "review", "show", "r1"), "c/keeper.txt@v2 at line 3 (on v3 at line 4)")
	b.do(chromedp.SendKeys(`input[aria-label="Why, or what is missing"]`, "it glows"), chromedp.Click(ready("Yes")), b.sees("odile says yes"))

	// A branch's assets, and the state that the page is about, in its frame.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/c?at=glow"), b.sees("On the branch glow"),
		chromedp.WaitVisible(`button[aria-label="On glow; look at another branch"]`),
		chromedp.Click(`//a[.="keeper.txt"]`), b.sees("Version 3 by rurik"))
	if n := b.number(`document.querySelectorAll("button[title^='Go back'], button[aria-label^='Lock']").length`); n != 0 {
		t.Errorf("there are %v buttons that act on main", n)
	}
	b.do(chromedp.Click(`button[aria-label="On glow; look at another branch"]`), chromedp.Click(`//*[@role="menuitem"][.="main"]`),
		chromedp.WaitVisible(`button[aria-label="On main; look at another branch"]`), chromedp.Navigate(d.URL+"/p/brinelight/asset/c/keeper.txt"),
		b.sees("Version 1 by odile"))
}
