package records

import (
	"context"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// SendKey is what became of a key that a client wrote down for a send.
type SendKey struct {
	PersonID int64
	Request  []byte
	Handoff  int
}

// ClaimSendKey takes a key for this transaction; a transaction that has it and is not done yet is waited for. fresh is false where
// the key was used or closed before; key then tells what became of it. A nil request closes the key.
func (tx *Tx) ClaimSendKey(ctx context.Context, project int64, key string, person int64, request []byte) (k SendKey, fresh bool, err error) {
	tag, err := tx.q.Exec(ctx, `insert into send_keys (project_id, key, person_id, request) values ($1, $2, $3, $4) on conflict do nothing`, project, key, person, request)
	if err != nil || tag.RowsAffected() == 1 {
		return k, true, err
	}
	err = one(tx.q.QueryRow(ctx, `select person_id, request, coalesce(handoff, 0) from send_keys where project_id = $1 and key = $2`, project, key),
		&k.PersonID, &k.Request, &k.Handoff)
	return k, false, err
}

// NewHandoff is what AddHandoff writes.
type NewHandoff struct {
	Author    int64
	Workspace string
	Note      string
	Tasks     []string
	Stage     string
	Key       string
	Versions  []NewVersion
}

// NewVersion is one version of a NewHandoff. Content is 0 where the asset goes.
type NewVersion struct {
	Asset      int64
	Number     int
	Path       string
	Content    int64
	Executable bool
}

// AddHandoff numbers a handoff and writes it with its versions, and makes them the newest of their assets. It takes the counter
// last: nothing else may be locked after it.
func (tx *Tx) AddHandoff(ctx context.Context, project int64, h NewHandoff) (number int, err error) {
	n := len(h.Versions)
	ids, numbers, paths := make([]int64, n), make([]int32, n), make([]string, n)
	contents, executable := make([]int64, n), make([]bool, n)
	for i, v := range h.Versions {
		ids[i], numbers[i], paths[i], contents[i], executable[i] = v.Asset, int32(v.Number), v.Path, v.Content, v.Executable
	}
	err = tx.q.QueryRow(ctx, `update projects set handoffs = handoffs + 1 where id = $1 returning handoffs`, project).Scan(&number)
	if err != nil {
		return 0, err
	}
	if _, err = tx.q.Exec(ctx, `insert into handoffs (project_id, number, branch_id, author_id, workspace_id, note, tasks, stage)
		select $1, $2, b.id, $3, $4, $5, $6, $7 from branches b where b.project_id = $1 and b.name = 'main'`,
		project, number, h.Author, h.Workspace, h.Note, h.Tasks, h.Stage); err != nil {
		return 0, err
	}
	if _, err = tx.q.Exec(ctx, `insert into versions (asset_id, number, project_id, handoff, before, path, content_id, gone, executable)
		select id, n, $1, $2, n - 1, p, nullif(c, 0), c = 0, x
		from unnest($3::bigint[], $4::int[], $5::text[], $6::bigint[], $7::boolean[]) as u (id, n, p, c, x)`,
		project, number, ids, numbers, paths, contents, executable); err != nil {
		return 0, err
	}
	if _, err = tx.q.Exec(ctx, `update assets a set newest = u.n, path = u.p, gone = u.c = 0
		from unnest($1::bigint[], $2::int[], $3::text[], $4::bigint[]) as u (id, n, p, c) where a.id = u.id`, ids, numbers, paths, contents); err != nil {
		return 0, err
	}
	if h.Key != "" {
		_, err = tx.q.Exec(ctx, `update send_keys set handoff = $3 where project_id = $1 and key = $2`, project, h.Key, number)
	}
	return number, err
}

const handoffColumns = `h.number, b.name, p.handle, h.note, h.at, h.tasks, h.stage,
	(select count(*) from versions v where v.project_id = h.project_id and v.handoff = h.number),
	(select coalesce(sum(c.size), 0) from versions v join contents c on c.id = v.content_id where v.project_id = h.project_id and v.handoff = h.number)
	from handoffs h join branches b on b.id = h.branch_id join people p on p.id = h.author_id`

func scanHandoff(row pgx.CollectableRow) (h model.Handoff, err error) {
	h.Assets = []model.HandoffAsset{}
	err = row.Scan(&h.Number, &h.Branch, &h.Author, &h.Note, &h.At, &h.Tasks, &h.Stage, &h.Count, &h.Size)
	return h, err
}

// Handoffs lists up to limit handoffs below the number before (0 for all), the newest first, without their assets; folder, where
// not empty, keeps those that changed something at or below it (a folded path). Relies on the primary key of handoffs.
func (tx *Tx) Handoffs(ctx context.Context, project int64, before, limit int, author, folder string) ([]model.Handoff, error) {
	rows, err := tx.q.Query(ctx, `select `+handoffColumns+`
		where h.project_id = $1 and ($2 = 0 or h.number < $2) and ($4 = '' or p.handle = $4)
			and ($5 = '' or exists (select 1 from versions v join assets a on a.id = v.asset_id
				where v.project_id = h.project_id and v.handoff = h.number and (a.folded = $5 or starts_with(a.folded, $5 || '/'))))
		order by h.number desc limit $3`, project, before, limit, author, folder)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanHandoff)
}

// Handoff returns one handoff with its assets by path. Relies on versions_of_handoff.
func (tx *Tx) Handoff(ctx context.Context, project int64, number int) (model.Handoff, error) {
	rows, err := tx.q.Query(ctx, `select `+handoffColumns+` where h.project_id = $1 and h.number = $2`, project, number)
	if err != nil {
		return model.Handoff{}, err
	}
	h, err := pgx.CollectOneRow(rows, scanHandoff)
	if err != nil {
		if err == pgx.ErrNoRows {
			err = ErrNotFound
		}
		return h, err
	}
	rows, err = tx.q.Query(ctx, `
		select v.path, case when v.gone then 'gone' when v.before = 0 or o.gone then 'new' else 'edited' end, v.number, v.before, coalesce(c.size, 0), coalesce(c.digest, '')
		from versions v left join contents c on c.id = v.content_id left join versions o on o.asset_id = v.asset_id and o.number = v.before
		where v.project_id = $1 and v.handoff = $2 order by v.path`, project, number)
	if err != nil {
		return h, err
	}
	h.Assets, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (a model.HandoffAsset, err error) {
		var digest []byte
		err = row.Scan(&a.Path, &a.Change, &a.Version, &a.Before, &a.Size, &digest)
		if len(digest) == 32 {
			a.Digest = chunk.Digest(digest).String()
		}
		return a, err
	})
	return h, err
}

// Versions lists all versions of one asset, the newest first.
func (tx *Tx) Versions(ctx context.Context, project int64, folded string) ([]model.Version, error) {
	rows, err := tx.q.Query(ctx, `
		select v.number, v.path, v.handoff, p.handle, h.at, h.note, h.tasks, h.stage, coalesce(c.size, 0), coalesce(c.digest, ''), v.executable, v.gone
		from assets a join versions v on v.asset_id = a.id join handoffs h on h.project_id = v.project_id and h.number = v.handoff
		join people p on p.id = h.author_id left join contents c on c.id = v.content_id
		where a.project_id = $1 and a.folded = $2 order by v.number desc`, project, folded)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (v model.Version, err error) {
		var digest []byte
		err = row.Scan(&v.Version, &v.Path, &v.Handoff, &v.Author, &v.At, &v.Note, &v.Tasks, &v.Stage, &v.Size, &digest, &v.Executable, &v.Gone)
		if len(digest) == 32 {
			v.Digest = chunk.Digest(digest).String()
		}
		return v, err
	})
}
