package e2e

import (
	"context"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"

	"kettletarn/internal/core/model"
	"kettletarn/internal/postbox"
	"kettletarn/internal/testbed"
)

// TestInvitationsAndLeaving: invited in the console, joining by the link in a browser, at the command line and at the desk; roles, and
// leaving.
func TestInvitationsAndLeaving(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a", "b.png": "b"})
	b := open(t, d)
	b.signIn("odile")
	value := func(name string) string { return fmt.Sprintf(`//input[@name=%q]`, name) }
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/people"), b.sees("Nobody is invited"), chromedp.Click(ready("Invite somebody")),
		b.asked("Invite somebody to brinelight"), b.act("Make the link"), b.asked("Whoever has it joins as artist"),
		b.until(`document.querySelector("input[aria-label=Link]")`))
	link, err := chromedp.Run(b.ctx, chromedp.Value(`input[aria-label="Link"]`))
	if err != nil {
		t.Fatal(err)
	}
	b.do(b.act("Done"), b.asked(), b.sees("nobody has joined by it yet"))
	if !strings.HasPrefix(link, d.URL+model.InvitedPath+"#") {
		t.Fatalf("the link is %q", link)
	}
	b.do(b.evaluate(axe(t)), b.still())
	b.isForEverybody("/p/brinelight/people")

	// Somebody new, in a browser of their own.
	o := open(t, d)
	o.do(chromedp.Navigate(link+"x"), o.sees("This link leads nowhere"))
	o.do(chromedp.Navigate("about:blank"), chromedp.Navigate(link), o.sees("odile invites you to brinelight"))
	o.do(o.evaluate(axe(t)), o.still())
	o.isForEverybody("/invited")
	o.do(chromedp.SendKeys(value("handle"), "odile"), chromedp.SendKeys(value("new"), testbed.Passphrase),
		chromedp.SendKeys(value("again"), testbed.Passphrase+"\n"), o.sees("There is a person odile already"),
		o.evaluate(`document.querySelector("input[name=handle]").select()`), chromedp.SendKeys(value("handle"), "rurik\n"),
		o.until(`location.pathname === "/p/brinelight"`), o.sees("Today"))
	p := open(t, d)
	p.do(chromedp.Navigate(link), p.sees("This invitation is over"), p.sees("used by as many people as it was for"), p.sees("Ask odile"))

	// At the command line: by who has never been here, and by who has.
	made := odile.tarn(0, "invite", "add", "--role", "viewer", "--uses", "3", "--expires", "2w")
	says(t, made, "lets 3 people in as viewer", "tarn invite end 2")
	second := strings.TrimSpace(strings.SplitN(made, "\n", 2)[0])
	tamsin := d.machine("tamsin")
	if r := tamsin.runIn(tamsin.home, testbed.Passphrase+"\n", "sign-in", second, "--as", "tamsin"); r.Status != 0 ||
		!strings.Contains(r.Out, "You are viewer in brinelight now, as tamsin") {
		t.Errorf("%d %s %s", r.Status, r.Out, r.Errs)
	}
	says(t, tamsin.runIn(tamsin.home, "", "sign-in", second).Out, "You are viewer in brinelight now, as tamsin")
	imani := d.person("imani")
	says(t, imani.runIn(imani.home, "", "sign-in", second).Out, "You are viewer in brinelight now, as imani")
	says(t, odile.tarn(0, "invite", "list"), "tamsin, imani", "2 of 3", "used")
	if r := imani.runIn(imani.home, "", "sign-in", second+"x"); r.Status != 1 || !strings.Contains(r.Errs, "no such invitation") {
		t.Errorf("%d %s", r.Status, r.Errs)
	}

	// At the desk, on the first day.
	keiko := d.machine("keiko")
	desk := keiko.desk()
	desk.do(desk.sees("Welcome to Kettle Tarn"), chromedp.SendKeys(value("service"), second), desk.sees("odile invites you to brinelight"),
		chromedp.SendKeys(value("handle"), "keiko"), chromedp.SendKeys(value("passphrase"), testbed.Passphrase),
		chromedp.Click(ready("Join")), desk.sees("Nothing is here yet"), desk.sees("signed in as keiko"))
	says(t, odile.tarn(0, "member", "list"), "keiko", "rurik")
	odile.tarn(0, "invite", "end", "2")
	late := d.machine("late")
	if r := late.runIn(late.home, "", "sign-in", second, "--as", "late"); r.Status != 1 ||
		!strings.Contains(r.Errs, "lets nobody in any more; ask odile") {
		t.Errorf("%d %s", r.Status, r.Errs)
	}

	// A role is changed; what leaving touches is said first.
	rurik := d.machine("rurik")
	if r := rurik.runIn(rurik.home, testbed.Passphrase+"\n", "sign-in", d.URL, "--as", "rurik"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	if r := rurik.runIn(rurik.home, "", "join", "brinelight"); r.Status != 0 {
		t.Fatal(r.Errs)
	}
	rurik.tarn(0, "lock", "a.png")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/people"), b.sees("keiko"),
		b.until(`document.querySelector('select[aria-label="What tamsin is"]')`),
		b.evaluate(`(s => { Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "lead");
			s.dispatchEvent(new Event("change", {bubbles: true})) })(document.querySelector('select[aria-label="What tamsin is"]'))`),
		b.asked("Make tamsin a lead?"), b.act("Change it"), b.asked(), b.sees("tamsin is lead now"),
		chromedp.Click(`button[aria-label="Leave brinelight"]`), b.asked("You are its only owner"), b.act("Cancel"), b.asked(),
		chromedp.Click(`button[aria-label="Take out rurik"]`), b.asked("Take rurik out of brinelight?", "1 lock is given back", "a.png"),
		b.act("Take out"), b.asked(), b.sees("rurik is not in brinelight any more"))
	says(t, odile.tarn(0, "holders"), "Nothing is locked there")
	says(t, odile.tarn(0, "member", "remove", "imani", "--preview"), "imani would leave brinelight")
	says(t, odile.tarn(0, "member", "list"), "imani")
	says(t, imani.runIn(imani.home, "", "member", "leave", "--project", "brinelight").Out, "imani is no longer in brinelight")
}

// TestTheEndOfAProject: it is archived and comes back; it is deleted, and comes back; the record has all of it.
func TestTheEndOfAProject(t *testing.T) {
	t.Parallel()
	d := serve(t)
	odile, rurik := d.person("odile"), d.person("rurik")
	odile.start(map[string]string{"a.png": "a"})
	rurik.join(odile, "artist")
	b := open(t, d)
	b.signIn("odile")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/ending"), b.sees("For a project that is done"), chromedp.Click(ready("Archive it")),
		b.asked("Archive brinelight?", "2 people are told"), b.act("Archive it"), b.asked(), b.sees("It is archived"), b.evaluate(axe(t)),
		b.still())
	b.isForEverybody("/p/brinelight/ending")
	says(t, rurik.tarn(1, "lock", "a.png"), "brinelight is archived")
	says(t, rurik.runIn(rurik.home, "", "project", "list").Out, "Archived, and only looked at", "brinelight")
	says(t, rurik.runIn(rurik.home, "", "news").Out, "odile archived brinelight")
	says(t, odile.tarn(0, "project", "archive", "brinelight", "--back"), "is back")
	rurik.tarn(0, "lock", "a.png")

	b.do(b.sees("Archive it"), chromedp.Click(ready("Delete it")), b.asked("Delete brinelight?", "Type brinelight"),
		b.until(`[...document.querySelectorAll("[role=alertdialog] button")].some(b => b.innerText === "Delete it" && b.disabled)`),
		chromedp.SendKeys(`[role=alertdialog] input`, "brinelight"), b.act("Delete it"), b.until(`location.pathname === "/"`),
		b.sees("odile deleted brinelight"))
	says(t, rurik.tarn(1, "update"), "no project")
	says(t, rurik.runIn(rurik.home, "", "project", "list").Out, "brinelight was deleted by odile", "tarn project restore brinelight")
	if r := rurik.runIn(rurik.home, "", "project", "restore", "brinelight"); r.Status != 1 || !strings.Contains(r.Errs, "only an owner") {
		t.Errorf("%d %s", r.Status, r.Errs)
	}
	b.do(chromedp.Click(ready("Bring brinelight back")), b.sees("1 held"), chromedp.Navigate(d.URL+"/p/brinelight/record"),
		b.sees("odile brought brinelight back, which was deleted"), b.sees("rurik took the lock of a.png"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("/p/brinelight/record")
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/record?about=locks"), b.sees("rurik took the lock of a.png"),
		b.until(`!document.body.innerText.includes("archived brinelight")`))
	b.do(chromedp.Navigate(d.URL+"/p/brinelight/usage"), b.sees("at the service; no limit is set"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("/p/brinelight/usage")
	says(t, odile.tarn(0, "usage"), "It takes", "at the service", "STORED")
	says(t, rurik.tarn(1, "usage", "--service"), "only a steward")
	says(t, odile.tarn(0, "record", "--about", "project"), "odile deleted brinelight", "odile archived brinelight")
	says(t, odile.tarn(0, "record", "--csv", "--last", "3"), "id,at,")
	if r := odile.runIn(odile.home, "brinelght\n", "project", "delete", "brinelight"); r.Status != 1 || !strings.Contains(r.Errs,
		"is not the key") {
		t.Errorf("%d %s", r.Status, r.Errs)
	}
	says(t, odile.runIn(odile.home, "brinelight\n", "project", "delete", "brinelight").Out, "brinelight is deleted")
	says(t, odile.runIn(odile.home, "", "project", "restore", "brinelight").Out, "is back, as it was")
}

// TestStewardsRunTheService: people, links, limits and how the service is, in a browser; a forgotten passphrase, by mail.
func TestStewardsRunTheService(t *testing.T) {
	t.Parallel()
	box, address, err := postbox.Open("127.0.0.1:0", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer box.Close()
	d := serve(t)
	d.Stop()
	d.Env = append(d.Env, "TARND_MAIL=smtp://"+address, "TARND_MAIL_FROM=Kettle Tarn <tarn@saltpan.example>", "TARND_ADDRESS="+d.URL)
	d.start()
	odile := d.person("odile")
	odile.start(map[string]string{"a.png": "a"})
	says(t, odile.tarn(0, "news", "--address", "odile@saltpan.example"), "A letter with a code went")
	odile.tarn(0, "news", "--code", box.Code("odile@saltpan.example"))
	says(t, d.tarnd(0, "person", "steward", "odile"), "odile is a steward now")
	says(t, d.tarnd(1, "person", "steward", "odile", "--off"), "odile is the only steward")

	b := open(t, d)
	b.signIn("odile")
	value := func(name string) string { return fmt.Sprintf(`//input[@name=%q]`, name) }
	b.do(chromedp.Navigate(d.URL+"/me"), b.sees("Your name"), chromedp.SendKeys(value("name"), "Odile Brandt\n"),
		b.sees("Others see you as Odile Brandt"), chromedp.Navigate(d.URL+"/p/brinelight/people"), b.sees("Odile Brandt"),
		chromedp.Navigate(d.URL+"/service"), b.sees("Nothing fails, and nothing is damaged"), b.sees("PostgreSQL"), b.sees("Room left"),
		b.sees("by "+address), b.evaluate(axe(t)), b.still())
	b.isForEverybody("/service")
	b.do(chromedp.Click(radio("People")), b.sees("1 project, "), chromedp.Click(ready("Add somebody")), b.asked("Add somebody"),
		chromedp.SendKeys(`[role=alertdialog] input`, "rurik"), b.act("Add"), b.asked("Pass it on to rurik alone"),
		b.until(`document.querySelector("input[aria-label=Link]")`))
	link, err := chromedp.Run(b.ctx, chromedp.Value(`input[aria-label="Link"]`))
	if err != nil || !strings.HasPrefix(link, d.URL+model.WayInPath+"#") {
		t.Fatalf("%q, %v", link, err)
	}
	b.do(b.act("Done"), b.asked(), b.sees("rurik"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("/service?part=people")

	o := open(t, d)
	o.do(chromedp.Navigate(link+"x"), o.sees("This link leads nowhere"), chromedp.Navigate("about:blank"), chromedp.Navigate(link),
		o.sees("A passphrase for rurik"), o.evaluate(axe(t)), o.still())
	o.isForEverybody("/forgotten")
	o.do(chromedp.SendKeys(value("new"), testbed.Passphrase), chromedp.SendKeys(value("again"), testbed.Passphrase+"\n"),
		o.until(`location.pathname === "/"`), chromedp.Navigate(d.URL+"/service"), o.sees("This is for stewards"))
	b.do(chromedp.Click(`button[aria-label="Let go rurik"]`), b.asked("Let rurik go?", "they leave 0 projects"), b.act("Let go"), b.asked(),
		b.sees("let go"))
	o.do(chromedp.Navigate(d.URL+"/me"), o.sees("This sign-in ended"))

	b.do(chromedp.Click(radio("Projects")), b.sees("no limit"), chromedp.Click(`button[aria-label="Limit of brinelight"]`),
		b.asked("How much may brinelight take?"), chromedp.SendKeys(`[role=alertdialog] input`, "2"), b.act("Set it"), b.asked(),
		b.sees("of 2.0 GiB"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("/service?part=projects")
	b.do(chromedp.Click(radio("Room")), b.sees("all that lies in the store is in use"), chromedp.Click(ready("Collect now")),
		b.sees("there was nothing to free"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("/service?part=room")

	// Mail and tokens are on one's own page.
	b.do(chromedp.Navigate(d.URL+"/me"), b.sees("Your mail address"),
		b.until(`document.querySelector("input[name=mail]")?.value === "odile@saltpan.example"`), chromedp.Click(ready("Make a token")),
		b.asked("Make a token"), chromedp.SendKeys(`[role=alertdialog] input[name=label]`, "the nightly build"), b.act("Make it"),
		b.asked("It is shown this once"), b.until(`/^tarn_\w{40,}$/.test(document.querySelector("input[aria-label=Token]").value)`),
		b.act("Done"), b.asked(), b.sees("the nightly build"), b.sees("brinelight, as viewer, until"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("/me")
	says(t, odile.tarn(0, "token", "list"), "the nightly build")
	b.do(chromedp.Click(`button[aria-label="End the token the nightly build"]`),
		b.until(`!document.body.innerText.includes("the nightly build")`))

	// An invitation goes by mail where that works, and it is said where it did not.
	says(t, odile.tarn(0, "invite", "add", "--mail", "imani@saltpan.example"), "It was sent to imani@saltpan.example")
	letters, err := box.Letters()
	if last := strings.ReplaceAll(letters[len(letters)-1], "=\n", ""); err != nil || !strings.Contains(last, "To: <imani@saltpan.example>") ||
		!strings.Contains(last, d.URL+model.InvitedPath+"#") {
		t.Errorf("%s, %v", last, err)
	}
	box.Refuse(io.ErrUnexpectedEOF)
	says(t, odile.tarn(0, "invite", "add", "--mail", "imani@saltpan.example"), "could not be sent", "pass it on yourself")
	box.Refuse(nil)

	// Who forgot theirs has a link sent; whoever asks learns nothing.
	o.do(chromedp.Navigate(d.URL+"/sign-in"), o.sees("I forgot my passphrase"), chromedp.Click(`//a[contains(., "I forgot my passphrase")]`),
		o.sees("You forgot your passphrase"), chromedp.SendKeys(value("handle"), "nobody\n"), o.sees("a link is on its way there"),
		chromedp.Navigate(d.URL+"/forgotten"), chromedp.SendKeys(value("handle"), "odile\n"), o.sees("a link is on its way there"))
	var mailed string
	eventually(t, "the link comes", func() bool {
		letters, err := box.Letters()
		if err != nil {
			t.Fatal(err)
		}
		_, rest, found := strings.Cut(strings.ReplaceAll(letters[len(letters)-1], "=\n", ""), d.URL+model.WayInPath)
		mailed, _, _ = strings.Cut(rest, "\n")
		return found
	})
	o.do(chromedp.Navigate("about:blank"), chromedp.Navigate(d.URL+model.WayInPath+mailed), o.sees("A passphrase for odile"),
		chromedp.SendKeys(value("new"), "four seals nap slowly"), chromedp.SendKeys(value("again"), "four seals nap slowly\n"),
		o.until(`location.pathname === "/"`))
	says(t, odile.tarn(1, "lock", "a.png"), "tarn sign-in")
	says(t, d.tarnd(0, "person", "link", "odile"), d.URL+model.WayInPath+"#", "Pass it on to odile alone")
}

// TestPasskeys: one is made with the passphrase, signs in without it, and is gone when it is taken away, or the passphrase was forgotten.
func TestPasskeys(t *testing.T) {
	t.Parallel()
	d := serve(t)
	d.Stop()
	named := strings.Replace(d.URL, "127.0.0.1", "localhost", 1)
	d.Env = append(d.Env, "TARND_ADDRESS="+named)
	d.start()
	d.person("odile")
	b := browse(t, named)
	// A device that has a fingerprint, and takes it.
	b.do(chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		if _, err := chromedp.Call(ctx, webauthn.Enable, webauthn.EnableParams{}); err != nil {
			return err
		}
		_, err := chromedp.Call(ctx, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
			Options: &webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2,
				Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true, IsUserVerified: true,
				AutomaticPresenceSimulation: true}})
		return err
	}))
	field := func(name string) string { return fmt.Sprintf(`input[name=%s]`, name) }
	b.do(chromedp.Navigate(named+"/sign-in"), b.sees("Sign in with a passkey"), chromedp.Click(ready("Sign in with a passkey")),
		b.sees("The browser gave no passkey"))
	b.signIn("odile")
	b.do(chromedp.Navigate(named+"/me"), b.sees("Your passkeys"), chromedp.SendKeys(field("passkey"), "the laptop"),
		chromedp.SendKeys(field("once"), "not this one"), chromedp.Click(ready("Add a passkey")), b.sees("not your passphrase"),
		b.evaluate(`document.querySelector("input[name=once]").select()`), chromedp.SendKeys(field("once"), testbed.Passphrase+"\n"),
		b.sees("never used"), b.evaluate(axe(t)), b.still())
	b.isForEverybody("/me")
	out := func() {
		b.do(b.evaluate(`fetch("/api/v1/sign-out", {method: "POST"}).then(a => document.title = "out " + a.status)`),
			b.until(`document.title === "out 204"`),
			chromedp.Navigate(named+"/sign-in"))
	}
	out()
	b.do(b.evaluate(axe(t)), b.still())
	b.isForEverybody("/sign-in")
	b.do(chromedp.Click(ready("Sign in with a passkey")), b.until(`location.pathname === "/"`), chromedp.Navigate(named+"/me"),
		b.sees("last used"), chromedp.Click(`button[aria-label="Take away the laptop"]`),
		chromedp.WaitNotPresent(`button[aria-label="Take away the laptop"]`))
	out()
	b.do(chromedp.Click(ready("Sign in with a passkey")), b.sees("The passkey was not taken"))

	// A new passphrase from whoever runs the service ends them.
	b.signIn("odile")
	b.do(chromedp.Navigate(named+"/me"), chromedp.SendKeys(field("passkey"), "the ring"), chromedp.SendKeys(field("once"),
		testbed.Passphrase+"\n"),
		b.sees("never used"))
	cmd := d.command("person", "passphrase", "odile")
	cmd.Stdin = strings.NewReader("four seals nap slowly\n")
	if text, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, text)
	}
	b.do(chromedp.Navigate(named+"/sign-in"), chromedp.Click(ready("Sign in with a passkey")), b.sees("The passkey was not taken"))

	// Without a name there are none, and it is said why.
	n := open(t, d)
	n.do(chromedp.Navigate(d.URL+"/sign-in"), n.sees("I forgot my passphrase"),
		n.until(`!document.body.innerText.includes("Sign in with a passkey")`))
}
