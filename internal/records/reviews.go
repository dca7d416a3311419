package records

import (
	"context"
	"slices"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// NewReview is what AddReview writes. Branch is 0 for one about the handoff alone.
type NewReview struct {
	Branch  int64
	Handoff int
	Person  int64
	Text    string
	Ask     []int64
}

// LockReviews keeps others from opening reviews of a project and from saying something in them until the transaction ends.
func (tx *Tx) LockReviews(ctx context.Context, project int64) error {
	_, err := tx.q.Exec(ctx, `select pg_advisory_xact_lock(7426, $1)`, int32(project))
	return err
}

// AddReview opens a review and returns its number. The caller has passed LockReviews.
func (tx *Tx) AddReview(ctx context.Context, project int64, r NewReview) (number int, err error) {
	if err := tx.q.QueryRow(ctx, `insert into reviews (project_id, number, branch_id, handoff, person_id, body)
		values ($1, coalesce((select max(number) from reviews where project_id = $1), 0) + 1, nullif($2, 0), $3, $4, $5) returning number`,
		project, r.Branch, r.Handoff, r.Person, r.Text).Scan(&number); err != nil {
		return 0, err
	}
	return number, tx.AskToLook(ctx, project, number, r.Ask)
}

// AskToLook adds people who are asked.
func (tx *Tx) AskToLook(ctx context.Context, project int64, review int, people []int64) error {
	_, err := tx.q.Exec(ctx, `insert into review_people (project_id, review, person_id) select $1, $2, unnest($3::bigint[])
		on conflict do nothing`, project, review, people)
	return err
}

// Reviews lists those of a project, the open ones first; number, where not 0, is the one asked about, and branch, where not 0, the branch.
func (tx *Tx) Reviews(ctx context.Context, project int64, number int, branch int64) ([]model.Review, error) {
	rows, err := tx.q.Query(ctx, `select r.number, coalesce(b.name, ''), r.handoff, coalesce(b.head, r.handoff), p.handle, r.at, r.body,
		r.closed,
			coalesce(q.handle, ''), array(select x.handle from review_people a join people x on x.id = a.person_id
				where a.project_id = $1 and a.review = r.number order by x.handle),
			(select count(*) from remarks m where m.project_id = $1 and m.review = r.number),
			(select count(*) from remarks m where m.project_id = $1 and m.review = r.number and m.answers = 0 and m.settled is null)
		from reviews r join people p on p.id = r.person_id left join people q on q.id = r.closer_id left join branches b on b.id = r.branch_id
		where r.project_id = $1 and ($2 = 0 or r.number = $2) and ($3 = 0 or r.branch_id = $3)
		order by r.closed is not null, r.number desc limit 1000`, project, number, branch)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (r model.Review, err error) {
		r.Answers = []model.ReviewAnswer{}
		err = row.Scan(&r.Number, &r.Branch, &r.Handoff, &r.Head, &r.Person, &r.At, &r.Text, &r.Closed, &r.Closer, &r.Asked, &r.Said, &r.Open)
		return r, err
	})
	if err != nil || len(list) == 0 {
		return list, err
	}
	at := map[int]int{}
	numbers := make([]int, len(list))
	for i, r := range list {
		if at[r.Number], numbers[i] = i, r.Number; r.Branch != "" {
			list[i].Handoff = 0
		}
	}
	rows, err = tx.q.Query(ctx, `select distinct on (a.review, p.handle) a.review, p.handle, a.yes, a.why, a.at, a.head from review_answers a
		join people p on p.id = a.person_id where a.project_id = $1 and a.review = any($2) order by a.review, p.handle, a.id desc`, project,
		numbers)
	if err != nil {
		return nil, err
	}
	var review int
	var a model.ReviewAnswer
	_, err = pgx.ForEachRow(rows, []any{&review, &a.Person, &a.Yes, &a.Why, &a.At, &a.Head}, func() error {
		r := &list[at[review]]
		a.Old = a.Head != r.Head
		r.Answers = append(r.Answers, a)
		return nil
	})
	for i, r := range list {
		list[i].Waits = slices.DeleteFunc(slices.Clone(r.Asked), func(handle string) bool {
			return slices.ContainsFunc(r.Answers, func(a model.ReviewAnswer) bool { return a.Person == handle && !a.Old })
		})
	}
	return list, err
}

// NewRemark is what AddRemark writes. Asset is 0 for one that points at nothing.
type NewRemark struct {
	Person  int64
	Text    string
	Path    string
	Asset   int64
	Version int
	Spot    string
	Answers int
}

// AddRemark says something in a review, and returns its number. The caller has passed LockReviews.
func (tx *Tx) AddRemark(ctx context.Context, project int64, review int, r NewRemark) (number int, err error) {
	err = tx.q.QueryRow(ctx, `insert into remarks (project_id, review, number, person_id, body, path, asset_id, version, spot, answers)
		values ($1, $2, coalesce((select max(number) from remarks where project_id = $1 and review = $2), 0) + 1, $3, $4, $5, nullif($6, 0), $7,
			$8, $9)
		returning number`, project, review, r.Person, r.Text, r.Path, r.Asset, r.Version, r.Spot, r.Answers).Scan(&number)
	return number, err
}

// Remarks lists what was said in a review, in order.
func (tx *Tx) Remarks(ctx context.Context, project int64, review int) ([]model.Remark, error) {
	rows, err := tx.q.Query(ctx, `select m.number, p.handle, m.at, m.body, m.path, m.version, m.spot, m.answers, m.settled,
		coalesce(q.handle, '')
		from remarks m join people p on p.id = m.person_id left join people q on q.id = m.settler_id
		where m.project_id = $1 and m.review = $2 order by m.number`, project, review)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[model.Remark])
}

// RemarkedAssets are the assets that the remarks of a review point at, by the remark's number.
func (tx *Tx) RemarkedAssets(ctx context.Context, project int64, review int) (map[int]int64, error) {
	rows, err := tx.q.Query(ctx, `select number, asset_id from remarks where project_id = $1 and review = $2 and asset_id is not null`,
		project, review)
	if err != nil {
		return nil, err
	}
	assets := map[int]int64{}
	var number int
	var asset int64
	_, err = pgx.ForEachRow(rows, []any{&number, &asset}, func() error {
		assets[number] = asset
		return nil
	})
	return assets, err
}

// SettleRemark settles a remark, or takes that back.
func (tx *Tx) SettleRemark(ctx context.Context, project int64, review, number int, person int64, settled bool) error {
	_, err := tx.q.Exec(ctx, `update remarks set settled = case when $5 then now() end, settler_id = case when $5 then $4::bigint end
		where project_id = $1 and review = $2 and number = $3`, project, review, number, person, settled)
	return err
}

// AddReviewAnswer keeps what somebody says of the whole, as of the handoff that the branch is at.
func (tx *Tx) AddReviewAnswer(ctx context.Context, project int64, review int, person int64, yes bool, why string, head int) error {
	_, err := tx.q.Exec(ctx, `insert into review_answers (project_id, review, person_id, yes, why, head) values ($1, $2, $3, $4, $5, $6)`,
		project, review, person, yes, why, head)
	return err
}

// CloseReview ends a review.
func (tx *Tx) CloseReview(ctx context.Context, project int64, review int, person int64) error {
	_, err := tx.q.Exec(ctx, `update reviews set closed = now(), closer_id = $3 where project_id = $1 and number = $2 and closed is null`,
		project,
		review, person)
	return err
}
