package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// SetHeadsUps makes the unsent changes of a workspace those of assets that are given, by id, each once, and returns the paths of the assets
// of which that says something else than before. What stays keeps its time.
func (tx *Tx) SetHeadsUps(ctx context.Context, project int64, workspace string, assets []int64, states []string, sizes []int64,
	since []time.Time) ([]string, error) {
	rows, err := tx.q.Query(ctx, `
		with gone as (delete from heads_ups h where h.workspace_id = $2 and not h.asset_id = any($3) returning h.asset_id),
		fresh as (insert into heads_ups as h (workspace_id, project_id, asset_id, state, size, since)
			select $2, $1, a.id, a.s, a.n, least(a.t, now())
			from unnest($3::bigint[], $4::text[], $5::bigint[], $6::timestamptz[]) as a (id, s, n, t) order by a.id
			on conflict (workspace_id, asset_id) do update set state = excluded.state, size = excluded.size
				where h.state <> excluded.state or h.size <> excluded.size returning h.asset_id)
		select a.path from assets a where a.id in (select asset_id from gone union all select asset_id from fresh) order by a.path`,
		project, workspace, assets, states, sizes, since)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// DropHeadsUps takes out those of a workspace for assets that it has sent.
func (tx *Tx) DropHeadsUps(ctx context.Context, workspace string, assets []int64) error {
	_, err := tx.q.Exec(ctx, `delete from heads_ups where workspace_id = $1 and asset_id = any($2)`, workspace, assets)
	return err
}

// ForgetHeadsUps takes out all those of a person in a project.
func (tx *Tx) ForgetHeadsUps(ctx context.Context, project, person int64) error {
	_, err := tx.q.Exec(ctx, `delete from heads_ups h using workspaces w where h.project_id = $1 and w.id = h.workspace_id
		and w.person_id = $2`, project, person)
	return err
}

// HeadsUps lists who has unsent changes in a project, the oldest first. Relies on heads_ups_of_project.
func (tx *Tx) HeadsUps(ctx context.Context, project int64) ([]model.HeadsUp, error) {
	rows, err := tx.q.Query(ctx, headsUps+` where h.project_id = $1 order by h.since, a.path, p.handle`, project)
	if err != nil {
		return nil, err
	}
	return scanHeadsUps(rows)
}

const headsUps = `select a.path, p.handle, w.name, w.id, h.state, h.size, h.since
	from heads_ups h join assets a on a.id = h.asset_id join workspaces w on w.id = h.workspace_id join people p on p.id = w.person_id`

// Shown is AssetsAt, with who has unsent changes to those assets, in one round trip. Relies on heads_ups_of_project, too.
func (tx *Tx) Shown(ctx context.Context, project int64, state int, folded []string) (assets []model.Asset, heads []model.HeadsUp,
	err error) {
	batch := &pgx.Batch{}
	batch.Queue(assetsAt, project, state, folded)
	batch.Queue(headsUps+` where h.project_id = $1 and h.asset_id = any(`+idsOf+`) order by h.since, a.path, p.handle`, project, folded)
	results := tx.q.SendBatch(ctx, batch)
	defer results.Close()
	rows, err := results.Query()
	if err != nil {
		return nil, nil, err
	}
	if assets, err = standing(rows, folded); err != nil {
		return nil, nil, err
	}
	if rows, err = results.Query(); err != nil {
		return nil, nil, err
	}
	if heads, err = scanHeadsUps(rows); err != nil {
		return nil, nil, err
	}
	return assets, heads, results.Close()
}

func scanHeadsUps(rows pgx.Rows) ([]model.HeadsUp, error) {
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (h model.HeadsUp, err error) {
		err = row.Scan(&h.Path, &h.Handle, &h.Workspace, &h.WorkspaceID, &h.State, &h.Size, &h.Since)
		return h, err
	})
}

// AddRuleRequest keeps what somebody asks of the leads.
func (tx *Tx) AddRuleRequest(ctx context.Context, project, person int64, path, reason string) (id int64, err error) {
	err = tx.q.QueryRow(ctx, `insert into rule_requests (project_id, person_id, path, reason) values ($1, $2, $3, $4) returning id`, project,
		person, path, reason).Scan(&id)
	return id, err
}

// RuleRequests lists those that nobody has answered, the oldest first, and behind them the latest answered ones.
func (tx *Tx) RuleRequests(ctx context.Context, project int64) ([]model.RuleRequest, error) {
	rows, err := tx.q.Query(ctx, `
		select r.id, r.path, p.handle, r.reason, r.at, r.answered, coalesce(r.accepted, false), coalesce(q.handle, ''), r.word
		from rule_requests r join people p on p.id = r.person_id left join people q on q.id = r.answerer_id
		where r.project_id = $1 order by r.answered is not null, r.answered desc, r.id limit 200`, project)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r model.RuleRequest, err error) {
		err = row.Scan(&r.ID, &r.Path, &r.Person, &r.Reason, &r.At, &r.Answered, &r.Accepted, &r.AnsweredBy, &r.Word)
		return r, err
	})
}

// AnswerRuleRequest answers one that is open, and returns its path and who asked.
func (tx *Tx) AnswerRuleRequest(ctx context.Context, project, id, person int64, accepted bool,
	word string) (path, asker string, err error) {
	err = one(tx.q.QueryRow(ctx, `update rule_requests r set answered = now(), accepted = $4, answerer_id = $3, word = $5 from people p
		where r.project_id = $1 and r.id = $2 and r.answered is null and p.id = r.person_id
			returning r.path, p.handle`, project, id, person, accepted, word), &path, &asker)
	return path, asker, err
}

// Moves are assets that go to folded paths.
type Moves struct {
	ids []int64
	to  []string
}

// Add adds one.
func (m *Moves) Add(asset int64, to string) { m.ids, m.to = append(m.ids, asset), append(m.to, to) }

// MovePaths gives assets claims on the places to which they go. What was never there gives up its own altogether. The claims on the places
// that they leave stay: another branch may have them there.
func (tx *Tx) MovePaths(ctx context.Context, project int64, m Moves) error {
	if len(m.ids) == 0 {
		return nil
	}
	var batch pgx.Batch
	batch.Queue(`with never as (delete from assets a where a.id = any(`+idsOf+`) and not a.id = any($3)
			and not exists (select from versions v where v.asset_id = a.id) returning a.id)
		delete from claims c using never where c.project_id = $1 and c.folded = any($2) and c.asset_id = never.id`, project, m.to, m.ids)
	batch.Queue(addClaims, project, m.ids, m.to)
	return tx.q.SendBatch(ctx, &batch).Close()
}
