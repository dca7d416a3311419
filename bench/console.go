package main

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/dustin/go-humanize"
	"github.com/google/uuid"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// pagesOf are the pages whose first rows S17 waits for, by what they show of a project, and what says that the rows are there.
var pagesOf = []struct{ name, path, there string }{
	{"Today", "", "main li"},
	{"a folder", "/assets/" + folderOf(0), "[role=row]"},
	{"a folder in pictures", "/assets/" + folderOf(0) + "?view=pictures", "[role=listitem]"},
	{"all assets by size", "/assets?order=size&kind=other", "[role=row]"},
	{"an asset", "/asset/" + assetPath(0), "[role=listitem]"},
	{"the timeline", "/handoffs", "[role=listitem]"},
	{"a handoff", "/handoffs/1", "[role=row], [role=listitem]"},
	{"locks", "/locks", "[role=row], [role=listitem]"},
	{"the record of locks", "/locks/record", "[role=row], [role=listitem]"},
}

// rowsThere is how many of them say so.
const rowsThere = 4

// pages is S17: the console over a very large project, beside it over a small one, in a real browser.
func (b *bench) pages(assets, handoffs int) error {
	fmt.Printf("console: a project of %s assets …\n", humanize.Comma(int64(assets)))
	small, err := b.filled(1000, 20, 10, 10)
	if err != nil {
		return err
	}
	large, err := b.filled(assets, handoffs, 2500, 2000)
	if err != nil {
		return err
	}
	tab, stop, err := b.browser()
	if err != nil {
		return err
	}
	defer stop()
	for _, p := range pagesOf {
		times := [2][]float64{}
		for range 7 { // in turns: so the machine is for one what it is for the other
			for i, c := range []*caller{small, large} {
				took, err := b.firstRows(tab, "/p/"+c.key+p.path, p.there)
				if err != nil {
					return fmt.Errorf("%s of %s assets: %w", p.name, c.key, err)
				}
				times[i] = append(times[i], took)
			}
		}
		for i := range times {
			slices.Sort(times[i])
		}
		base, took := times[0][len(times[0])/2], times[1][len(times[1])/2]
		b.row("S17", fmt.Sprintf("first rows of %s, %s assets", p.name, humanize.Comma(int64(assets))), fmt.Sprintf("%.0f ms", took),
			fmt.Sprintf("1,000 assets %.0f ms", base), fmt.Sprintf("%.2f of its time", took/base), "1.5", took/base <= 1.5)
	}
	if err := b.seen(tab, large); err != nil {
		return err
	}
	return b.scrolled(tab, large)
}

// filled is a project with so many assets, handoffs, versions of its first asset, and locks.
func (b *bench) filled(assets, handoffs, versions, locks int) (*caller, error) {
	c, err := b.caller(b.freshKey())
	if err != nil {
		return nil, err
	}
	contents, err := c.bring(200)
	if err != nil {
		return nil, err
	}
	const page = 100_000
	for from := 0; from < assets; from += page {
		if err := c.add(from, min(from+page, assets), contents); err != nil {
			return nil, err
		}
	}
	p, err := c.Project(b.ctx, c.key)
	if err != nil {
		return nil, err
	}
	for n := p.Handoffs + versions; n < handoffs; n++ {
		change := model.SendChange{Path: fmt.Sprintf("extra/e%03d/x%06d.bin", n%100, n), Content: contents[n%200], Size: c.size(n % 200)}
		if err := c.hand(change); err != nil {
			return nil, err
		}
	}
	if err := c.versions(versions, contents); err != nil {
		return nil, err
	}
	want := model.LockRequest{Workspace: c.ws}
	for i := range locks {
		want.Assets = append(want.Assets, model.LockWant{Path: assetPath(i + 1), Version: 1})
	}
	_, err = c.TakeLocks(b.ctx, c.key, want)
	return c, err
}

func (c *caller) hand(change model.SendChange) error {
	_, err := c.Send(c.b.ctx, c.key, uuid.NewString(), model.SendRequest{Workspace: c.ws, About: model.About{Note: "one more"}, TakeFree: true,
		Older: true, Changes: []model.SendChange{change}})
	return err
}

// versions makes so many versions of the first asset.
func (c *caller) versions(n int, contents []chunk.Digest) error {
	for v := 1; v < n; v++ {
		k := v % len(contents)
		if err := c.hand(model.SendChange{Path: assetPath(0), Base: v, Content: contents[k], Size: c.size(k)}); err != nil {
			return err
		}
	}
	return nil
}

// chromium is a headless Chromium with a profile of its own.
func (b *bench) chromium() (ctx context.Context, stop func(), err error) {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.UserDataDir(b.folder+"/browser"), chromedp.NoSandbox,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("enable-precise-memory-info", true), chromedp.Flag("js-flags", "--expose-gc"))
	ctx, end := chromedp.NewExecAllocator(b.ctx, options...)
	ctx, close := chromedp.NewContext(ctx)
	stop = func() {
		close()
		end()
	}
	if err = chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		stop()
	}
	return ctx, stop, err
}

// browser is one that is signed in to the console.
func (b *bench) browser() (ctx context.Context, stop func(), err error) {
	if ctx, stop, err = b.chromium(); err != nil {
		return ctx, stop, err
	}
	if err = chromedp.Do(ctx, chromedp.Navigate(b.daemon.URL+"/sign-in"),
		chromedp.WaitVisible(`input[name=handle]`), chromedp.SendKeys(`input[name=handle]`, "odile"),
		chromedp.SendKeys(`input[name=passphrase]`, passphrase+"\n"), chromedp.WaitVisible(`//h1[text()="Projects"]`)); err != nil {
		stop()
	}
	return ctx, stop, err
}

// firstRows goes to a page that nothing is known of yet, and says after how many milliseconds its first rows are there.
func (b *bench) firstRows(tab context.Context, path, there string) (float64, error) {
	ctx, cancel := context.WithTimeout(tab, time.Minute)
	defer cancel()
	if err := chromedp.Do(ctx, chromedp.Navigate(b.daemon.URL+"/me"), chromedp.WaitVisible(`main h1`)); err != nil {
		return 0, err
	}
	return chromedp.Run(ctx, chromedp.Evaluate[float64](fmt.Sprintf(`(async () => {
		await new Promise(r => setTimeout(r, 300));
		const start = performance.now();
		history.pushState({}, "", %q);
		dispatchEvent(new PopStateEvent("popstate"));
		for (;;) {
			if (document.querySelectorAll(%q).length >= %d) return performance.now() - start;
			await new Promise(requestAnimationFrame);
		}
	})()`, path, there, rowsThere), chromedp.EvalAwaitPromise))
}

// seen is how long a lock that somebody takes elsewhere is on its way to a page, and what the page asks for because of it.
func (b *bench) seen(tab context.Context, c *caller) error {
	if _, err := b.firstRows(tab, "/p/"+c.key+"/assets/"+folderOf(0), "[role=row]"); err != nil {
		return err
	}
	var times []float64
	requests := 0.0
	for n := range 9 {
		path := assetPath(90 + n)
		if _, err := c.ReleaseLocks(b.ctx, c.key, model.UnlockRequest{Workspace: c.ws, Paths: []string{path}}); err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(tab, 20*time.Second)
		name := path[len(path)-len("asset0000000.bin"):]
		script := `(async () => {
			const row = () => [...document.querySelectorAll("[role=row]")].find(r => r.innerText.includes(%q));
			row()?.scrollIntoView() ?? scrollTo(0, document.body.scrollHeight);
			while (row()?.innerText.includes("yours") !== %t) await new Promise(requestAnimationFrame);
			const now = Date.now();
			await new Promise(r => setTimeout(r, 300));
			const asked = performance.getEntriesByType("resource").filter(e => e.name.includes("/api/v1/projects/")).length;
			performance.clearResourceTimings();
			return [now, asked];
		})()`
		if _, err := chromedp.Run(ctx, chromedp.Evaluate[[]float64](fmt.Sprintf(script, name, false), chromedp.EvalAwaitPromise)); err != nil {
			cancel()
			return err
		}
		want := model.LockRequest{Workspace: c.ws, Assets: []model.LockWant{{Path: path, Version: 1}}}
		if _, err := c.TakeLocks(b.ctx, c.key, want); err != nil {
			cancel()
			return err
		}
		answered := float64(time.Now().UnixMicro()) / 1000
		at, err := chromedp.Run(ctx, chromedp.Evaluate[[]float64](fmt.Sprintf(script, name, true), chromedp.EvalAwaitPromise))
		cancel()
		if err != nil {
			return err
		}
		times, requests = append(times, max(0, at[0]-answered)), max(requests, at[1])
	}
	slices.Sort(times)
	took := times[len(times)/2]
	b.row("S17", "a lock taken elsewhere shows in a folder", fmt.Sprintf("%.0f ms (%.0f–%.0f)", took, times[0], times[len(times)-1]), "none",
		fmt.Sprintf("%.0f requests at most", requests), "500 ms, 2 requests", times[len(times)-1] <= 500 && requests <= 2)
	return nil
}

// scrolled is what a tab holds after scrolling through lists for a while.
func (b *bench) scrolled(tab context.Context, c *caller) error {
	most := 0.0
	each := b.scrolling / 3
	for _, path := range []string{"/handoffs", "/handoffs/1", "/assets?order=size&kind=other"} {
		if _, err := b.firstRows(tab, "/p/"+c.key+path, "[role=row], [role=listitem]"); err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(tab, each+time.Minute)
		held, err := chromedp.Run(ctx, chromedp.Evaluate[float64](fmt.Sprintf(`(async () => {
			const end = performance.now() + %d;
			for (let step = 1; performance.now() < end; step++) {
				scrollBy(0, step %% 40 === 0 ? 200_000 : 700);
				if (scrollY + innerHeight + 10 >= document.documentElement.scrollHeight) scrollTo(0, 0);
				await new Promise(r => setTimeout(r, 50));
			}
			gc();
			return performance.memory.usedJSHeapSize;
		})()`, each.Milliseconds()), chromedp.EvalAwaitPromise))
		cancel()
		if err != nil {
			return err
		}
		most = max(most, held)
	}
	b.row("S17", fmt.Sprintf("what a tab's scripts hold after %s of scrolling", b.scrolling), humanize.IBytes(uint64(most)), "none",
		"at most", "150 MiB", most <= 150<<20)
	return nil
}
