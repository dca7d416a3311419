package records

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// Twice is a content that more than one asset has that is present: how many have it, and how large it is, in bytes.
type Twice struct {
	Content int64
	Count   int
	Size    int64
	Total   int   // such contents of the project
	Wasted  int64 // bytes, of all of them, that would be left out if each were there once

}

// PresentTwice lists contents that are present more than once, those that take the most first. It looks at all that is present.
func (tx *Tx) PresentTwice(ctx context.Context, project int64, limit int) ([]Twice, error) {
	rows, err := tx.q.Query(ctx, `with d as (select v.content_id, count(*)::int as n, max(r.size) as size
			from present r join versions v on v.asset_id = r.asset_id and v.number = r.number
			where r.project_id = $1 and r.size > 0 group by v.content_id having count(*) > 1)
		select content_id, n, size, (count(*) over ())::int, (sum(size * (n - 1)) over ())::bigint from d
		order by size * (n - 1) desc, content_id limit $2`, project, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (t Twice, err error) {
		err = row.Scan(&t.Content, &t.Count, &t.Size, &t.Total, &t.Wasted)
		return t, err
	})
}

// PresentWith lists, by content, the assets that are present with some contents, each of them up to limit, in the order of their paths.
// Relies on versions_of_content.
func (tx *Tx) PresentWith(ctx context.Context, project int64, contents []int64, limit int) (map[int64][]int64, error) {
	rows, err := tx.q.Query(ctx, `select u.c, r.asset_id from unnest($2::bigint[]) u (c) cross join lateral (
			select r.asset_id, r.folded from versions v join present r on r.asset_id = v.asset_id and r.number = v.number
			where v.content_id = u.c and r.project_id = $1 order by r.folded limit $3) r order by u.c, r.folded`, project, contents, limit)
	if err != nil {
		return nil, err
	}
	found := map[int64][]int64{}
	var content, asset int64
	_, err = pgx.ForEachRow(rows, []any{&content, &asset}, func() error {
		found[content] = append(found[content], asset)
		return nil
	})
	return found, err
}

// ContentPresent is the content that stands at a folded path now; ErrNotFound where nothing does.
func (tx *Tx) ContentPresent(ctx context.Context, project int64, folded string) (content int64, err error) {
	return content, one(tx.q.QueryRow(ctx, `select v.content_id from present r
		join versions v on v.asset_id = r.asset_id and v.number = r.number where r.project_id = $1 and r.folded = $2`, project, folded), &content)
}
