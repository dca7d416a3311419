package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/chunk"
)

// Unpacked lists handoffs that lie in no pack yet, the oldest first, with the roots before them. Relies on handoffs_unpacked.
func (tx *Tx) Unpacked(ctx context.Context, project int64, limit int) ([]chain.Handoff, error) {
	return tx.chain(ctx, `h.project_id = $1 and not h.packed`, `order by h.number limit $2`, project, limit)
}

// Chain lists handoffs of a project as their digests cover them, from a number on.
func (tx *Tx) Chain(ctx context.Context, project int64, from, limit int) ([]chain.Handoff, error) {
	return tx.chain(ctx, `h.project_id = $1 and h.number >= $3`, `order by h.number limit $2`, project, limit, from)
}

func (tx *Tx) chain(ctx context.Context, where, order string, args ...any) ([]chain.Handoff, error) {
	rows, err := tx.q.Query(ctx, `select j.key, h.number, b.name, array(select k.parent from handoff_parents k where
			k.project_id = h.project_id and k.number = h.number order by k.place), array(select o.digest from handoff_parents k
			join handoffs o on o.project_id = k.project_id and o.number = k.parent
			where k.project_id = h.project_id and k.number = h.number order by k.place), h.root, p.handle, h.at, h.note, h.tasks,
		h.stage, h.commit_id, h.signed
		from handoffs h join projects j on j.id = h.project_id join branches b on b.id = h.branch_id join people p on p.id = h.author_id
		where `+where+` `+order, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (h chain.Handoff, err error) {
		var parents []int
		var digests [][]byte
		var root []byte
		var at time.Time
		if err = row.Scan(&h.Project, &h.Number, &h.Branch, &parents, &digests, &root, &h.Author, &at, &h.Note, &h.Tasks, &h.Stage, &h.Commit,
			&h.Signed); err != nil {
			return h, err
		}
		h.Root, h.At = chunk.Digest(root), at.UnixMicro()
		for i, d := range digests {
			h.Parents = append(h.Parents, chain.Parent{Number: parents[i], Digest: chunk.Digest(d)})
		}
		return h, nil
	})
}

// HandoffDigest is what a handoff is named by.
func (tx *Tx) HandoffDigest(ctx context.Context, project int64, number int) (d chunk.Digest, err error) {
	var b []byte
	if err = one(tx.q.QueryRow(ctx, `select digest from handoffs where project_id = $1 and number = $2`, project, number), &b); err != nil {
		return d, err
	}
	return chunk.Digest(b), nil
}

// KeepHistory waits for the right to write a project's history to packs, and has it for this transaction.
func (tx *Tx) KeepHistory(ctx context.Context, project int64) error {
	_, err := tx.q.Exec(ctx, `select pg_advisory_xact_lock(7421, $1)`, int32(project))
	return err
}

// Packed notes that handoffs lie in a pack.
func (tx *Tx) Packed(ctx context.Context, project int64, numbers []int) error {
	_, err := tx.q.Exec(ctx, `update handoffs set packed = true where project_id = $1 and number = any($2)`, project, numbers)
	return err
}

// WithUnpacked lists projects with handoffs, states of branches, or releases of kits, that lie in no pack yet.
func (tx *Tx) WithUnpacked(ctx context.Context) ([]Project, error) {
	rows, err := tx.q.Query(ctx, `select p.id, p.key from projects p where exists (select 1 from handoffs h where h.project_id = p.id
		and not h.packed) or exists (select 1 from branches b where b.project_id = p.id and b.packed < b.turn and b.came_from is not null)
		or exists (select 1 from kit_releases r where r.project_id = p.id and not r.packed)`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p Project, err error) {
		err = row.Scan(&p.ID, &p.Key)
		return p, err
	})
}
