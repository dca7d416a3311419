package e2e

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/postbox"
	"kettletarn/internal/testbed"
)

// db is the address of the database of a daemon.
func (d *daemon) db() string {
	for _, v := range d.Env {
		if name, rest, _ := strings.Cut(v, "="); name == "TARND_DB" {
			return rest
		}
	}
	d.t.Fatal("the daemon has no database")
	return ""
}

func (d *daemon) sql(statement string, args ...any) {
	d.t.Helper()
	conn, err := pgx.Connect(d.t.Context(), d.db())
	if err == nil {
		_, err = conn.Exec(d.t.Context(), statement, args...)
		_ = conn.Close(context.Background())
	}
	if err != nil {
		d.t.Fatal(err)
	}
}

// eventually waits for what a condition says.
func eventually(t *testing.T, what string, there func() bool) {
	t.Helper()
	testbed.Eventually(t, what, there)
}

// studio is a running service with a level that three people want.
func studio(t *testing.T, d *daemon) (odile, tamsin, rurik *person) {
	odile, tamsin, rurik = d.person("odile"), d.person("tamsin"), d.person("rurik")
	odile.start(map[string]string{"levels/harbour.glb": "one", "sounds/creak.wav": "creak", "text/a.txt": "a"})
	tamsin.join(odile, "artist")
	rurik.join(odile, "artist")
	return odile, tamsin, rurik
}

// The story of a contested level: two want it; one waits, one asks; not yet, then giving; in the order of the line.
func TestTwoPeopleWantOneLevel(t *testing.T) {
	t.Parallel()
	odile, tamsin, rurik := studio(t, serve(t))
	const level = "levels/harbour.glb"
	tamsin.tarn(0, "lock", "--note", "breakwater", level)
	says(t, rurik.tarn(1, "lock", level), "tamsin holds it, taken a moment ago in tamsin-pc", `for "breakwater"`,
		"tarn lock --wait puts you in line; tarn ask")
	says(t, rurik.tarn(0, "lock", "--wait", "--note", "two posts", level), "tamsin has it; you are 1st in line, and will be told")
	says(t, odile.tarn(0, "ask", "-m", "the build is at four", level), "tamsin was asked; you are 2nd in line")
	says(t, odile.tarn(0, "status"), "Waited for (1)", "tamsin; waiting, 2nd in line")
	says(t, tamsin.tarn(0, "status", "--fetch"), "You hold (1)", "rurik and 1 more wait")
	says(t, tamsin.tarn(0, "holders"), "1st in line: rurik", "for two posts", "2nd in line: odile",
		"odile asks tamsin to let go: the build is at four")
	says(t, tamsin.tarn(0, "answer", "--not-yet", "-m", "half built", "--until", "2h", level), "They are told: not yet")
	says(t, odile.tarn(0, "holders", "--waiting"), "not yet until", "half built")

	// The edits that were not sent are asked about before anything is given away.
	tamsin.write(map[string]string{level: "two"})
	says(t, tamsin.tarn(1, "answer", "--give", level), "there are changes that were not sent, and nothing was unlocked")
	says(t, tamsin.tarn(0, "answer", "--give", "--to", "rurik", "--edits", "send", "-m", "breakwater", level), "offered to rurik now")
	says(t, odile.tarn(1, "lock", level), "it is rurik's turn", "you are 2nd in line")
	says(t, rurik.tarn(0, "status", "--fetch"), "Your turn (1): tarn begin takes it")
	says(t, rurik.tarn(0, "begin", "--no-open", level), "is yours", "version 2 by tamsin was brought")
	rurik.has(level, "two")
	says(t, odile.tarn(0, "unlock", level), "you are out of its line")
	rurik.write(map[string]string{level: "three"})
	rurik.tarn(0, "send", "-m", "two posts")
	says(t, odile.tarn(0, "holders"), "Nothing is locked there, and nobody waits")

	record := odile.tarn(0, "holders", "--record", "levels")
	says(t, record, "sent (h3)", "given to the next", "tamsin", "rurik")
	rows, err := csv.NewReader(strings.NewReader(odile.tarn(0, "holders", "--record", "--csv", "--person", "rurik"))).ReadAll()
	if err != nil || len(rows) != 2 {
		t.Fatalf("%q, %v", rows, err)
	}
	for i, want := range map[string]string{"path": level, "ending": "sent", "handoff": "3"} {
		if at := slices.Index(rows[0], i); at < 0 || rows[1][at] != want {
			t.Errorf("%s is not %s in %q", i, want, rows)
		}
	}
}

// A forgotten lock on a Friday: it is marked, taken away while its holder is offline, who comes back and sends theirs as a copy.
func TestAForgottenLockOnAFriday(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, tamsin, rurik := studio(t, d)
	const sound = "sounds/creak.wav"
	tamsin.tarn(0, "lock", "--note", "a quick trim", sound)
	d.sql(`update assets set locked = now() - interval '4 days' where holder_id is not null`)
	d.sql(`update workspaces set seen = now() - interval '4 days'`)
	says(t, odile.tarn(0, "holders", "--stale"), sound, "looks forgotten: no unsent change, and no word from there since 4 days ago")
	tamsin.write(map[string]string{sound: "trimmed on the train"})
	says(t, rurik.tarn(1, "unlock", "--override", "--reason", "mine now", sound), "this takes a lead")
	says(t, odile.tarn(0, "unlock", "--override", "--reason", "tamsin is away, and the build needs it", sound), sound+" is free")
	odile.tarn(0, "begin", "--no-open", sound)
	odile.write(map[string]string{sound: "shortened"})
	odile.tarn(0, "send", "-m", "shortened for the build")

	out := tamsin.tarn(1, "send", "-m", "trimmed")
	says(t, out, "version 2 is newer than yours (1)")
	says(t, tamsin.tarn(1, "update"), "tarn settle "+sound)
	says(t, tamsin.tarn(0, "settle", "--use", "copy", sound), "sounds/creak-tamsin.wav", "version 2 by odile again")
	tamsin.has(sound, "shortened")
	tamsin.has("sounds/creak-tamsin.wav", "trimmed on the train")
	tamsin.tarn(0, "send", "-m", "my trim, beside the short one")
	rurik.tarn(0, "update")
	rurik.has("sounds/creak-tamsin.wav", "trimmed on the train")
	says(t, odile.tarn(0, "holders", "--record", sound), "taken away by odile: tamsin is away")

	// Taken away without a newer version: the old fence opens nothing.
	tamsin.tarn(0, "lock", sound)
	tamsin.write(map[string]string{sound: "again"})
	odile.tarn(0, "unlock", "--override", "--reason", "still away", sound)
	says(t, tamsin.tarn(1, "send", "-m", "again"), "you no longer hold it", "tarn settle --use copy")
	says(t, tamsin.tarn(0, "settle", "--use", "copy", sound), "sounds/creak-tamsin-2.wav")
}

func TestLockingManyAtOnce(t *testing.T) {
	t.Parallel()
	odile, tamsin, rurik := studio(t, serve(t))
	tamsin.tarn(0, "lock", "levels/harbour.glb")
	says(t, rurik.tarn(1, "lock", "levels", "sounds"), "Nothing was done", "tamsin holds it")
	says(t, rurik.tarn(1, "lock", "--any", "levels", "sounds"), "sounds/creak.wav is yours", "Not taken:", "tamsin holds it")
	rurik.tarn(0, "unlock", "sounds")
	says(t, rurik.tarn(0, "lock", "{sounds,text}/*"), "sounds/creak.wav is yours", "text/a.txt is yours")
	says(t, odile.tarn(1, "lock", "*/new.glb"), "nothing matches this pattern")
	says(t, odile.tarn(1, "lock", "levels/new.glb"), "there is no such asset", "--reserve")
	says(t, odile.tarn(0, "lock", "--reserve", "--note", "the next one", "levels/new.glb"), "levels/new.glb is yours")
	rurik.write(map[string]string{"levels/new.glb": "rurik's"})
	says(t, rurik.tarn(1, "send", "-m", "new", "levels/new.glb"), "odile holds it", `for "the next one"`)
	var held struct{ Locks []model.Lock }
	odile.json(0, &held, "holders", "--mine")
	if len(held.Locks) != 1 || held.Locks[0].Path != "levels/new.glb" {
		t.Errorf("%+v", held)
	}
}

// With the service away, locking says so at once, and what was edited meanwhile is seen to when it is back.
func TestLockingWithoutTheService(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, tamsin, rurik := studio(t, d)
	odile.tarn(0, "lock", "sounds/creak.wav")
	tamsin.tarn(0, "status", "--fetch")
	watch := tamsin.watch()
	watch.says("connected to")
	d.Kill()
	watch.says("can't be reached")
	start := time.Now()
	says(t, tamsin.tarn(3, "lock", "levels/harbour.glb"), "can't be reached")
	if took := time.Since(start); took > 10*time.Second {
		t.Errorf("that takes %s", took)
	}
	tamsin.write(map[string]string{"levels/harbour.glb": "at sea", "sounds/creak.wav": "at sea"})
	tamsin.tarn(0, "status")
	time.Sleep(time.Second) // the watch looks, and finds nobody to ask
	d.start()
	watch.says("levels/harbour.glb is yours, edited while the service was away")
	watch.says("sounds/creak.wav: odile holds it")
	says(t, rurik.tarn(0, "holders"), "levels/harbour.glb", "tamsin")
}

// watched is a running tarn watch.
type watched struct {
	t     *testing.T
	mu    sync.Mutex
	lines []string
}

func (p *person) watch(flags ...string) *watched {
	p.t.Helper()
	cmd := p.command(p.dir, append([]string{"watch"}, flags...)...)
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		p.t.Fatal(err)
	}
	w := &watched{t: p.t}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for lines := bufio.NewScanner(out); lines.Scan(); {
			w.mu.Lock()
			w.lines = append(w.lines, lines.Text())
			w.mu.Unlock()
		}
	}()
	p.t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		<-done
		_ = cmd.Wait()
	})
	return w
}

func (w *watched) says(text string) {
	w.t.Helper()
	eventually(w.t, "the watch says "+text, func() bool {
		w.mu.Lock()
		defer w.mu.Unlock()
		return strings.Contains(strings.Join(w.lines, "\n"), text)
	})
}

// Whoever waits and has tarn watch running gets the lock with its newest version by themselves, and sees it on the desktop, if they want.
func TestTheWatchTakesItsTurn(t *testing.T) {
	t.Parallel()
	d := serve(t)
	_, tamsin, rurik := studio(t, d)
	const level = "levels/harbour.glb"
	shown := filepath.Join(rurik.home, "shown")
	if err := os.MkdirAll(filepath.Join(rurik.home, "bin"), 0o755); err != nil {
		t.Fatal(err)
	}
	// What the system's notifier would show lands in a file.
	if err := os.WriteFile(filepath.Join(rurik.home, "bin", "notify-send"), []byte("#!/bin/sh\necho \"$1: $2\" >> "+shown+"\n"),
		0o755); err != nil {
		t.Fatal(err)
	}
	tamsin.tarn(0, "lock", level)
	rurik.tarn(0, "lock", "--wait", level)
	rurik.tarn(0, "news", "answered", "--desktop", "off")
	watch := rurik.watch()
	watch.says("connected to")
	rurik.tarn(0, "ask", "-m", "two posts", level)
	tamsin.tarn(0, "answer", "--not-yet", level)
	watch.says("tamsin answered about " + level + ": not yet")
	tamsin.write(map[string]string{level: "two"})
	tamsin.tarn(0, "send", "-m", "breakwater")
	watch.says("It is your turn: " + level)
	watch.says(level + " is yours: it was your turn; version 2 was brought")
	rurik.has(level, "two")
	eventually(t, "the desktop shows it", func() bool {
		text, _ := os.ReadFile(shown)
		return strings.Contains(string(text), "brinelight: It is your turn: "+level)
	})
	if text, _ := os.ReadFile(shown); strings.Contains(string(text), "not yet") {
		t.Errorf("the desktop shows what nobody wanted there: %s", text)
	}
}

// News reaches people by mail and the team's chat by a signed post, also where those are away for a while, and never delays a lock.
func TestNewsLeavesTheHouse(t *testing.T) {
	t.Parallel()
	box, address, err := postbox.Open("127.0.0.1:0", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer box.Close()
	chat := newChat(t)
	d := serve(t)
	d.Stop()
	d.Env = append(d.Env, "TARND_MAIL=smtp://"+address, "TARND_MAIL_FROM=Kettle Tarn <tarn@saltpan.example>", "TARND_HOOK_HOSTS="+chat.host,
		"TARND_ADDRESS="+d.URL+"/")
	d.start()
	odile, tamsin, rurik := studio(t, d)
	for _, p := range []*person{tamsin, rurik} {
		address := p.handle + "@saltpan.example"
		says(t, p.tarn(0, "news", "--address", address), "A letter with a code went to "+address)
		says(t, p.tarn(1, "news", "--code", "AAAAAAAA"), "not the code that was sent")
		says(t, p.tarn(0, "news", "--code", strings.ToLower(box.Code(address))), "Mail goes to "+address)
	}
	first, err := box.Letters()
	if err != nil || len(first) != 2 {
		t.Fatalf("%q, %v", first, err)
	}
	came := func() []string {
		letters, err := box.Letters()
		if err != nil {
			t.Fatal(err)
		}
		return letters[2:]
	}
	says(t, rurik.tarn(1, "news", "--address", "no address"), "is not a mail address")
	says(t, rurik.tarn(2, "news", "gossip", "--mail", "daily"), "no kind of news")
	rurik.tarn(0, "news", "turn", "--mail", "never")
	k := d.client(odile)
	hook, err := k.AddHook(t.Context(), "brinelight", model.HookRequest{URL: "http://" + chat.host + "/art", Kinds: []string{"asked", "work"}})
	if err != nil || !strings.HasPrefix(hook.Secret, "whsec_") {
		t.Fatalf("%+v, %v", hook, err)
	}
	if _, err := k.AddHook(t.Context(), "brinelight", model.HookRequest{URL: "http://127.0.0.1:9/x", Kinds: []string{"work"}}); err == nil ||
		!strings.Contains(err.Error(), "--hook-hosts") {
		t.Errorf("a hook to anywhere: %v", err)
	}
	chat.expect(hook.Secret)

	box.Refuse(io.ErrUnexpectedEOF)
	chat.refuse(true)
	tamsin.tarn(0, "lock", "levels/harbour.glb")
	start := time.Now()
	rurik.tarn(0, "ask", "-m", "two posts", "levels/harbour.glb")
	if took := time.Since(start); took > 5*time.Second {
		t.Errorf("asking waits for the mail: %s", took)
	}
	eventually(t, "the trouble is shown", func() bool {
		hooks, err := k.Hooks(t.Context(), "brinelight")
		return err == nil && len(hooks.Hooks) == 1 && strings.Contains(hooks.Hooks[0].Trouble, "status 503") && hooks.Hooks[0].Waiting == 1
	})
	box.Refuse(nil)
	chat.refuse(false)
	d.Kill() // what is to be delivered survives that
	d.start()
	d.sql(`update deliveries set due = now() where done is null and not daily`)
	eventually(t, "the letter comes", func() bool {
		return len(came()) >= 1
	})
	tamsin.tarn(0, "unlock", "levels/harbour.glb") // of their turn rurik does not want to hear
	odile.write(map[string]string{"text/a.txt": "b"})
	odile.tarn(0, "lock", "text/a.txt")
	odile.tarn(0, "send", "-m", "new words", "text/a.txt")
	eventually(t, "the chat hears of both", func() bool { return len(chat.heard()) >= 2 })
	letters := came()
	if len(letters) != 1 {
		t.Fatalf("%d letters: %q", len(letters), letters)
	}
	says(t, strings.ReplaceAll(letters[0], "=\n", ""), "To: <tamsin@saltpan.example>", "Subject: [brinelight] rurik asks you to let go of",
		"two posts", d.URL+"/p/brinelight/asset/levels/harbour.glb", "Auto-Submitted: auto-generated")
	says(t, strings.Join(chat.heard(), "\n"), "[brinelight] rurik asks tamsin to let go of levels/harbour.glb: two posts",
		"[brinelight] h2 by odile: new words")

	// The rest comes in one letter a day.
	d.sql(`update deliveries set due = now() where done is null`)
	eventually(t, "the summaries come", func() bool {
		letters = came()
		return len(letters) == 3
	})
	all := strings.ReplaceAll(strings.Join(letters[1:], "\n"), "=\n", "")
	says(t, all, "New handoffs arrived (", "h2 by odile: new words", "Somebody waits for a lock that you hold (1)", "rurik waits in line")
	time.Sleep(1500 * time.Millisecond)
	if letters = came(); len(letters) != 3 {
		t.Errorf("letters come twice: %d", len(letters))
	}
}

// client is one in a person's name.
func (d *daemon) client(p *person) *client.Client {
	d.t.Helper()
	signed, err := client.New(d.URL, "", nil).SignIn(d.t.Context(),
		model.SignInRequest{Handle: p.handle, Passphrase: testbed.Passphrase, From: "a test"})
	if err != nil {
		d.t.Fatal(err)
	}
	return client.New(d.URL, signed.Token, nil)
}

// chat is a team's chat, which believes only what is signed.
type chat struct {
	t       *testing.T
	host    string
	mu      sync.Mutex
	check   *standardwebhooks.Webhook
	away    bool
	texts   map[string]string // by id: what comes twice counts once
	order   []string
	refused int
}

func newChat(t *testing.T) *chat {
	listener, err := listen()
	if err != nil {
		t.Fatal(err)
	}
	c := &chat{t: t, host: listener.Addr().String(), texts: map[string]string{}}
	server := &http.Server{Handler: c}
	go func() { _ = server.Serve(listener) }()
	t.Cleanup(func() { _ = server.Close() })
	return c
}

func (c *chat) expect(secret string) {
	check, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		c.t.Fatal(err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.check = check
}

func (c *chat) refuse(away bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.away = away
}

func (c *chat) heard() (out []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, id := range c.order {
		out = append(out, c.texts[id])
	}
	return out
}

func (c *chat) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	c.mu.Lock()
	defer c.mu.Unlock()
	var post struct {
		Type, Text string
		Data       struct{ Project, URL string }
	}
	switch {
	case c.away:
		c.refused++
		w.WriteHeader(http.StatusServiceUnavailable)
	case c.check == nil || c.check.Verify(body, r.Header) != nil:
		c.t.Errorf("a post that is not signed: %s", body)
		w.WriteHeader(http.StatusUnauthorized)
	case json.Unmarshal(body, &post) != nil || post.Data.Project != "brinelight" || !strings.HasPrefix(post.Data.URL, "http://127.0.0.1"):
		c.t.Errorf("a post that says nothing: %s", body)
	default:
		id := r.Header.Get("webhook-id")
		if c.texts[id] == "" {
			c.order = append(c.order, id)
		}
		c.texts[id] = post.Text
	}
}

func TestLocksInTheConsole(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, tamsin, rurik := studio(t, d)
	const level = "levels/harbour.glb"
	b := open(t, d)
	b.signIn("odile")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/locks"), b.sees("Nothing of that kind is locked"))
	// Everything is live: what is done elsewhere shows by itself.
	tamsin.tarn(0, "lock", "--note", "breakwater", level)
	b.do(b.sees("breakwater"))
	rurik.tarn(0, "ask", "-m", "two posts", level)
	b.do(b.sees("1st in line: rurik"), b.sees("rurik asks tamsin to let go"))
	// Waiting, from the page.
	b.do(chromedp.Click(`button[aria-label="Wait in line for `+level+`"]`), chromedp.Click(`//*[@role="menuitem"][contains(., "odile-pc")]`),
		b.sees("2nd in line: you"))

	// The holder answers with one click.
	o := open(t, d)
	o.signIn("tamsin")
	o.do(chromedp.Navigate(d.URL+"/p/brinelight"), o.sees("Waiting for you"), o.sees("rurik asks you to let go"))
	o.do(chromedp.Click(ready("Not yet, because …")), chromedp.SendKeys(`//label[contains(., "Why")]//input`, "half built"),
		chromedp.SendKeys(`//label[contains(., "hours")]//input`, "2"), chromedp.Click(ready("Tell them")))
	b.do(b.sees("not yet until"), b.sees("half built"))
	rurik.tarn(0, "ask", "-m", "now then?", level)
	o.do(o.sees("now then?"), chromedp.Click(`button[aria-label="Give it: `+level+` to rurik"]`))
	b.do(b.sees("offered to rurik"))
	// The offer goes on, and the page says that it is one's turn.
	rurik.tarn(0, "unlock", level)
	b.do(b.sees("It is your turn: levels/harbour.glb is offered to you"),
		chromedp.Click(`button[aria-label="Take it: the lock of `+level+`"]`),
		b.sees("in odile-pc"))
	says(t, odile.tarn(0, "holders"), level, "yours")

	// An override names what becomes of unsent work; the asset's page has the same panel.
	rurik.tarn(0, "lock", "sounds/creak.wav")
	rurik.write(map[string]string{"sounds/creak.wav": "edited"})
	rurik.tarn(0, "status", "--fetch")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/asset/sounds/creak.wav"), chromedp.Click(ready("Take away")), b.sees("(there is something)"),
		chromedp.SendKeys(`//label[contains(., "Reason")]//input`, "the build"), chromedp.Click(ready("Take it away")),
		chromedp.WaitVisible(button("Lock")))
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/locks/record?ending=overridden"),
		chromedp.WaitVisible(`//*[@role="cell"][contains(., "taken away") and contains(., "by odile")]`), b.sees("“the build”"))
	b.do(chromedp.Click(`//a[normalize-space(.)="What people wait for"]`), b.sees("Together"))

	// How one hears of things.
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/news"), b.sees("This service has no mail server"), b.sees("This service sends no posts"),
		chromedp.Click(`//tr[contains(., "new handoffs arrived")]//input[@type="checkbox"]`), chromedp.Click(ready("Keep this")),
		b.sees("Kept."))
	settings, err := d.client(odile).NewsSettings(t.Context())
	if err != nil || settings.Mail != "" ||
		!slices.ContainsFunc(settings.Kinds, func(k model.NewsKind) bool { return k.Name == "work" && k.Desktop }) {
		t.Errorf("%+v, %v", settings, err)
	}
}
