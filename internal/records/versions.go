package records

import (
	"context"
	"encoding/hex"
	"errors"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/change"
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
	err = tx.q.QueryRow(ctx, `select count(*) from versions v where `+ofAsset, project, asset).Scan(&n)
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

// ofAsset are the versions v of an asset $2 of the project $1, which are found by the asset: a project has as many as it has.
const ofAsset = `(v.project_id = $1) is true and v.asset_id = $2`

const versionsOf = `
		select v.number, v.path, v.handoff,
			` + authorName + `, h.at, h.note, h.tasks, h.stage, coalesce(c.size, 0), coalesce(c.digest, ''),
			coalesce(c.whole, ''), v.executable, v.gone, br.name, v.parents
		from versions v cross join lateral (select * from handoffs h where h.project_id = v.project_id and h.number = v.handoff limit 1) h
		join people p on p.id = h.author_id join branches br on br.id = v.branch_id left join contents c on c.id = v.content_id
		where ` + ofAsset

func scanVersion(row pgx.CollectableRow) (v model.Version, err error) {
	var content, whole []byte
	err = row.Scan(&v.Version, &v.Path, &v.Handoff, &v.Author, &v.At, &v.Note, &v.Tasks, &v.Stage, &v.Size, &content, &whole, &v.Executable,
		&v.Gone, &v.Branch, &v.Parents)
	v.Content, v.Digest = hex.EncodeToString(content), hex.EncodeToString(whole)
	return v, err
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
