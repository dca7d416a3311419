package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
)

// LockTerms are what the rules of a project say of its locks.
type LockTerms struct {
	OfferFor       time.Duration
	AnswerWithin   time.Duration
	ForgottenAfter time.Duration
	BehindWarns    bool
}

// SetLockTerms keeps them, and where the rules send those who follow the id of a task.
func (tx *Tx) SetLockTerms(ctx context.Context, project int64, t LockTerms, links []rules.TaskLink) error {
	if links == nil {
		links = []rules.TaskLink{}
	}
	_, err := tx.q.Exec(ctx, `update projects set offer_for = $2, answer_within = $3, forgotten_after = $4, behind_warns = $5, task_links = $6
		where id = $1`,
		project, int(t.OfferFor/time.Second), int(t.AnswerWithin/time.Second), int(t.ForgottenAfter/time.Second), t.BehindWarns, links)
	return err
}

// Due is something that time does to a lock.
type Due struct {
	Project int64
	Folded  string
}

// DueLocks lists up to limit locks with an offer that lapsed or an ask that stayed unanswered, and says how long it is until the next is,
// an hour where none is in sight. Relies on waits_due and asks_due.
func (tx *Tx) DueLocks(ctx context.Context, limit int) (list []Due, next time.Duration, err error) {
	var batch pgx.Batch
	batch.Queue(`select a.project_id, a.folded from (
			(select w.asset_id from waits w where w.ended is null and w.until <= now() and exists (select from assets a where a.id = w.asset_id)
				order by w.until limit $1)
			union (select k.asset_id from asks k where k.answered is null and not k.told and k.late <= now() and exists (select from assets a
				where a.id = k.asset_id) order by k.late limit $1)) d
		join assets a on a.id = d.asset_id limit $1`, limit)
	batch.Queue(`select coalesce(extract(epoch from least((select min(until) from waits where ended is null),
		(select min(late) from asks where answered is null and not told)) - now()), 3600)::float8`)
	results := tx.q.SendBatch(ctx, &batch)
	defer results.Close()
	rows, err := results.Query()
	if err != nil {
		return nil, 0, err
	}
	if list, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Due]); err != nil {
		return nil, 0, err
	}
	var seconds float64
	err = results.QueryRow().Scan(&seconds)
	return list, time.Duration(max(seconds, 0) * float64(time.Second)), err
}

// forgotten is what makes a lock look forgotten; a is assets, j projects, w workspaces.
const forgotten = `j.forgotten_after > 0 and a.locked <= now() - j.forgotten_after * interval '1 second'
	and w.seen <= now() - j.forgotten_after * interval '1 second'
	and not exists (select from heads_ups h where h.workspace_id = a.workspace_id and h.asset_id = a.id)`

// RemindForgotten notes of up to limit forgotten locks that their holders are reminded now, and returns them. A lock is reminded of once.
func (tx *Tx) RemindForgotten(ctx context.Context, limit int) (list []model.Lock, projects []int64, err error) {
	rows, err := tx.q.Query(ctx, `
		update assets set reminded = assets.fence from (
			select a.id, p.handle, w.name from assets a join projects j on j.id = a.project_id join workspaces w on w.id = a.workspace_id
				join people p on p.id = a.holder_id
			where a.holder_id is not null and a.reminded <> a.fence and j.deleted is null and j.archived is null
				and `+forgotten+` order by a.id limit $1 for update of a skip locked) f
		where assets.id = f.id returning assets.project_id, assets.path, f.handle, f.name, assets.locked`, limit)
	if err != nil {
		return nil, nil, err
	}
	var project int64
	var l model.Lock
	_, err = pgx.ForEachRow(rows, []any{&project, &l.Path, &l.Holder, &l.Workspace, &l.Since}, func() error {
		list, projects = append(list, l), append(projects, project)
		return nil
	})
	return list, projects, err
}
