package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// Happened is an event with its project, as the one who addresses news reads it.
type Happened struct {
	model.Event
	Row     int64
	Project int64
	Key     string
}

// NextEvents returns up to limit events of all projects that the reader of a name has not read, and moves it behind them. A new reader
// begins now. ok is false where another transaction reads under the same name: it does the work. Relies on events_in_order.
func (tx *Tx) NextEvents(ctx context.Context, name string, limit int) (events []Happened, ok bool, err error) {
	if err := tx.q.QueryRow(ctx, `select pg_try_advisory_xact_lock(7423, hashtext($1))`, name).Scan(&ok); err != nil || !ok {
		return nil, false, err
	}
	var transaction string
	var row int64
	err = one(tx.q.QueryRow(ctx, `select transaction::text, event_id from readers where name = $1`, name), &transaction, &row)
	if errors.Is(err, ErrNotFound) {
		now, err := tx.EventsNow(ctx)
		if err != nil {
			return nil, false, err
		}
		_, err = tx.q.Exec(ctx, `insert into readers (name, transaction, event_id) values ($1, $2::text::xid8, $3)`, name,
			fmt.Sprint(now.Transaction), now.ID)
		return nil, true, err
	}
	if err != nil {
		return nil, false, err
	}
	rows, err := tx.q.Query(ctx, `
		select e.transaction::text, e.id, e.at, coalesce(p.handle, ''), e.kind, e.subject, coalesce(e.project_id, 0), coalesce(j.key, '')
		from events e left join people p on p.id = e.person_id left join projects j on j.id = e.project_id
		where (e.transaction, e.id) > ($1::text::xid8, $2) and e.transaction < pg_snapshot_xmin(pg_current_snapshot())
		order by e.transaction, e.id limit $3`, transaction, row, limit)
	if err != nil {
		return nil, false, err
	}
	events, err = pgx.CollectRows(rows, func(r pgx.CollectableRow) (h Happened, err error) {
		err = r.Scan(&transaction, &h.Row, &h.At, &h.Person, &h.Kind, &h.Subject, &h.Project, &h.Key)
		row = h.Row
		return h, err
	})
	if err == nil && len(events) > 0 {
		_, err = tx.q.Exec(ctx, `update readers set transaction = $2::text::xid8, event_id = $3 where name = $1`, name, transaction, row)
	}
	return events, true, err
}

// Hearer is somebody who may be told of news: with their role in the project, and how they want to hear of a kind by mail ("" for as the
// program has it).
type Hearer struct {
	ID     int64
	Handle string
	Role   string
	Mail   string
	Choice string
}

// Hearers lists the people of a project who have a mail address; with stewards, those of the service, too, as leads.
func (tx *Tx) Hearers(ctx context.Context, project int64, kind string, stewards bool) ([]Hearer, error) {
	rows, err := tx.q.Query(ctx, `select p.id, p.handle, coalesce(m.role, 'lead'), p.mail, coalesce(w.mail, '') from people p
		left join memberships m on m.person_id = p.id and m.project_id = $1
		left join wishes w on w.person_id = p.id and w.kind = $2
		where p.mail <> '' and p.ended is null and (m.role is not null or p.steward and $3) order by p.id`, project, kind, stewards)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Hearer])
}

// NewDelivery is one to a person, or, where Hook is not 0, to a hook.
type NewDelivery struct {
	Event   int64
	Project int64
	Person  int64
	Hook    int64
	Daily   bool
	Due     time.Time
}

// AddDeliveries keeps what is to be delivered.
func (tx *Tx) AddDeliveries(ctx context.Context, list []NewDelivery) error {
	_, err := tx.q.CopyFrom(ctx, pgx.Identifier{"deliveries"}, []string{"event_id", "project_id", "person_id", "hook_id", "daily", "due"},
		pgx.CopyFromSlice(len(list), func(i int) ([]any, error) {
			d := list[i]
			return []any{d.Event, d.Project, optionalID(d.Person), optionalID(d.Hook), d.Daily, d.Due}, nil
		}))
	return err
}

func optionalID(id int64) *int64 {
	if id == 0 {
		return nil
	}
	return &id
}

// Delivery is one that is due, with all that it needs. Secret and URL are a hook's, Handle and Mail a person's.
type Delivery struct {
	ID         int64
	Key        string
	Tries      int
	Daily      bool
	ProjectKey string
	Person     int64
	Handle     string
	Mail       string
	URL        string
	Secret     string
	Event      model.Event
}

// ClaimDeliveries takes up to limit deliveries that are due, to hooks or to people: they are due again after lease, should this
// service end before it says what became of them. Of one hook only one is taken, while no other of it is on its way: what does not answer
// holds up itself. Relies on deliveries_due.
func (tx *Tx) ClaimDeliveries(ctx context.Context, hooks bool, limit int, lease time.Duration) ([]Delivery, error) {
	rows, err := tx.q.Query(ctx, `
		with d as (update deliveries set due = now() + $2::interval, tries = tries + 1, sent = now() where id in (
			select id from deliveries d where done is null and due <= now() and (hook_id is not null) = $3
				and (hook_id is null or not exists (select from deliveries o where o.hook_id = d.hook_id and o.done is null and o.id <> d.id
					and (o.due <= now() and o.id < d.id or o.due > now() and o.sent > now() - interval '1 minute' and o.error = '')))
			order by due, id limit $1 for update skip locked) returning *)
		select d.id, d.key, d.tries, d.daily, coalesce(j.key, ''), coalesce(p.id, 0), coalesce(p.handle, ''), coalesce(p.mail, ''),
			coalesce(h.url, ''), coalesce(h.secret, ''),
			e.at, coalesce(a.handle, ''), e.kind, e.subject
		from d join events e on e.id = d.event_id left join people a on a.id = e.person_id left join projects j on j.id = d.project_id
		left join people p on p.id = d.person_id left join hooks h on h.id = d.hook_id order by d.id`, limit, lease, hooks)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (d Delivery, err error) {
		err = row.Scan(&d.ID, &d.Key, &d.Tries, &d.Daily, &d.ProjectKey, &d.Person, &d.Handle, &d.Mail, &d.URL, &d.Secret, &d.Event.At,
			&d.Event.Person, &d.Event.Kind, &d.Event.Subject)
		return d, err
	})
}

// NextDelivery is how long it is until a delivery is due, to hooks or to people; an hour where none is.
func (tx *Tx) NextDelivery(ctx context.Context, hooks bool) (time.Duration, error) {
	var seconds float64
	err := tx.q.QueryRow(ctx, `select coalesce(extract(epoch from min(due) - now()), 3600)::float8 from deliveries
		where done is null and (hook_id is not null) = $1`, hooks).Scan(&seconds)
	return time.Duration(max(seconds, 0) * float64(time.Second)), err
}

// DailyOf takes the rest of a person's daily news that is due into the same delivery.
func (tx *Tx) DailyOf(ctx context.Context, person int64, limit int, lease time.Duration) ([]Delivery, error) {
	rows, err := tx.q.Query(ctx, `
		with d as (update deliveries set due = now() + $3::interval, tries = tries + 1 where id in (select id from deliveries
			where done is null and daily and person_id = $1 and due <= now() order by id limit $2 for update skip locked) returning *)
		select d.id, d.tries, coalesce(j.key, ''), e.at, coalesce(a.handle, ''), e.kind, e.subject
		from d join events e on e.id = d.event_id left join people a on a.id = e.person_id left join projects j on j.id = d.project_id
			order by d.id`, person, limit, lease)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (d Delivery, err error) {
		err = row.Scan(&d.ID, &d.Tries, &d.ProjectKey, &d.Event.At, &d.Event.Person, &d.Event.Kind, &d.Event.Subject)
		return d, err
	})
}

// Delivered says that deliveries are done; with a cause, that they were given up.
func (tx *Tx) Delivered(ctx context.Context, ids []int64, cause string) error {
	_, err := tx.q.Exec(ctx, `update deliveries set done = now(), error = $2 where id = any($1)`, ids, cause)
	return err
}

// Postpone says why deliveries failed, and after which pause they are tried again.
func (tx *Tx) Postpone(ctx context.Context, ids []int64, pause time.Duration, cause string) error {
	_, err := tx.q.Exec(ctx, `update deliveries set due = now() + $2::interval, error = $3 where id = any($1)`, ids, pause, cause)
	return err
}

// ForgetDelivered removes deliveries that were done so long ago.
func (tx *Tx) ForgetDelivered(ctx context.Context, ago time.Duration) error {
	_, err := tx.q.Exec(ctx, `delete from deliveries where done < now() - $1::interval`, ago)
	return err
}

// NewsChoice is how a person wants to hear of a kind of news.
type NewsChoice struct {
	Kind    string
	Mail    string
	Desktop bool
}

// NewsChoices are those of a person, their mail address, and the one that they have yet to show is theirs.
func (tx *Tx) NewsChoices(ctx context.Context, person int64) (mail, wanted string, list []NewsChoice, err error) {
	if err := one(tx.q.QueryRow(ctx, `select mail, mail_wanted from people where id = $1`, person), &mail, &wanted); err != nil {
		return "", "", nil, err
	}
	rows, err := tx.q.Query(ctx, `select kind, mail, desktop from wishes where person_id = $1`, person)
	if err != nil {
		return "", "", nil, err
	}
	list, err = pgx.CollectRows(rows, pgx.RowToStructByPos[NewsChoice])
	return mail, wanted, list, err
}

// WantMail keeps the address that a person wants letters at, with the digest of the code that was made for it; an empty one ends all
// letters.
func (tx *Tx) WantMail(ctx context.Context, person int64, mail string, code [32]byte) error {
	if mail == "" {
		_, err := tx.q.Exec(ctx, `update people set mail = '', mail_wanted = '', mail_code = null where id = $1`, person)
		return err
	}
	_, err := tx.q.Exec(ctx, `update people set mail_wanted = $2, mail_code = $3, mail_sent = clock_timestamp(), mail_tries = 0 where id = $1`,
		person, mail, code[:])
	return err
}

// MailSentSince reports whether a code was sent to a person's wanted address in the last so many seconds.
func (tx *Tx) MailSentSince(ctx context.Context, person int64, seconds int) (recent bool, err error) {
	err = tx.q.QueryRow(ctx, `select coalesce(mail_sent > now() - $2 * interval '1 second', false) from people where id = $1`, person,
		seconds).Scan(&recent)
	return recent, err
}

// ConfirmMail makes the wanted address a person's, where the code is that which was sent there in the last hours and not too many others
// were tried.
func (tx *Tx) ConfirmMail(ctx context.Context, person int64, code [32]byte, hours, tries int) (ok bool, err error) {
	if _, err := tx.q.Exec(ctx, `update people set mail_tries = mail_tries + 1 where id = $1`, person); err != nil {
		return false, err
	}
	tag, err := tx.q.Exec(ctx, `update people set mail = mail_wanted, mail_wanted = '', mail_code = null
		where id = $1 and mail_wanted <> '' and mail_code = $2 and mail_sent > now() - $3 * interval '1 hour'
			and mail_tries <= $4`, person, code[:], hours, tries)
	return tag.RowsAffected() == 1, err
}

// SetNewsChoices keeps them.
func (tx *Tx) SetNewsChoices(ctx context.Context, person int64, list []NewsChoice) error {
	for _, w := range list {
		if _, err := tx.q.Exec(ctx, `insert into wishes (person_id, kind, mail, desktop) values ($1, $2, $3, $4)
			on conflict (person_id, kind) do update set mail = excluded.mail, desktop =
				excluded.desktop`, person, w.Kind, w.Mail, w.Desktop); err != nil {
			return err
		}
	}
	return nil
}

// AddHook keeps where news of a project is to be sent.
func (tx *Tx) AddHook(ctx context.Context, project, person int64, url, secret string, kinds []string) (id int64, err error) {
	err = tx.q.QueryRow(ctx, `insert into hooks (project_id, person_id, url, secret, kinds) values ($1, $2, $3, $4, $5) returning id`, project,
		person, url, secret, kinds).Scan(&id)
	return id, err
}

// RemoveHook reports whether there was one.
func (tx *Tx) RemoveHook(ctx context.Context, project, id int64) (bool, error) {
	tag, err := tx.q.Exec(ctx, `delete from hooks where project_id = $1 and id = $2`, project, id)
	return tag.RowsAffected() > 0, err
}

// Hooks lists those of a project, with what became of their latest deliveries.
func (tx *Tx) Hooks(ctx context.Context, project int64) ([]model.Hook, error) {
	rows, err := tx.q.Query(ctx, `select h.id, h.url, h.kinds, p.handle, h.made, d.done, coalesce(f.error, ''), (select count(*)
		from deliveries w where w.hook_id = h.id and w.done is null)
		from hooks h join people p on p.id = h.person_id
		left join lateral (select done from deliveries d where d.hook_id = h.id and d.done is not null and d.error = ''
			order by d.id desc limit 1) d on true
		left join lateral (select error from deliveries d where d.hook_id = h.id order by d.id desc limit 1) f on true
		where h.project_id = $1 order by h.id`, project)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (h model.Hook, err error) {
		err = row.Scan(&h.ID, &h.URL, &h.Kinds, &h.Person, &h.Made, &h.Delivered, &h.Trouble, &h.Waiting)
		return h, err
	})
}

// Told is an event with the project it happened in, and the role there of the person who asks.
type Told struct {
	Row  int64
	Key  string
	Role string
	model.Event
}

// Latest lists up to limit events of some kinds in the projects of a person, the newest first, below an id (0 for from the newest on);
// only, where not "", is the one project. Relies on the primary key of events.
func (tx *Tx) Latest(ctx context.Context, person int64, only string, kinds []string, before int64, limit int) ([]Told, error) {
	rows, err := tx.q.Query(ctx, `select e.id, j.key, m.role, e.at, coalesce(p.handle, ''), e.kind, e.subject from events e
		join memberships m on m.project_id = e.project_id and m.person_id = $1 join projects j on j.id = e.project_id and j.deleted is null left
			join people p on p.id = e.person_id
		where ($2 = '' or j.key = $2) and e.kind = any($3) and ($4 = 0 or e.id < $4)
			order by e.id desc limit $5`, person, only, kinds, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (t Told, err error) {
		err = row.Scan(&t.Row, &t.Key, &t.Role, &t.At, &t.Person, &t.Kind, &t.Subject)
		return t, err
	})
}

// NewsRead is up to which event a person has read their news.
func (tx *Tx) NewsRead(ctx context.Context, person int64) (id int64, err error) {
	err = one(tx.q.QueryRow(ctx, `select news_read from people where id = $1`, person), &id)
	return id, err
}

// ReadNews notes up to which event a person has read their news.
func (tx *Tx) ReadNews(ctx context.Context, person, id int64) error {
	_, err := tx.q.Exec(ctx, `update people set news_read = greatest(news_read, least($2, coalesce((select max(id) from events), 0)))
		where id = $1`, person, id)
	return err
}
