package telling

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/core/text"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// How news is delivered. What fails is tried again, later each time, and given up after about three days.
const (
	deliveryPoll  = 5 * time.Second        // of what is due again
	deliveryRest  = time.Minute            // behind the bells
	deliveryGap   = 500 * time.Millisecond // what comes together is addressed together
	deliveryLease = 2 * time.Minute
	deliveryTries = 16
	deliveryKept  = 30 * 24 * time.Hour
	longestPause  = 6 * time.Hour
	atOnceSent    = 4 // of each kind
	dailyItems    = 500
	dailyHour     = 7
	addressed     = 500
)

// Delivering addresses news and delivers it until ctx ends. It reads the events table behind everybody else, and nobody waits for it.
func (s *Room) Delivering(ctx context.Context) {
	swept, woke := time.Time{}, time.Now()
	for {
		happened := s.Bell.wait()
		more, err := s.address(ctx)
		if err == nil && time.Since(swept) > time.Hour {
			swept = time.Now()
			err = s.Write(ctx, func(tx *records.Tx) error { return tx.ForgetDelivered(ctx, deliveryKept) })
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Error("news could not be delivered; it is tried again", "error", err)
		}
		if more && err == nil && ctx.Err() == nil {
			continue
		}
		wait := deliveryRest
		if err != nil || time.Since(woke) < newsAfter {
			wait = deliveryPoll
		}
		ground.Pause(ctx, happened, deliveryGap, wait)
		select {
		case <-ctx.Done():
			return
		case <-happened:
			woke = time.Now()
		default:
		}
	}
}

// address decides who gets the events that nobody has looked at yet.
func (s *Room) address(ctx context.Context) (more bool, err error) {
	added := false
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
				if hears(h, item.Kind, e.At) {
					list = append(list, records.NewDelivery{Event: e.Row, Project: e.Project, Hook: h.ID, Due: now})
				}
			}
		}
		if len(list) == 0 {
			return nil
		}
		added = true
		return tx.AddDeliveries(ctx, list)
	})
	if added && err == nil {
		s.addressed.Wake()
	}
	return more, err
}

// hears reports whether a hook hears of an event: of what was before it was made it does not, however late that is read.
func hears(h model.Hook, kind string, at time.Time) bool {
	return slices.Contains(h.Kinds, kind) && !at.Before(h.Made)
}

// addressees are those who hear of an event by mail.
func (s *Room) addressees(ctx context.Context, tx *records.Tx, e records.Happened, item news.Item,
	now time.Time) (list []records.NewDelivery, err error) {
	if !s.Courier.Mails() {
		return nil, nil
	}
	people, err := tx.Hearers(ctx, e.Project, item.Kind, e.Kind == news.ProjectFilling)
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

// Carrying takes out what is due to hooks, or to people, until ctx ends. The two have nothing to do with each other, and neither waits for
// the other.
func (s *Room) Carrying(ctx context.Context, hooks bool) {
	for {
		more := s.addressed.wait()
		sent, next, err := s.deliver(ctx, hooks)
		if err != nil && ctx.Err() == nil {
			s.Log.Error("news could not be delivered; it is tried again", "error", err)
		}
		if sent > 0 && err == nil && ctx.Err() == nil {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-more:
		case <-time.After(min(max(next, deliveryPoll), deliveryRest)):
		}
	}
}

// deliver takes out what is due: only so much is taken at once as is on its way at once, so that nothing waits past its lease and goes out
// twice. No transaction is open while it talks to anybody. next is how long it is until something is due, where nothing was.
func (s *Room) deliver(ctx context.Context, hooks bool) (sent int, next time.Duration, err error) {
	var due []records.Delivery
	err = s.Write(ctx, func(tx *records.Tx) (err error) {
		if due, err = tx.ClaimDeliveries(ctx, hooks, atOnceSent, deliveryLease); err != nil || len(due) > 0 {
			return err
		}
		next, err = tx.NextDelivery(ctx, hooks)
		return err
	})
	if err != nil {
		return 0, 0, err
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
	return sent, 0, group.Wait()
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
		return tx.Postpone(ctx, ids, pause, cause.Error())
	})
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

// How long the code for a mail address holds, how many are tried, and how long until the next letter.
const (
	mailHours = 24
	mailTries = 5
	mailPause = 30
)

// newsPage is how many items of news a page has at most, and newsLook how many events are looked at for one.
const (
	newsPage = 200
	newsLook = 5000
)
