package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// Tied finds who an account of the house is, where they may sign in. ended says that there is a person, who may not. See ErrNotFound.
func (tx *Tx) Tied(ctx context.Context, issuer, subject string) (p Person, ended bool, err error) {
	err = one(tx.q.QueryRow(ctx, `select p.id, p.handle, p.steward, p.ended is not null from ties t join people p on p.id = t.person_id
		where t.issuer = $1 and t.subject = $2`, issuer, subject), &p.ID, &p.Handle, &p.Steward, &ended)
	return p, ended, err
}

// Tie ties an account of the house to a person. See Duplicate.
func (tx *Tx) Tie(ctx context.Context, person int64, issuer, subject, shown string) error {
	_, err := tx.q.Exec(ctx, `insert into ties (issuer, subject, person_id, shown) values ($1, $2, $3, $4)`, issuer, subject, person, shown)
	return err
}

// UsedTie notes that somebody came in by a tie, and how the house calls them now.
func (tx *Tx) UsedTie(ctx context.Context, issuer, subject, shown string) error {
	_, err := tx.q.Exec(ctx, `update ties set used = clock_timestamp(), shown = $3 where issuer = $1 and subject = $2`, issuer, subject, shown)
	return err
}

// Ties lists a person's, the oldest first.
func (tx *Tx) Ties(ctx context.Context, person int64) ([]model.Tie, error) {
	rows, err := tx.q.Query(ctx, `select id, shown, made, used from ties where person_id = $1 order by id`, person)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[model.Tie])
}

// Untie takes one of a person's ties away. See ErrNotFound.
func (tx *Tx) Untie(ctx context.Context, person, number int64) (shown string, err error) {
	err = one(tx.q.QueryRow(ctx, `delete from ties where person_id = $1 and id = $2 returning shown`, person, number), &shown)
	return shown, err
}

// EndTies takes all of a person's away.
func (tx *Tx) EndTies(ctx context.Context, person int64) error {
	_, err := tx.q.Exec(ctx, `delete from ties where person_id = $1`, person)
	return err
}

// WithMail finds the one person who showed that a mail address is theirs, may sign in, and is nobody yet for an issuer: an address that
// was theirs once may be another one's now. See ErrNotFound, also where there are several.
func (tx *Tx) WithMail(ctx context.Context, mail, issuer string) (p Person, err error) {
	err = one(tx.q.QueryRow(ctx, `select p.id, p.handle, p.steward from people p where lower(p.mail) = lower($1) and p.mail <> ''
		and p.ended is null and not exists (select from people o where lower(o.mail) = lower(p.mail) and o.id <> p.id)
		and not exists (select from ties t where t.person_id = p.id and t.issuer = $2)`, mail, issuer), &p.ID, &p.Handle, &p.Steward)
	return p, err
}

// Membership is a person's role in a project, "" for none, and whether a group of the house gave it.
func (tx *Tx) Membership(ctx context.Context, project, person int64) (role string, byGroup bool, err error) {
	err = tx.q.QueryRow(ctx, `select coalesce(max(role), ''), coalesce(bool_or(by_group), false) from memberships
		where project_id = $1 and person_id = $2`, project, person).Scan(&role, &byGroup)
	return role, byGroup, err
}

// SetMemberByGroup gives a person a role in a project that a group of the house has there.
func (tx *Tx) SetMemberByGroup(ctx context.Context, project, person int64, role string) error {
	_, err := tx.q.Exec(ctx, `insert into memberships (project_id, person_id, role, by_group) values ($1, $2, $3, true)
		on conflict (project_id, person_id) do update set role = excluded.role, by_group = true`, project, person, role)
	return err
}

// Elsewhere is a program that waits for somebody who signs in with a browser.
type Elsewhere struct {
	Label, Address string
	// Person is who said yes, 0 for nobody yet.
	Person  Person
	Refused bool
	Over    bool
	// TooSoon says that it asked less than a moment before.
	TooSoon bool
}

// AddElsewhere keeps a program that waits, under the digest of its secret. Those whose time is over go. See Duplicate, of the code.
func (tx *Tx) AddElsewhere(ctx context.Context, secret [32]byte, code, label, address string, patience time.Duration) error {
	if _, err := tx.q.Exec(ctx, `delete from elsewhere where until < clock_timestamp() - interval '1 hour'`); err != nil {
		return err
	}
	_, err := tx.q.Exec(ctx, `insert into elsewhere (secret, code, label, address, until)
		values ($1, $2, $3, $4, clock_timestamp() + $5 * interval '1 second')`, secret[:], code, label, address, int(patience.Seconds()))
	return err
}

// ElsewhereByCode finds a program that waits, by the code that it shows. See ErrNotFound, also where it waits no more.
func (tx *Tx) ElsewhereByCode(ctx context.Context, code string) (e Elsewhere, err error) {
	err = one(tx.q.QueryRow(ctx, `select label, address from elsewhere where code = $1 and until > clock_timestamp() and person_id is null
		and not refused for update`, code), &e.Label, &e.Address)
	return e, err
}

// AnswerElsewhere says yes for a person to a program that waits, or no for person 0.
func (tx *Tx) AnswerElsewhere(ctx context.Context, code string, person int64) error {
	_, err := tx.q.Exec(ctx, `update elsewhere set person_id = nullif($2::bigint, 0), refused = $2 = 0 where code = $1`, code, person)
	return err
}

// AskElsewhere is what a program hears that waits, by its secret; with that it asked. See ErrNotFound.
func (tx *Tx) AskElsewhere(ctx context.Context, secret [32]byte, pause time.Duration) (e Elsewhere, err error) {
	err = one(tx.q.QueryRow(ctx, `select e.label, e.address, coalesce(p.id, 0), coalesce(p.handle, ''), coalesce(p.steward, false), e.refused
			or p.ended is not null, e.until < clock_timestamp(), coalesce(e.asked > clock_timestamp() - $2 * interval '1 millisecond', false)
		from elsewhere e left join people p on p.id = e.person_id where e.secret = $1 for update of e`, secret[:], pause.Milliseconds()),
		&e.Label, &e.Address, &e.Person.ID, &e.Person.Handle, &e.Person.Steward, &e.Refused, &e.Over, &e.TooSoon)
	if err == nil {
		_, err = tx.q.Exec(ctx, `update elsewhere set asked = clock_timestamp() where secret = $1`, secret[:])
	}
	return e, err
}

// EndElsewhere forgets a program that waited.
func (tx *Tx) EndElsewhere(ctx context.Context, secret [32]byte) error {
	_, err := tx.q.Exec(ctx, `delete from elsewhere where secret = $1`, secret[:])
	return err
}

// Lapsed is somebody who is in a project by a group of the house, and did not come in by the house for long.
type Lapsed struct {
	Key    string
	Person Person
}

// Lapsed lists those who did not come in by the house for so many days.
func (tx *Tx) Lapsed(ctx context.Context, days int) ([]Lapsed, error) {
	rows, err := tx.q.Query(ctx, `select j.key, p.id, p.handle from memberships m join people p on p.id = m.person_id
		join projects j on j.id = m.project_id where m.by_group and j.deleted is null and not exists (select from ties t
			where t.person_id = p.id and coalesce(t.used, t.made) > clock_timestamp() - $1 * interval '1 day') order by j.key, p.handle`, days)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (l Lapsed, err error) {
		err = row.Scan(&l.Key, &l.Person.ID, &l.Person.Handle)
		return l, err
	})
}
