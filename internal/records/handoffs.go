package records

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/change"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

// SendKey is what became of a key that a client wrote down for a send.
type SendKey struct {
	PersonID int64
	Request  []byte
	Handoff  int
}

// ClaimSendKey takes a key for this transaction; a transaction that has it and is not done yet is waited for. fresh is false where
// the key was used or closed before; key then tells what became of it. A nil request closes the key.
func (tx *Tx) ClaimSendKey(ctx context.Context, project int64, key string, person int64,
	request []byte) (k SendKey, fresh bool, err error) {
	tag, err := tx.q.Exec(ctx, `insert into send_keys (project_id, key, person_id, request) values ($1, $2, $3, $4) on conflict do nothing`,
		project, key, person, request)
	if err != nil || tag.RowsAffected() == 1 {
		return k, true, err
	}
	err = one(tx.q.QueryRow(ctx, `select person_id, request, coalesce(handoff, 0) from send_keys where project_id = $1 and key = $2`, project,
		key),
		&k.PersonID, &k.Request, &k.Handoff)
	return k, false, err
}

// SendKey tells what became of a key; PersonID is 0 where nobody has used it.
func (tx *Tx) SendKey(ctx context.Context, project int64, key string) (k SendKey, err error) {
	err = one(tx.q.QueryRow(ctx, `select person_id, request, coalesce(handoff, 0) from send_keys where project_id = $1 and key = $2`, project,
		key),
		&k.PersonID, &k.Request, &k.Handoff)
	if err == ErrNotFound {
		err = nil
	}
	return k, err
}

// NewHandoff is what AddHandoff writes. Record is what its digest covers; Author and Workspace are who made it and where.
type NewHandoff struct {
	Record    chain.Handoff
	Digest    chunk.Digest
	Branch    int64
	Author    int64
	Workspace string
	Key       string
	Versions  []NewVersion
	// Came are the versions that a merge brings as they are.
	Came []Came
	// Assets and Size are what the whole branch has behind it.
	Assets, Size int64
}

// NewVersion is one version of a NewHandoff.
type NewVersion struct {
	Asset  int64
	Number int
	// Parents are the versions of the asset that it was made from: the one on its own line first, 0 for none, and in a merge the other.
	Parents [2]int
	Path    string
	Folded  string
	// Content is the id of the content, 0 where the asset goes; Size is in bytes.
	Content    int64
	Size       int64
	Executable bool
	// Renames says that the asset was called otherwise before.
	Renames bool
}

// endings are those of the names of what it changed, each once.
func (h *NewHandoff) endings() []string {
	found := map[string]bool{}
	for _, v := range h.Versions {
		found[strings.ToLower(path.Ext(v.Path))] = true
	}
	for _, c := range h.Came {
		found[strings.ToLower(path.Ext(c.Path))] = true
	}
	return append([]string{}, slices.Sorted(maps.Keys(found))...)
}

// NextNumber takes the next number of a project's handoffs. It locks the counter, last of all: nothing else may be locked after it.
func (tx *Tx) NextNumber(ctx context.Context, project int64) (number int, err error) {
	return tx.NextNumbers(ctx, project, 1)
}

// NextNumbers takes so many, and returns the first.
func (tx *Tx) NextNumbers(ctx context.Context, project int64, n int) (first int, err error) {
	err = tx.q.QueryRow(ctx, `update projects set handoffs = handoffs + $2 where id = $1 returning handoffs - $2 + 1`, project, n).Scan(&first)
	return first, err
}

// AddHandoffs writes handoffs that follow one another with their versions, and moves the branch, whose row is locked, to the last. What has
// a row for each of many is one statement for all of them.
func (tx *Tx) AddHandoffs(ctx context.Context, project int64, list ...NewHandoff) error {
	var batch pgx.Batch
	for _, h := range list {
		h.queue(&batch, project)
	}
	last := list[len(list)-1]
	queueVersions(&batch, project, last.Branch, list)
	queueParents(&batch, project, last.Branch, list)
	queuePresent(&batch, project, last.Branch, list)
	batch.Queue(`update branches set root = $2, head = $3, assets = $4, size = $5,
		listed = case when name = '`+model.FirstBranch+`' and listed = head then $3 else listed end where id = $1`,
		last.Branch, last.Record.Root[:], last.Record.Number, last.Assets, last.Size)
	return tx.q.SendBatch(ctx, &batch).Close()
}

// queue puts the row of a handoff in line to be written.
func (h NewHandoff) queue(batch *pgx.Batch, project int64) {
	size := int64(0)
	for _, v := range h.Versions {
		size += v.Size
	}
	var space *string
	if h.Workspace != "" {
		space = &h.Workspace
	}
	if h.Record.Tasks == nil {
		h.Record.Tasks = []string{}
	}
	batch.Queue(`insert into handoffs (project_id, number, branch_id, author_id, workspace_id, note, at, tasks, stage, root, digest,
		assets, size, commit_id, signed, endings)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16)`,
		project, h.Record.Number, h.Branch, h.Author, space, h.Record.Note, h.Record.Time(), h.Record.Tasks, h.Record.Stage,
		h.Record.Root[:], h.Digest[:], len(h.Versions)+len(h.Came), size, h.Record.Commit, h.Record.Signed, h.endings())
	if len(h.Came) > 0 {
		ids, numbers, before := make([]int64, len(h.Came)), make([]int, len(h.Came)), make([]int, len(h.Came))
		for i, c := range h.Came {
			ids[i], numbers[i], before[i] = c.Asset, c.Number, c.Before
		}
		batch.Queue(`insert into came (project_id, handoff, asset_id, number, before) select $1, $2, i, n, b
			from unnest($3::bigint[], $4::integer[], $5::integer[]) u (i, n, b)`, project, h.Record.Number, ids, numbers, before)
	}
	if h.Key != "" {
		batch.Queue(`update send_keys set handoff = $3 where project_id = $1 and key = $2`, project, h.Key, h.Record.Number)
	}
}

// queueVersions puts the versions of handoffs in line, and what their assets are called by the last of them.
func queueVersions(batch *pgx.Batch, project, branch int64, list []NewHandoff) {
	n := 0
	for _, h := range list {
		n += len(h.Versions)
	}
	ids, numbers, handoffs, paths := make([]int64, 0, n), make([]int32, 0, n), make([]int32, 0, n), make([]string, 0, n)
	before, merged := make([]int32, 0, n), make([]int32, 0, n)
	contents, executable := make([]int64, 0, n), make([]bool, 0, n)
	called := map[int64]NewVersion{}
	for _, h := range list {
		for _, v := range h.Versions {
			if v.Renames {
				called[v.Asset] = v
			}
			ids, numbers, handoffs = append(ids, v.Asset), append(numbers, int32(v.Number)), append(handoffs, int32(h.Record.Number))
			before, merged = append(before, int32(v.Parents[0])), append(merged, int32(v.Parents[1]))
			paths, contents, executable = append(paths, v.Path), append(contents, v.Content), append(executable, v.Executable)
		}
	}
	batch.Queue(`insert into versions (asset_id, number, project_id, branch_id, handoff, parents, path, content_id, gone, executable)
		select id, n, $1, $9, h, array_remove(array[b, m], 0), p, nullif(c, 0), c = 0, x
		from unnest($3::bigint[], $4::int[], $5::int[], $6::text[], $7::bigint[], $8::boolean[], $10::int[], $2::int[])
			as u (id, n, b, p, c, x, m, h)`,
		project, handoffs, ids, numbers, before, paths, contents, executable, branch, merged)
	if len(called) == 0 {
		return
	}
	var renamed []int64
	var names, places []string
	for id, v := range called {
		renamed, names, places = append(renamed, id), append(names, v.Path), append(places, v.Folded)
	}
	batch.Queue(`update assets a set path = u.p, folded = u.f from unnest($1::bigint[], $2::text[], $3::text[]) as u (id, p, f)
		where a.id = u.id`, renamed, names, places)
}

// queueParents puts the parents of handoffs in line, whose rows are before them in it.
func queueParents(batch *pgx.Batch, project, branch int64, list []NewHandoff) {
	var numbers, places, parents []int32
	for _, h := range list {
		for i, parent := range h.Record.Parents {
			numbers, places, parents = append(numbers, int32(h.Record.Number)), append(places, int32(i)), append(parents, int32(parent.Number))
		}
	}
	batch.Queue(`insert into handoff_parents (project_id, number, place, branch_id, parent, parent_branch)
		select $1, u.n, u.i, $2, h.number, h.branch_id from unnest($3::int[], $4::int[], $5::int[]) u (n, i, p)
		cross join lateral (select * from handoffs h where h.project_id = $1 and h.number = u.p limit 1) h`,
		project, branch, numbers, places, parents)
}

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
func changesOf(handoff string) string {
	return `select v.*, v.parents[1] was from versions v where v.project_id = $1 and v.handoff = ` + handoff + `
		union all select v.*, k.before from came k join versions v on v.asset_id = k.asset_id and v.number = k.number
			where k.project_id = $1 and k.handoff = ` + handoff
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
	rows, err = tx.q.Query(ctx, `select `+changeColumns+` from (select * from (`+changesOf("$2")+`) v order by v.path`+page.sql()+`) v`+
		changeJoins+` order by v.path`, project, number)
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
