package records

import (
	"context"
	"encoding/hex"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/change"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
)

// Asset is a row of assets, with its lock. Held and Last are not read with it.
type Asset struct {
	change.Asset
	Gone bool
	// Was is the lock as it was read: SetLocks writes what is different.
	Was lock.State
	// HeadsUp says that somebody has unsent changes to it.
	HeadsUp bool
}

// ClaimPaths makes the assets that are missing among the given ones, so that their rows can be locked, and returns which those are. folded
// is sorted. Where begins says so, a row is written as version 1 leaves it (see NewVersion.Born): whoever claims it writes that version in
// the same transaction, or nothing.
func (tx *Tx) ClaimPaths(ctx context.Context, project int64, paths, folded []string, begins []bool) (born map[string]bool, err error) {
	rows, err := tx.q.Query(ctx, `insert into assets (project_id, path, folded, newest, gone)
		select $1, p, f, b::int, not b from unnest($2::text[], $3::text[], $4::boolean[]) as u (p, f, b) order by f
		on conflict do nothing returning folded`, project, paths, folded, begins)
	if err != nil {
		return nil, err
	}
	born = map[string]bool{}
	var f string
	_, err = pgx.ForEachRow(rows, []any{&f}, func() error {
		born[f] = true
		return nil
	})
	return born, err
}

// Now is the database's clock: the one that locks and handoffs go by. It is the time of asking, not that of the transaction's start: asked
// for behind a lock, it is later than all that was done under that lock before.
func (tx *Tx) Now(ctx context.Context) (t time.Time, err error) {
	err = tx.q.QueryRow(ctx, `select clock_timestamp()`).Scan(&t)
	return t, err
}

const assetColumns = `a.id, v.path, v.number, v.gone, coalesce(c.size, 0), coalesce(c.digest, ''), coalesce(c.whole, ''), v.executable, ` +
	authorName + `, h.at, v.handoff, h.note,
	a.fence, coalesce(hp.handle, ''), coalesce(a.workspace_id::text, ''), coalesce(w.name, ''), a.locked, a.lock_note, a.diverged`

// Each row is looked up by its key, whatever the planner thinks of tables that have just grown.
const assetJoins = ` cross join lateral (select * from handoffs h where h.project_id = v.project_id and h.number = v.handoff limit 1) h
	join people p on p.id = h.author_id
	left join lateral (select * from contents c where c.id = v.content_id limit 1) c on true
	left join people hp on hp.id = a.holder_id
	left join lateral (select * from workspaces w where w.id = a.workspace_id limit 1) w on true`

// Known is an asset as it is shown, beside its id.
type Known struct {
	ID int64
	model.Asset
}

func scanAsset(row pgx.CollectableRow) (k Known, err error) {
	var content, whole []byte
	var l model.Lock
	var since *time.Time
	a := &k.Asset
	err = row.Scan(&k.ID, &a.Path, &a.Newest, &a.Gone, &a.Size, &content, &whole, &a.Executable, &a.Author, &a.At, &a.Handoff, &a.Note,
		&l.Fence, &l.Holder, &l.WorkspaceID, &l.Workspace, &since, &l.Note, &l.Diverged)
	a.Content, a.Digest = hex.EncodeToString(content), hex.EncodeToString(whole)
	if since != nil {
		l.Path, l.Since, l.Waitlist = a.Path, *since, []model.Waiter{}
		a.Holder, a.Lock = l.Holder, &l
	}
	return k, err
}

// AssetsByID returns assets by id, as their newest versions up to handoff at are. Locks are those of now. Relies on the primary keys of
// assets and versions; the project is compared behind that, or a planner that has not seen it yet looks through all of it for each row.
func (tx *Tx) AssetsByID(ctx context.Context, project int64, ids []int64, at int) (map[int64]model.Asset, error) {
	rows, err := tx.q.Query(ctx, `
		select `+assetColumns+` from unnest($2::bigint[]) u (i)
		cross join lateral (select * from assets a where a.id = u.i limit 1) a
		cross join lateral (select * from versions v where v.asset_id = a.id and v.handoff <= $3 order by v.number desc limit 1) v`+assetJoins+`
		where a.project_id = $1`, project, ids, at)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, scanAsset)
	found := make(map[int64]model.Asset, len(list))
	for _, k := range list {
		found[k.ID] = k.Asset
	}
	return found, err
}

const assetsAt = `select ` + assetColumns + ` from unnest($2::text[]) u (f)
	cross join lateral (select * from assets a where a.project_id = $1 and a.folded = u.f limit 1) a
	cross join lateral (select * from versions v where v.asset_id = a.id and v.number = a.newest limit 1) v` + assetJoins + ` order by a.path`

// AssetsAt returns assets by folded path, as their newest versions are.
func (tx *Tx) AssetsAt(ctx context.Context, project int64, folded []string) ([]model.Asset, error) {
	rows, err := tx.q.Query(ctx, assetsAt, project, folded)
	if err != nil {
		return nil, err
	}
	return plain(rows)
}

func plain(rows pgx.Rows) ([]model.Asset, error) {
	list, err := pgx.CollectRows(rows, scanAsset)
	out := make([]model.Asset, len(list))
	for i, k := range list {
		out[i] = k.Asset
	}
	return out, err
}

// IDsAt are the ids of the assets that are at folded paths now.
func (tx *Tx) IDsAt(ctx context.Context, project int64, folded []string) (map[string]int64, error) {
	rows, err := tx.q.Query(ctx, `select a.folded, a.id from unnest($2::text[]) u (f)
		cross join lateral (select * from assets a where a.project_id = $1 and a.folded = u.f limit 1) a where not a.gone`, project, folded)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	found := map[string]int64{}
	for rows.Next() {
		var path string
		var id int64
		if err := rows.Scan(&path, &id); err != nil {
			return nil, err
		}
		found[path] = id
	}
	return found, rows.Err()
}

// Search lists up to limit live assets whose path has text in it, behind the folded path after.
func (tx *Tx) Search(ctx context.Context, project int64, text, after string, limit int) ([]model.Asset, error) {
	rows, err := tx.q.Query(ctx, `select `+assetColumns+` from assets a join versions v on v.asset_id = a.id and v.number = a.newest`+
		assetJoins+`
		where a.project_id = $1 and not a.gone and a.folded > $3 and position($2 in a.folded) > 0
			order by a.folded limit $4`, project, text, after, limit)
	if err != nil {
		return nil, err
	}
	return plain(rows)
}
