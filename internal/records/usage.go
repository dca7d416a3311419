package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// CountUsage notes what a project takes in the present hour, unless that was done already: by whomever, it is there once.
func (tx *Tx) CountUsage(ctx context.Context, project int64) error {
	_, err := tx.q.Exec(ctx, `insert into usage (project_id, hour, stored, present, past, assets)
		select p.id, date_trunc('hour', now()), coalesce((select k.stored from project_room k where k.project_id = p.id), 0), b.size,
			greatest(0, coalesce((select sum(c.size) from versions v join contents c on c.id = v.content_id where v.project_id = p.id
				and not v.gone), 0) - b.size), b.assets
		from projects p join branches b on b.project_id = p.id and b.name = $2 where p.id = $1
		on conflict (project_id, hour) do update set stored = excluded.stored, present = excluded.present, past = excluded.past,
			assets = excluded.assets where usage.stored is null`, project, model.FirstBranch)
	return err
}

// CountedUsage reports whether the present hour of a project was counted, and whether its day was, by its parts.
func (tx *Tx) CountedUsage(ctx context.Context, project int64) (hour, day bool, err error) {
	err = one(tx.q.QueryRow(ctx, `select exists (select from usage where project_id = $1 and hour = date_trunc('hour', now())
			and stored is not null),
		exists (select from usage_parts where project_id = $1 and day = now()::date)`, project), &hour, &day)
	return hour, day, err
}

// UsageParts adds up what a project takes as files, by branch, folder (the first two of a path), ending of a name, and person.
func (tx *Tx) UsageParts(ctx context.Context, project int64) ([]model.UsagePart, error) {
	rows, err := tx.q.Query(ctx, `with v as (select b.name branch,
			coalesce(nullif(array_to_string((string_to_array(v.path, '/'))[1:least(2, cardinality(string_to_array(v.path, '/')) - 1)],
				'/'), ''), '/') folder,
			coalesce(substring(lower(v.path) from '[^/](\.[^./]*)$'), '') ending, p.handle person, c.size, n.asset_id is not null now
		from versions v join contents c on c.id = v.content_id join handoffs h on h.project_id = v.project_id and h.number = v.handoff
		join people p on p.id = h.author_id join branches b on b.id = v.branch_id
		left join present n on n.asset_id = v.asset_id and n.number = v.number
		where v.project_id = $1 and not v.gone)
		select case grouping(branch, folder, ending, person) when 7 then 'branch' when 11 then 'folder' when 13 then 'kind' else 'person' end,
			coalesce(branch, folder, ending, person), coalesce(sum(size) filter (where now), 0)::bigint, coalesce(sum(size) filter (where not now),
			0)::bigint
		from v group by grouping sets ((branch), (folder), (ending), (person))`, project)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p model.UsagePart, err error) {
		err = row.Scan(&p.Part, &p.Name, &p.Present, &p.Past)
		return p, err
	})
}

// KeepUsageParts keeps them for this day, unless somebody has.
func (tx *Tx) KeepUsageParts(ctx context.Context, project int64, list []model.UsagePart) error {
	for _, p := range list {
		if _, err := tx.q.Exec(ctx, `insert into usage_parts (project_id, day, part, name, present, past) values ($1, now()::date, $2, $3, $4, $5)
			on conflict do nothing`, project, p.Part, p.Name, p.Present, p.Past); err != nil {
			return err
		}
	}
	return nil
}

// LatestUsageParts are those of the last day on which they were counted.
func (tx *Tx) LatestUsageParts(ctx context.Context, project int64) ([]model.UsagePart, error) {
	rows, err := tx.q.Query(ctx, `select part, name, present, past from usage_parts where project_id = $1
		and day = (select max(day) from usage_parts where project_id = $1) order by part, present + past desc, name`, project)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[model.UsagePart])
}

// AddTraffic adds what travelled since it was last told.
func (tx *Tx) AddTraffic(ctx context.Context, project, brought, fetched int64) error {
	_, err := tx.q.Exec(ctx, `insert into usage (project_id, hour, brought, fetched)
		select id, date_trunc('hour', now()), $2, $3 from projects where id = $1
		on conflict (project_id, hour) do update set brought = usage.brought + excluded.brought, fetched = usage.fetched + excluded.fetched`,
		project, brought, fetched)
	return err
}

// UsageDays is what a project, or with 0 all together, took on each day since a time, the last of the day; traffic and byte hours are those
// of the whole day. A day on which nothing was counted is as the one before.
func (tx *Tx) UsageDays(ctx context.Context, project int64, since time.Time) ([]model.UsageDay, error) {
	rows, err := tx.q.Query(ctx, `with d as (select * from usage_by_day where $1 = 0 or project_id = $1),
		t as (select project_id, hour::date as day, sum(brought) brought, sum(fetched) fetched from usage
			where ($1 = 0 or project_id = $1) and hour >= $2 group by 1, 2)
		select to_char(day, 'YYYY-MM-DD'), coalesce(sum(stored), 0)::bigint, coalesce(sum(present), 0)::bigint, coalesce(sum(past), 0)::bigint,
			coalesce(sum(assets), 0)::bigint, coalesce(sum(brought), 0)::bigint, coalesce(sum(fetched), 0)::bigint,
			coalesce(sum(byte_hours), 0)::float8
		from d full join t using (project_id, day) where day >= $2::date group by day order by day`, project, since)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (d model.UsageDay, err error) {
		err = row.Scan(&d.Day, &d.Stored, &d.Present, &d.Past, &d.Assets, &d.Brought, &d.Fetched, &d.ByteHours)
		return d, err
	})
}

// UsagePoints is what a project, or with 0 all together, took at each hour since a time at which it was counted.
func (tx *Tx) UsagePoints(ctx context.Context, project int64, since time.Time) (at []time.Time, stored []float64, err error) {
	rows, err := tx.q.Query(ctx, `select hour, sum(stored)::float8 from usage where ($1 = 0 or project_id = $1) and hour >= $2
		and stored is not null group by hour order by hour`, project, since)
	if err != nil {
		return nil, nil, err
	}
	var t time.Time
	var n float64
	_, err = pgx.ForEachRow(rows, []any{&t, &n}, func() error {
		at, stored = append(at, t), append(stored, n)
		return nil
	})
	return at, stored, err
}

// ThinUsage keeps, of days so long ago, the last hour that was counted, with all that travelled on the day and all its byte hours.
func (tx *Tx) ThinUsage(ctx context.Context, ago time.Duration) error {
	if _, err := tx.q.Exec(ctx, `with t as (select project_id, hour::date as day, sum(brought) brought, sum(fetched) fetched from usage
			where hour < date_trunc('day', now() - $1::interval) group by 1, 2)
		update usage u set brought = t.brought, fetched = t.fetched, byte_hours = d.byte_hours from usage_by_day d join t using (project_id, day)
			where u.project_id = d.project_id and u.hour = d.hour and u.hour::date = d.day and u.byte_hours is null`, ago); err != nil {
		return err
	}
	_, err := tx.q.Exec(ctx, `delete from usage u where u.hour < date_trunc('day', now() - $1::interval) and exists (select from usage o
		where o.project_id = u.project_id and o.hour::date = u.hour::date and o.stored is not null
			and (o.hour > u.hour or u.stored is null and o.hour <> u.hour))`, ago)
	return err
}

// Warn notes of which share of its limit, in percent, a project's people are warned, and reports whether that is another one than before.
func (tx *Tx) Warn(ctx context.Context, project int64, share int) (before int, err error) {
	err = one(tx.q.QueryRow(ctx, `update projects p set warned = $2 from projects was where p.id = $1 and was.id = p.id returning was.warned`,
		project, share), &before)
	return before, err
}

// StoredOfAll is how many bytes all projects take.
func (tx *Tx) StoredOfAll(ctx context.Context) (n int64, err error) {
	err = tx.q.QueryRow(ctx, `select coalesce(sum(stored), 0)::bigint from project_room`).Scan(&n)
	return n, err
}
