package records

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// channel is what NOTIFY and LISTEN use. Notifications are empty: readers look into the table.
const channel = "tarnd_news"

// AddEvent records that a person did something, in the transaction that does it. project and person may be 0 for none.
func (tx *Tx) AddEvent(ctx context.Context, project, person int64, kind string, subject map[string]any) error {
	tx.events = true
	_, err := tx.q.Exec(ctx, addEvent, project, person, kind, subject)
	return err
}

const addEvent = `insert into events (project_id, person_id, kind, subject) values (nullif($1::bigint, 0), nullif($2::bigint, 0), $3, $4)`

// PastEvent is one that is recorded with the time that it happened at; Person is 0 for somebody who is nobody here.
type PastEvent struct {
	At      time.Time
	Person  int64
	Kind    string
	Subject map[string]any
}

// AddPastEvents records what happened in a project before it came here, in that order.
func (tx *Tx) AddPastEvents(ctx context.Context, project int64, list []PastEvent) error {
	tx.events = true
	for part := range slices.Chunk(list, 1000) {
		var at []time.Time
		var people []int64
		var kinds []string
		var subjects []map[string]any
		for _, e := range part {
			at, people, kinds, subjects = append(at, e.At), append(people, e.Person), append(kinds, e.Kind), append(subjects, e.Subject)
		}
		if _, err := tx.q.Exec(ctx, `insert into events (project_id, at, person_id, kind, subject)
			select $1, x.at, nullif(x.person, 0), x.kind, x.subject from unnest($2::timestamptz[], $3::bigint[], $4::text[], $5::jsonb[])
				with ordinality x (at, person, kind, subject, n) order by x.n`, project, at, people, kinds, subjects); err != nil {
			return err
		}
	}
	return nil
}

// NewEvent is one to be recorded.
type NewEvent struct {
	Kind    string
	Subject map[string]any
}

// Cursor is a place in the events: everything up to it was read.
type Cursor struct {
	Transaction uint64
	ID          int64
}

// String is the cursor as it travels; see ParseCursor.
func (c Cursor) String() string { return fmt.Sprintf("%d-%d", c.Transaction, c.ID) }

// Before reports whether a place lies before another one.
func (c Cursor) Before(d Cursor) bool {
	return c.Transaction < d.Transaction || c.Transaction == d.Transaction && c.ID < d.ID
}

// ParseCursor reads what String wrote.
func ParseCursor(s string) (c Cursor, err error) {
	var rest string
	if n, _ := fmt.Sscanf(s+" ", "%d-%d%s", &c.Transaction, &c.ID, &rest); n != 2 || c.ID < 0 || c.String() != s {
		return Cursor{}, fmt.Errorf("%q is not a place in the news", s)
	}
	return c, nil
}

// Events returns up to limit events of a project after the cursor, oldest first, below the oldest running transaction, and the
// cursor after them. Relies on events_of_project.
func (tx *Tx) Events(ctx context.Context, project int64, after Cursor, limit int) ([]model.Event, Cursor, error) {
	rows, err := tx.q.Query(ctx, `
		select e.transaction::text::bigint, e.id, e.at, coalesce(p.handle, ''), e.kind, e.subject
		from events e left join people p on p.id = e.person_id
		where e.project_id = $1 and (e.transaction, e.id) > ($2::text::xid8, $3)
			and e.transaction < pg_snapshot_xmin(pg_current_snapshot())
		order by e.transaction, e.id limit $4`, project, fmt.Sprint(after.Transaction), after.ID, limit)
	if err != nil {
		return nil, after, err
	}
	events, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (e model.Event, err error) {
		var transaction int64
		err = row.Scan(&transaction, &after.ID, &e.At, &e.Person, &e.Kind, &e.Subject)
		after.Transaction = uint64(transaction)
		e.ID = after.String()
		return e, err
	})
	return events, after, err
}

// DeedQuery asks for a part of the record: of one project (0 for all), what one person did or had done to them, of these kinds, about an
// asset or something in a folder, from a time on, up to another, and below an id. What is zero asks for all.
type DeedQuery struct {
	Project      int64
	Person, Path string
	Kinds        []string
	Since, Until time.Time
	Before       int64
	Limit        int
}

// Deeds lists what was done, the latest first. Relies on events_by_project and the primary key.
func (tx *Tx) Deeds(ctx context.Context, q DeedQuery) ([]Happened, error) {
	const where = `e.kind = any($2) and ($3 = '' or p.handle = $3 or e.subject->>'person' = $3 or e.subject->>'handle' = $3)
			and ($4 = '' or exists (select from jsonb_array_elements_text(case when jsonb_typeof(e.subject->'paths') = 'array'
				then e.subject->'paths' else '[]' end) x where x = $4 or starts_with(x, $4 || '/')))
			and ($5::timestamptz is null or e.at >= $5) and ($6::timestamptz is null or e.at < $6) and ($7 = 0 or e.id < $7)
		order by e.id desc limit $8`
	of := `$1 = 0 and `
	if q.Project != 0 {
		of = `e.project_id = $1 and `
	}
	rows, err := tx.q.Query(ctx, `select e.id, e.at, coalesce(p.handle, ''), e.kind, e.subject, coalesce(e.project_id, 0), coalesce(j.key, '')
		from events e left join people p on p.id = e.person_id left join projects j on j.id = e.project_id where `+of+where, q.Project, q.Kinds,
		q.Person, q.Path, optionalTime(q.Since), optionalTime(q.Until), q.Before, q.Limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (h Happened, err error) {
		err = r.Scan(&h.Row, &h.At, &h.Person, &h.Kind, &h.Subject, &h.Project, &h.Key)
		return h, err
	})
}

// ProjectEvent is an event with its project, 0 for none, and its place.
type ProjectEvent struct {
	model.Event
	Project int64
	Cursor  Cursor
}

// EventsOfAll is Events for all projects together. Relies on events_in_order.
func (tx *Tx) EventsOfAll(ctx context.Context, after Cursor, limit int) ([]ProjectEvent, Cursor, error) {
	rows, err := tx.q.Query(ctx, `
		select e.transaction::text::bigint, e.id, coalesce(e.project_id, 0), e.at, coalesce(p.handle, ''), e.kind, e.subject
		from (select * from events e where (e.transaction, e.id) > ($1::text::xid8, $2)
			and e.transaction < pg_snapshot_xmin(pg_current_snapshot())
			order by e.transaction, e.id limit $3) e
		left join people p on p.id = e.person_id order by e.transaction, e.id`, fmt.Sprint(after.Transaction), after.ID, limit)
	if err != nil {
		return nil, after, err
	}
	events, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (e ProjectEvent, err error) {
		var transaction int64
		err = row.Scan(&transaction, &e.Cursor.ID, &e.Project, &e.At, &e.Person, &e.Kind, &e.Subject)
		e.Cursor.Transaction = uint64(transaction)
		after, e.ID = e.Cursor, e.Cursor.String()
		return e, err
	})
	return events, after, err
}

// EventsNow is the cursor behind everything that can be read now.
func (tx *Tx) EventsNow(ctx context.Context) (c Cursor, err error) {
	var transaction int64
	err = tx.q.QueryRow(ctx, `select pg_snapshot_xmin(pg_current_snapshot())::text::bigint`).Scan(&transaction)
	return Cursor{Transaction: uint64(max(transaction-1, 0)), ID: 1<<63 - 1}, err
}

// notify tells all services on this database that there is news. Bursts become one notification; it runs after the commit, so
// that no committing transaction waits for the lock that NOTIFY takes.
func (db *DB) notify(ctx context.Context) {
	defer close(db.done)
	for {
		select {
		case <-ctx.Done():
			return
		case <-db.wake:
			// A lost notification is made good by the readers' polling.
			_, _ = db.pool.Exec(ctx, `select pg_notify($1, '')`, channel)
		}
	}
}

// Listen calls wake whenever there may be news, until ctx ends, over a connection of its own that it makes again when it is lost.
func (db *DB) Listen(ctx context.Context, wake func()) {
	for ctx.Err() == nil {
		err := db.listen(ctx, wake)
		wake()
		if err != nil {
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}
}

func (db *DB) listen(ctx context.Context, wake func()) error {
	pooled, err := db.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	conn := pooled.Hijack()
	defer func() {
		closing, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = conn.Close(closing)
	}()
	if _, err := conn.Exec(ctx, "listen "+channel); err != nil {
		return err
	}
	for {
		if _, err := conn.WaitForNotification(ctx); err != nil {
			return err
		}
		wake()
	}
}

// optionalTime is a time, or nothing for the zero one.
func optionalTime(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}
