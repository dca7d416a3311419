package records

import (
	"context"
	"encoding/hex"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// AssetAt is the asset that a state means by a folded path: the one that stands there, or stood there last, or that is there on some
// branch. See ErrNotFound.
func (tx *Tx) AssetAt(ctx context.Context, project int64, state int, folded string) (id int64, err error) {
	rows, err := tx.q.Query(ctx, behind+`select c.asset_id, coalesce(v.path, ''), coalesce(v.gone, true), coalesce(v.handoff, 0) from claims c
		cross join lateral (select c.asset_id as id) a left join lateral `+newestBehind+` on true
		where c.project_id = $1 and c.folded = $3 order by c.asset_id`, project, state, folded)
	if err != nil {
		return 0, err
	}
	var asset int64
	var path string
	var gone bool
	var handoff int
	best := [2]int{-1, 0}
	_, err = pgx.ForEachRow(rows, []any{&asset, &path, &gone, &handoff}, func() error {
		is := [2]int{0, handoff}
		switch {
		case path != "" && assetpath.Fold(path) == folded && !gone:
			is[0] = 2
		case path != "" && assetpath.Fold(path) == folded:
			is[0] = 1
		}
		if is[0] > best[0] || is[0] == best[0] && is[1] >= best[1] {
			best, id = is, asset
		}
		return nil
	})
	if err == nil && best[0] < 0 {
		err = ErrNotFound
	}
	return id, err
}

// Versions lists all versions of an asset, the newest first.
func (tx *Tx) Versions(ctx context.Context, project, asset int64) ([]model.Version, error) {
	return tx.VersionsPage(ctx, project, asset, Page{})
}

// CountVersions is how many versions an asset has.
func (tx *Tx) CountVersions(ctx context.Context, project, asset int64) (n int, err error) {
	err = tx.q.QueryRow(ctx, `select count(*) from versions where project_id = $1 and asset_id = $2`, project, asset).Scan(&n)
	return n, err
}

// VersionsPage is a page of Versions.
func (tx *Tx) VersionsPage(ctx context.Context, project, asset int64, page Page) ([]model.Version, error) {
	rows, err := tx.q.Query(ctx, versionsOf+` order by v.number desc`+page.sql(), project, asset)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanVersion)
}

// Version is one version of the asset that a state means by a folded path (see AssetAt), 0 for the newest behind it. See ErrNotFound.
// Relies on the primary key of claims.
func (tx *Tx) Version(ctx context.Context, project int64, state int, folded string, number int) (v model.Version, err error) {
	asset, err := tx.AssetAt(ctx, project, state, folded)
	if err != nil {
		return v, err
	}
	return tx.VersionOfAsset(ctx, project, asset, state, number)
}

// VersionOfAsset is one version of an asset, 0 for the newest behind a state. See ErrNotFound. Relies on the primary key of versions.
func (tx *Tx) VersionOfAsset(ctx context.Context, project, asset int64, state, number int) (v model.Version, err error) {
	rows, err := tx.q.Query(ctx, behindOf("behind", "$3")+versionsOf+` and case when $4 = 0 then `+in+` else v.number = $4 end
		order by v.number desc limit 1`, project, asset, state, number)
	if err != nil {
		return v, err
	}
	v, err = pgx.CollectExactlyOneRow(rows, scanVersion)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return v, err
}

const versionsOf = `
		select v.number, v.path, v.handoff,
			` + authorName + `, h.at, h.note, h.tasks, h.stage, coalesce(c.size, 0), coalesce(c.digest, ''),
			coalesce(c.whole, ''), v.executable, v.gone, br.name, v.parents
		from versions v join handoffs h on h.project_id = v.project_id and h.number = v.handoff
		join people p on p.id = h.author_id join branches br on br.id = v.branch_id left join contents c on c.id = v.content_id
		where v.project_id = $1 and v.asset_id = $2`

func scanVersion(row pgx.CollectableRow) (v model.Version, err error) {
	var content, whole []byte
	err = row.Scan(&v.Version, &v.Path, &v.Handoff, &v.Author, &v.At, &v.Note, &v.Tasks, &v.Stage, &v.Size, &content, &whole, &v.Executable,
		&v.Gone, &v.Branch, &v.Parents)
	v.Content, v.Digest = hex.EncodeToString(content), hex.EncodeToString(whole)
	return v, err
}

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

// WithUnpacked lists projects with handoffs, or states of branches, that lie in no pack yet.
func (tx *Tx) WithUnpacked(ctx context.Context) ([]Project, error) {
	rows, err := tx.q.Query(ctx, `select p.id, p.key from projects p where exists (select 1 from handoffs h where h.project_id = p.id
		and not h.packed) or exists (select 1 from branches b where b.project_id = p.id and b.packed < b.turn and b.came_from is not null)`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p Project, err error) {
		err = row.Scan(&p.ID, &p.Key)
		return p, err
	})
}

// OlderVersions finds, for each asset with a content and its present version beside it, the latest version behind a state that has that
// content, where it is not the present one. Relies on the primary key of versions.
func (tx *Tx) OlderVersions(ctx context.Context, project int64, state int, assets, contents []int64,
	present []int) (map[int64]change.Earlier, error) {
	rows, err := tx.q.Query(ctx, behind+`select u.a, v.number, `+authorName+`, h.at
		from unnest($3::bigint[], $4::bigint[], $5::int[]) as u (a, c, n)
		cross join lateral (select number, handoff from versions v where v.asset_id = u.a and v.content_id = u.c and `+in+`
			order by number desc limit 1) v
		cross join lateral (select * from handoffs h where h.project_id = $1 and h.number = v.handoff limit 1) h
		join people p on p.id = h.author_id where v.number < u.n`, project, state, assets, contents, present)
	if err != nil {
		return nil, err
	}
	found := map[int64]change.Earlier{}
	var asset int64
	var e change.Earlier
	_, err = pgx.ForEachRow(rows, []any{&asset, &e.Number, &e.Author, &e.At}, func() error {
		found[asset] = e
		return nil
	})
	return found, err
}
