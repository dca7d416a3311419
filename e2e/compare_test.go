package e2e

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"

	"kettletarn/demo/scene"
)

// halves is a picture whose left half has one colour, and whose right half another.
func halves(left, right color.NRGBA) string {
	m := image.NewNRGBA(image.Rect(0, 0, 240, 160))
	for y := range 160 {
		for x := range 240 {
			if m.SetNRGBA(x, y, left); x >= 120 {
				m.SetNRGBA(x, y, right)
			}
		}
	}
	var out bytes.Buffer
	_ = png.Encode(&out, m)
	return out.String()
}

// in is the same browser in another test.
func (b *browser) in(t *testing.T) *browser { return &browser{t: t, ctx: b.ctx, url: b.url} }

// picture is what is shown of an element.
func (b *browser) picture(selector string) *image.NRGBA {
	b.t.Helper()
	data, err := chromedp.Run(b.ctx, chromedp.Screenshot(selector))
	if err != nil {
		b.t.Fatal(err)
	}
	m, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		b.t.Fatal(err)
	}
	out := image.NewNRGBA(m.Bounds())
	for y := range m.Bounds().Dy() {
		for x := range m.Bounds().Dx() {
			out.Set(x, y, m.At(x, y))
		}
	}
	return out
}

// until waits for a script to say yes.
func (b *browser) until(script string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Run(ctx, chromedp.Poll[bool]("!!("+script+")"))
		return err
	})
}

// text is what the page says.
func (b *browser) text() string {
	b.t.Helper()
	text, err := chromedp.Run(b.ctx, chromedp.Text(`body`))
	if err != nil {
		b.t.Fatal(err)
	}
	return text
}

// still waits until nothing is on its way any more.
func (b *browser) still() chromedp.Action[chromedp.Void] {
	return b.until(`(() => {
		const n = performance.getEntriesByType("resource").length + document.querySelectorAll("*, [aria-busy=true]").length;
		const was = window.still ?? {};
		window.still = {n, since: n === was.n ? was.since : performance.now()};
		return performance.now() - window.still.since > 400;
	})()`)
}

// number is what a script gives.
func (b *browser) number(script string) float64 {
	b.t.Helper()
	n, err := chromedp.Run(b.ctx, chromedp.Evaluate[float64](script, chromedp.EvalAwaitPromise))
	if err != nil {
		b.t.Fatalf("%s: %v", script, err)
	}
	return n
}

// at is the colour at a place of a picture, in shares of its width and height.
func at(m *image.NRGBA, x, y float64) color.NRGBA {
	return m.NRGBAAt(int(x*float64(m.Bounds().Dx())), int(y*float64(m.Bounds().Dy())))
}

func near(c color.NRGBA, r, g, b int) bool {
	far := func(a uint8, b int) bool { return int(a)-b > 14 || b-int(a) > 14 }
	return !far(c.R, r) && !far(c.G, g) && !far(c.B, b)
}

// copper and ice are the colours of what came and what went: how many pixels have them.
func copperAndIce(m *image.NRGBA) (copper, ice int) {
	for y := range m.Bounds().Dy() {
		for x := range m.Bounds().Dx() {
			switch c := m.NRGBAAt(x, y); { // thin lines are mixed with the ground
			case int(c.R)-int(c.B) > 45:
				copper++
			case int(c.B)-int(c.R) > 28 && int(c.G)-int(c.R) > 22:
				ice++
			}
		}
	}
	return copper, ice
}

// loaded waits until all pictures of the page are there, and fails where one is not.
func (b *browser) loaded() {
	b.t.Helper()
	b.do(b.until(`[...document.querySelectorAll("main img")].length > 0 &&
		[...document.querySelectorAll("main img")].every((i) => i.complete)`))
	if n := b.number(`[...document.querySelectorAll("main img")].filter((i) => i.naturalWidth === 0).length`); n > 0 {
		b.t.Errorf("%.0f pictures did not load", n)
	}
}

// compared opens a comparison of versions 1 and 2.
func (b *browser) compared(path string) {
	b.t.Helper()
	b.do(chromedp.Navigate(fmt.Sprintf("%s/p/brinelight/compare?path=%s&a=1&b=2", b.url, path)), chromedp.WaitVisible(`main table`))
}

func radio(text string) string {
	return fmt.Sprintf(`//button[@role="radio"][normalize-space(.)=%q]`, text)
}

// Each kind of asset is compared on a page of its own, and what the page draws is right, pixel for pixel where that can be said.
func TestComparisonsInTheBrowser(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	blob := make([]byte, 3<<20)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range blob {
		blob[i] = byte(r.Uint32())
	}
	red, blue, green := color.NRGBA{200, 40, 40, 255}, color.NRGBA{40, 60, 200, 255}, color.NRGBA{40, 180, 70, 255}
	things := func(pass int) map[string]string {
		files := map[string]string{
			"a.png": halves([]color.NRGBA{red, green}[pass], blue), "n.png": string(scene.Normal("rust", 128, pass)),
			"lamp.glb": string(scene.Model("lamp", pass)), "harbour.glb": string(scene.Level("harbour", pass)),
			"horn.wav": string(scene.Sound("oar-stroke", pass)), "t.kicad_sch": string(scene.Schematic(2 * pass)),
			"t.kicad_pcb": string(scene.Board(2 * pass)), "top.gbr": string(scene.Gerber("copper-top", 2*pass)),
			"t.drl":       string(scene.Drill(2 * pass)),
			"things.json": string(scene.Things(pass)), "keeper.txt": string(scene.Dialogue("keeper", pass)),
			"parts.csv": string(scene.PartsList(2 * pass)), "sheet.pdf": string(scene.DataSheet(pass)), "cut.png": "this is no picture",
		}
		data := append([]byte{}, blob...)
		if pass > 0 {
			copy(data[2<<20:], "something else entirely")
			files["cut.png"] = halves(red, blue)
		}
		files["mix.bin"] = string(data)
		return files
	}
	files := things(0)
	files["tarn.toml"] = "otherwise = \"asset\"\n"
	odile.start(files)
	odile.write(things(1))
	odile.tarn(0, "lock", "*")
	odile.tarn(0, "send", "-m", "Everything a little different")
	b := open(t, d)
	b.signIn("odile")

	t.Run("texture", func(t *testing.T) {
		b := b.in(t)
		b.compared("a.png")
		b.do(b.sees("50 %"))
		b.loaded()
		first, second := b.picture(`[aria-label="Picture, before"]`), b.picture(`[aria-label="Picture, after"]`)
		if !near(at(first, 0.3, 0.5), 200, 40, 40) || !near(at(first, 0.7, 0.5), 40, 60, 200) || !near(at(second, 0.3, 0.5), 40, 180, 70) ||
			!near(at(second, 0.7, 0.5), 40, 60, 200) {
			t.Errorf("side by side: %v %v and %v %v", at(first, 0.3, 0.5), at(first, 0.7, 0.5), at(second, 0.3, 0.5), at(second, 0.7, 0.5))
		}
		b.do(chromedp.Click(radio("Red")))
		if c := at(b.picture(`[aria-label="Picture, before"]`), 0.3, 0.5); !near(c, 200, 200, 200) {
			t.Errorf("the red channel of red is %v", c)
		}
		b.do(chromedp.Click(radio("All")), chromedp.Click(radio("Wipe")))
		// The wipe stands in the middle; at a quarter, what is right of that is the later one.
		b.do(b.evaluate(`(() => { const i = document.querySelector("input[aria-label=Wipe]"); ` +
			`Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, "0.4"); i.dispatchEvent(new Event("input", ` +
			`{bubbles: true})); })()`))
		m := b.picture(`[aria-label="Picture, before | after"]`)
		if !near(at(m, 0.36, 0.5), 200, 40, 40) || !near(at(m, 0.44, 0.5), 40, 180, 70) {
			t.Errorf("left of the wipe is %v, right of it %v", at(m, 0.36, 0.5), at(m, 0.44, 0.5))
		}
		b.do(chromedp.Click(radio("Difference")))
		b.loaded()
		m = b.picture(`[aria-label^="Picture, what is different"]`)
		if c := at(m, 0.35, 0.5); c.R < 200 || c.B > 130 {
			t.Errorf("where it changed there is %v", c)
		}
		if c := at(m, 0.65, 0.5); c.R != c.B || c.R > 80 {
			t.Errorf("where it did not change there is %v", c)
		}
		b.do(chromedp.Click(radio("Blink")), b.sees("after"), b.sees("before"))
		// What is done to one is done to both.
		b.do(chromedp.Click(radio("Side by side")), chromedp.Focus(`[aria-label="Picture, after"]`),
			chromedp.SendKeys(`[aria-label="Picture, after"]`, "++"))
		if n := b.number(`new Set([...document.querySelectorAll('[aria-label^="Picture, "] > span')].map((i) => i.style.transform).filter(` +
			`(w) => w.includes("scale(1.56"))).size * 10 + document.querySelectorAll('[aria-label^="Picture, "] > span').length`); n != 12 {
			t.Errorf("the two are not zoomed alike: %.0f", n)
		}
		b.do(b.sees("156 %"))
	})
	t.Run("normal map", func(t *testing.T) {
		b := b.in(t)
		b.compared("n.png")
		b.do(chromedp.Click(`//label[contains(., "lit, as a normal map")]//input`))
		b.loaded()
		if c := at(b.picture(`[aria-label="Picture, before"]`), 0.5, 0.5); c.R != c.G || c.G != c.B {
			t.Errorf("lit, it is %v", c)
		}
	})
	t.Run("model", func(t *testing.T) {
		b := b.in(t)
		b.compared("lamp.glb")
		b.do(b.sees("added"), b.sees("handle"), chromedp.WaitVisible(`canvas`), b.until(`document.querySelector("canvas").width > 400`))
		both := func() (left, right int) {
			m := b.picture(`canvas`)
			ground := at(m, 0.01, 0.02)
			for y := range m.Bounds().Dy() {
				for x := range m.Bounds().Dx() {
					if c := m.NRGBAAt(x, y); !near(c, int(ground.R), int(ground.G), int(ground.B)) {
						if x < m.Bounds().Dx()/2 {
							left++
						} else {
							right++
						}
					}
				}
			}
			return left, right
		}
		var left, right int
		for range 20 { // the meshes are on their way
			if left, right = both(); left > 3000 {
				break
			}
			b.do(chromedp.Sleep(200_000_000))
		}
		if left < 3000 || right <= left {
			t.Errorf("%d pixels are drawn on the left, and %d on the right, where there is a handle more", left, right)
		}
		b.do(chromedp.Click(radio("What is different")))
		b.loaded()
		if copper, _ := copperAndIce(b.picture(`img[alt="What is different"]`)); copper < 1000 {
			t.Errorf("%d pixels of it came", copper)
		}
		b.compared("harbour.glb")
		b.do(b.sees("moved by 7.632"), b.sees("crate-5"))
		b.loaded()
		if copper, ice := copperAndIce(b.picture(`img[alt^="Seen from above"]`)); copper < 100 || ice < 50 {
			t.Errorf("on the plan %d pixels came and %d went", copper, ice)
		}
	})
	t.Run("sound", func(t *testing.T) {
		b := b.in(t)
		b.compared("horn.wav")
		b.loaded()
		if _, wave := copperAndIce(b.picture(`img[alt="Waveform before"]`)); wave < 1000 {
			t.Errorf("%d pixels of a wave are drawn", wave)
		}
		b.do(chromedp.Click(ready("Play after from 0.0 s")), b.until(`document.querySelectorAll("audio")[1].currentTime > 0.2`),
			chromedp.Click(ready("Stop")))
		// The other one goes on where this one stopped.
		b.do(chromedp.Click(`//button[starts-with(normalize-space(.), "Play before from 0.")]`),
			b.until(`document.querySelectorAll("audio")[0].currentTime > 0.3`), chromedp.Click(ready("Stop")))
		if n := b.number(`document.querySelectorAll("audio")[1].paused ? 1 : 0`); n != 1 {
			t.Error("both play at once")
		}
	})
	t.Run("circuits", func(t *testing.T) {
		b := b.in(t)
		for _, path := range []string{"t.kicad_sch", "t.kicad_pcb", "top.gbr", "t.drl"} {
			b.compared(path)
			b.loaded()
			if copper, ice := copperAndIce(b.picture(`[aria-label^="Picture, Copper"]`)); copper < 50 || ice < 50 {
				t.Errorf("%s: %d pixels came and %d went", path, copper, ice)
			}
		}
		b.compared("t.kicad_sch")
		b.do(b.sees("ESD array"), b.sees("R4"), b.sees("U1.6"), b.sees("U1.21"))
		b.compared("t.kicad_pcb")
		b.do(chromedp.SetValue(`main select.max-w-56`, "layer-B-Cu.png"))
	})
	t.Run("text, tables and structured text", func(t *testing.T) {
		b := b.in(t)
		b.compared("keeper.txt")
		b.do(b.sees("the winter"))
		if n := b.number(`document.querySelectorAll("mark").length`); n < 2 {
			t.Errorf("%.0f places within lines are marked", n)
		}
		b.compared("parts.csv")
		b.do(b.sees("ESD array"), b.sees("removed"))
		b.compared("things.json")
		b.do(b.sees("moved by 22"), b.sees("bell-buoy"), b.sees("lamp-2, oil"))
	})
	t.Run("document", func(t *testing.T) {
		b := b.in(t)
		b.compared("sheet.pdf")
		b.do(chromedp.Click(`//nav[@aria-label="Pages"]//button[starts-with(normalize-space(.), "2")]`))
		b.loaded()
		dark := 0
		m := b.picture(`[aria-label="Picture, after"]`)
		for y := range m.Bounds().Dy() {
			for x := range m.Bounds().Dx() {
				if c := m.NRGBAAt(x, y); near(c, 255, 255, 255) {
					dark++
				}
			}
		}
		if dark < 20000 {
			t.Errorf("%d pixels of paper are shown", dark)
		}
	})
	t.Run("bytes", func(t *testing.T) {
		b := b.in(t)
		b.compared("mix.bin")
		b.do(b.sees("lie in pieces that are not as before"), b.sees("digest"))
		share := b.number(`[...document.querySelectorAll("svg[role=img] rect")].reduce((sum, r) => sum + Number(r.getAttribute("width")), 0)`)
		if share < 20 || share > 700 {
			t.Errorf("%.0f thousandths of it are marked", share)
		}
	})
	t.Run("what can't be read", func(t *testing.T) {
		b := b.in(t)
		b.compared("cut.png")
		b.do(b.sees("The version before can’t be read: it is no picture that is known here"))
	})

	// The same at the command line, with a picture.
	for _, c := range []struct{ path, says string }{{"a.png", "50 %"}, {"lamp.glb", "handle"}, {"horn.wav", "samples changed"},
		{"t.kicad_sch", "ESD array"}, {"things.json", "by 22"}, {"parts.csv", "ESD array"}, {"keeper.txt", "- KEEPER: The third"},
		{"sheet.pdf", "pages changed"}, {"mix.bin", "are not as before"}} {
		target := filepath.Join(odile.home, "shown.png")
		_ = os.Remove(target)
		says(t, odile.tarn(0, "compare", c.path+"@v1", c.path+"@v2", "--picture", target), c.says, "has the picture")
		if f, err := os.Open(target); err != nil {
			t.Error(err)
		} else if m, err := png.Decode(f); err != nil || m.Bounds().Dx() < 100 {
			t.Errorf("%s: %v", c.path, err)
		}
	}
	says(t, odile.tarn(0, "compare", "cut.png@v1", "cut.png@v2"), "The earlier one can't be read")
	odile.tarn(1, "compare", "a.png@v1", "a.png@v9")
	odile.tarn(2, "compare", "a.png@v1", "h2")
}
