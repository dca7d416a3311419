package records

import (
	"context"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/tree"
)

// Came is a version that a merge brings onto a branch as it is on the other one. Before is what the branch had, 0 for nothing. Path is
// where it stands there, or stood where it goes; Folded that in its folded form.
type Came struct {
	Asset          int64
	Number, Before int
	Path, Folded   string
}

// Descents tells, for versions of assets on two branches, which one descends from the other: [tree.Keep] where it is here's, or both are
// the same, or there has none, [tree.Take] where it is there's, or here has none. Where neither does, there is nothing. It walks back along
// parents, from the later to the earlier version. Relies on the primary key of versions.
func (tx *Tx) Descents(ctx context.Context, ids []int64, here, there []int) (map[int64]tree.Side, error) {
	found := map[int64]tree.Side{}
	at := map[int64]int{}
	for i, id := range ids {
		switch at[id] = i; {
		case here[i] == there[i], there[i] == 0:
			found[id] = tree.Keep
		case here[i] == 0:
			found[id] = tree.Take
		}
	}
	rows, err := tx.q.Query(ctx, `
		with recursive back (id, number, until) as (
			select id, greatest(h, t), least(h, t) from unnest($1::bigint[], $2::integer[], $3::integer[]) u (id, h, t) where least(h, t) > 0
			union
			select b.id, p, b.until from back b join versions v on v.asset_id = b.id and v.number = b.number cross join unnest(v.parents) p
				where p >= b.until)
		select id from back where number = until`, ids, here, there)
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			rows.Close()
			return nil, err
		}
		if i := at[id]; here[i] > there[i] {
			found[id] = tree.Keep
		} else if here[i] < there[i] {
			found[id] = tree.Take
		}
	}
	return found, rows.Err()
}

// AssetsOf reads assets by id with their locks; lock locks their rows first, in the order of ids.
func (tx *Tx) AssetsOf(ctx context.Context, ids []int64, lock bool) (map[int64]*Asset, error) {
	sql := lockColumns + ` where a.id = any($1) order by a.id`
	if lock {
		sql += forUpdate
	}
	rows, err := tx.q.Query(ctx, sql, ids)
	if err != nil {
		return nil, err
	}
	read, err := scanLockRows(rows)
	if err != nil {
		return nil, err
	}
	for i := range read {
		read[i].place = strconv.FormatInt(read[i].asset.ID, 10)
	}
	named, err := tx.names(ctx, read, Workspace{})
	out := make(map[int64]*Asset, len(named))
	for _, a := range named {
		out[a.ID] = a
	}
	return out, err
}

// CameOf lists what a merge brought as it is, without the paths. Relies on the primary key of came.
func (tx *Tx) CameOf(ctx context.Context, project int64, handoff int) ([]Came, error) {
	rows, err := tx.q.Query(ctx, `select asset_id, number, before from came where project_id = $1 and handoff = $2`, project, handoff)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (c Came, err error) {
		err = row.Scan(&c.Asset, &c.Number, &c.Before)
		return c, err
	})
}

// DeletedApart are the assets that were deleted behind one of two states and not behind the other. A tree does not show who deleted what is
// not there. Relies on versions_gone.
func (tx *Tx) DeletedApart(ctx context.Context, project int64, a, b int) ([]int64, error) {
	other := strings.Replace(behindOf("other", "$3"), "with recursive", ",", 1)
	rows, err := tx.q.Query(ctx, behind+other+`select distinct v.asset_id from (
			select branch_id, coalesce(max(x), 0) x, coalesce(max(y), 0) y from (select branch_id, upto x, null::integer y from behind
				union all select branch_id, null, upto from other) u group by 1) r
		join versions v on v.branch_id = r.branch_id and v.gone and v.handoff > least(r.x, r.y) and v.handoff <= greatest(r.x, r.y)`,
		project, a, b)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}
