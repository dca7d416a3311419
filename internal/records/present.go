package records

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
)

// setPresent brings the rows of assets $2 of the project $1 up to date with their versions $3, at the paths $4 (folded: $5), where the
// branch $6 is the first one and its rows are those of its head so far.
var setPresent = [2]string{`
	delete from present p using unnest($2::bigint[], $3::int[]) u (i, n), versions v
		where p.project_id = $1 and p.asset_id = u.i and v.asset_id = u.i and v.number = u.n and v.gone
		and exists (select from branches b where b.id = $4 and b.name = '` + model.FirstBranch + `' and b.listed = b.head)`, `
	insert into present (asset_id, project_id, path, folded, folder, ending, number, handoff, size)
		select u.i, $1, u.p, u.f, ` + folderOf + `, ` + endingOf + `, u.n, v.handoff, c.size
		from unnest($2::bigint[], $3::int[], $4::text[], $5::text[]) u (i, n, p, f)
		cross join lateral (select * from versions v where v.asset_id = u.i and v.number = u.n limit 1) v
		cross join lateral (select size from contents c where c.id = v.content_id limit 1) c
		where not v.gone and exists (select from branches b where b.id = $6 and b.name = '` + model.FirstBranch + `' and b.listed = b.head)
	on conflict (asset_id) do update set path = excluded.path, folded = excluded.folded, folder = excluded.folder, ending = excluded.ending,
		number = excluded.number, handoff = excluded.handoff, size = excluded.size, words = null`}

// The folder and the ending of a folded path f of u.
const (
	folderOf = `coalesce(substring(u.f from '^(.*/)'), '')`
	endingOf = `coalesce(substring(u.f from '[^/](\.[^./]*)$'), '')`
)

// queuePresent queues what handoffs do to the rows of what is present, before their branch moves: what the last of them leaves.
func queuePresent(batch *pgx.Batch, project, branch int64, list []NewHandoff) {
	var ids []int64
	var numbers []int32
	var paths, folded []string
	at := map[int64]int{}
	add := func(id int64, number int, path, place string) {
		i, there := at[id]
		if !there {
			i, at[id] = len(ids), len(ids)
			ids, numbers, paths, folded = append(ids, id), append(numbers, 0), append(paths, ""), append(folded, "")
		}
		numbers[i], paths[i], folded[i] = int32(number), path, place
	}
	for _, h := range list {
		for _, v := range h.Versions {
			add(v.Asset, v.Number, v.Path, v.Folded)
		}
		for _, c := range h.Came {
			add(c.Asset, c.Number, c.Path, c.Folded)
		}
	}
	if len(ids) == 0 {
		return
	}
	batch.Queue(setPresent[0], project, ids, numbers, branch)
	batch.Queue(setPresent[1], project, ids, numbers, paths, folded, branch)
}

// Unlisted are the projects, by id, of which what is present has to be listed anew.
func (tx *Tx) Unlisted(ctx context.Context) ([]int64, error) {
	rows, err := tx.q.Query(ctx, `select project_id from branches where name = '`+model.FirstBranch+`' and listed <> head order by assets`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// Relist forgets what is present of a project, and says that it is about to be listed up to the head of a branch, whose row is locked.
func (tx *Tx) Relist(ctx context.Context, project, branch int64) error {
	var batch pgx.Batch
	batch.Queue(`delete from present where project_id = $1`, project)
	batch.Queue(`update branches set listed = head where id = $1`, branch)
	return tx.q.SendBatch(ctx, &batch).Close()
}

// AddPresent lists entries of a tree as present.
func (tx *Tx) AddPresent(ctx context.Context, project int64, entries []tree.Entry) error {
	n := len(entries)
	ids, numbers, sizes := make([]int64, n), make([]int32, n), make([]int64, n)
	paths, folded := make([]string, n), make([]string, n)
	for i := range entries {
		e := &entries[i]
		ids[i], numbers[i], sizes[i], paths[i], folded[i] = e.Asset, int32(e.Version), e.Size, e.Spelling(), e.Key
	}
	_, err := tx.q.Exec(ctx, `insert into present (asset_id, project_id, path, folded, folder, ending, number, handoff, size)
		select u.i, $1, u.p, u.f, `+folderOf+`, `+endingOf+`, u.n, v.handoff, u.s
		from unnest($2::bigint[], $3::int[], $4::text[], $5::text[], $6::bigint[]) u (i, n, p, f, s)
		cross join lateral (select * from versions v where v.asset_id = u.i and v.number = u.n limit 1) v`,
		project, ids, numbers, paths, folded, sizes)
	return err
}

// Orders of what is present, by name.
var presentOrders = map[string]string{"name": "r.folded", "size": "r.size", "version": "r.number", "date": "r.handoff", "person": "who"}

// PresentQuery says what of a project is listed; zero values filter nothing.
type PresentQuery struct {
	// Folder is folded, with its slash, "" for the root; Below takes what lies anywhere below it, else only what lies right in it.
	Folder string
	Below  bool
	// Text is a part of folded paths; Endings those of names, where Except says that all but those are meant.
	Text    string
	Endings []string
	Except  bool
	// Author is who made the newest version, by handle; Since and Until when that was handed off.
	Author       string
	Since, Until time.Time
	// Least and Most are sizes in bytes; Most 0 is no bound.
	Least, Most int64
	// Holder is whose lock it has; Free what nobody holds; Held what somebody does; Waited what somebody waits for.
	Holder             string
	Free, Held, Waited bool
	// Review is one of model.ReviewStates, or "".
	Review string
	// Order is one of name, size, version, date, person, and Down the other way round.
	Order string
	Down  bool
	Skip  int
	Limit int
	// All is how many there are in all, where that is known, as [Tx.Present] tells it; 0 has them counted.
	All int
}

// Filter tells queries apart by what they list, whatever the order and the page.
func (q PresentQuery) Filter() string {
	q.Order, q.Down, q.Skip, q.Limit, q.All = "", false, 0, 0, 0
	return fmt.Sprintf("%#v", q)
}

// Moves reports whether what is listed may be another while the state stays: locks are taken, remarks made, people called otherwise.
func (q PresentQuery) Moves() bool {
	return q.Author != "" || q.Holder != "" || q.Free || q.Held || q.Waited || q.Review != ""
}

// inReview says which rows r of present stand so in the reviews of the project $1. A yes counts for what was there when it was said: for
// the handoff that is reviewed, or for those of the branch up to its head then. Relies on versions_of_handoff.
var inReview = map[string]string{
	model.ReviewRemarked: `r.asset_id in (` + unsettled + `)`,
	model.ReviewSettled: `r.asset_id in (select asset_id from remarks where project_id = $1 and answers = 0 and asset_id is not null)
		and r.asset_id not in (` + unsettled + `)`,
	model.ReviewOpen: `r.asset_id in (select w.asset_id from reviews v
		join handoffs h on h.project_id = $1 and case when v.branch_id is null then h.number = v.handoff else h.branch_id = v.branch_id end
		join versions w on w.project_id = $1 and w.handoff = h.number where v.project_id = $1 and v.closed is null)`,
	model.ReviewAgreed: `(r.asset_id, r.number) in (select w.asset_id, w.number from (
			select v.branch_id, v.handoff, coalesce(min(l.head), 0) as head from reviews v
			join review_people a on a.project_id = $1 and a.review = v.number
			left join lateral (select yes, head from review_answers x where x.project_id = $1 and x.review = v.number
				and x.person_id = a.person_id order by x.id desc limit 1) l on true
			where v.project_id = $1 group by v.number, v.branch_id, v.handoff having bool_and(coalesce(l.yes, false))) v
		join handoffs h on h.project_id = $1 and case when v.branch_id is null then h.number = v.handoff
			else h.branch_id = v.branch_id and h.number <= v.head end
		join versions w on w.project_id = $1 and w.handoff = h.number)`,
}

const unsettled = `select m.asset_id from remarks m join reviews v on v.project_id = m.project_id and v.number = m.review
	where m.project_id = $1 and v.closed is null and m.answers = 0 and m.settled is null and m.asset_id is not null`

// CountedAtMost is up to how many assets a filter counts what fits it.
const CountedAtMost = 200_000

// Present lists the assets of a page by id, and how many there are in all; one more than CountedAtMost where there are more than that.
// Relies on present_in_folder and present_by_path, for text on present_text, and for the orders by size and date, which a filter leaves
// most of, on present_by_size and present_by_handoff.
func (tx *Tx) Present(ctx context.Context, project int64, q PresentQuery) (ids []int64, total int, err error) {
	args := []any{project}
	var from, where strings.Builder
	arg := func(v any) string {
		args = append(args, v)
		return fmt.Sprintf("$%d", len(args))
	}
	and := func(format string, parts ...any) { fmt.Fprintf(&where, " and "+format, parts...) }
	of, byIndex := `r.project_id = $1`, false
	if q.Text != "" {
		text := []sought{inPath(q.Text)}
		if err := tx.weigh(ctx, project, text); err != nil {
			return nil, 0, err
		}
		of, byIndex = allOf(text, &args)
	}
	switch {
	case !q.Below:
		and("r.folder = %s", arg(q.Folder))
	case q.Folder != "":
		low, high := tree.Below(q.Folder)
		and("r.folded > %s and r.folded < %s", arg(low), arg(high))
	}
	if len(q.Endings) > 0 {
		not := map[bool]string{true: "not "}[q.Except]
		and("%s(r.ending = any(%s))", not, arg(q.Endings))
	}
	if q.Author != "" || !q.Since.IsZero() || !q.Until.IsZero() || q.Order == "person" {
		from.WriteString(` cross join lateral (select ` + authorName + ` as who, h.at from handoffs h join people p on p.id = h.author_id
			where h.project_id = $1 and h.number = r.handoff limit 1) h`)
		if q.Author != "" {
			and("h.who = %s", arg(q.Author))
		}
		if !q.Since.IsZero() {
			and("h.at >= %s", arg(q.Since))
		}
		if !q.Until.IsZero() {
			and("h.at < %s", arg(q.Until))
		}
	}
	if q.Least > 0 {
		and("r.size >= %s", arg(q.Least))
	}
	if q.Most > 0 {
		and("r.size <= %s", arg(q.Most))
	}
	if q.Holder != "" || q.Free || q.Held || q.Waited {
		from.WriteString(` join assets a on a.id = r.asset_id`)
		if q.Holder != "" {
			and("a.holder_id = (select id from people where handle = %s)", arg(q.Holder))
		}
		if q.Free {
			and("a.holder_id is null")
		}
		if q.Held {
			and("a.holder_id is not null")
		}
		if q.Waited {
			and("a.waiting > 0")
		}
	}
	if q.Review != "" {
		where.WriteString(" and " + inReview[q.Review])
	}
	order, known := presentOrders[q.Order]
	if !known {
		order = presentOrders["name"]
	}
	down := map[bool]string{true: " desc"}[q.Down]
	if order != presentOrders["name"] {
		down += ", r.folded"
	}
	ask := tx.ask
	rowsAlone := from.Len() == 0 && q.Review == ""
	if byIndex || rowsAlone && (order == presentOrders["name"] || q.Below && q.Folder == "" && q.Order != "version") {
		ask = tx.byIndexes // they are found in an index, or come in the order of one
	}
	sql := ` from present r` + from.String() + ` where ` + of + where.String()
	if err := ask(ctx, `select r.asset_id`+sql+` order by `+order+down+fmt.Sprintf(` offset %d limit %d`, q.Skip, q.Limit+1), args,
		func(rows pgx.Rows) (err error) {
			ids, err = pgx.CollectRows(rows, pgx.RowTo[int64])
			return err
		}); err != nil {
		return nil, 0, err
	}
	if len(ids) <= q.Limit && (len(ids) > 0 || q.Skip == 0) {
		return ids, q.Skip + len(ids), nil // it is the last page: looking for as many again would take as long
	}
	ids = ids[:min(len(ids), q.Limit)]
	if q.All > 0 {
		return ids, min(q.All, CountedAtMost+1), nil
	}
	err = ask(ctx, fmt.Sprintf(`select count(*) from (select`+sql+` limit %d) r`, CountedAtMost+1), args,
		func(rows pgx.Rows) (err error) {
			total, err = pgx.CollectExactlyOneRow(rows, pgx.RowTo[int])
			return err
		})
	return ids, total, err
}

// Subfolders are the folders right in a folder (folded, with its slash, "" for the root) that have something present in them, in the order
// of their folded paths, up to limit: each as a path of something in it, folded and as it is spelled. It looks at one row a folder. Relies
// on present_in_folder.
func (tx *Tx) Subfolders(ctx context.Context, project int64, folder string, limit int) (folded, spelled []string, err error) {
	// What is below a folder begins with its path; the greatest character that there is comes behind all of it.
	rows, err := tx.q.Query(ctx, `with recursive f (n, folder, folded, path) as (
			(select 1, folder, folded, path from present where project_id = $1 and folder > $2 and starts_with(folder, $2)
				order by folder, folded limit 1)
			union all select f.n + 1, r.folder, r.folded, r.path from f cross join lateral (select * from present r where r.project_id = $1
				and r.folder > $2 || split_part(substr(f.folder, length($2) + 1), '/', 1) || '/' || chr(1114111) and starts_with(r.folder, $2)
				order by r.folder, r.folded limit 1) r where f.n < $3)
		select folded, path from f order by n`, project, folder, limit)
	if err != nil {
		return nil, nil, err
	}
	var f, p string
	_, err = pgx.ForEachRow(rows, []any{&f, &p}, func() error {
		folded, spelled = append(folded, f), append(spelled, p)
		return nil
	})
	return folded, spelled, err
}

// likeEscapes takes their meaning from the characters that have one in a pattern of like.
var likeEscapes = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)
