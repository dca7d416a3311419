package telling

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/text"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Courier takes news out of the house. Its methods return within half a minute, and are safe for concurrent use.
type Courier interface {
	// Mails reports whether it can send mail.
	Mails() bool
	// Mail sends a letter; key stays the same however often it is tried.
	Mail(ctx context.Context, key, to, subject, text string) error
	// Call posts a body to a hook, signed with its secret.
	Call(ctx context.Context, url, secret, key string, body []byte) error
	// Hosts are where hooks may go, as HOST or HOST:PORT.
	Hosts() []string
	// Address is where people reach the console, "" where that is not known.
	Address() string
}

// How news is delivered. What fails is tried again, later each time, and given up after about three days.
const (
	deliveryPoll  = time.Second
	deliveryLease = 2 * time.Minute
	deliveryTries = 16
	deliveryKept  = 30 * 24 * time.Hour
	longestPause  = 6 * time.Hour
	atOnceSent    = 4 // of each kind
	dailyItems    = 500
	dailyHour     = 7
	addressed     = 500
)

// Deliver makes Run take news out of the house, too. It is called before Run.
func (s *Room) Deliver(c Courier) { s.Courier = c }

// Delivering addresses news and delivers it until ctx ends. It reads the events table behind everybody else, and nobody waits for it.
func (s *Room) Delivering(ctx context.Context) {
	swept := time.Time{}
	for {
		more, err := s.address(ctx)
		if err == nil && time.Since(swept) > time.Hour {
			swept = time.Now()
			err = s.Write(ctx, func(tx *records.Tx) error { return tx.ForgetDelivered(ctx, swept.Add(-deliveryKept)) })
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Error("news could not be delivered; it is tried again", "error", err)
		}
		if more && err == nil && ctx.Err() == nil {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-s.Bell.wait():
		case <-time.After(deliveryPoll):
		}
	}
}

// address decides who gets the events that nobody has looked at yet.
func (s *Room) address(ctx context.Context) (more bool, err error) {
	err = s.Write(ctx, func(tx *records.Tx) error {
		events, ok, err := tx.NextEvents(ctx, "deliveries", addressed)
		if err != nil || !ok || len(events) == 0 {
			return err
		}
		more = len(events) == addressed
		now, err := tx.Now(ctx)
		if err != nil {
			return err
		}
		var list []records.NewDelivery
		hooks := map[int64][]model.Hook{}
		for _, e := range events {
			item := news.Of(e.Event)
			if item.Kind == "" || e.Project == 0 {
				continue
			}
			people, err := s.addressees(ctx, tx, e, item, now)
			if err != nil {
				return err
			}
			list = append(list, people...)
			if _, known := hooks[e.Project]; !known {
				if hooks[e.Project], err = tx.Hooks(ctx, e.Project); err != nil {
					return err
				}
			}
			for _, h := range hooks[e.Project] {
				if slices.Contains(h.Kinds, item.Kind) {
					list = append(list, records.NewDelivery{Event: e.Row, Project: e.Project, Hook: h.ID, Due: now})
				}
			}
		}
		if len(list) == 0 {
			return nil
		}
		return tx.AddDeliveries(ctx, list)
	})
	return more, err
}

// addressees are those who hear of an event by mail.
func (s *Room) addressees(ctx context.Context, tx *records.Tx, e records.Happened, item news.Item,
	now time.Time) (list []records.NewDelivery, err error) {
	if !s.Courier.Mails() {
		return nil, nil
	}
	people, err := tx.Hearers(ctx, e.Project, item.Kind)
	if err != nil {
		return nil, err
	}
	kind, _ := news.Find(item.Kind)
	for _, p := range people {
		if !item.Concerns(p.Handle, p.Role, e.Person) {
			continue
		}
		wish := p.Choice
		if wish == "" {
			wish = kind.Mail
		}
		d := records.NewDelivery{Event: e.Row, Project: e.Project, Person: p.ID, Due: now}
		switch wish {
		case news.AtOnce:
		case news.Daily:
			d.Daily, d.Due = true, morning(now)
		default:
			continue
		}
		list = append(list, d)
	}
	return list, nil
}

// morning is when the next daily summary goes out.
func morning(now time.Time) time.Time {
	now = now.UTC()
	m := time.Date(now.Year(), now.Month(), now.Day(), dailyHour, 0, 0, 0, time.UTC)
	if !m.After(now) {
		m = m.AddDate(0, 0, 1)
	}
	return m
}

// Carrying takes out what is due to hooks, or to people, until ctx ends. The two have nothing to do with each other, and neither waits for
// the other.
func (s *Room) Carrying(ctx context.Context, hooks bool) {
	for {
		sent, err := s.deliver(ctx, hooks)
		if err != nil && ctx.Err() == nil {
			s.Log.Error("news could not be delivered; it is tried again", "error", err)
		}
		if sent > 0 && err == nil && ctx.Err() == nil {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(deliveryPoll):
		}
	}
}

// deliver takes out what is due: only so much is taken at once as is on its way at once, so that nothing waits past its lease and goes out
// twice. No transaction is open while it talks to anybody.
func (s *Room) deliver(ctx context.Context, hooks bool) (sent int, err error) {
	var due []records.Delivery
	err = s.Write(ctx, func(tx *records.Tx) (err error) {
		due, err = tx.ClaimDeliveries(ctx, hooks, atOnceSent, time.Now().Add(deliveryLease))
		return err
	})
	if err != nil {
		return 0, err
	}
	daily := map[int64][]records.Delivery{}
	for _, d := range due {
		if d.Daily {
			daily[d.Person] = append(daily[d.Person], d)
		}
	}
	var group errgroup.Group
	for _, d := range due {
		list := daily[d.Person]
		if d.Daily && list == nil {
			continue // it goes with the first of theirs
		}
		if d.Daily {
			delete(daily, d.Person)
		}
		sent++
		group.Go(func() error {
			ids := []int64{d.ID}
			var cause, err error
			switch {
			case d.URL != "":
				cause = s.call(ctx, d)
			case d.Mail == "": // they have no address any more
			case d.Daily:
				ids, cause, err = s.summary(ctx, list)
			default:
				cause = s.letter(ctx, d)
			}
			if err != nil {
				return err
			}
			return s.settleDelivery(ctx, d, ids, cause)
		})
	}
	return sent, group.Wait()
}

func (s *Room) settleDelivery(ctx context.Context, d records.Delivery, ids []int64, cause error) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		switch {
		case cause == nil:
			return tx.Delivered(ctx, ids, "")
		case d.Tries >= deliveryTries:
			s.Log.Error("news was given up", "delivery", d.ID, "error", cause)
			return tx.Delivered(ctx, ids, "given up: "+cause.Error())
		}
		pause := min(time.Duration(1<<min(d.Tries, 20))*5*time.Second, longestPause)
		s.Log.Warn("news could not be delivered; it is tried again", "delivery", d.ID, "tries", d.Tries, "again", pause.String(), "error", cause)
		return tx.Postpone(ctx, ids, time.Now().Add(pause), cause.Error())
	})
}

// letter tells one person of one event.
func (s *Room) letter(ctx context.Context, d records.Delivery) error {
	item := news.Of(d.Event)
	words := item.For(d.Handle) + "."
	if link := s.link(d.ProjectKey, item); link != "" {
		words += "\n\n" + link
	}
	kind, _ := news.Find(item.Kind)
	words += fmt.Sprintf("\n\n-- \nKettle Tarn, %s. You hear of this because %s. Choose what you hear of under News in the console.\n",
		d.ProjectKey, kind.About)
	return s.Courier.Mail(ctx, d.Key, d.Mail, fmt.Sprintf("[%s] %s", d.ProjectKey, firstSentence(item.For(d.Handle))), words)
}

// summary tells one person of all that waited for the morning, in one letter.
func (s *Room) summary(ctx context.Context, list []records.Delivery) (ids []int64, cause, err error) {
	d := list[0]
	var more []records.Delivery
	if err := s.Write(ctx, func(tx *records.Tx) (err error) {
		more, err = tx.DailyOf(ctx, d.Person, dailyItems, time.Now().Add(deliveryLease))
		return err
	}); err != nil {
		return nil, nil, err
	}
	list = append(list, more...)
	byKind := map[string][]string{}
	for _, one := range list {
		ids = append(ids, one.ID)
		item := news.Of(one.Event)
		byKind[item.Kind] = append(byKind[item.Kind], fmt.Sprintf("  %s  %s: %s", one.Event.At.UTC().Format("Mon 15:04"), one.ProjectKey,
			item.For(d.Handle)))
	}
	var words bytes.Buffer
	for _, kind := range news.Kinds() {
		if lines := byKind[kind.Name]; len(lines) > 0 {
			fmt.Fprintf(&words, "%s (%d)\n%s\n\n", capital(kind.About), len(lines), strings.Join(lines, "\n"))
		}
	}
	if address := s.Courier.Address(); address != "" {
		fmt.Fprintf(&words, "%s\n\n", address)
	}
	words.WriteString("-- \nKettle Tarn. Choose what you hear of under News in the console.\n")
	subject := fmt.Sprintf("%d things happened", len(list))
	if len(list) == 1 {
		subject = "1 thing happened"
	}
	return ids, s.Courier.Mail(ctx, d.Key, d.Mail, subject, words.String()), nil
}

// call tells a hook of one event.
func (s *Room) call(ctx context.Context, d records.Delivery) error {
	item := news.Of(d.Event)
	body, err := json.Marshal(map[string]any{
		"type": d.Event.Kind, "timestamp": d.Event.At.UTC().Format(time.RFC3339), "text": fmt.Sprintf("[%s] %s", d.ProjectKey, item.Text),
		"data": map[string]any{"project": d.ProjectKey, "news": item.Kind, "person": d.Event.Person, "to": append([]string{}, item.To...),
			"paths": append([]string{}, item.Paths...), "handoff": item.Handoff, "url": s.link(d.ProjectKey, item)},
	})
	if err != nil {
		return err
	}
	return s.Courier.Call(ctx, d.URL, d.Secret, d.Key, text.JSON(body))
}

// link is the page of the console that an item is about.
func (s *Room) link(key string, i news.Item) string {
	address := s.Courier.Address()
	switch {
	case address == "":
		return ""
	case i.Handoff > 0:
		return fmt.Sprintf("%s/p/%s/handoffs/%d", address, key, i.Handoff)
	case i.Kind == news.Rules:
		return fmt.Sprintf("%s/p/%s/rules", address, key)
	case len(i.Paths) == 1:
		parts := strings.Split(i.Paths[0], "/")
		for n := range parts {
			parts[n] = url.PathEscape(parts[n])
		}
		return fmt.Sprintf("%s/p/%s/asset/%s", address, key, strings.Join(parts, "/"))
	}
	return fmt.Sprintf("%s/p/%s/locks", address, key)
}

func capital(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

func firstSentence(text string) string {
	first, _, _ := strings.Cut(text, ". ")
	return ground.FirstLine(first)
}

// NewsSettings is how the actor hears of news.
func (s *Room) NewsSettings(ctx context.Context, actor ground.Actor) (out model.NewsSettings, err error) {
	if err := actor.Whole(); err != nil {
		return out, err
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		mail, wanted, wishes, err := tx.NewsChoices(ctx, actor.ID)
		if err != nil {
			return err
		}
		out = model.NewsSettings{Mail: mail, MailWanted: wanted, MailWorks: s.Courier != nil && s.Courier.Mails()}
		for _, k := range news.Kinds() {
			one := model.NewsKind{Name: k.Name, About: k.About, Mail: k.Mail, Desktop: k.Desktop}
			for _, w := range wishes {
				if w.Kind == k.Name {
					one.Mail, one.Desktop = w.Mail, w.Desktop
				}
			}
			out.Kinds = append(out.Kinds, one)
		}
		return nil
	})
	return out, err
}

// SetNewsSettings changes the actor's mail address ("" for none), and how they hear of the kinds that are named.
func (s *Room) SetNewsSettings(ctx context.Context, actor ground.Actor, q model.NewsSettings) (model.NewsSettings, error) {
	if err := actor.Whole(); err != nil {
		return model.NewsSettings{}, err
	}
	address := strings.TrimSpace(q.Mail)
	if address != "" {
		parsed, err := mail.ParseAddress(address)
		if err != nil || parsed.Address != address || len(address) > 254 || ground.Printable(address) != address && len(address) <= 80 {
			return q, model.NewProblem(model.BadRequest, "take for example: tamsin@saltpan.example", "%q is not a mail address",
				ground.Printable(address))
		}
	}
	var wishes []records.NewsChoice
	for _, k := range q.Kinds {
		if _, known := news.Find(k.Name); !known {
			return q, model.NewProblem(model.BadRequest, "", "%q is no kind of news", ground.Printable(k.Name))
		}
		if !slices.Contains([]string{news.AtOnce, news.Daily, news.Never}, k.Mail) {
			return q, model.NewProblem(model.BadRequest, "", "mail goes at-once, daily or never, not %q", ground.Printable(k.Mail))
		}
		wishes = append(wishes, records.NewsChoice{Kind: k.Name, Mail: k.Mail, Desktop: k.Desktop})
	}
	code := ""
	if err := s.Write(ctx, func(tx *records.Tx) error {
		code = ""
		mail, wanted, _, err := tx.NewsChoices(ctx, actor.ID)
		if err != nil {
			return err
		}
		if address == "" && (mail != "" || wanted != "") {
			if err := tx.WantMail(ctx, actor.ID, "", [32]byte{}); err != nil {
				return err
			}
		}
		if address != "" && address != mail {
			if s.Courier == nil || !s.Courier.Mails() {
				return model.NewProblem(model.NotAllowed, "ask whoever runs it to set a mail server",
					"this service sends no mail, and so can't find out whether the address is yours")
			}
			if recent, err := tx.MailSentSince(ctx, actor.ID, mailPause); err != nil {
				return err
			} else if recent {
				return model.NewProblem(model.TooMany, "wait a minute, then ask again", "a letter with a code went to your address just now")
			}
			code = strings.ToUpper(rand.Text()[:8])
			if err := tx.WantMail(ctx, actor.ID, address, chunk.Sum([]byte(code))); err != nil {
				return err
			}
		}
		if err := tx.SetNewsChoices(ctx, actor.ID, wishes); err != nil {
			return err
		}
		return tx.AddEvent(ctx, 0, actor.ID, news.NewsSettings, map[string]any{})
	}); err != nil {
		return q, err
	}
	if code != "" {
		words := fmt.Sprintf("%s wants news of Kettle Tarn at this address. If that is you, this code shows it:\n\n  %s\n\nEnter it under News "+
			"in the console, or with tarn news --code %s. It holds for %d hours.\nIf it is not you, do nothing: no more letters come.\n",
			actor.Handle, code, code, mailHours)
		if err := s.Courier.Mail(ctx, ground.NewID(), address, "Is this your address?", words); err != nil {
			s.Log.Warn("a letter with a code could not be sent", "error", err)
			return q, model.NewProblem(model.Unavailable, "try again later; your settings are kept", "the letter to %s could not be sent",
				ground.Printable(address))
		}
	}
	return s.NewsSettings(ctx, actor)
}

// How long the code for a mail address holds, how many are tried, and how long until the next letter.
const (
	mailHours = 24
	mailTries = 5
	mailPause = 30
)

// ConfirmMail makes the address that the actor wants letters at theirs: code came in a letter there.
func (s *Room) ConfirmMail(ctx context.Context, actor ground.Actor, code string) (model.NewsSettings, error) {
	ok := false
	if err := s.Write(ctx, func(tx *records.Tx) (err error) {
		ok, err = tx.ConfirmMail(ctx, actor.ID, chunk.Sum([]byte(strings.ToUpper(strings.TrimSpace(code)))), mailHours, mailTries)
		return err
	}); err != nil {
		return model.NewsSettings{}, err
	}
	if !ok {
		return model.NewsSettings{}, model.NewProblem(model.BadRequest, "check it; or name the address again, and another one is sent",
			"that is not the code that was sent to your address, or it is too old")
	}
	return s.NewsSettings(ctx, actor)
}

// newsPage is how many items of news a page has at most, and newsLook how many events are looked at for one.
const (
	newsPage = 200
	newsLook = 5000
)

// Latest lists what happened that concerns the actor, in all their projects or in one, the newest first, below an item (0 for from the
// newest on).
func (s *Room) Latest(ctx context.Context, actor ground.Actor, only string, before int64, limit int) (out model.News, err error) {
	if limit <= 0 || limit > newsPage {
		limit = newsPage
	}
	if actor.Within != "" {
		only = actor.Within
	}
	err = s.Use(ctx, func(tx *records.Tx) error {
		out = model.News{News: []model.NewsItem{}}
		read, err := tx.NewsRead(ctx, actor.ID)
		if err != nil {
			return err
		}
		at := before
		for looked := 0; looked < newsLook; {
			events, err := tx.Latest(ctx, actor.ID, only, news.Telling(), at, 500)
			if err != nil {
				return err
			}
			looked += len(events)
			for _, e := range events {
				at = e.Row
				item := news.Of(e.Event)
				if !item.Concerns(actor.Handle, e.Role, e.Person) {
					continue
				}
				if len(out.News) == limit {
					out.Next = out.News[limit-1].ID
					return nil
				}
				one := model.NewsItem{ID: e.Row, At: e.At, Project: e.Key, Kind: item.Kind, Text: item.For(actor.Handle), Person: e.Person,
					Paths: item.Paths, Handoff: item.Handoff, Unread: e.Row > read}
				if out.News = append(out.News, one); one.Unread {
					out.Unread++
				}
			}
			if len(events) < 500 {
				return nil
			}
		}
		out.Next = at
		return nil
	})
	return out, err
}

// ReadNews notes up to which item the actor has read their news.
func (s *Room) ReadNews(ctx context.Context, actor ground.Actor, upTo int64) error {
	return s.Write(ctx, func(tx *records.Tx) error { return tx.ReadNews(ctx, actor.ID, upTo) })
}

// MaxHooks is how many hooks a project may have.
const MaxHooks = 20

// AddHook makes a hook; its secret is returned this once.
func (s *Room) AddHook(ctx context.Context, actor ground.Actor, key string, q model.HookRequest) (h model.Hook, err error) {
	if s.Courier == nil || len(s.Courier.Hosts()) == 0 {
		return h, model.NewProblem(model.NotAllowed, "ask whoever runs it to set --hook-hosts", "this service sends no web hooks")
	}
	u, err := url.Parse(q.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil || len(q.URL) > 2000 || u.String() != q.URL {
		return h, model.NewProblem(model.BadRequest, "take for example: https://chat.example/hooks/art", "%q is not the address of a web hook",
			ground.Printable(q.URL))
	}
	if !slices.Contains(s.Courier.Hosts(), u.Host) {
		return h, model.NewProblem(model.NotAllowed, "ask whoever runs the service to add it to --hook-hosts",
			"web hooks may go to %s, and not to %s", strings.Join(s.Courier.Hosts(), ", "), ground.Printable(u.Host))
	}
	if len(q.Kinds) == 0 {
		return h, model.NewProblem(model.BadRequest, "", "name at least one kind of news")
	}
	for _, k := range q.Kinds {
		if _, known := news.Find(k); !known {
			return h, model.NewProblem(model.BadRequest, "", "%q is no kind of news", ground.Printable(k))
		}
	}
	var random [32]byte
	_, _ = rand.Read(random[:])
	secret := "whsec_" + base64.StdEncoding.EncodeToString(random[:])
	err = s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Lead)
		if err != nil {
			return err
		}
		list, err := tx.Hooks(ctx, p.ID)
		if err != nil {
			return err
		}
		if len(list) >= MaxHooks {
			return model.NewProblem(model.TooMany, "remove one first", "a project has at most %d web hooks", MaxHooks)
		}
		now, err := tx.Now(ctx)
		if err != nil {
			return err
		}
		id, err := tx.AddHook(ctx, p.ID, actor.ID, q.URL, secret, q.Kinds)
		h = model.Hook{ID: id, URL: q.URL, Kinds: q.Kinds, Person: actor.Handle, Made: now, Secret: secret}
		if err != nil {
			return err
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.HookAdded, map[string]any{"url": q.URL, "kinds": q.Kinds})
	})
	return h, err
}

// RemoveHook ends a hook, with what was still to go to it.
func (s *Room) RemoveHook(ctx context.Context, actor ground.Actor, key string, id int64) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Lead)
		if err != nil {
			return err
		}
		there, err := tx.RemoveHook(ctx, p.ID, id)
		if err != nil {
			return err
		}
		if !there {
			return model.NewProblem(model.NotFound, "", "there is no such web hook")
		}
		return tx.AddEvent(ctx, p.ID, actor.ID, news.HookRemoved, map[string]any{"hook": id})
	})
}

// Hooks lists a project's hooks, and where they may go.
func (s *Room) Hooks(ctx context.Context, actor ground.Actor, key string) (out model.Hooks, err error) {
	err = s.Use(ctx, func(tx *records.Tx) error {
		p, err := ground.Project(ctx, tx, actor, key, model.Lead)
		if err != nil {
			return err
		}
		out.Hooks, err = tx.Hooks(ctx, p.ID)
		return err
	})
	out.Hosts = []string{}
	if s.Courier != nil {
		out.Hosts = append(out.Hosts, s.Courier.Hosts()...)
	}
	return out, err
}
