// Package metering measures what projects take, by the hour, warns before a limit is reached, and says when that will be and what it costs.
package metering

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"kettletarn/internal/core/forecast"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/news"
	"kettletarn/internal/records"
	"kettletarn/internal/service/ground"
)

// Terms are what an operator decides: the shares of a limit, in percent, at which people are warned, in order; and prices, 0 for none, a
// GiB or a person and month.
type Terms struct {
	WarnAt            []int
	Currency          string
	PerGiB, PerPerson float64
}

// Room measures.
type Room struct {
	*ground.Ground
	// Terms are set before the service is used.
	Terms Terms
}

// New makes the room.
func New(g *ground.Ground) *Room { return &Room{Ground: g, Terms: Terms{WarnAt: []int{50, 75, 95}}} }

// How often traffic is written down and it is looked whether the hour was counted, at the most where much happens; for how long hours are
// kept, days being kept for ever; and of which time a forecast is made.
const (
	meterPoll     = time.Minute
	meterRest     = 3 * time.Second
	hoursKept     = 60 * 24 * time.Hour
	forecastWeeks = 5
)

// Metering counts until ctx ends. rung gives what is closed when something happens next.
func (s *Room) Metering(ctx context.Context, rung func() <-chan struct{}) {
	thinned := time.Now()
	for {
		happened := rung()
		err := s.Meter(ctx)
		if err == nil && time.Since(thinned) > 24*time.Hour {
			thinned = time.Now()
			err = s.Thin(ctx)
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Error("what projects take could not be counted; it is tried again", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(meterRest):
		}
		select {
		case <-ctx.Done():
			last, stop := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
			defer stop()
			_ = s.writeTraffic(last)
			return
		case <-happened:
		case <-time.After(meterPoll):
		}
	}
}

// Thin keeps, of what is old, a day's last hour.
func (s *Room) Thin(ctx context.Context) error {
	return s.Write(ctx, func(tx *records.Tx) error { return tx.ThinUsage(ctx, hoursKept) })
}

// Meter writes down what travelled, and counts what was not counted in this hour yet.
func (s *Room) Meter(ctx context.Context) error {
	if err := s.writeTraffic(ctx); err != nil {
		return err
	}
	var list []records.Project
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		list, err = tx.AllProjects(ctx)
		return err
	}); err != nil {
		return err
	}
	for _, p := range list {
		if err := s.count(ctx, p); err != nil {
			return fmt.Errorf("%s: %w", p.Key, err)
		}
	}
	return nil
}

func (s *Room) writeTraffic(ctx context.Context) error {
	traffic := s.TakeTraffic()
	if len(traffic) == 0 {
		return nil
	}
	err := s.Write(ctx, func(tx *records.Tx) error {
		for _, id := range slices.Sorted(maps.Keys(traffic)) {
			if err := tx.AddTraffic(ctx, id, traffic[id].Brought, traffic[id].Fetched); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		for id, t := range traffic {
			s.Travelled(id, t.Brought, t.Fetched)
		}
	}
	return err
}

func (s *Room) count(ctx context.Context, p records.Project) error {
	var hour, day bool
	if err := s.Use(ctx, func(tx *records.Tx) (err error) {
		hour, day, err = tx.CountedUsage(ctx, p.ID)
		return err
	}); err != nil {
		return err
	}
	if !hour {
		if err := s.Write(ctx, func(tx *records.Tx) error {
			if err := tx.Patient(ctx); err != nil {
				return err
			}
			return tx.CountUsage(ctx, p.ID)
		}); err != nil {
			return err
		}
	}
	if !day {
		if err := s.Write(ctx, func(tx *records.Tx) error {
			if err := tx.Patient(ctx); err != nil {
				return err
			}
			parts, err := tx.UsageParts(ctx, p.ID)
			if err != nil {
				return err
			}
			return tx.KeepUsageParts(ctx, p.ID, byKind(parts))
		}); err != nil {
			return err
		}
	}
	return s.warn(ctx, p)
}

// byKind puts endings of names together to kinds of asset.
func byKind(parts []model.UsagePart) []model.UsagePart {
	kinds := map[string]model.UsagePart{}
	out := parts[:0]
	for _, p := range parts {
		if p.Part != "kind" {
			out = append(out, p)
			continue
		}
		name := media.KindOf("x" + p.Name)
		k := kinds[name]
		kinds[name] = model.UsagePart{Part: "kind", Name: name, Present: k.Present + p.Present, Past: k.Past + p.Past}
	}
	for _, name := range slices.Sorted(maps.Keys(kinds)) {
		out = append(out, kinds[name])
	}
	return out
}

// warn tells leads and stewards when a share of a project's limit is passed for the first time, and forgets that where it is not any more.
func (s *Room) warn(ctx context.Context, p records.Project) error {
	return s.Write(ctx, func(tx *records.Tx) error {
		limit, stored, err := tx.Room(ctx, p.ID)
		if err != nil {
			return err
		}
		passed := 0
		for _, share := range s.Terms.WarnAt {
			if limit > 0 && float64(stored) >= float64(limit)*float64(share)/100 {
				passed = share
			}
		}
		before, err := tx.Warn(ctx, p.ID, passed)
		if err != nil || passed <= before {
			return err
		}
		return tx.AddEvent(ctx, p.ID, 0, news.ProjectFilling,
			map[string]any{"key": p.Key, "share": passed, "stored": stored, "limit": limit})
	})
}

// Usage is what a project took over so many days, the present one among them, with key "" all of them together, for stewards.
func (s *Room) Usage(ctx context.Context, actor ground.Actor, key string, days int) (out model.Usage, err error) {
	if days < 1 || days > 3660 {
		return out, model.NewProblem(model.BadRequest, "take for example: 30", "the number of days is 1 to 3,660")
	}
	out = model.Usage{Days: []model.UsageDay{}, Parts: []model.UsagePart{}, Forecasts: []model.Forecast{}}
	free, freeErr := s.Store.Free(ctx)
	err = s.Use(ctx, func(tx *records.Tx) error {
		of, members := int64(0), 0
		if key != "" {
			p, err := ground.Project(ctx, tx, actor, key, model.Viewer)
			if err != nil {
				return err
			}
			of, out.Limit = p.ID, p.Limit
			list, err := tx.Members(ctx, p.ID)
			if err != nil {
				return err
			}
			members = len(list)
			if out.Parts, err = tx.LatestUsageParts(ctx, p.ID); err != nil {
				return err
			}
			if out.Stored, err = tx.Stored(ctx, p.ID); err != nil {
				return err
			}
		} else {
			if !actor.Steward {
				return model.NewProblem(model.NotAllowed, "ask whoever runs the service", "only a steward sees what all projects take")
			}
			list, err := tx.People(ctx)
			if err != nil {
				return err
			}
			for _, p := range list {
				if p.MaySignIn {
					members++
				}
			}
			if out.Stored, err = tx.StoredOfAll(ctx); err != nil {
				return err
			}
			out.Limit = s.LimitOfAll
		}
		now, err := tx.Now(ctx)
		if err != nil {
			return err
		}
		midnight := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
		list, err := tx.UsageDays(ctx, of, midnight.AddDate(0, 0, 1-days))
		if err != nil {
			return err
		}
		out.Days = append(out.Days, list...)
		at, stored, err := tx.UsagePoints(ctx, of, now.AddDate(0, 0, -7*forecastWeeks))
		if err != nil {
			return err
		}
		points := make([]forecast.Point, len(at))
		for i := range at {
			points[i] = forecast.Point{At: at[i], Value: stored[i]}
		}
		growth, ok := forecast.Of(points)
		if ok {
			present := forecast.Point{At: now, Value: float64(out.Stored)}
			if out.Limit > 0 {
				out.Forecasts = append(out.Forecasts, foresee("its limit", growth, present, out.Limit))
			}
			if key == "" && freeErr == nil && free >= 0 {
				out.Forecasts = append(out.Forecasts, foresee("the disk", growth, present, out.Stored+max(0, free-ground.Spare)))
			}
		}
		out.Cost = s.cost(out, growth, members, days)
		return nil
	})
	return out, err
}

const monthHours = 730

// cost is what days cost, and the next 30 will, where there is a price.
func (s *Room) cost(u model.Usage, g forecast.Growth, members, days int) *model.Cost {
	t := s.Terms
	if t.PerGiB == 0 && t.PerPerson == 0 {
		return nil
	}
	c := &model.Cost{Currency: t.Currency, PerGiB: t.PerGiB, PerPerson: t.PerPerson}
	const gib = 1 << 30
	for _, d := range u.Days {
		c.Past += d.ByteHours / gib / monthHours * t.PerGiB
	}
	people := float64(members) * t.PerPerson
	c.Past += people * float64(len(u.Days)) * 24 / monthHours
	c.Expected = (float64(u.Stored)+15*max(0, g.PerDay))/gib*t.PerGiB*30*24/monthHours + people*30*24/monthHours
	return c
}

func foresee(of string, g forecast.Growth, now forecast.Point, limit int64) model.Forecast {
	likely, earliest, latest := g.Reaches(now, float64(limit))
	f := model.Forecast{Of: of, Limit: limit, PerDay: g.PerDay, Slow: g.Slow, Fast: g.Fast}
	day := func(t time.Time) string { return t.UTC().Format("2 January 2006") }
	for t, into := range map[*time.Time]**time.Time{&likely: &f.Full, &earliest: &f.Earliest, &latest: &f.Latest} {
		if !t.IsZero() {
			at := *t
			*into = &at
		}
	}
	grows := fmt.Sprintf("It grows by %s a day", humanize.IBytes(uint64(max(0, g.PerDay))))
	if g.PerDay <= 0 {
		grows = "It does not grow"
	}
	switch {
	case now.Value >= float64(limit):
		f.Says = fmt.Sprintf("%s is reached.", upper(of))
	case likely.IsZero():
		f.Says = fmt.Sprintf("%s; %s (%s) is not reached in a foreseeable time.", grows, of, humanize.IBytes(uint64(limit)))
	case latest.IsZero():
		f.Says = fmt.Sprintf("%s, and reaches %s (%s) on about %s, not before %s.", grows, of, humanize.IBytes(uint64(limit)), day(likely),
			day(earliest))
	default:
		f.Says = fmt.Sprintf("%s, and reaches %s (%s) on about %s, between %s and %s.", grows, of, humanize.IBytes(uint64(limit)), day(likely),
			day(earliest), day(latest))
	}
	return f
}

func upper(text string) string { return string(text[0]-'a'+'A') + text[1:] }
