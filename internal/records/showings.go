package records

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// LockShowings keeps others from making showings of a project, and from switching them on or off, until the transaction ends. It reports
// whether they are switched off.
func (tx *Tx) LockShowings(ctx context.Context, project int64) (off bool, err error) {
	err = one(tx.q.QueryRow(ctx, `select showings_off from projects where id = $1 for no key update`, project), &off)
	return off, err
}

// SetShowingsOff switches the showings of a project off, or on again.
func (tx *Tx) SetShowingsOff(ctx context.Context, project int64, off bool) error {
	_, err := tx.q.Exec(ctx, `update projects set showings_off = $2 where id = $1`, project, off)
	return err
}

// ShowingsOff reports whether they are switched off.
func (tx *Tx) ShowingsOff(ctx context.Context, project int64) (off bool, err error) {
	err = one(tx.q.QueryRow(ctx, `select showings_off from projects where id = $1`, project), &off)
	return off, err
}

// AddShowing keeps a showing that a person made, under the digest of its secret, and returns it. The caller has passed LockShowings.
func (tx *Tx) AddShowing(ctx context.Context, project, person int64, secret [32]byte, s model.Showing) (model.Showing, error) {
	var number int
	if err := one(tx.q.QueryRow(ctx, `insert into showings (project_id, number, secret, made_by, until, about, state, path, version, handoff,
			with_path, with_version, with_handoff, files)
		values ($1, coalesce((select max(number) from showings where project_id = $1), 0) + 1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)
		returning number`, project, secret[:], person, s.Until, s.For, s.State, s.Path, s.Version, s.Handoff, s.With, s.WithVersion,
		s.WithHandoff, s.Files), &number); err != nil {
		return s, err
	}
	list, err := tx.Showings(ctx, project, number, Page{})
	if err == nil && len(list) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return s, err
	}
	return list[0], nil
}

const showing = `s.number, p.handle, s.made, s.until, s.about, s.state, s.path, s.version, s.handoff, s.with_path, s.with_version,
	s.with_handoff, s.files, s.ended, coalesce(e.handle, ''), s.opened, s.opened_last,
	s.ended is null and s.until > now() and not j.showings_off and p.ended is null
		and exists (select from memberships m where m.project_id = s.project_id and m.person_id = s.made_by)`

const showingFrom = ` from showings s join projects j on j.id = s.project_id join people p on p.id = s.made_by
	left join people e on e.id = s.ended_by `

func showingInto(s *model.Showing) []any {
	return []any{&s.Number, &s.By, &s.Made, &s.Until, &s.For, &s.State, &s.Path, &s.Version, &s.Handoff, &s.With, &s.WithVersion,
		&s.WithHandoff, &s.Files, &s.Ended, &s.EndedBy, &s.Opened, &s.OpenedLast, &s.Holds}
}

// CountShowings is how many a project has had.
func (tx *Tx) CountShowings(ctx context.Context, project int64) (n int, err error) {
	err = one(tx.q.QueryRow(ctx, `select count(*) from showings where project_id = $1`, project), &n)
	return n, err
}

// Showings lists a page of those of a project, the newest first; number, where not 0, is the one asked about. Relies on the primary key.
func (tx *Tx) Showings(ctx context.Context, project int64, number int, page Page) ([]model.Showing, error) {
	rows, err := tx.q.Query(ctx, `select `+showing+showingFrom+`where s.project_id = $1 and ($2 = 0 or s.number = $2)
		order by s.number desc`+page.sql(), project, number)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (s model.Showing, err error) {
		err = row.Scan(showingInto(&s)...)
		return s, err
	})
}

// ShowingBySecret finds what a link shows, and of which project, by the digest of its secret, where it holds. Relies on
// showings_secret_key.
func (tx *Tx) ShowingBySecret(ctx context.Context, secret [32]byte) (s model.Showing, p Project, err error) {
	err = one(tx.q.QueryRow(ctx, `select j.id, j.key, `+showing+showingFrom+`where s.secret = $1 and j.deleted is null`, secret[:]),
		append([]any{&p.ID, &p.Key}, showingInto(&s)...)...)
	return s, p, err
}

// EndShowing ends one that was not ended, and reports whether it was there.
func (tx *Tx) EndShowing(ctx context.Context, project int64, number int, person int64) (bool, error) {
	tag, err := tx.q.Exec(ctx, `update showings set ended = now(), ended_by = $3 where project_id = $1 and number = $2 and ended is null`,
		project, number, person)
	return tag.RowsAffected() == 1, err
}

// OpenedShowing notes that the page of one was opened, and reports whether nobody had within the hour before.
func (tx *Tx) OpenedShowing(ctx context.Context, project int64, number int) (fresh bool, err error) {
	err = one(tx.q.QueryRow(ctx, `update showings s set opened = s.opened + 1, opened_last = now() from showings was
		where s.project_id = $1 and s.number = $2 and was.project_id = s.project_id and was.number = s.number
		returning was.opened_last is null or was.opened_last < now() - interval '1 hour'`, project, number), &fresh)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return fresh, err
}
