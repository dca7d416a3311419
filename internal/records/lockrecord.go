package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
)

// RecordQuery asks for a part of the record: of one person, at or below a folded path, ended in one way ("held" for not ended), from a time
// on, up to another; zero values ask for all. Below is compared here, under the rules for paths, which no database has.
type RecordQuery struct {
	Person, Below, Ending string
	Since, Until          time.Time
	Skip, Limit           int
}

// Record lists who held what, the latest taken first, and counts what fits. Relies on holds_of_project and assets_held.
func (tx *Tx) Record(ctx context.Context, project int64, q RecordQuery) (list []model.Hold, total int, err error) {
	list = []model.Hold{}
	args := []any{project, q.Person, q.Ending, notZero(q.Since), notZero(q.Until)}
	const from = ` from (select path, person_id, workspace_id, note, taken, ended, ending, nullif(ender_id, person_id) ender_id, word, handoff
			from holds where project_id = $1
			union all select path, holder_id, workspace_id, lock_note, locked, null, '', null, '', null from assets where project_id = $1
				and holder_id is not null) r
		join people p on p.id = r.person_id left join people e on e.id = r.ender_id left join workspaces w on w.id = r.workspace_id
		where ($2 = '' or p.handle = $2) and ($3 = '' or r.ending = $3 or $3 = '` + lock.Held + `' and r.ended is null)
			and (r.ended is null or $4::timestamptz is null or r.ended >= $4) and ($5::timestamptz is null or r.taken < $5)`
	page := ""
	if q.Below == "" {
		page = Page{q.Skip, q.Limit}.sql()
		if err := tx.q.QueryRow(ctx, `select count(*)`+from, args...).Scan(&total); err != nil {
			return nil, 0, err
		}
	}
	rows, err := tx.q.Query(ctx, `
		select r.path, p.handle, coalesce(w.name, ''), r.note, r.taken, r.ended, extract(epoch from coalesce(r.ended, now()) - r.taken)::bigint,
			r.ending, coalesce(e.handle, ''), r.word, coalesce(r.handoff, 0)`+from+` order by r.taken desc, r.path`+page, args...)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var h model.Hold
		if err := rows.Scan(&h.Path, &h.Person, &h.Workspace, &h.Note, &h.Taken, &h.Ended, &h.Seconds, &h.Ending, &h.EndedBy, &h.Word,
			&h.Handoff); err != nil {
			return nil, 0, err
		}
		switch {
		case q.Below == "":
			list = append(list, h)
		case assetpath.Below(assetpath.Fold(h.Path), q.Below):
			if total++; total > q.Skip && len(list) < q.Limit {
				list = append(list, h)
			}
		}
	}
	return list, total, rows.Err()
}

// Contested says for the assets that were waited for longest since a time, up to limit of them, how long in which week. A wait that spans
// weeks counts in each with its part. Relies on waits_of_project.
func (tx *Tx) Contested(ctx context.Context, project int64, since time.Time, limit int) ([]model.Contested, error) {
	rows, err := tx.q.Query(ctx, `
		with w as (
			select x.asset_id, x.person_id, k.week, extract(epoch from least(coalesce(x.ended, now()), k.week + interval '7 days') -
				greatest(x.since, k.week, $2)) s
			from waits x cross join lateral generate_series(date_trunc('week', greatest(x.since, $2)), coalesce(x.ended, now()),
				interval '7 days') k (week)
			where x.project_id = $1 and coalesce(x.ended, now()) > $2),
		most as (select asset_id, sum(s) total from w group by 1 order by 2 desc, 1 limit $3)
		select a.path, to_char(w.week, 'YYYY-MM-DD'), count(*), count(distinct w.person_id), sum(w.s)::bigint
		from w join most m on m.asset_id = w.asset_id join assets a on a.id = w.asset_id group by a.path, w.week, m.total order by m.total desc,
			a.path, w.week`, project, since, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[model.Contested])
}

// Override is who took a lock away, with which word, and when.
type Override struct {
	By, Word string
	At       time.Time
}

// TakenAway finds, for each asset with a fence beside it, who took the lock away that was held under it; what nobody took away is left out.
func (tx *Tx) TakenAway(ctx context.Context, assets, fences []int64) (map[int64]Override, error) {
	rows, err := tx.q.Query(ctx, `select u.a, p.handle, h.word, h.ended from unnest($1::bigint[], $2::bigint[]) as u (a, x)
		cross join lateral (select * from holds h where h.asset_id = u.a and h.fence = u.x and h.ending = '`+lock.EndOverridden+`'
			order by h.id desc limit 1) h
		join people p on p.id = h.ender_id`, assets, fences)
	if err != nil {
		return nil, err
	}
	found := map[int64]Override{}
	var asset int64
	var o Override
	_, err = pgx.ForEachRow(rows, []any{&asset, &o.By, &o.Word, &o.At}, func() error {
		found[asset] = o
		return nil
	})
	return found, err
}
