package records

import (
	"context"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// Views lists the views of a project that a person has: the team's and their own, by name. Relies on views_names.
func (tx *Tx) Views(ctx context.Context, project, person int64) ([]model.View, error) {
	rows, err := tx.q.Query(ctx, `select v.name, v.person_id is null, v.folder, v.query, p.handle, v.kept from views v
		join people p on p.id = v.kept_by where v.project_id = $1 and (v.person_id is null or v.person_id = $2)
		order by v.folded, v.person_id is null`, project, person)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (v model.View, err error) {
		err = row.Scan(&v.Name, &v.Team, &v.Folder, &v.Query, &v.By, &v.At)
		return v, err
	})
}

// viewOwner is whose view it is: 0 stands for the team.
const viewOwner = `project_id = $1 and coalesce(person_id, 0) = $2 and folded = $3`

// KeepView keeps a view of a person's, or, where owner is 0, of the team's, in place of the one of that name.
func (tx *Tx) KeepView(ctx context.Context, project, owner, by int64, folded string, v model.View) error {
	_, err := tx.q.Exec(ctx, `insert into views (project_id, person_id, folded, name, folder, query, kept_by)
		values ($1, nullif($2::bigint, 0), $3, $4, $5, $6, $7)
		on conflict (project_id, coalesce(person_id, 0), folded) do update set name = excluded.name, folder = excluded.folder,
			query = excluded.query, kept_by = excluded.kept_by, kept = now()`, project, owner, folded, v.Name, v.Folder, v.Query, by)
	return err
}

// RemoveView forgets one, and reports whether it was there.
func (tx *Tx) RemoveView(ctx context.Context, project, owner int64, folded string) (bool, error) {
	tag, err := tx.q.Exec(ctx, `delete from views where `+viewOwner, project, owner, folded)
	return tag.RowsAffected() == 1, err
}
