package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// AddWayIn keeps a link by which a person chooses a passphrase, under the digest of its secret; by is who made it, 0 for themselves.
func (tx *Tx) AddWayIn(ctx context.Context, person, by int64, secret [32]byte, until time.Time) error {
	_, err := tx.q.Exec(ctx, `insert into ways_in (secret, person_id, made_by, until) values ($1, $2, nullif($3::bigint, 0), $4)`, secret[:],
		person,
		by, until)
	return err
}

// WayInSince reports whether a person asked for such a link by mail in the last so many seconds.
func (tx *Tx) WayInSince(ctx context.Context, person int64, seconds int) (recent bool, err error) {
	err = tx.q.QueryRow(ctx, `select exists (select from ways_in where person_id = $1 and made_by is null
		and made > clock_timestamp() - $2 * interval '1 second')`, person, seconds).Scan(&recent)
	return recent, err
}

// WayIn finds whose passphrase a link is for, and whether it is good still; with take nobody else uses it until the transaction ends. See
// ErrNotFound.
func (tx *Tx) WayIn(ctx context.Context, secret [32]byte, take bool) (p Person, holds bool, err error) {
	lock := ""
	if take {
		lock = ` for update of w`
	}
	err = one(tx.q.QueryRow(ctx, `select p.id, p.handle, p.steward, w.used is null and w.until > clock_timestamp() and p.ended is null
		from ways_in w join people p on p.id = w.person_id where w.secret = $1`+lock, secret[:]), &p.ID, &p.Handle, &p.Steward, &holds)
	return p, holds, err
}

// UseWaysIn makes all links of a person useless.
func (tx *Tx) UseWaysIn(ctx context.Context, person int64) error {
	_, err := tx.q.Exec(ctx, `update ways_in set used = clock_timestamp() where person_id = $1 and used is null`, person)
	return err
}

// MailOf is a person's mail address, where they showed that it is theirs, and they may sign in.
func (tx *Tx) MailOf(ctx context.Context, person int64) (mail string, err error) {
	err = one(tx.q.QueryRow(ctx, `select mail from people where id = $1 and ended is null`, person), &mail)
	return mail, err
}

// SetName changes how a person is called.
func (tx *Tx) SetName(ctx context.Context, person int64, name string) error {
	_, err := tx.q.Exec(ctx, `update people set name = $2 where id = $1`, person, name)
	return err
}

// NameOf is how a person is called, "" where they did not say.
func (tx *Tx) NameOf(ctx context.Context, person int64) (name string, err error) {
	err = one(tx.q.QueryRow(ctx, `select name from people where id = $1`, person), &name)
	return name, err
}

// SetSteward makes a person a steward, or takes that back, and reports whether another steward is left who can sign in.
func (tx *Tx) SetSteward(ctx context.Context, person int64, steward bool) (left bool, err error) {
	if _, err := tx.q.Exec(ctx, `select pg_advisory_xact_lock(7425, 1)`); err != nil {
		return false, err
	}
	if _, err := tx.q.Exec(ctx, `update people set steward = $2 where id = $1`, person, steward); err != nil {
		return false, err
	}
	err = tx.q.QueryRow(ctx, `select exists (select from people where steward and ended is null and passphrase <> '')`).Scan(&left)
	return left, err
}

// FailingDeliveries are those that failed and are tried again, and those that were given up, the latest first.
func (tx *Tx) FailingDeliveries(ctx context.Context, limit int) ([]model.Failing, error) {
	rows, err := tx.q.Query(ctx, `select coalesce(p.handle, h.url, ''), coalesce(j.key, ''), e.kind, e.at, d.tries, d.error,
			case when d.done is null then d.due end
		from deliveries d join events e on e.id = d.event_id left join people p on p.id = d.person_id left join hooks h on h.id = d.hook_id
		left join projects j on j.id = d.project_id where d.error <> '' order by d.id desc limit $1`, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[model.Failing])
}

// DamageOf is what projects lost and nobody gave back.
func (tx *Tx) DamageOf(ctx context.Context) ([]model.Damage, error) {
	rows, err := tx.q.Query(ctx, `select j.key, count(*), min(c.damaged) from chunks c join projects j on j.id = c.project_id
		where c.damaged is not null and j.deleted is null group by j.key order by j.key`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[model.Damage])
}

// Health is what the database says of how the service is.
func (tx *Tx) Health(ctx context.Context) (h model.Health, err error) {
	err = one(tx.q.QueryRow(ctx, `select split_part(current_setting('server_version'), ' ', 1), pg_database_size(current_database()),
			(select count(*) from packs), (select coalesce(sum(size), 0)::bigint from packs),
			(select count(*) from deliveries where done is null), (select count(*) from contents where sealed is null),
			(select max(began) from lives), (select version from schema_version)`),
		&h.Database, &h.DataSize, &h.Packs, &h.Stored, &h.Waiting, &h.Unsealed, &h.LastLife, &h.Schema)
	return h, err
}
