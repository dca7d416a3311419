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
