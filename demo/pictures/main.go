// Command pictures takes the console's pictures for the documentation from a running demo.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

// shot is one picture: an address, what has to be on the page, and what to do before.
type shot struct {
	name, address, theme string
	width, height        int64
	before               chromedp.Action[chromedp.Void]
	desk                 bool // of somebody's own machine
}

// shots are the pictures of the documentation.
var shots = []shot{
	{name: "console-first", address: "/"},
	{name: "console-today", address: "/p/brinelight"},
	{name: "console-assets", address: "/p/brinelight/assets/textures", before: chosen(1, 2, 3)},
	{name: "console-asset", address: "/p/tidepad/asset/board/tidepad.kicad_pcb"},
	{name: "console-pictures", address: "/p/brinelight/assets/models?view=pictures&edge=240", theme: "light"},
	{name: "console-find", address: "/p/brinelight/find?text=harbour lamp"},
	{name: "console-handoff", address: "/p/brinelight/handoffs/8"},
	{name: "console-compare-texture", address: "/p/brinelight/compare?path=textures/rust-albedo.png&a=2&b=3",
		before: chromedp.Click(`//button[@role="radio"][.="Wipe"]`)},
	{name: "console-compare-schematic", address: "/p/tidepad/compare?path=board/tidepad.kicad_sch&a=3&b=4"},
	{name: "console-compare-sound", address: "/p/brinelight/compare?path=sounds/fog-horn.wav&a=1&b=2"},
	{name: "console-between", address: "/p/brinelight/handoffs/between?from=quay-walk&to=first-light", theme: "light"},
	{name: "console-locks", address: "/p/brinelight/locks"},
	{name: "console-branches", address: "/p/brinelight/branches"},
	{name: "console-usage", address: "/p/brinelight/usage"},
	{name: "console-kit", address: "/p/brinelight/kits/lamp-parts"},
	{name: "console-review", address: "/p/brinelight/reviews/2?path=textures/kelp-albedo.png"},
	{name: "desk-work", address: "/desk", desk: true},
}

// at is the origin of an address.
func at(address string) string {
	scheme, rest, _ := strings.Cut(address, "://")
	host, _, _ := strings.Cut(rest, "/")
	return scheme + "://" + host
}

// chosen clicks the boxes of some rows.
func chosen(rows ...int) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		for _, row := range rows {
			if err := chromedp.Do(ctx, chromedp.Click(fmt.Sprintf(`(//input[starts-with(@aria-label, "Choose ")])[%d]`, row+1))); err != nil {
				return err
			}
		}
		return nil
	})
}

func main() {
	url := flag.String("url", "http://127.0.0.1:7420", "address of the demo's console")
	out := flag.String("out", "docs/screenshots", "folder for the pictures")
	only := flag.String("only", "", "only pictures with this in their name")
	desk := flag.String("desk", "", "take the pictures of a desk, by the link that tarn desk --no-open prints")
	page := flag.String("page", "", "one other page to take a picture of, by its address; -only is the picture's name then")
	light := flag.Bool("light", false, "take that in the light theme")
	script := flag.String("script", "", "JavaScript that is run on that page before its picture is taken")
	click := flag.String("click", "", "where that page is clicked on before, as X,Y in pixels")
	wait := flag.Duration("wait", 2*time.Second, "how long the page gets before its picture is taken")
	flag.Parse()
	list := shots
	if *page != "" {
		list = []shot{{name: *only, address: *page}}
		if *light {
			list[0].theme = "light"
		}
		list[0].before = chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
			if *script != "" {
				if _, err := chromedp.Run(ctx, chromedp.Evaluate[any](*script)); err != nil {
					return err
				}
			}
			var x, y float64
			if n, _ := fmt.Sscanf(*click, "%g,%g", &x, &y); n == 2 {
				return chromedp.Do(ctx, chromedp.MouseClickXY(x, y))
			}
			return nil
		})
	}
	if *desk != "" {
		*url = at(*desk)
		for i := range list {
			list[i].desk = list[i].desk || *page != ""
		}
	}
	if err := run(*url, *desk, *out, *only, list, *wait); err != nil {
		fmt.Fprintln(os.Stderr, "pictures:", err)
		os.Exit(1)
	}
}

func run(url, desk, out, only string, list []shot, wait time.Duration) error {
	profile, err := os.MkdirTemp("", "pictures-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(profile)
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.UserDataDir(profile), chromedp.NoSandbox,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("hide-scrollbars", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	in := []chromedp.Action[chromedp.Void]{chromedp.EmulateViewport(1280, 800)}
	if desk != "" {
		in = append(in, chromedp.Navigate(desk), chromedp.WaitVisible(`main h2`))
	} else {
		in = append(in, chromedp.Navigate(url+"/sign-in"),
			chromedp.WaitVisible(`input[name=handle]`),
			chromedp.SendKeys(`input[name=handle]`, "odile"),
			chromedp.SendKeys(`input[name=passphrase]`, "lantern-and-odile\n"),
			chromedp.WaitVisible(`//h1[text()="Projects"]`))
	}
	if err := chromedp.Do(ctx, in...); err != nil {
		return err
	}
	for _, s := range list {
		if !strings.Contains(s.name, only) || s.desk != (desk != "") {
			continue
		}
		theme := s.theme
		if theme == "" {
			theme = "dark"
		}
		width, height := s.width, s.height
		if width == 0 {
			width = 1280
		}
		if height == 0 {
			height = 800
		}
		if _, err := chromedp.Run(ctx, chromedp.Evaluate[any](fmt.Sprintf(`localStorage.setItem("kettle-tarn-theme", %q)`, theme))); err != nil {
			return err
		}
		steps := []chromedp.Action[chromedp.Void]{
			chromedp.EmulateViewport(width, height),
			chromedp.Navigate(url + s.address),
			chromedp.WaitVisible(`main h1`),
			chromedp.Sleep(wait),
		}
		if s.before != nil {
			steps = append(steps, s.before, chromedp.Sleep(900*time.Millisecond))
		}
		if err := chromedp.Do(ctx, steps...); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if err := capture(ctx, out, only, s.name); err != nil {
			return err
		}
	}
	return nil
}

func capture(ctx context.Context, out, only, name string) error {
	if !strings.Contains(name, only) {
		return nil
	}
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	fmt.Println(name)
	return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
}
