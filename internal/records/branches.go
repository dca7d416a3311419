package records

import (
	"context"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/point"
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
	// Closed says that it takes nothing more.
	Closed bool
	// Listed says, of the first branch, that what is present is listed up to its head.
	Listed bool
}

// Unmoved reports whether branches of one project still have the heads that they were read with.
func (tx *Tx) Unmoved(ctx context.Context, branches ...Branch) (same bool, err error) {
	ids, heads := make([]int64, len(branches)), make([]int, len(branches))
	for i, b := range branches {
		ids[i], heads[i] = b.ID, b.Head
	}
	err = tx.q.QueryRow(ctx, `select not exists (select from unnest($1::bigint[], $2::integer[]) u (i, h)
		where not exists (select from branches b where b.id = u.i and b.head = u.h))`, ids, heads).Scan(&same)
	return same, err
}

// Branch reads a branch by name; lock locks its row, behind those of all assets. See ErrNotFound.
func (tx *Tx) Branch(ctx context.Context, project int64, name string, lock bool) (b Branch, err error) {
	sql := `select b.id, b.name, b.root, b.head, h.digest, b.state = 2, b.listed = b.head from branches b
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
	if err = one(results.QueryRow(), &b.ID, &b.Name, &root, &b.Head, &head, &b.Closed, &b.Listed); err != nil {
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
	if _, err := tx.q.Exec(ctx, `insert into branches (project_id, name, folded, root) values ($1, $2, $4, $3) on conflict do nothing`,
		project, name, empty[:], point.Fold(name)); err != nil {
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

// BranchNamed finds a branch by its folded name. See ErrNotFound.
func (tx *Tx) BranchNamed(ctx context.Context, project int64, folded string) (Branch, error) {
	var name string
	if err := one(tx.q.QueryRow(ctx, `select name from branches where project_id = $1 and folded = $2`, project, folded), &name); err != nil {
		return Branch{}, err
	}
	return tx.Branch(ctx, project, name, false)
}

// BranchByID finds a branch. See ErrNotFound.
func (tx *Tx) BranchByID(ctx context.Context, project, id int64) (Branch, error) {
	var name string
	if err := one(tx.q.QueryRow(ctx, `select name from branches where project_id = $1 and id = $2`, project, id), &name); err != nil {
		return Branch{}, err
	}
	return tx.Branch(ctx, project, name, false)
}

// LockNames keeps others from giving names to milestones and branches of a project until the transaction ends: they share one space.
func (tx *Tx) LockNames(ctx context.Context, project int64) error {
	_, err := tx.q.Exec(ctx, `select pg_advisory_xact_lock(7425, $1)`, int32(project))
	return err
}

// NewBranch is what AddBranch writes. From is the branch that it is made from, Head the handoff that it begins at, with its Root.
type NewBranch struct {
	Name   string
	From   int64
	Head   int
	Root   chunk.Digest
	Why    string
	Person int64
}

// AddBranch makes a branch. It is one row, however large the project. The caller has looked whether the name is free, behind LockNames.
func (tx *Tx) AddBranch(ctx context.Context, project int64, b NewBranch) error {
	_, err := tx.q.Exec(ctx, `insert into branches (project_id, name, folded, root, head, why, person_id, came_from, began, assets, size)
		select $1, $2, $3, $4, $5, $6, $7, $8, $5, f.assets, f.size from branches f where f.id = $8`,
		project, b.Name, point.Fold(b.Name), b.Root[:], b.Head, b.Why, b.Person, b.From)
	return err
}

// SetBranchSize corrects what a branch that was made from an older state is said to hold.
func (tx *Tx) SetBranchSize(ctx context.Context, project int64, name string, assets, size int64) error {
	_, err := tx.q.Exec(ctx, `update branches set assets = $3, size = $4 where project_id = $1 and name = $2`, project, name, assets, size)
	return err
}

// SetBranchState says in which of model.BranchStates a branch is, and reports whether it was in another one.
func (tx *Tx) SetBranchState(ctx context.Context, branch int64, state int) (bool, error) {
	tag, err := tx.q.Exec(ctx, `update branches set state = $2, turn = turn + 1 where id = $1 and state <> $2`, branch, state)
	return tag.RowsAffected() == 1, err
}

// BranchList shows the branches of a project, the first one first and the closed ones last, or the one with a folded name. How far apart
// two are is asked of the parents of handoffs, and counted in handoffs_of_branch.
func (tx *Tx) BranchList(ctx context.Context, project int64, folded string) ([]model.Branch, error) {
	rows, err := tx.q.Query(ctx, `
		with recursive reach (of, branch_id, upto) as (
			select b.id, h.branch_id, h.number from branches b join handoffs h on h.project_id = b.project_id and h.number = b.head
				where b.project_id = $1
			union
			select r.of, k.parent_branch, k.parent from reach r
				join handoff_parents k on k.branch_id = r.branch_id and k.number <= r.upto and k.branch_id <> k.parent_branch),
		far (of, branch_id, upto) as (select of, branch_id, max(upto) from reach group by 1, 2),
		apart (a, b, n) as (
			select x.a, x.b, (select count(*) from far f left join far o on o.of = x.b and o.branch_id = f.branch_id
				join handoffs h on h.branch_id = f.branch_id and h.number <= f.upto and h.number > coalesce(o.upto, 0) where f.of = x.a)
			from (select id, came_from from branches where project_id = $1 and came_from is not null and ($2 = '' or folded = $2)
				union all select came_from, id from branches where project_id = $1 and came_from is not null and ($2 = '' or folded = $2)) x (a, b))
		select b.name, coalesce(f.name, ''), b.began, b.state, b.why, coalesce(p.handle, ''), b.made, b.head, coalesce(nullif(h.signed, ''),
			q.handle, ''),
			h.at, b.assets, b.size, coalesce(x.n, 0), coalesce(y.n, 0)
		from branches b left join branches f on f.id = b.came_from left join people p on p.id = b.person_id
		left join handoffs h on h.project_id = b.project_id and h.number = b.head left join people q on q.id = h.author_id
		left join apart x on x.a = b.id and x.b = b.came_from left join apart y on y.a = b.came_from and y.b = b.id
		where b.project_id = $1 and ($2 = '' or b.folded = $2) order by b.came_from is not null, b.state = 2, b.name`, project, folded)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (b model.Branch, err error) {
		var state int
		err = row.Scan(&b.Name, &b.From, &b.At, &state, &b.Why, &b.Person, &b.Made, &b.Head, &b.Author, &b.Moved, &b.Assets, &b.Size, &b.Ahead,
			&b.Behind)
		b.State = model.BranchStates[state]
		return b, err
	})
}

// BranchOf is the branch that a handoff was made on.
func (tx *Tx) BranchOf(ctx context.Context, project int64, number int) (id int64, err error) {
	err = one(tx.q.QueryRow(ctx, `select branch_id from handoffs where project_id = $1 and number = $2`, project, number), &id)
	return id, err
}

// CommonState is the newest handoff that is behind both of two states, 0 where there is none.
func (tx *Tx) CommonState(ctx context.Context, project int64, a, b int) (number int, err error) {
	other := strings.Replace(behindOf("other", "$3"), "with recursive", ",", 1)
	err = tx.q.QueryRow(ctx, behind+other+`select coalesce(max(least(x.upto, y.upto)), 0) from (select branch_id, max(upto) upto from behind
		group by 1) x
		join (select branch_id, max(upto) upto from other group by 1) y using (branch_id)`, project, a, b).Scan(&number)
	return number, err
}

// Lacking finds, for assets by id and the versions of them that somebody has (0 for none), the newest versions on the live branches but one
// that those do not descend from, in the order of branches. It walks back along the parents of versions, and asks each branch for its
// newest. Relies on the primary key of versions.
func (tx *Tx) Lacking(ctx context.Context, project int64, but string, ids []int64, have []int) (map[int64][]lock.Newest, error) {
	rows, err := tx.q.Query(ctx, `
		with recursive reach (of, branch_id, upto) as (
			select b.id, h.branch_id, h.number from branches b join handoffs h on h.project_id = b.project_id and h.number = b.head
				where b.project_id = $1 and b.state < 2 and b.name <> $2
			union
			select r.of, k.parent_branch, k.parent from reach r
				join handoff_parents k on k.branch_id = r.branch_id and k.number <= r.upto and k.branch_id <> k.parent_branch),
		has (id, number) as (
			select * from unnest($3::bigint[], $4::integer[]) a (id, number) where number > 0
			union
			select v.asset_id, p from has join versions v on v.asset_id = has.id and v.number = has.number cross join unnest(v.parents) p)
		select a.id, b.name, v.number, v.gone from unnest($3::bigint[]) a (id)
		cross join (select id, name from branches where project_id = $1 and state < 2 and name <> $2) b
		cross join lateral (select v.number, v.gone from versions v where v.asset_id = a.id and exists (
			select from reach r where r.of = b.id and r.branch_id = v.branch_id and v.handoff <= r.upto) order by v.number desc limit 1) v
		where not exists (select from has where has.id = a.id and has.number = v.number) order by a.id, b.name`, project, but, ids, have)
	if err != nil {
		return nil, err
	}
	found := map[int64][]lock.Newest{}
	var id int64
	var n lock.Newest
	_, err = pgx.ForEachRow(rows, []any{&id, &n.Branch, &n.Version, &n.Gone}, func() error {
		found[id] = append(found[id], n)
		return nil
	})
	return found, err
}

// WorkspacesOn are those that are on a branch and are anybody's still, by handle.
func (tx *Tx) WorkspacesOn(ctx context.Context, project int64, branch string) ([]model.BranchWorkspace, error) {
	rows, err := tx.q.Query(ctx, `select p.handle, w.name from workspaces w join people p on p.id = w.person_id
		join memberships m on m.project_id = w.project_id and m.person_id = w.person_id
		where w.project_id = $1 and w.branch = $2 and w.kind = $3 order by p.handle, w.name limit 200`, project, branch, model.KindFolder)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[model.BranchWorkspace])
}

// Claims are the ids of the assets that have claims on folded paths. Relies on the primary key of claims.
func (tx *Tx) Claims(ctx context.Context, project int64, folded []string) (map[string][]int64, error) {
	rows, err := tx.q.Query(ctx, `select c.folded, c.asset_id from unnest($2::text[]) u (f)
		cross join lateral (select * from claims c where c.project_id = $1 and c.folded = u.f limit 1000) c`, project, folded)
	if err != nil {
		return nil, err
	}
	found := map[string][]int64{}
	var path string
	var asset int64
	_, err = pgx.ForEachRow(rows, []any{&path, &asset}, func() error {
		found[path] = append(found[path], asset)
		return nil
	})
	return found, err
}

// UnpackedBranches are those whose present state lies in no pack yet. Of a branch that began at a handoff that lies in none, nothing is
// told.
func (tx *Tx) UnpackedBranches(ctx context.Context, project int64) ([]chain.Branch, error) {
	rows, err := tx.q.Query(ctx, `select j.key, b.name, f.name, b.began, b.state, b.why, coalesce(p.handle, ''), b.made, b.turn
		from branches b join branches f on f.id = b.came_from join projects j on j.id = b.project_id left join people p on p.id = b.person_id
		where b.project_id = $1 and b.packed < b.turn order by b.id`, project)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (b chain.Branch, err error) {
		var made time.Time
		err = row.Scan(&b.Project, &b.Name, &b.From, &b.At, &b.State, &b.Why, &b.Person, &made, &b.Turn)
		b.Made = made.UnixMicro()
		return b, err
	})
}

// PackedBranches notes that states of branches lie in a pack.
func (tx *Tx) PackedBranches(ctx context.Context, project int64, list []chain.Branch) error {
	names, turns := make([]string, len(list)), make([]int, len(list))
	for i, b := range list {
		names[i], turns[i] = b.Name, b.Turn
	}
	_, err := tx.q.Exec(ctx, `update branches b set packed = u.t from unnest($2::text[], $3::integer[]) u (n, t)
		where b.project_id = $1 and b.name = u.n and b.packed < u.t`, project, names, turns)
	return err
}

// RestoreBranch gives a branch, which is there by its name, what its record says, person being who made it, 0 where that is not known.
// Where it has no handoff of its own, it is at the one that it began at.
func (tx *Tx) RestoreBranch(ctx context.Context, project int64, b chain.Branch, person int64) error {
	_, err := tx.q.Exec(ctx, `update branches b set came_from = f.id, began = $4, state = $5, why = $6, person_id = nullif($7, 0), made = $8,
			turn = $9, packed = $9, head = case when b.head = 0 then $4 else b.head end,
			root = case when b.head = 0 then h.root else b.root end
		from branches f, handoffs h where b.project_id = $1 and b.name = $2 and f.project_id = $1 and f.name = $3
			and h.project_id = $1 and h.number = $4`, project, b.Name, b.From, b.At, b.State, b.Why, person, time.UnixMicro(b.Made), b.Turn)
	return err
}
