package e2e

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"kettletarn/internal/house/housetest"
	"kettletarn/internal/testbed"
)

// heard is what a command said so far.
type heard struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (h *heard) Write(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text.Write(p)
}

func (h *heard) String() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text.String()
}

// TestTheHouseSignsPeopleIn: by the sign-on of the house people come in, in the browser and, by a code, at the command line and the desk.
func TestTheHouseSignsPeopleIn(t *testing.T) {
	t.Parallel()
	provider, err := housetest.Serve("127.0.0.1:0",
		housetest.Person{Subject: "1", Handle: "odile", Name: "Odile Brandt", Mail: "odile@saltpan.example"},
		housetest.Person{Subject: "2", Handle: "keiko", Name: "Keiko Mori", Groups: []string{"code"}},
		housetest.Person{Subject: "3", Handle: "imani", Name: "Imani"})
	if err != nil {
		t.Fatal(err)
	}
	defer provider.Close()
	d := serve(t)
	d.Stop()
	d.Env = append(d.Env, "TARND_ADDRESS="+d.URL, "TARND_HOUSE_ISSUER="+provider.URL, "TARND_HOUSE_CLIENT="+provider.Client,
		"TARND_HOUSE_SECRET="+provider.Secret, "TARND_HOUSE_NAME=Saltpan", "TARND_HOUSE_ROLES=code=brinelight:viewer")
	d.start()
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a"})

	// Odile says once who she is here.
	b := open(t, d)
	value := func(name string) string { return fmt.Sprintf(`//input[@name=%q]`, name) }
	by := func(b *browser, name string) {
		t.Helper()
		b.do(chromedp.Navigate(d.URL+"/sign-in?to=/p/brinelight/people"), b.sees("Sign in with Saltpan"), b.evaluate(axe(t)), b.still(),
			chromedp.Click(ready("Sign in with Saltpan")), b.arrives("Who are you?"), chromedp.Click(ready(name)))
	}
	by(b, "Nobody")
	b.do(b.arrives("You were not let in there"), b.evaluate(axe(t)), b.still())
	by(b, "Odile Brandt")
	b.do(b.arrives("You are Odile Brandt (odile@saltpan.example)"), b.sees("Who is that here?"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("/sign-in/house")
	b.do(chromedp.SendKeys(value("passphrase"), "not this one, no\n"), b.sees("the passphrase is wrong"),
		b.evaluate(`document.querySelector("input[name=passphrase]").select()`), chromedp.SendKeys(value("passphrase"), testbed.Passphrase+"\n"),
		b.until(`location.pathname === "/p/brinelight/people"`), b.sees("odile"))
	b.do(chromedp.Navigate(d.URL+"/me"), b.sees("Saltpan"), b.sees("Odile Brandt (odile@saltpan.example)"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("/me")
	b.do(chromedp.Click(`button[aria-label^="Take away Odile"]`), b.sees("Tie my account"), chromedp.Click(ready("Tie my account")),
		b.arrives("Who are you?"), chromedp.Click(ready("Odile Brandt")), b.arrives("that account signs you in here as odile"),
		chromedp.SendKeys(value("once"), testbed.Passphrase+"\n"), b.until(`location.pathname === "/me"`), b.sees("never used"))

	// Keiko comes by an invitation, as herself there; imani's group is none here, and nobody lets her in.
	invited := odile.tarn(0, "invite", "add", "--role", "artist")
	link := regexp.MustCompile(`http\S+/invited#\w+`).FindString(invited)
	k := open(t, d)
	by(k, "Imani")
	k.do(k.arrives("Ask your lead for an invitation"))
	k.do(chromedp.Navigate("about:blank"), chromedp.Navigate(link), k.sees("Come in with Saltpan"),
		chromedp.Click(ready("Come in with Saltpan")), k.arrives("Who are you?"), chromedp.Click(ready("Keiko Mori")),
		k.arrives("Nobody here is that yet"), k.evaluate(axe(t)), k.still(),
		chromedp.Click(ready("Come in")), k.until(`location.pathname === "/"`), k.sees("brinelight"))
	says(t, odile.tarn(0, "member", "list"), "keiko", "artist") // the invitation's, not the group's

	// A link that somebody else made signs nobody in.
	k.do(chromedp.Navigate(d.URL+"/sign-in/house?state=made&code=up"), k.sees("This window did not ask for that"))

	// The command line shows a code, for which somebody who is signed in says yes.
	signIn := func(m *person) (said *heard, ended chan error) {
		t.Helper()
		said, ended = &heard{}, make(chan error, 1)
		cmd := m.command(m.home, "sign-in", d.URL, "--browser")
		cmd.Stdout, cmd.Stderr = said, said
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		go func() { ended <- cmd.Wait() }()
		testbed.Eventually(t, "the code", func() bool { return code(said) != "" })
		return said, ended
	}
	said, ended := signIn(d.machine("keiko"))
	k.do(chromedp.Navigate(d.URL+"/confirm"), k.sees("you were shown a code"), k.evaluate(axe(t)), k.still(),
		chromedp.SendKeys(value("code"), "BBBB-BBBB\n"), k.sees("There is no such code"),
		k.evaluate(`document.querySelector("input[name=code]").select()`), chromedp.SendKeys(value("code"), strings.ToLower(code(said))+"\n"),
		k.sees("wants to be signed in as keiko"), k.evaluate(axe(t)), k.still())
	k.isForEverybody("/confirm")
	k.do(chromedp.Click(ready("Yes, that is me")), k.sees("You are in there"))
	if err := <-ended; err != nil {
		t.Errorf("%v: %s", err, said)
	}
	says(t, said.String(), "Signed in to "+d.URL+" as keiko")
	said, ended = signIn(d.machine("nobody"))
	k.do(chromedp.Navigate(d.URL+"/confirm?code="+code(said)), chromedp.Click(ready("Go on")), k.sees("wants to be signed in"),
		chromedp.Click(ready("No")), k.sees("It was not let in"))
	if err := <-ended; err == nil || !strings.Contains(said.String(), "somebody said no to it") {
		t.Errorf("%v: %s", err, said)
	}
	// So does the desk.
	desk := d.machine("keiko-at-home").desk()
	desk.do(desk.sees("Welcome to Kettle Tarn"), chromedp.SendKeys(`input[name=service]`, d.URL),
		chromedp.Click(ready("With a passkey, or the sign-on of my house")), desk.sees("and say yes to the code"))
	shown, err := chromedp.Run(desk.ctx, chromedp.Text(`[role=status] strong`))
	if err != nil {
		t.Fatal(err)
	}
	k.do(chromedp.Navigate(d.URL+"/confirm?code="+shown), chromedp.Click(ready("Go on")), k.sees("the desk on "),
		chromedp.Click(ready("Yes, that is me")), k.sees("You are in there"))
	desk.do(desk.sees("Nothing is here yet"))
	says(t, odile.tarn(0, "record", "--about", "people"), "keiko joined as artist, by invitation 1 of odile")

	// A provider that is away is no reason to stay outside.
	provider.Close()
	d.Stop()
	d.start()
	o := open(t, d)
	o.do(chromedp.Navigate(d.URL+"/sign-in"), chromedp.Click(ready("Sign in with Saltpan")),
		o.sees("The sign-on of the house can't be reached"))
	o.signIn("odile")
}

// arrives waits for a text on a page of another site, on the way to which the page that one leaves is gone.
func (b *browser) arrives(text string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		for {
			_, err := chromedp.Run(ctx, b.sees(text))
			if err == nil || !strings.Contains(err.Error(), "navigated or closed") {
				return err
			}
			time.Sleep(50 * time.Millisecond)
		}
	})
}

// code is what a command shows that waits for somebody elsewhere.
func code(said *heard) string {
	return regexp.MustCompile(`[B-Z]{4}-[B-Z]{4}`).FindString(said.String())
}
