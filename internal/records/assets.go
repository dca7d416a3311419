package records

import (
	"context"
	"encoding/hex"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
)

// Asset is a row of assets, with its lock.
type Asset struct {
	ID     int64
	Folded string
	Path   string
	Newest int
	Gone   bool
	Lock   lock.State
}

// ClaimPaths makes the assets that are missing among the given ones, so that their rows can be locked. folded is sorted.
func (tx *Tx) ClaimPaths(ctx context.Context, project int64, paths, folded []string) error {
	_, err := tx.q.Exec(ctx, `insert into assets (project_id, path, folded)
		select $1, p, f from unnest($2::text[], $3::text[]) as u (p, f) order by f on conflict do nothing`, project, paths, folded)
	return err
}

// LockAssets locks the rows of assets by id and returns them by folded path. What is decided on is read here, after the lock.
func (tx *Tx) LockAssets(ctx context.Context, project int64, folded []string) (map[string]*Asset, error) {
	rows, err := tx.q.Query(ctx, `select a.id from unnest($2::text[]) u (f) cross join lateral (select id from assets a where a.project_id = $1 and a.folded = u.f limit 1) a`, project, folded)
	if err != nil {
		return nil, err
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return nil, err
	}
	if _, err := tx.q.Exec(ctx, `select 1 from assets where id = any($1) order by id for update`, ids); err != nil {
		return nil, err
	}
	rows, err = tx.q.Query(ctx, `
		select a.id, a.folded, a.path, a.newest, a.gone, a.fence, coalesce(p.handle, ''), coalesce(a.workspace_id::text, ''), coalesce(w.name, ''), a.locked, a.lock_note
		from unnest($1::bigint[]) u (i) cross join lateral (select * from assets a where a.id = u.i limit 1) a
		left join people p on p.id = a.holder_id left join workspaces w on w.id = a.workspace_id`, ids)
	if err != nil {
		return nil, err
	}
	found := make(map[string]*Asset, len(folded))
	_, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (none struct{}, err error) {
		a := &Asset{}
		var since *time.Time
		err = row.Scan(&a.ID, &a.Folded, &a.Path, &a.Newest, &a.Gone, &a.Lock.Fence, &a.Lock.Holder.Handle, &a.Lock.Holder.WorkspaceID, &a.Lock.Holder.Workspace, &since, &a.Lock.Note)
		if since != nil {
			a.Lock.Since = *since
		}
		a.Lock.Path, a.Lock.Newest = a.Path, a.Newest
		found[a.Folded] = a
		return none, err
	})
	return found, err
}

// SetLocks writes the locks of assets whose rows are locked by this transaction. holder is the one person who takes them; an
// asset whose lock is free is freed.
func (tx *Tx) SetLocks(ctx context.Context, holder int64, assets []*Asset) error {
	ids, fences, held := make([]int64, len(assets)), make([]int64, len(assets)), make([]bool, len(assets))
	spaces, notes, since := make([]*string, len(assets)), make([]string, len(assets)), make([]*time.Time, len(assets))
	for i, a := range assets {
		ids[i], fences[i], held[i], notes[i] = a.ID, a.Lock.Fence, !a.Lock.Free(), a.Lock.Note
		if held[i] {
			spaces[i], since[i] = &a.Lock.Holder.WorkspaceID, &a.Lock.Since
		}
	}
	_, err := tx.q.Exec(ctx, `
		update assets a set fence = u.fence, holder_id = case when u.held then $1::bigint end, workspace_id = u.space, locked = u.since, lock_note = u.note
		from unnest($2::bigint[], $3::bigint[], $4::boolean[], $5::uuid[], $6::text[], $7::timestamptz[]) as u (id, fence, held, space, note, since)
		where a.id = u.id`, holder, ids, fences, held, spaces, notes, since)
	return err
}

// Now is the database's clock: the one that locks and handoffs go by.
func (tx *Tx) Now(ctx context.Context) (t time.Time, err error) {
	err = tx.q.QueryRow(ctx, `select now()`).Scan(&t)
	return t, err
}

const assetColumns = `a.id, v.path, v.number, v.gone, coalesce(c.size, 0), coalesce(c.digest, ''), coalesce(c.whole, ''), v.executable, p.handle, h.at, v.handoff, h.note,
	a.fence, coalesce(hp.handle, ''), coalesce(a.workspace_id::text, ''), coalesce(w.name, ''), a.locked, a.lock_note`

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
		&l.Fence, &l.Holder, &l.WorkspaceID, &l.Workspace, &since, &l.Note)
	a.Content, a.Digest = hex.EncodeToString(content), hex.EncodeToString(whole)
	if since != nil {
		l.Path, l.Since, l.Waitlist = a.Path, *since, []string{}
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

// AssetsAt returns assets by folded path, as their newest versions are.
func (tx *Tx) AssetsAt(ctx context.Context, project int64, folded []string) ([]model.Asset, error) {
	rows, err := tx.q.Query(ctx, `select `+assetColumns+` from unnest($2::text[]) u (f)
		cross join lateral (select * from assets a where a.project_id = $1 and a.folded = u.f limit 1) a
		cross join lateral (select * from versions v where v.asset_id = a.id and v.number = a.newest limit 1) v`+assetJoins+` order by a.path`, project, folded)
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

// Search lists up to limit live assets whose path has text in it, behind the folded path after.
func (tx *Tx) Search(ctx context.Context, project int64, text, after string, limit int) ([]model.Asset, error) {
	rows, err := tx.q.Query(ctx, `select `+assetColumns+` from assets a join versions v on v.asset_id = a.id and v.number = a.newest`+assetJoins+`
		where a.project_id = $1 and not a.gone and a.folded > $3 and position($2 in a.folded) > 0 order by a.folded limit $4`, project, text, after, limit)
	if err != nil {
		return nil, err
	}
	return plain(rows)
}

// Locks lists what is held in a project, the longest held first. Relies on assets_held.
func (tx *Tx) Locks(ctx context.Context, project int64) ([]model.Lock, error) {
	rows, err := tx.q.Query(ctx, `select a.path, p.handle, w.name, w.id, a.locked, a.lock_note, a.fence
		from assets a join people p on p.id = a.holder_id join workspaces w on w.id = a.workspace_id
		where a.project_id = $1 and a.holder_id is not null order by a.locked, a.path`, project)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (l model.Lock, err error) {
		l.Waitlist = []string{}
		err = row.Scan(&l.Path, &l.Holder, &l.Workspace, &l.WorkspaceID, &l.Since, &l.Note, &l.Fence)
		return l, err
	})
}
