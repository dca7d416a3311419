package records

import (
	"context"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// AddInvitation keeps an invitation that a person made, under the digest of its secret, and returns it.
func (tx *Tx) AddInvitation(ctx context.Context, project, person int64, secret [32]byte, i model.Invitation) (model.Invitation, error) {
	// Numbers are given out one after the other.
	if _, err := tx.q.Exec(ctx, `select from projects where id = $1 for no key update`, project); err != nil {
		return i, err
	}
	var number int
	if err := one(tx.q.QueryRow(ctx, `insert into invitations (project_id, number, secret, made_by, until, role, mail, uses)
		values ($1, coalesce((select max(number) from invitations where project_id = $1), 0) + 1, $2, $3, $4, $5, $6, $7)
		returning number`, project, secret[:], person, i.Until, i.Role, i.Mail, i.Uses), &number); err != nil {
		return i, err
	}
	list, err := tx.Invitations(ctx, project, number)
	if err == nil && len(list) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return i, err
	}
	return list[0], nil
}

// An invitation is over with its end, its uses, its time, or with the right of who made it to let people in.
const invitation = `i.number, i.role, p.handle, i.mail, i.made, i.until, i.uses,
	array(select o.handle from invited u join people o on o.id = u.person_id where u.project_id = i.project_id and u.number = i.number
		order by u.at, o.handle),
	i.ended, coalesce(e.handle, ''),
	p.ended is null and (p.steward or exists (select from memberships m where m.project_id = i.project_id and m.person_id = i.made_by
		and m.role in ('lead', 'owner'))), i.until > clock_timestamp()`

const invitationFrom = ` from invitations i join people p on p.id = i.made_by left join people e on e.id = i.ended_by `

func invitationInto(i *model.Invitation, may, inTime *bool) []any {
	return []any{&i.Number, &i.Role, &i.By, &i.Mail, &i.Made, &i.Until, &i.Uses, &i.Joined, &i.Ended, &i.EndedBy, may, inTime}
}

// Invitations lists those of a project, the newest first; number, where not 0, is the one asked about. Relies on the primary key.
func (tx *Tx) Invitations(ctx context.Context, project int64, number int) ([]model.Invitation, error) {
	rows, err := tx.q.Query(ctx, `select `+invitation+invitationFrom+`where i.project_id = $1 and ($2 = 0 or i.number = $2)
		order by i.number desc`, project, number)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (i model.Invitation, err error) {
		var may, inTime bool
		err = row.Scan(invitationInto(&i, &may, &inTime)...)
		i.Holds = may && inTime && i.Ended == nil && len(i.Joined) < i.Uses
		return i, err
	})
}

// InvitationBySecret finds an invitation, and of which project it is, by the digest of its secret. Where it is not only looked at, nobody
// else takes or ends it until the transaction ends. Relies on invitations_secret_key. See ErrNotFound.
func (tx *Tx) InvitationBySecret(ctx context.Context, secret [32]byte, take bool) (i model.Invitation, p Project, err error) {
	lock := ""
	if take {
		lock = ` for no key update of i`
	}
	var number int
	if err := one(tx.q.QueryRow(ctx, `select i.project_id, j.key, i.number from invitations i join projects j on j.id = i.project_id
		where i.secret = $1 and j.deleted is null`+lock, secret[:]), &p.ID, &p.Key, &number); err != nil {
		return i, p, err
	}
	list, err := tx.Invitations(ctx, p.ID, number)
	if err == nil && len(list) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return i, p, err
	}
	return list[0], p, nil
}

// UseInvitation notes that a person joined by one.
func (tx *Tx) UseInvitation(ctx context.Context, project int64, number int, person int64) error {
	_, err := tx.q.Exec(ctx, `insert into invited (project_id, number, person_id) values ($1, $2, $3)`, project, number, person)
	return err
}

// EndInvitation ends one that was not ended, and reports whether there was one.
func (tx *Tx) EndInvitation(ctx context.Context, project int64, number int, person int64) (bool, error) {
	tag, err := tx.q.Exec(ctx, `update invitations set ended = now(), ended_by = $3 where project_id = $1 and number = $2 and ended is null`,
		project, number, person)
	return tag.RowsAffected() == 1, err
}

// EndTokensFor ends the tokens of a person that are for one project, and tells how many that were.
func (tx *Tx) EndTokensFor(ctx context.Context, project, person int64) (int, error) {
	tag, err := tx.q.Exec(ctx, `update tokens set revoked = now() where project_id = $1 and person_id = $2 and revoked is null`, project,
		person)
	return int(tag.RowsAffected()), err
}

// Leaving is what it would touch that a person leaves a project; paths are in their order.
func (tx *Tx) Leaving(ctx context.Context, project, person int64) (l model.Leaving, err error) {
	err = one(tx.q.QueryRow(ctx, `select
			array(select a.path from assets a where a.project_id = $1 and a.holder_id = $2 order by a.path),
			(select count(*) from waits w where w.project_id = $1 and w.person_id = $2 and w.ended is null),
			array(select distinct a.path from heads_ups h join workspaces w on w.id = h.workspace_id join assets a on a.id = h.asset_id
				where h.project_id = $1 and w.person_id = $2 order by a.path),
			(select count(*) from tokens t where t.project_id = $1 and t.person_id = $2 and t.revoked is null and t.expires > now()),
			(select count(*) from showings s where s.project_id = $1 and s.made_by = $2 and s.ended is null and s.until > now()),
			(select count(*) from invitations i where i.project_id = $1 and i.made_by = $2 and i.ended is null and i.until > now()
				and i.uses > (select count(*) from invited u where u.project_id = i.project_id and u.number = i.number))`, project, person),
		&l.Locks, &l.Waiting, &l.Unsent, &l.Tokens, &l.Showings, &l.Invitations)
	return l, err
}
