package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// A project that is being brought in counts as deleted until all of it is there: nobody sees it, and what is left of one that was broken
// off goes in time.

// AddComing makes a project that is being brought in. See Duplicate.
func (tx *Tx) AddComing(ctx context.Context, key string) (id int64, err error) {
	err = tx.q.QueryRow(ctx,
		`insert into projects (key, coming, deleted, goes) values ($1, true, now(), now() + interval '7 days') returning id`,
		key).Scan(&id)
	return id, err
}

// LeftComing finds what is left of a project that was being brought in. See ErrNotFound.
func (tx *Tx) LeftComing(ctx context.Context, key string) (p Project, err error) {
	p.Key = key
	err = one(tx.q.QueryRow(ctx, `select id from projects where key = $1 and coming`, key), &p.ID)
	return p, err
}

// Coming reports whether a project is being brought in still.
func (tx *Tx) Coming(ctx context.Context, id int64) (coming bool, err error) {
	err = one(tx.q.QueryRow(ctx, `select coming from projects where id = $1`, id), &coming)
	return coming, err
}

// Came lets everybody see a project that was being brought in.
func (tx *Tx) Came(ctx context.Context, id int64) error {
	_, err := tx.q.Exec(ctx, `update projects set coming = false, deleted = null, goes = null where id = $1`, id)
	return err
}

// NewAssetIDs are ids that no asset has, or will have.
func (tx *Tx) NewAssetIDs(ctx context.Context, n int) ([]int64, error) {
	rows, err := tx.q.Query(ctx, `select nextval(pg_get_serial_sequence('assets', 'id')) from generate_series(1, $1)`, n)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// KnownPeople are the ids of those of the handles who are people here, and may sign in.
func (tx *Tx) KnownPeople(ctx context.Context, handles []string) (map[string]int64, error) {
	rows, err := tx.q.Query(ctx, `select handle, id from people where handle = any($1) and ended is null`, handles)
	if err != nil {
		return nil, err
	}
	known := map[string]int64{}
	var handle string
	var id int64
	_, err = pgx.ForEachRow(rows, []any{&handle, &id}, func() error {
		known[handle] = id
		return nil
	})
	return known, err
}

// RestoreMilestone makes a milestone as it was.
func (tx *Tx) RestoreMilestone(ctx context.Context, project, person int64, folded string, m model.Milestone) error {
	_, err := tx.q.Exec(ctx,
		`insert into milestones (project_id, name, folded, handoff, note, person_id, at) values ($1, $2, $3, $4, $5, $6, $7)`,
		project, m.Name, folded, m.Handoff, m.Note, person, m.At)
	return err
}

// RestoreReview makes a review as it was, without what was said in it. branch and closer are 0 for none.
func (tx *Tx) RestoreReview(ctx context.Context, project int64, r model.Review, branch, handoff, person, closer int64,
	asked []int64) error {
	if _, err := tx.q.Exec(ctx, `insert into reviews (project_id, number, branch_id, handoff, person_id, at, body, closed, closer_id)
		values ($1, $2, nullif($3::bigint, 0), $4, $5, $6, $7, $8, nullif($9::bigint, 0))`, project, r.Number, branch, handoff, person, r.At,
		r.Text,
		r.Closed, closer); err != nil {
		return err
	}
	return tx.AskToLook(ctx, project, r.Number, asked)
}

// RestoreRemark makes a remark as it was. asset and settler are 0 for none.
func (tx *Tx) RestoreRemark(ctx context.Context, project int64, review int, m model.Remark, person, settler, asset int64) error {
	_, err := tx.q.Exec(ctx,
		`insert into remarks (project_id, review, number, person_id, at, body, path, asset_id, version, spot, answers, settled,
			settler_id)
		values ($1, $2, $3, $4, $5, $6, $7, nullif($8::bigint, 0), $9, $10, $11, $12, nullif($13::bigint, 0))`, project, review, m.Number, person,
		m.At, m.Text, m.Path, asset, m.Version, m.Where, m.Answers, m.Settled, settler)
	return err
}

// RestoreReviewAnswer makes an answer as it was.
func (tx *Tx) RestoreReviewAnswer(ctx context.Context, project int64, review int, person int64, yes bool, why string, at time.Time,
	head int) error {
	_, err := tx.q.Exec(ctx,
		`insert into review_answers (project_id, review, person_id, yes, why, at, head) values ($1, $2, $3, $4, $5, $6, $7)`,
		project, review, person, yes, why, at, head)
	return err
}
