package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// Freeable is what could be freed, by what: of each kind its bytes, how many pieces those are, and whether a collection frees them at
// once. lease and pause are those of the collection.
func (tx *Tx) Freeable(ctx context.Context, lease, pause time.Duration) (list []model.Freeable, err error) {
	rows, err := tx.q.Query(ctx, `
		select 'deleted', coalesce(sum(k.size), 0)::bigint, count(distinct p.id), p.goes <= now()
		from projects p left join packs k on k.project_id = p.id where p.deleted is not null group by 4
		union all
		select 'given-up', coalesce(sum(c.size), 0)::bigint, count(*), false from contents c where c.seen < now() - $1::interval
			and not exists (select from versions v where v.content_id = c.id)
		union all
		select 'condemned', coalesce(sum(stored), 0)::bigint, count(*), condemned <= now() - $2::interval from chunks
			where condemned is not null group by 4
		union all
		select 'thin', coalesce(sum(p.size - l.live), 0)::bigint, count(*), true from packs p
			join lateral (select coalesce(sum(c.stored), 0) live from chunks c where c.pack_id = p.id) l on l.live * 2 < p.size
			where not p.history and p.condemned is null and p.created < now() - $2::interval
		union all
		select 'rewritten', coalesce(sum(size), 0)::bigint, count(*), condemned <= now() - $2::interval from packs
			where condemned is not null group by 4`, lease, pause)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[model.Freeable])
	for _, f := range all {
		if f.Count > 0 {
			list = append(list, f)
		}
	}
	return list, err
}

// Gauges are what a service is measured by from moment to moment.
type Gauges struct {
	People, Locks, Waiting, Contents, Deliveries, Failing, Damaged int64
}

// Gauges counts them.
func (tx *Tx) Gauges(ctx context.Context) (g Gauges, err error) {
	err = one(tx.q.QueryRow(ctx, `select (select count(*) from people where ended is null),
		(select count(*) from assets where holder_id is not null), (select count(*) from waits where ended is null),
		(select count(*) from contents where sealed is null), (select count(*) from deliveries where done is null),
		(select count(*) from deliveries where done is null and error <> ''), (select count(*) from chunks where damaged is not null)`),
		&g.People, &g.Locks, &g.Waiting, &g.Contents, &g.Deliveries, &g.Failing, &g.Damaged)
	return g, err
}

// Connections are those of the pool: in use, open, and the most that there may be.
func (db *DB) Connections() (used, open, most int) {
	s := db.pool.Stat()
	return int(s.AcquiredConns()), int(s.TotalConns()), int(s.MaxConns())
}
