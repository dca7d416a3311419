package records

import (
	"context"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chunk"
)

// Nodes reads encoded tree nodes; what is not there is left out. Relies on the primary key of nodes.
func (tx *Tx) Nodes(ctx context.Context, project int64, digests []chunk.Digest) (map[chunk.Digest][]byte, error) {
	rows, err := tx.q.Query(ctx, `select n.digest, n.data from unnest($2::bytea[]) u (d)
		cross join lateral (select * from nodes n where n.project_id = $1 and n.digest = u.d limit 1) n`, project, raw(digests))
	if err != nil {
		return nil, err
	}
	found := make(map[chunk.Digest][]byte, len(digests))
	var digest, data []byte
	_, err = pgx.ForEachRow(rows, []any{&digest, &data}, func() error {
		found[chunk.Digest(digest)] = data
		data = nil
		return nil
	})
	return found, err
}

// AddNodes writes tree nodes, in the order of their digests, so that two that write the same ones do not wait for each other in a circle.
func (tx *Tx) AddNodes(ctx context.Context, project int64, nodes map[chunk.Digest][]byte) error {
	if len(nodes) == 0 {
		return nil
	}
	digests, data := make([][]byte, 0, len(nodes)), make([][]byte, 0, len(nodes))
	for d, b := range nodes {
		digests, data = append(digests, d[:]), append(data, b)
	}
	_, err := tx.q.Exec(ctx, `insert into nodes (project_id, digest, data) select $1, d, b from unnest($2::bytea[], $3::bytea[]) as u (d, b)
		order by d on conflict do nothing`, project, digests, data)
	return err
}

// Branch is what a branch holds: the tree under Root as of the handoff Head, whose digest is HeadDigest (zero where Head is 0).
type Branch struct {
	ID         int64
	Name       string
	Root       chunk.Digest
	Head       int
	HeadDigest chunk.Digest
}

// MainBranch reads the branch main; lock locks its row, behind those of all assets.
func (tx *Tx) MainBranch(ctx context.Context, project int64, lock bool) (b Branch, err error) {
	sql := `select b.id, b.name, b.root, b.head, coalesce((select h.digest from handoffs h where h.project_id = b.project_id
		and h.number = b.head), '')
		from branches b where b.project_id = $1 and b.name = 'main'`
	if lock {
		sql += ` for update of b`
	}
	var root, head []byte
	if err = one(tx.q.QueryRow(ctx, sql, project), &b.ID, &b.Name, &root, &b.Head, &head); err != nil {
		return b, err
	}
	b.Root = chunk.Digest(root)
	if len(head) == 32 {
		b.HeadDigest = chunk.Digest(head)
	}
	return b, nil
}

// RootAt is the root as of a handoff of a project.
func (tx *Tx) RootAt(ctx context.Context, project int64, number int) (chunk.Digest, error) {
	var root []byte
	if err := one(tx.q.QueryRow(ctx, `select root from handoffs where project_id = $1 and number = $2`, project, number), &root); err != nil {
		return chunk.Digest{}, err
	}
	return chunk.Digest(root), nil
}
