package records

import (
	"context"
	"encoding/hex"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// AddMilestone names a handoff, and reports false where the name is taken.
func (tx *Tx) AddMilestone(ctx context.Context, project, person int64, folded string, m model.Milestone) (bool, error) {
	tag, err := tx.q.Exec(ctx, `insert into milestones (project_id, name, folded, handoff, note, person_id) values ($1, $2, $3, $4, $5, $6)
		on conflict do nothing`,
		project, m.Name, folded, m.Handoff, m.Note, person)
	return tag.RowsAffected() == 1, err
}

// Milestones lists a project's, the latest handoff first; folded, where not empty, is the one that is wanted. Relies on their primary key.
func (tx *Tx) Milestones(ctx context.Context, project int64, folded string) ([]model.Milestone, error) {
	return tx.MilestonePage(ctx, project, folded, Page{})
}

// CountMilestones is how many a project has.
func (tx *Tx) CountMilestones(ctx context.Context, project int64) (n int, err error) {
	err = one(tx.q.QueryRow(ctx, `select count(*) from milestones where project_id = $1`, project), &n)
	return n, err
}

// MilestonePage is a page of Milestones.
func (tx *Tx) MilestonePage(ctx context.Context, project int64, folded string, page Page) ([]model.Milestone, error) {
	rows, err := tx.q.Query(ctx, `select m.name, m.handoff, h.digest, h.at, m.note, p.handle, m.at from milestones m
		join handoffs h on h.project_id = m.project_id and h.number = m.handoff join people p on p.id = m.person_id
		where m.project_id = $1 and ($2 = '' or m.folded = $2) order by m.handoff desc, m.at desc, m.folded`+page.sql(), project, folded)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (m model.Milestone, err error) {
		var digest []byte
		err = row.Scan(&m.Name, &m.Handoff, &digest, &m.HandedOff, &m.Note, &m.Person, &m.At)
		m.Digest = hex.EncodeToString(digest)
		return m, err
	})
}

// RemoveMilestone takes a name away, and reports whether it was there.
func (tx *Tx) RemoveMilestone(ctx context.Context, project int64, folded string) (bool, error) {
	tag, err := tx.q.Exec(ctx, `delete from milestones where project_id = $1 and folded = $2`, project, folded)
	return tag.RowsAffected() == 1, err
}
