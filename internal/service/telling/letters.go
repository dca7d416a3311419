package telling

import (
	"bytes"
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// morning is when the next daily summary goes out.
func morning(now time.Time) time.Time {
	now = now.UTC()
	m := time.Date(now.Year(), now.Month(), now.Day(), dailyHour, 0, 0, 0, time.UTC)
	if !m.After(now) {
		m = m.AddDate(0, 0, 1)
	}
	return m
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
		more, err = tx.DailyOf(ctx, d.Person, dailyItems, deliveryLease)
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
