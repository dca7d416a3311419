package service_test

import (
	"log/slog"
	"math"
	"strings"
	"sync"
	"testing"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/records"
	"kettletarn/internal/service"
	"kettletarn/internal/service/metering"
	"kettletarn/internal/store"
	"kettletarn/internal/testbed"
)

// packed waits until the history is in packs: until then a project grows by itself.
func packed(t *testing.T, m *team) {
	t.Helper()
	testbed.Eventually(t, "the history is packed", func() bool { return m.one(`select count(*) from handoffs where not packed`) == 0 })
}

// TestUsageIsWhatLiesInTheStore: it is held against a recount from the packs themselves, and two services count an hour once.
func TestUsageIsWhatLiesInTheStore(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "levels/reef/a.png", 0, 0, strings.Repeat("one", 1000)),
		m.change(m.tamsin, "b.wav", 0, 0, strings.Repeat("horn", 500))))
	fence := m.lock(m.rurik, "b.wav", 1)
	ok(t)(m.send(m.rurik, m.change(m.rurik, "b.wav", 1, fence, strings.Repeat("horn", 700))))
	packed(t, m)
	m.sql(`delete from usage`) // what the service counted by itself meanwhile
	other := service.New(m.DB, m.Store, t.TempDir(), slog.New(slog.DiscardHandler))
	var wait sync.WaitGroup
	for _, s := range []*service.Service{m.Service.Service, other, m.Service.Service, other} {
		wait.Go(func() {
			if err := s.Meter(ctx); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	var packs int64
	if err := m.Store.List(ctx, "p", func(i store.Info) error {
		if strings.HasSuffix(i.Name, ".pack") {
			packs += i.Size
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	u, err := m.Usage(ctx, m.viewer, key, 7)
	if err != nil || len(u.Days) != 1 {
		t.Fatalf("%+v, %v", u, err)
	}
	if d := u.Days[0]; d.Stored != packs || d.Present != 3000+2800 || d.Past != 2000 || d.Assets != 2 || d.ByteHours != float64(packs) ||
		d.Brought == 0 || d.Brought > packs {
		t.Errorf("%+v; the packs have %d bytes", d, packs)
	}
	parts := map[string][2]int64{}
	for _, p := range u.Parts {
		parts[p.Part+" "+p.Name] = [2]int64{p.Present, p.Past}
	}
	for name, want := range map[string][2]int64{"branch main": {5800, 2000}, "folder levels/reef": {3000, 0}, "folder /": {2800, 2000},
		"kind texture": {3000, 0}, "kind sound": {2800, 2000}, "person tamsin": {3000, 2000}, "person rurik": {2800, 0}} {
		if parts[name] != want {
			t.Errorf("%s is %v, want %v", name, parts[name], want)
		}
	}
	// What is fetched travels, and is added up over services.
	for _, s := range []*service.Service{m.Service.Service, other} {
		s.Travelled(1, 0, 1000)
		if err := s.Meter(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if u, err = m.Usage(ctx, m.viewer, key, 7); err != nil || u.Days[0].Fetched != 2000 || u.Days[0].ByteHours != float64(packs) {
		t.Errorf("%+v, %v", u.Days, err)
	}
	_, err = m.Usage(ctx, m.odile, "", 7)
	testbed.Problem(t, err, model.NotAllowed)
	_, err = m.Usage(ctx, m.odile, key, 0)
	testbed.Problem(t, err, model.BadRequest)
}

// TestAFullProjectIsForeseen: people are warned at each share once, the day is foreseen and said, and what that costs.
func TestAFullProjectIsForeseen(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a.png", 0, 0, noise(1, 6000))))
	packed(t, m)
	steward, err := m.AddPerson(ctx, "steward", testbed.Passphrase, true)
	if err != nil {
		t.Fatal(err)
	}
	actor, err := m.Authenticate(ctx, steward)
	if err != nil {
		t.Fatal(err)
	}
	meter := func() {
		t.Helper()
		if err := m.Meter(ctx); err != nil {
			t.Fatal(err)
		}
	}
	meter()
	u, err := m.Usage(ctx, m.odile, key, 30)
	if err != nil || len(u.Forecasts) != 0 || u.Cost != nil {
		t.Fatalf("%+v, %v", u, err)
	}
	// Four weeks in which it grew by a hundred bytes a day.
	stored := u.Stored
	m.sql(`insert into usage (project_id, hour, stored) select id, date_trunc('hour', now()) - d * interval '1 day', $1::bigint - 100 * d
		from projects, generate_series(1, 28) d`, stored)
	hears := m.heard(m.odile)
	ok(t)(m.SetLimit(ctx, actor, key, stored+1000))
	m.Terms = metering.Terms{WarnAt: []int{50, 75, 95}, PerGiB: 0.1 * (1 << 30), Currency: "EUR", PerPerson: 2}
	if u, err = m.Usage(ctx, m.viewer, key, 30); err != nil || len(u.Forecasts) != 1 {
		t.Fatalf("%+v, %v", u, err)
	}
	f := u.Forecasts[0]
	if days := time.Until(*f.Full).Hours() / 24; math.Abs(f.PerDay-100) > 10 || days < 8 || days > 12 ||
		!strings.HasPrefix(f.Says, "It grows by ") || !strings.Contains(f.Says, "reaches its limit") {
		t.Errorf("%+v", f)
	}
	if c := u.Cost; c == nil || c.Expected <= 0 || c.Past <= 0 || c.Currency != "EUR" || c.Expected < 8*30*24/730.0 {
		t.Errorf("%+v", c)
	}
	ok(t)(m.SetLimit(ctx, actor, key, stored*10/6))
	meter()
	meter() // once is enough
	if said := hears("50%"); strings.Count(said, "50%") != 1 {
		t.Errorf("people hear %q", said)
	}
	hears = m.heard(m.odile)
	ok(t)(m.SetLimit(ctx, actor, key, stored+1))
	meter()
	if said := hears("95%"); strings.Count(said, "95%") != 1 || strings.Contains(said, "50%") {
		t.Errorf("people hear %q", said)
	}
	data := []byte("something new")
	fresh := pack.Encode(pack.Chunk, chunk.Sum(data), data)
	// At the limit nothing new is taken; everything is read; with room again it goes.
	ok(t)(m.SetLimit(ctx, actor, key, stored))
	_, err = m.StoreChunks(ctx, m.tamsin, key, testbed.From([]pack.Record{fresh}))
	testbed.Problem(t, err, model.LimitReached)
	ok(t)(m.Locks(ctx, m.tamsin, key, ""))
	m.lock(m.tamsin, "a.png", 1)
	ok(t)(m.SetLimit(ctx, actor, key, 0))
	m.LimitOfAll = stored
	_, err = m.StoreChunks(ctx, m.tamsin, key, testbed.From([]pack.Record{fresh}))
	testbed.Problem(t, err, model.LimitReached)
	m.LimitOfAll = 0
	ok(t)(m.StoreChunks(ctx, m.tamsin, key, testbed.From([]pack.Record{fresh})))
	if all, err := m.Usage(ctx, actor, "", 30); err != nil || len(all.Days) != 29 {
		t.Errorf("%d days, %v", len(all.Days), err)
	}
	// Old hours are thinned to days, and lose nothing that travelled.
	m.sql(`insert into usage (project_id, hour, stored, brought)
		select id, date_trunc('day', now()) - interval '100 days' + h * interval '1 hour', $1, 1 from projects, generate_series(0, 9) h`, stored)
	before := m.one(`select count(*) from usage`)
	ok(t)(nil, m.Thin(ctx))
	if after := m.one(`select count(*) from usage`); before-after != 9 || m.one(`select sum(brought)::int from usage
		where hour < now() - interval '90 days'`) != 10 || m.one(`select (sum(byte_hours) / $1)::int from usage
		where hour < now() - interval '90 days'`, stored) != 24 {
		t.Errorf("of %d rows %d are left", before, after)
	}
}

// TestHoursThatNobodyCounted: what was stored then is what was counted last before; it costs what it costs, before it is thinned and after.
func TestHoursThatNobodyCounted(t *testing.T) {
	m := newTeam(t, nil)
	m.sql(`delete from usage`)
	for _, row := range []struct{ days, hours, stored int }{{10, 10, 100}, {5, 0, 200}, {5, 6, 300}} {
		m.sql(`insert into usage (project_id, hour, stored, assets) select id, date_trunc('day', now()) - $1 * interval '1 day'
			+ $2 * interval '1 hour', $3, 7 from projects where key = $4`, row.days, row.hours, row.stored, key)
	}
	m.sql(`insert into usage (project_id, hour, brought) select id, date_trunc('day', now()) - interval '7 days', 5 from projects
		where key = $1`, key)
	look := func(when string) {
		t.Helper()
		u, err := m.Usage(t.Context(), m.viewer, key, 30)
		if err != nil || len(u.Days) != 11 {
			t.Fatalf("%s: %d days, %v", when, len(u.Days), err)
		}
		for i, want := range []float64{14 * 100, 24 * 100, 24 * 100, 24 * 100, 24 * 100, 6*200 + 18*300, 24 * 300} {
			if d := u.Days[i]; d.ByteHours != want || d.Assets != 7 {
				t.Errorf("%s: %s has %v byte hours of %d assets, want %v of 7", when, d.Day, d.ByteHours, d.Assets, want)
			}
		}
		if u.Days[3].Brought != 5 || u.Days[1].Stored != 100 || u.Days[5].Stored != 300 {
			t.Errorf("%s: %+v", when, u.Days)
		}
	}
	look("before")
	thin := func() {
		t.Helper()
		ok(t)(nil, m.Write(t.Context(), func(tx *records.Tx) error { return tx.ThinUsage(t.Context(), 2*24*time.Hour) }))
	}
	thin()
	// The service itself counts this hour.
	if n := m.one(`select count(*) from usage where hour < date_trunc('day', now())`); n != 3 {
		t.Errorf("%d rows are left, want 3", n)
	}
	look("thinned")
	thin()
	look("thinned again")
}
