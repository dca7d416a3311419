package records

import (
	"context"
	"encoding/hex"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
)

// Asset is a row of assets, with its lock. Held and Last are not read with it.
type Asset struct {
	change.Asset
	// Gone says that the branch has nothing of it; Stands is the folded path at which it has it, else "".
	Gone   bool
	Stands string
	// Forked says that some version of it does not follow the one numbered before it.
	Forked bool
	// Was is the lock as it was read: SetLocks writes what is different.
	Was lock.State
	// HeadsUp says that somebody has unsent changes to it.
	HeadsUp bool
}

// ClaimPaths makes assets at the given places on which nobody has a claim, so that their rows can be locked. folded is sorted.
func (tx *Tx) ClaimPaths(ctx context.Context, project int64, paths, folded []string) error {
	_, err := tx.q.Exec(ctx, `
		with wanted as materialized (select p, f, nextval(pg_get_serial_sequence('assets', 'id')) as i
			from unnest($2::text[], $3::text[]) as u (p, f) order by f),
		claimed as (insert into claims (project_id, folded, asset_id) select $1, f, i from wanted order by f
			on conflict do nothing returning asset_id)
		insert into assets (id, project_id, path, folded) overriding system value
			select i, $1, p, f from claimed join wanted on i = asset_id`, project, paths, folded)
	return err
}

// ClaimAnew makes assets at places on which others have claims already. The caller has locked the rows of those.
func (tx *Tx) ClaimAnew(ctx context.Context, project int64, paths, folded []string) error {
	_, err := tx.q.Exec(ctx, `
		with wanted as materialized (select p, f, nextval(pg_get_serial_sequence('assets', 'id')) as i
			from unnest($2::text[], $3::text[]) as u (p, f) order by f),
		claimed as (insert into claims (project_id, folded, asset_id, rank) select $1, f, i, 1 + coalesce((select max(rank) from claims c
			where c.project_id = $1 and c.folded = f), -1) from wanted order by f returning asset_id)
		insert into assets (id, project_id, path, folded) overriding system value
			select i, $1, p, f from claimed join wanted on i = asset_id`, project, paths, folded)
	return err
}

// addClaims gives assets $2 claims on the places $3, where they have none yet.
const addClaims = `insert into claims (project_id, folded, asset_id, rank)
	select $1, f, i, 1 + coalesce((select max(rank) from claims c where c.project_id = $1 and c.folded = f), -1)
	from unnest($2::bigint[], $3::text[]) as u (i, f)
	where not exists (select from claims c where c.project_id = $1 and c.folded = f and c.asset_id = i) order by f`

// AddClaims gives assets claims on folded places, besides those that others have.
func (tx *Tx) AddClaims(ctx context.Context, project int64, ids []int64, folded []string) error {
	_, err := tx.q.Exec(ctx, addClaims, project, ids, folded)
	return err
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

// AssetsByID returns assets by id, as they are in a state. Locks are those of now. Relies on the primary keys of
// assets and versions; the project is compared behind that, or a planner that has not seen it yet looks through all of it for each row.
func (tx *Tx) AssetsByID(ctx context.Context, project int64, ids []int64, state int) (map[int64]model.Asset, error) {
	rows, err := tx.q.Query(ctx, behind+`
		select `+assetColumns+` from unnest($3::bigint[]) u (i)
		cross join lateral (select * from assets a where a.id = u.i limit 1) a
		cross join lateral `+newestBehind+assetJoins+`
		where a.project_id = $1`, project, state, ids)
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

// claimed are the assets that have claims on the places $3.
const claimed = ` from (select distinct k.asset_id from unnest($3::text[]) u (f)
		cross join lateral (select asset_id from claims k where k.project_id = $1 and k.folded = u.f limit 1000) k) k
	cross join lateral (select * from assets a where a.id = k.asset_id limit 1) a`

var assetsAt = behind + `select ` + assetColumns + claimed + ` cross join lateral ` + newestBehind + assetJoins + ` order by v.path`

// AssetsAt returns the assets that stand at folded paths in a state, or stood there last.
func (tx *Tx) AssetsAt(ctx context.Context, project int64, state int, folded []string) ([]model.Asset, error) {
	rows, err := tx.q.Query(ctx, assetsAt, project, state, folded)
	if err != nil {
		return nil, err
	}
	return standing(rows, folded)
}

// standing are, of assets with claims on places, those that are there; of those that are gone from a place where nothing is now, the one
// that went last.
func standing(rows pgx.Rows, folded []string) ([]model.Asset, error) {
	found, err := pgx.CollectRows(rows, scanAsset)
	asked, at := make(map[string]bool, len(folded)), map[string]int{}
	for _, f := range folded {
		asked[f] = true
	}
	out := []model.Asset{}
	for _, k := range found {
		f := assetpath.Fold(k.Path)
		if !asked[f] {
			continue
		}
		i, twice := at[f]
		switch {
		case !twice:
			at[f], out = len(out), append(out, k.Asset)
		case out[i].Gone && (!k.Gone || k.Handoff > out[i].Handoff):
			out[i] = k.Asset
		}
	}
	return out, err
}
