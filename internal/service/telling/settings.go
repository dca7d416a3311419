package telling

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

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
		out = model.NewsSettings{Mail: mail, MailWanted: wanted, MailWorks: s.MailWorks()}
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
		if _, err := ground.MailAddress(address); err != nil {
			return q, err
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
			if !s.MailWorks() {
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
