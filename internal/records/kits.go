package records

import (
	"context"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

const releaseColumns = `r.kit, r.number, r.handoff, r.match, r.note, p.handle, r.at from kit_releases r join people p on p.id = r.person_id`

func scanRelease(row pgx.CollectableRow) (r model.KitRelease, err error) {
	err = row.Scan(&r.Kit, &r.Number, &r.Handoff, &r.Match, &r.Note, &r.Person, &r.At)
	return r, err
}

// AddKitRelease releases a kit under the next number. The transaction has the lock of the project's names (LockNames).
func (tx *Tx) AddKitRelease(ctx context.Context, project, person int64, r model.KitRelease) (number int, err error) {
	err = tx.q.QueryRow(ctx, `insert into kit_releases (project_id, kit, number, handoff, match, note, person_id)
		select $1, $2, coalesce(max(number), 0) + 1, $3, $4, $5, $6 from kit_releases where project_id = $1 and kit = $2 returning number`,
		project, r.Kit, r.Handoff, r.Match, r.Note, person).Scan(&number)
	return number, err
}

// KitReleases lists a project's, by kit, the latest first; those of one kit, where it is named. Relies on their primary key.
func (tx *Tx) KitReleases(ctx context.Context, project int64, kit string) ([]model.KitRelease, error) {
	rows, err := tx.q.Query(ctx, `select `+releaseColumns+` where r.project_id = $1 and ($2 = '' or r.kit = $2) order by r.kit, r.number desc`,
		project, kit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRelease)
}

// KitRelease is one, by its number; the latest with 0. See ErrNotFound.
func (tx *Tx) KitRelease(ctx context.Context, project int64, kit string, number int) (model.KitRelease, error) {
	rows, err := tx.q.Query(ctx, `select `+releaseColumns+` where r.project_id = $1 and r.kit = $2 and ($3 = 0 or r.number = $3)
		order by r.number desc limit 1`, project, kit, number)
	if err != nil {
		return model.KitRelease{}, err
	}
	r, err := pgx.CollectExactlyOneRow(rows, scanRelease)
	if err == pgx.ErrNoRows {
		err = ErrNotFound
	}
	return r, err
}

// RestoreKitRelease releases one as it was.
func (tx *Tx) RestoreKitRelease(ctx context.Context, project, person int64, r model.KitRelease) error {
	_, err := tx.q.Exec(ctx, `insert into kit_releases (project_id, kit, number, handoff, match, note, person_id, at)
		values ($1, $2, $3, $4, $5, $6, $7, $8)`, project, r.Kit, r.Number, r.Handoff, r.Match, r.Note, person, r.At)
	return err
}
