package e2e

import (
	"cmp"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"kettletarn/demo/scene"
	"kettletarn/internal/postbox"
	"kettletarn/internal/testbed"
)

// browser is a headless Chromium with a profile of its own.
type browser struct {
	t   *testing.T
	ctx context.Context
	url string

	mu         sync.Mutex
	complaints []string
}

// chromium is Debian's, as it is without windows: that takes a quarter less of the processor.
const chromium = "chromium-headless-shell"

func open(t *testing.T, d *daemon) *browser { return browse(t, d.URL) }

// browse is a browser with a profile of its own, for a service at an address.
func browse(t *testing.T, url string) *browser {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(chromium), chromedp.UserDataDir(t.TempDir()),
		chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("disable-gpu-rasterization", true)) // Debian switches it on, and here it would be drawn by the processor
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	b := &browser{t: t, ctx: ctx, url: url}
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatal(err)
	}
	if err := chromedp.Listen(ctx, b.hear); err != nil {
		t.Fatal(err)
	}
	return b
}

// hear notes what the scripts of a page complain of.
func (b *browser) hear(event any) {
	var said []string
	switch e := event.(type) {
	case *runtime.EventExceptionThrown:
		said = append(said, e.ExceptionDetails.Text)
		if e.ExceptionDetails.Exception != nil {
			said = append(said, e.ExceptionDetails.Exception.Description)
		}
	case *runtime.EventConsoleAPICalled:
		if e.Type == runtime.ConsoleAPICalledTypeError {
			for _, a := range e.Args {
				said = append(said, cmp.Or(a.Description, string(a.Value)))
			}
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.complaints = append(b.complaints, said...)
}

// complained is what they last complained of.
func (b *browser) complained() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return strings.Join(b.complaints[max(0, len(b.complaints)-6):], "\n")
}

// do runs steps, each within 45 seconds: a machine that does much else is slow.
func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	for i, step := range steps {
		ctx, cancel := context.WithTimeout(b.ctx, 45*time.Second)
		err := chromedp.Do(ctx, step)
		cancel()
		if err != nil {
			ctx, cancel := context.WithTimeout(b.ctx, 5*time.Second) // a page that asks whether to leave it says nothing else
			text, _ := chromedp.Run(ctx, chromedp.Text(`body`))
			cancel()
			b.t.Fatalf("step %d: %v; the page says:\n%s\nand its scripts complained of:\n%s", i+1, err, text, b.complained())
		}
	}
}

func (b *browser) sees(text string) chromedp.Action[chromedp.Void] {
	return chromedp.WaitVisible(fmt.Sprintf(
		`//body//*[contains(normalize-space(.), %q) and not(*[contains(normalize-space(.), %q)])]`, text, text))
}

func (b *browser) evaluate(script string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Run(ctx, chromedp.Evaluate[any](script))
		return err
	})
}

// drop lets a file fall on the row of an asset that one holds.
func (b *browser) drop(path, text string) chromedp.Action[chromedp.Void] {
	return b.evaluate(fmt.Sprintf(`(() => {
		const row = document.querySelector('button[aria-label=' + JSON.stringify("Unlock " + %q) + ']');
		const data = new DataTransfer();
		data.items.add(new File([%q], "dropped.png"));
		for (const kind of ["dragover", "drop"]) row.dispatchEvent(new DragEvent(kind, {bubbles: true, cancelable: true, dataTransfer: data}));
	})()`, path, text))
}

func button(text string) string { return fmt.Sprintf(`//button[normalize-space(.)=%q]`, text) }

// ready is a button that can be clicked: a click on one that can't yet is lost.
func ready(text string) string { return button(text) + "[not(@disabled)]" }

func (b *browser) signIn(handle string) {
	b.t.Helper()
	b.do(chromedp.Navigate(b.url+"/"),
		chromedp.WaitVisible(`input[name=handle]`),
		chromedp.SendKeys(`input[name=handle]`, handle),
		chromedp.SendKeys(`input[name=passphrase]`, testbed.Passphrase+"\n"),
		chromedp.WaitVisible(`//h1[text()="Projects"]`))
}

func TestTheConsole(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"textures/rust.png": string(scene.Albedo("rust", 128, 0)),
		"textures/fog.png": string(scene.Albedo("fog", 64, 0)), "sounds/horn.wav": "RIFF"})
	rurik.join(odile, "artist")
	b := open(t, d)

	// A wrong passphrase is said so; the right one leads on.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight"),
		chromedp.WaitVisible(`input[name=handle]`),
		chromedp.SendKeys(`input[name=handle]`, "odile"),
		chromedp.SendKeys(`input[name=passphrase]`, "wrong wrong\n"),
		b.sees("The handle or the passphrase is wrong."),
		b.evaluate(`document.querySelector("input[name=passphrase]").select()`),
		chromedp.SendKeys(`input[name=passphrase]`, testbed.Passphrase+"\n"),
		b.sees("Nobody holds anything."))

	// A lock taken with the client shows by itself, within a second.
	rurik.tarn(0, "lock", "--note", "fog horn", "sounds/horn.wav")
	taken := time.Now()
	b.do(b.sees("sounds/horn.wav"), b.sees("rurik"))
	t.Logf("the lock showed %s after the client was told it has it", time.Since(taken).Round(time.Millisecond))

	// Lock from the page; the client sees it, and whose seat it is.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/textures"),
		chromedp.WaitVisible(`button[aria-label="Lock textures/rust.png"]`),
		chromedp.Click(`button[aria-label="Lock textures/rust.png"]`),
		chromedp.Click(`//div[@role="menuitem"][contains(., "this page")]`),
		chromedp.WaitVisible(`button[aria-label="Unlock textures/rust.png"]`))
	says(t, rurik.tarn(0, "holders"), "textures/rust.png", "odile", "the console")
	says(t, rurik.tarn(1, "lock", "textures/rust.png"), "odile holds it")

	// A lock for one of one's folders, and a refusal that explains itself: the folder has the lock, not the page.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/textures"),
		chromedp.Click(`button[aria-label="Lock textures/fog.png"]`),
		chromedp.Click(`//div[@role="menuitem"][contains(., "odile-pc: brinelight")]`),
		chromedp.WaitVisible(`button[aria-label="Unlock textures/fog.png"]`))
	says(t, odile.tarn(0, "holders"), "textures/fog.png", "yours", "odile-pc: brinelight")
	b.do(b.drop("textures/fog.png", "from the page"),
		b.sees("Send version 2"),
		b.sees("You hold it in another workspace"),
		chromedp.Click(ready("Cancel")))
	odile.tarn(0, "unlock", "textures/fog.png")

	// Send a new version from the page, with a note; the client gets it.
	file := filepath.Join(t.TempDir(), "rust.png")
	img := image.NewNRGBA(image.Rect(0, 0, 40, 40))
	img.Set(1, 1, color.NRGBA{200, 80, 30, 255})
	out, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := png.Encode(out, img); err != nil {
		t.Fatal(err)
	}
	_ = out.Close()
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/asset/textures/rust.png"),
		chromedp.WaitVisible(button("Send a new version")),
		chromedp.SetUploadFiles(`input[type=file]`, []string{file}),
		chromedp.WaitVisible(`textarea[name=note]`),
		chromedp.SendKeys(`textarea[name=note]`, "Painted in the browser"),
		chromedp.Click(ready("Send")),
		b.sees("v2 Painted in the browser"))
	rurik.tarn(0, "update")
	want, _ := os.ReadFile(file)
	rurik.has("textures/rust.png", string(want))
	says(t, rurik.tarn(0, "holders"), "sounds/horn.wav")

	// A file dropped on an asset that one holds, as a person drops it: on its row.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets/textures"),
		chromedp.Click(`button[aria-label="Lock textures/fog.png"]`),
		chromedp.Click(`//div[@role="menuitem"][contains(., "this page")]`),
		chromedp.WaitVisible(`button[aria-label="Unlock textures/fog.png"]`))
	b.do(b.drop("textures/fog.png", "dropped on its row"))
	b.do(b.sees("Send version 2"),
		chromedp.SendKeys(`textarea[name=note]`, "Dropped"),
		chromedp.Click(ready("Send")),
		chromedp.WaitVisible(`button[aria-label="Lock textures/fog.png"]`))
	rurik.tarn(0, "update")
	rurik.has("textures/fog.png", "dropped on its row")

	// Roll back from the page.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/asset/textures/rust.png"),
		chromedp.Click(`button[title="Go back to version 1"]`),
		b.sees("Nothing is deleted"),
		chromedp.Click(ready("Go back")),
		b.sees("v3 Back to version 1"))

	// Take a lock away, with a reason.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight"),
		chromedp.Click(`button[aria-label="Take away the lock of sounds/horn.wav"]`),
		b.sees("Take the lock away from rurik?"),
		chromedp.SendKeys(`//div[@role="alertdialog"]//input`, "rurik is away"),
		chromedp.Click(ready("Take it away")),
		b.sees("Nobody holds anything."))

	// Handoffs, one of them, and a refusal in words.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/handoffs"), b.sees("Painted in the browser"),
		chromedp.Click(`//a[contains(., "Painted in the browser")]`), b.sees("before v1"), b.sees("after v2"),
		chromedp.Navigate(d.URL+"/p/no-such-project"), b.sees("There is no project"))

	// Sign out, and nothing is shown any more.
	b.do(chromedp.Navigate(d.URL+"/"), chromedp.Click(`//header//button`), chromedp.Click(`//div[@role="menuitem"][text()="Sign out"]`),
		chromedp.WaitVisible(`input[name=handle]`),
		chromedp.Navigate(d.URL+"/p/brinelight"), chromedp.WaitVisible(`input[name=handle]`))
}

func TestTheConsoleWithoutAMouseAndInBothThemes(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a"})
	b := open(t, d)
	b.signIn("odile")
	b.do(b.sees("owner, latest"), chromedp.KeyEvent(kb.Tab), chromedp.KeyEvent(kb.Enter), b.sees("Who is on what")) // one is in the page
	// From its beginning: past the header, or over all of it.
	b.do(chromedp.Reload(), b.sees("Who is on what"), chromedp.KeyEvent(kb.Tab),
		b.until(`document.activeElement.textContent === "To the page"`),
		chromedp.KeyEvent(kb.Enter), b.until(`document.activeElement.id === "page" || location.hash === "#page"`))
	ratio, err := chromedp.Run(b.ctx, chromedp.Evaluate[map[string]float64](contrast))
	if err != nil {
		t.Fatal(err)
	}
	if len(ratio) < 12 {
		t.Errorf("only %d pairs of colours were looked at", len(ratio))
	}
	for pair, r := range ratio {
		if r < 4.5 {
			t.Errorf("the contrast of %s is %.2f to 1", pair, r)
		}
	}
	for _, width := range []int64{1280, 768, 380} {
		b.do(chromedp.EmulateViewport(width, 800), chromedp.Navigate(d.URL+"/p/brinelight/assets"),
			chromedp.WaitVisible(`button[aria-label="Lock a.png"]`))
		over, err := chromedp.Run(b.ctx, chromedp.Evaluate[int](`document.documentElement.scrollWidth - document.documentElement.clientWidth`))
		if err != nil || over > 0 {
			t.Errorf("at %d pixels the page is %d too wide, %v", width, over, err)
		}
	}
}

// contrast works out the contrast of text on ground (WCAG 2.2, relative luminance) for the pairs of tokens in use, in both themes.
const contrast = `(() => {
	const light = (hex) => {
		const c = [1, 3, 5].map(i => parseInt(hex.slice(i, i + 2), 16) / 255).map(v => v <= 0.03928 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4);
		return 0.2126 * c[0] + 0.7152 * c[1] + 0.0722 * c[2];
	};
	const out = {};
	for (const theme of ["dark", "light"]) {
		document.documentElement.dataset.theme = theme;
		const style = getComputedStyle(document.documentElement);
		const at = (name) => light(style.getPropertyValue("--" + name).trim());
		for (const pair of ["ink deep", "ink bank", "ink stone", "peat deep", "peat bank", "copper copper-wash",
			"copper deep", "ice ice-wash", "ice deep",
			"rust bank", "on-copper copper"]) {
			const [a, b] = pair.split(" ").map(at).sort((x, y) => y - x);
			out[theme + " " + pair] = (a + 0.05) / (b + 0.05);
		}
	}
	return out;
})()`

func TestTheRulesPageAndWhatIsNotSent(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"textures/rust.png": string(scene.Albedo("rust", 64, 0)),
		"tarn.toml": "presets = [\"game\"]\n\n[[rule]]\nmatch = \"/levels/\"\nlock = \"on-edit\"\n"})
	rurik.join(odile, "artist")
	rurik.write(map[string]string{"cache/sky.png": "painted", "textures/rust.png": "changed"})
	says(t, rurik.tarn(0, "rules", "include", "-m", "by hand", "cache/sky.png"), "they were asked")
	b := open(t, d)
	b.signIn("odile")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/rules"), b.sees("rurik asks that it be an asset"), b.sees("by hand"),
		b.sees("tarn.toml, line 3"), b.sees("1 asset"),
		chromedp.SendKeys(`input[aria-label="Path"]`, "levels/harbour.glb\n"),
		b.sees("It is an asset."), b.sees("in line 4 of tarn.toml."),
		chromedp.Click(`button[aria-label="Accept cache/sky.png"]`),
		chromedp.Click(ready("Make it an asset")),
		b.sees("accepted by odile"), b.sees("tarn.toml, line 7"))
	rurik.tarn(0, "update")
	says(t, rurik.tarn(0, "status"), "cache/sky.png", "new")

	// What somebody changed and did not send shows by itself, and goes when it is sent or thrown away.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight"), b.sees("Changed and not sent yet"), b.sees("rurik: changed"))
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/asset/textures/rust.png"), b.sees("rurik: changed"))
	rurik.tarn(0, "discard", "textures/rust.png")
	rurik.tarn(0, "status", "--fetch")
	b.do(chromedp.WaitNotPresent(`//*[contains(., "rurik: changed")]`))
	// Who is no lead has no button.
	b.do(chromedp.Navigate(d.URL+"/"), chromedp.Click(`//header//button`), chromedp.Click(`//div[@role="menuitem"][text()="Sign out"]`),
		chromedp.WaitVisible(`input[name=handle]`))
	rurik.write(map[string]string{"cache/sea.png": "painted"})
	rurik.tarn(0, "rules", "include", "cache/sea.png")
	b.signIn("rurik")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/rules"), b.sees("cache/sea.png"), chromedp.WaitNotPresent(button("Accept")))
}

// TestOnesOwnWayIn: the passphrase, the sign-ins, the mail address, and an old version that is dropped by mistake, all in the browser.
func TestOnesOwnWayIn(t *testing.T) {
	t.Parallel()
	box, address, err := postbox.Open("127.0.0.1:0", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer box.Close()
	d := serve(t)
	d.Stop()
	d.Env = append(d.Env, "TARND_MAIL=smtp://"+address, "TARND_MAIL_FROM=Kettle Tarn <tarn@saltpan.example>")
	d.start()
	odile := d.person("odile")
	odile.start(map[string]string{"rust.png": "one", "fog.png": "fog"})
	odile.tarn(0, "lock", "rust.png")
	odile.write(map[string]string{"rust.png": "two"})
	odile.tarn(0, "send", "-m", "two")
	b := open(t, d)
	b.signIn("odile")

	// What is as an older version was is not sent unasked.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/assets"),
		chromedp.Click(`button[aria-label="Lock rust.png"]`), chromedp.Click(`//div[@role="menuitem"][contains(., "this page")]`),
		chromedp.WaitVisible(`button[aria-label="Unlock rust.png"]`), b.drop("rust.png", "one"), b.sees("Send version 3"),
		chromedp.SendKeys(`textarea[name=note]`, "From the desktop"), chromedp.Click(ready("Send")),
		b.sees("version 1"), chromedp.Click(ready("Send it all the same")), chromedp.WaitNotPresent(button("Send it all the same")),
		chromedp.WaitVisible(`button[aria-label="Lock rust.png"]`))
	odile.tarn(0, "update")
	odile.has("rust.png", "one")

	// A mail address counts once its code was entered.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/news"), chromedp.SendKeys(`input[type=email]`, "odile@saltpan.example"),
		chromedp.Click(ready("Keep this")),
		b.sees("A letter with a code went to odile@saltpan.example"), chromedp.SendKeys(`input[name=code]`, "AAAAAAAA"),
		chromedp.Click(ready("Enter it")), b.sees("not the code that was sent"))
	b.do(b.evaluate(`document.querySelector("input[name=code]").select()`),
		chromedp.SendKeys(`input[name=code]`, box.Code("odile@saltpan.example")), chromedp.Click(ready("Enter it")),
		chromedp.WaitNotPresent(`input[name=code]`))
	says(t, odile.tarn(0, "news", "--settings"), "odile@saltpan.example")

	// Changing the passphrase ends the sign-ins elsewhere, and not this one.
	b.do(chromedp.Navigate(d.URL+"/me"), b.sees("Where you are signed in"), b.sees("tarn on"), b.sees("this one"),
		chromedp.SendKeys(`input[name=old]`, "not this one"), chromedp.SendKeys(`input[name=new]`, "four seals nap slowly"),
		chromedp.SendKeys(`input[name=again]`, "four seals nap slowly"),
		chromedp.Click(ready("Change it")), b.sees("That is not your passphrase"),
		b.evaluate(`document.querySelector("input[name=old]").select()`), chromedp.SendKeys(`input[name=old]`, testbed.Passphrase),
		chromedp.Click(ready("Change it")),
		b.sees("elsewhere ended"), chromedp.WaitNotPresent(`//td[starts-with(., "tarn on")]`))
	says(t, odile.tarn(1, "lock", "fog.png"), "tarn sign-in")
	if r := odile.runIn(odile.home, "four seals nap slowly\n", "sign-in", d.URL, "--as", "odile"); r.Status != 0 {
		t.Fatalf("%+v", r)
	}

	// One sign-in elsewhere is ended from the page.
	b.do(chromedp.Navigate(d.URL+"/me"), chromedp.Click(`//button[normalize-space(.)="End"]`),
		chromedp.WaitNotPresent(`//button[normalize-space(.)="End"]`))
	says(t, odile.tarn(1, "lock", "fog.png"), "tarn sign-in")
}

// TestNothingFallsBetweenAPageAndItsNews: what happens while a page has its data already, and its stream of news does not stand yet, shows.
func TestNothingFallsBetweenAPageAndItsNews(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"textures/rust.png": "rust"})
	happened := make(chan struct{})
	b := browse(t, through(t, d, func(r *http.Request, over <-chan struct{}) bool {
		if strings.HasSuffix(r.URL.Path, "/projects/brinelight/news") {
			select {
			case <-happened:
			case <-r.Context().Done():
			case <-over:
			}
		}
		return false
	}))
	b.signIn("odile")
	b.do(chromedp.Navigate(b.url+"/p/brinelight/locks"), b.sees("Nothing of that kind is locked"))
	odile.tarn(0, "lock", "--note", "seams", "textures/rust.png")
	close(happened)
	b.do(b.sees("seams"))
}
