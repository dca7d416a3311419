package records

import (
	"context"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// authorName is who made a handoff: a person's handle, or a name from the git history that it was brought in from.
const authorName = `coalesce(nullif(h.signed, ''), p.handle)`

const handoffColumns = `h.number, b.name, ` + authorName + `, h.note, h.at, h.tasks, h.stage,
	array(select k.parent from handoff_parents k where k.project_id = h.project_id and k.number = h.number order by k.place), h.root,
		h.digest, h.assets, h.size,
	h.commit_id
	, array(select m.name from milestones m where m.project_id = h.project_id and m.handoff = h.number order by m.at)
	from handoffs h join branches b on b.id = h.branch_id join people p on p.id = h.author_id`

func scanHandoff(row pgx.CollectableRow) (h model.Handoff, err error) {
	h.Assets = []model.HandoffAsset{}
	var root, digest []byte
	err = row.Scan(&h.Number, &h.Branch, &h.Author, &h.Note, &h.At, &h.Tasks, &h.Stage, &h.Parents, &root, &digest, &h.Count, &h.Size,
		&h.Commit, &h.Milestones)
	h.Root, h.Digest = hex.EncodeToString(root), hex.EncodeToString(digest)
	return h, err
}

// HandoffQuery says which handoffs are listed; zero values filter nothing. Path is a folded path of an asset or a folder; Pattern is a
// regular expression for paths, without regard to case; Endings are those of names in small letters, or, with Except, all but them: one
// asset of the handoff fits them all. Since and Until are times of the handoff.
type HandoffQuery struct {
	Before, Above int
	// Behind lists only what is behind a state, or is it; Branch only what was handed off on the branch with this id.
	Behind            int
	Branch            int64
	Author            string
	Path, Pattern     string
	Endings           []string
	Except            bool
	Since, Until      time.Time
	Task, Stage, Text string
	// Assets is how many of its assets each of them is listed with, at most.
	Assets int
	Skip   int
	Limit  int
}

// where is what the query asks of h, handoffs, and p, its author, with its arguments behind those that there are.
func (q *HandoffQuery) where(args *[]any) string {
	var out strings.Builder
	and := func(format string, values ...any) {
		places := make([]any, len(values))
		for i, v := range values {
			*args = append(*args, v)
			places[i] = fmt.Sprintf("$%d", len(*args))
		}
		fmt.Fprintf(&out, " and "+format, places...)
	}
	if q.Behind > 0 {
		out.WriteString(` and exists (select from behind b where b.branch_id = h.branch_id and h.number <= b.upto)`)
	}
	if q.Before > 0 {
		and(`h.number < %s`, q.Before)
	}
	if q.Above > 0 {
		and(`h.number > %s`, q.Above)
	}
	if q.Branch > 0 {
		and(`h.branch_id = %s`, q.Branch)
	}
	if q.Author != "" {
		and(authorName+` = %s`, q.Author)
	}
	if !q.Since.IsZero() {
		and(`h.at >= %s`, q.Since)
	}
	if !q.Until.IsZero() {
		and(`h.at <= %s`, q.Until)
	}
	if q.Task != "" {
		and(`exists (select 1 from unnest(h.tasks) k where lower(k) = lower(%s))`, q.Task)
	}
	if q.Stage != "" {
		and(`lower(h.stage) = lower(%s)`, q.Stage)
	}
	if q.Text != "" {
		and(`position(lower(%s) in lower(h.note)) > 0`, q.Text)
	}
	if len(q.Endings) > 0 {
		and(map[bool]string{false: `h.endings && %s`, true: `not h.endings <@ %s`}[q.Except], q.Endings)
	}
	if q.Path == "" && q.Pattern == "" {
		return out.String()
	}
	out.WriteString(` and exists (select from (` + changesOf("h.number") + `) v join assets a on a.id = v.asset_id where true`)
	if q.Pattern != "" {
		and(`v.path ~* %s`, q.Pattern)
	}
	if q.Path != "" {
		and(`(a.folded = %[1]s or starts_with(a.folded, %[1]s || '/'))`, q.Path)
	}
	if len(q.Endings) > 0 {
		and(map[bool]string{true: "not "}[q.Except]+`(coalesce(substring(lower(v.path) from '[^/](\.[^./]*)$'), '') = any(%s))`, q.Endings)
	}
	out.WriteString(`)`)
	return out.String()
}

// Handoffs lists handoffs, the newest first, with as many of their assets as are asked for. Relies on the primary key of handoffs and on
// versions_of_handoff.
func (tx *Tx) Handoffs(ctx context.Context, project int64, q HandoffQuery) ([]model.Handoff, error) {
	args := []any{project, q.Behind}
	where := q.where(&args)
	rows, err := tx.q.Query(ctx, behind+`select `+handoffColumns+` where h.project_id = $1`+where+
		fmt.Sprintf(` order by h.number desc offset %d limit %d`, q.Skip, q.Limit), args...)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, scanHandoff)
	if err != nil || q.Assets == 0 || len(list) == 0 {
		return list, err
	}
	at, numbers := map[int]int{}, make([]int, len(list))
	for i, h := range list {
		at[h.Number], numbers[i] = i, h.Number
	}
	// Without an order: any few will do, and a handoff may have a hundred thousand.
	rows, err = tx.q.Query(ctx, `select u.n, `+changeColumns+` from unnest($2::int[]) u (n)
		cross join lateral (select * from (`+changesOf("u.n")+`) v limit $3) v`+changeJoins+` order by v.path`, project, numbers, q.Assets)
	if err != nil {
		return nil, err
	}
	var number int
	for rows.Next() {
		a, err := scanChange(rows, &number)
		if err != nil {
			return nil, err
		}
		list[at[number]].Assets = append(list[at[number]].Assets, a)
	}
	return list, rows.Err()
}

// CountHandoffs is how many handoffs there are for a query.
func (tx *Tx) CountHandoffs(ctx context.Context, project int64, q HandoffQuery) (n int, err error) {
	args := []any{project, q.Behind}
	where := q.where(&args)
	err = tx.q.QueryRow(ctx, behind+`select count(*) from handoffs h join people p on p.id = h.author_id where h.project_id = $1`+where,
		args...).Scan(&n)
	return n, err
}

// changesOf are the versions of a handoff of the project $1, and those that it brought from another branch: with, as was, what the branch
// had before. Relies on versions_of_handoff and the primary key of came.
func changesOf(handoff string) string { return changesUpTo(handoff, "") }

// changesUpTo are those of them that may come before the end of a page by path, whichever of the two they are.
func changesUpTo(handoff, page string) string {
	return `(select v.*, v.parents[1] was from versions v where v.project_id = $1 and v.handoff = ` + handoff + page + `)
		union all (select v.*, k.before from came k join versions v on v.asset_id = k.asset_id and v.number = k.number
			where k.project_id = $1 and k.handoff = ` + handoff + page + `)`
}

const changeColumns = `v.path, case when v.gone then 'gone' when o.number is null or o.gone then 'new' when v.path <> o.path
	and v.content_id = o.content_id then 'moved' else 'edited' end,
	v.number, coalesce(o.number, 0), coalesce(c.size, 0), coalesce(oc.size, 0), coalesce(c.digest, ''), coalesce(c.whole, ''), case when
		o.number > 0
		and not o.gone and v.path <> o.path then o.path else '' end,
	case when a.path <> v.path then a.path else '' end`

// Each row is looked up by its key, whatever the planner thinks of tables that have just grown.
const changeJoins = ` cross join lateral (select * from assets a where a.id = v.asset_id limit 1) a
	left join lateral (select * from contents c where c.id = v.content_id limit 1) c on true
	left join lateral (select * from versions o where o.asset_id = v.asset_id and o.number = v.was limit 1) o on true
	left join lateral (select * from contents oc where oc.id = o.content_id limit 1) oc on true`

func scanChange(row pgx.CollectableRow, before ...any) (a model.HandoffAsset, err error) {
	var content, whole []byte
	err = row.Scan(append(before, &a.Path, &a.Change, &a.Version, &a.Before, &a.Size, &a.SizeBefore, &content, &whole, &a.MovedFrom,
		&a.Now)...)
	a.Content, a.Digest = hex.EncodeToString(content), hex.EncodeToString(whole)
	return a, err
}

// Page is a part of a list: Limit rows from position Skip on; Limit 0 is all of them.
type Page struct{ Skip, Limit int }

// sql ends a statement with what makes it one of the page.
func (p Page) sql() string {
	if p.Limit == 0 {
		return ""
	}
	return fmt.Sprintf(" offset %d limit %d", p.Skip, p.Limit)
}

// Handoff returns one handoff with its assets by path. Relies on versions_of_handoff.
func (tx *Tx) Handoff(ctx context.Context, project int64, number int) (model.Handoff, error) {
	return tx.HandoffPage(ctx, project, number, Page{})
}

// HandoffPage is Handoff with a page of its assets.
func (tx *Tx) HandoffPage(ctx context.Context, project int64, number int, page Page) (model.Handoff, error) {
	rows, err := tx.q.Query(ctx, `select `+handoffColumns+` where h.project_id = $1 and h.number = $2`, project, number)
	if err != nil {
		return model.Handoff{}, err
	}
	h, err := pgx.CollectOneRow(rows, scanHandoff)
	if err != nil {
		if err == pgx.ErrNoRows {
			err = ErrNotFound
		}
		return h, err
	}
	end := ""
	if page.Limit > 0 {
		end = fmt.Sprintf(" order by v.path limit %d", page.Skip+page.Limit)
	}
	rows, err = tx.q.Query(ctx, `select `+changeColumns+` from (select * from (`+changesUpTo("$2", end)+`) v order by v.path`+page.sql()+
		`) v`+changeJoins+` order by v.path`, project, number)
	if err != nil {
		return h, err
	}
	h.Assets, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (model.HandoffAsset, error) { return scanChange(row) })
	return h, err
}

// Worked lists what each person did in the handoffs that one of two states has behind it and the other has not.
func (tx *Tx) Worked(ctx context.Context, project int64, one, other int) ([]model.Worked, error) {
	rows, err := tx.q.Query(ctx, behind+strings.Replace(behindOf("apart", "$3"), "with recursive", ",", 1)+`select `+authorName+` who,
		count(*), sum(h.assets), min(h.at), max(h.at) from handoffs h join people p
		on p.id = h.author_id
		where h.project_id = $1 and exists (select from behind b where b.branch_id = h.branch_id and h.number <= b.upto)
			<> exists (select from apart b where b.branch_id = h.branch_id and h.number <= b.upto) group by who order by 3 desc, who`, project,
		one, other)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (w model.Worked, err error) {
		err = row.Scan(&w.Person, &w.Handoffs, &w.Versions, &w.First, &w.Last)
		return w, err
	})
}
