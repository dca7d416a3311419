package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chunk"
)

// A state is the number of a handoff: what that handoff descends from, or is. behind is the beginning of a statement about one, the state
// being $2 of the project $1: for each branch that it goes back to, how far. It looks at the few handoffs that have a parent on another
// branch. Relies on handoff_crossings. Where a statement has several, or other parameters, see [behindOf].
var behind = behindOf("behind", "$2")

// behindOf is behind under a name, with the state as an expression.
func behindOf(name, state string) string {
	return `with recursive ` + name + ` (branch_id, upto) as (
		select h.branch_id, h.number from handoffs h where h.project_id = $1 and h.number = ` + state + `
		union select k.parent_branch, k.parent from ` + name + ` b
			join handoff_parents k on k.branch_id = b.branch_id and k.number <= b.upto and k.branch_id <> k.parent_branch) `
}

// in is whether v, versions, is behind the state; newestBehind is the newest of them of the asset a.
const (
	in           = `exists (select from behind b where b.branch_id = v.branch_id and v.handoff <= b.upto)`
	newestBehind = ` (select * from versions v where v.asset_id = a.id and ` + in + ` order by v.number desc limit 1) v `
)

// Branch is what a branch holds: the tree under Root as of the handoff Head, whose digest is HeadDigest (zero where Head is 0).
type Branch struct {
	ID         int64
	Name       string
	Root       chunk.Digest
	Head       int
	HeadDigest chunk.Digest
}

// Branch reads a branch by name; lock locks its row, behind those of all assets. See ErrNotFound.
func (tx *Tx) Branch(ctx context.Context, project int64, name string, lock bool) (b Branch, err error) {
	sql := `select b.id, b.name, b.root, b.head, h.digest from branches b
		left join lateral (select digest from handoffs h where h.project_id = b.project_id and h.number = b.head limit 1) h on true
		where b.project_id = $1 and b.name = $2`
	var batch pgx.Batch
	if lock {
		// What is joined to a row would be as of before its lock.
		batch.Queue(`select from branches where project_id = $1 and name = $2 for update`, project, name)
	}
	batch.Queue(sql, project, name)
	results := tx.q.SendBatch(ctx, &batch)
	defer results.Close()
	if lock {
		if _, err := results.Exec(); err != nil {
			return b, err
		}
	}
	var root, head []byte
	if err = one(results.QueryRow(), &b.ID, &b.Name, &root, &b.Head, &head); err != nil {
		return b, err
	}
	b.Root = chunk.Digest(root)
	if len(head) == 32 {
		b.HeadDigest = chunk.Digest(head)
	}
	return b, nil
}

// EnsureBranch finds a branch by name, or makes it, empty.
func (tx *Tx) EnsureBranch(ctx context.Context, project int64, name string, empty chunk.Digest) (id int64, err error) {
	if _, err := tx.q.Exec(ctx, `insert into branches (project_id, name, root) values ($1, $2, $3) on conflict do nothing`, project, name,
		empty[:]); err != nil {
		return 0, err
	}
	err = tx.q.QueryRow(ctx, `select id from branches where project_id = $1 and name = $2`, project, name).Scan(&id)
	return id, err
}

// RootAt is the root as of a handoff of a project.
func (tx *Tx) RootAt(ctx context.Context, project int64, number int) (chunk.Digest, error) {
	var root []byte
	if err := one(tx.q.QueryRow(ctx, `select root from handoffs where project_id = $1 and number = $2`, project, number), &root); err != nil {
		return chunk.Digest{}, err
	}
	return chunk.Digest(root), nil
}

// HandoffUpTo is the number of the last handoff behind a state that was made up to a time, 0 where there was none yet.
func (tx *Tx) HandoffUpTo(ctx context.Context, project int64, state int, t time.Time) (number int, err error) {
	err = tx.q.QueryRow(ctx, behind+`select coalesce((select number from handoffs v where project_id = $1 and at <= $3
		and exists (select from behind b where b.branch_id = v.branch_id and v.number <= b.upto) order by number desc limit 1), 0)`,
		project, state, t).Scan(&number)
	return number, err
}

// Tip is the newest version of an asset behind a state, 0 for none; Gone says that there is nothing of it. Numbered is the newest of all.
type Tip struct {
	Number   int
	Gone     bool
	Numbered int
}

// Tips finds the newest versions of assets by id. Relies on the primary key of versions.
func (tx *Tx) Tips(ctx context.Context, project int64, state int, ids []int64) (map[int64]Tip, error) {
	rows, err := tx.q.Query(ctx, behind+`select a.id, coalesce(v.number, 0), coalesce(v.gone, true), coalesce(m.number, 0)
		from unnest($3::bigint[]) a (id) left join lateral `+newestBehind+` on true
		left join lateral (select number from versions m where m.asset_id = a.id order by number desc limit 1) m on true`, project, state, ids)
	if err != nil {
		return nil, err
	}
	tips := make(map[int64]Tip, len(ids))
	for rows.Next() {
		var id int64
		var t Tip
		if err := rows.Scan(&id, &t.Number, &t.Gone, &t.Numbered); err != nil {
			rows.Close()
			return nil, err
		}
		tips[id] = t
	}
	return tips, rows.Err()
}

// Branches lists those of a project, by name, without the digests of their heads.
func (tx *Tx) Branches(ctx context.Context, project int64) ([]Branch, error) {
	rows, err := tx.q.Query(ctx, `select id, name, root, head from branches where project_id = $1 order by name`, project)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (b Branch, err error) {
		var root []byte
		if err = row.Scan(&b.ID, &b.Name, &root, &b.Head); err == nil {
			b.Root = chunk.Digest(root)
		}
		return b, err
	})
}

// Claims are the ids of the assets that have claims on folded paths. Relies on the primary key of claims.
func (tx *Tx) Claims(ctx context.Context, project int64, folded []string) (map[string]int64, error) {
	rows, err := tx.q.Query(ctx, `select c.folded, c.asset_id from unnest($2::text[]) u (f)
		cross join lateral (select * from claims c where c.project_id = $1 and c.folded = u.f limit 1) c`, project, folded)
	if err != nil {
		return nil, err
	}
	found := map[string]int64{}
	var path string
	var asset int64
	_, err = pgx.ForEachRow(rows, []any{&path, &asset}, func() error {
		found[path] = asset
		return nil
	})
	return found, err
}
