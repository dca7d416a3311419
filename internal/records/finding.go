package records

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/finding"
	"kettletarn/internal/core/model"
)

// Unread is something that is present, of which the words are not gathered yet. Said is what was read of its content, where Known says that
// something was.
type Unread struct {
	Asset, Project     int64
	Path, Author, Note string
	Tasks              []string
	Content            string
	Size               int64
	Said               string
	Known              bool
}

// Unread lists up to limit of them, over all projects, and locks them: nobody else gathers them meanwhile, and what is found out about one
// comes after it. What is known of them is read once they are locked: a statement that locks sees its rows as they are by then, and all
// else as it was when it began. Relies on present_unread.
func (tx *Tx) Unread(ctx context.Context, limit int) ([]Unread, error) {
	var ids []int64
	if err := tx.byIndexes(ctx, `select asset_id from present where words is null limit $1 for update skip locked`, []any{limit},
		func(rows pgx.Rows) (err error) {
			ids, err = pgx.CollectRows(rows, pgx.RowTo[int64])
			return err
		}); err != nil || len(ids) == 0 {
		return nil, err
	}
	rows, err := tx.q.Query(ctx, `select r.asset_id, r.project_id, r.path, `+authorName+`, h.note, h.tasks, encode(c.digest, 'hex'), r.size,
			coalesce(f.said, ''), f.print_of is not null
		from unnest($1::bigint[]) i (id) cross join lateral (select * from present where asset_id = i.id limit 1) r
		cross join lateral (select content_id from versions v where v.asset_id = r.asset_id and v.number = r.number limit 1) v
		cross join lateral (select * from contents c where c.id = v.content_id limit 1) c
		cross join lateral (select * from handoffs h where h.project_id = r.project_id and h.number = r.handoff limit 1) h
		join people p on p.id = h.author_id left join facts f on f.content_id = c.id`, ids)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Unread])
}

// SetWords keeps the words of what Unread listed, by asset.
func (tx *Tx) SetWords(ctx context.Context, assets []int64, words [][]string) error {
	joined := make([]string, len(words))
	for i, w := range words {
		joined[i] = strings.Join(w, " ")
	}
	_, err := tx.q.Exec(ctx, `update present r set words = array_to_tsvector(array_remove(string_to_array(u.w, ' '), ''))
		from unnest($1::bigint[], $2::text[]) u (i, w) where r.asset_id = u.i`, assets, joined)
	return err
}

// Facts are what was read of a content: in words, and its print, where it has one, of a kind of thing ("" where it has none).
type Facts struct {
	Said    string
	Print   uint64
	PrintOf string
}

// SetFacts keeps what was read of a content of a project, named by its digest in hex, where that is not known yet; what is present with
// that content is to be gathered anew.
func (tx *Tx) SetFacts(ctx context.Context, project int64, content string, f Facts) error {
	var print *int64
	if f.PrintOf != "" {
		n := int64(f.Print)
		print = &n
	}
	_, err := tx.q.Exec(ctx, `with c as (select id from contents where project_id = $1 and digest = decode($2, 'hex')),
		f as (insert into facts (content_id, project_id, said, print, print_of) select id, $1, $3, $4, $5 from c
			on conflict (content_id) do update set print = excluded.print, print_of = excluded.print_of where facts.print_of is null
			returning content_id)
		update present r set words = null from versions v, f where v.content_id = f.content_id and r.asset_id = v.asset_id
			and r.number = v.number and r.project_id = $1`, project, content, f.Said, print, f.PrintOf)
	return err
}

// HasFacts reports whether all that is looked for was read of a content of a project.
func (tx *Tx) HasFacts(ctx context.Context, project int64, content string) (has bool, err error) {
	err = tx.q.QueryRow(ctx, `select exists (select from facts f join contents c on c.id = f.content_id
		where c.project_id = $1 and c.digest = decode($2, 'hex') and f.print_of is not null)`, project, content).Scan(&has)
	return has, err
}

// foundAtMost is among how many assets of each way of finding the best are looked for.
const foundAtMost = 2000

// Hit is an asset that was found, and what was read of its content.
type Hit struct {
	Asset int64
	Said  string
}

// FindPresent finds what is present by words (see package finding): what is found by all of them, or, with inPaths, has all of them
// anywhere in its path. Names that are the words come first, then those that begin with them, have the first in them, and the rest, short
// paths first. Relies on present_words and present_text.
func (tx *Tx) FindPresent(ctx context.Context, project int64, words []string, inPaths bool, limit int) (hits []Hit, err error) {
	ways := make([][]sought, 1, 2)
	for _, w := range words {
		ways[0] = append(ways[0], inWords(w))
	}
	if inPaths {
		ways = append(ways, nil)
		for _, w := range words {
			ways[1] = append(ways[1], inPath(w))
		}
	}
	if err := tx.weigh(ctx, project, ways...); err != nil {
		return nil, err
	}
	args := []any{project, strings.Join(words, " "), words[0], foundAtMost, limit}
	var arms []string
	for _, list := range ways {
		all, _ := allOf(list, &args)
		arms = append(arms, `(select asset_id from present r where `+all+` limit $4)`)
	}
	err = tx.byIndexes(ctx, `with q as (`+strings.Join(arms, ` union `)+`),
		best as (select r.asset_id, r.number, row_number() over (order by case when n.name = $2 or starts_with(n.name, $2 || '.') then 0
				when starts_with(n.name, $2) then 1 when strpos(n.name, $3) > 0 then 2 when strpos(r.folded, $3) > 0 then 3 else 4 end,
				length(r.folded), r.folded) as place
			from q cross join lateral (select * from present r where r.asset_id = q.asset_id limit 1) r
				cross join lateral (select substr(r.folded, length(r.folder) + 1) as name) n
			order by place limit $5)
		select r.asset_id, coalesce(f.said, '') from best r left join lateral (select f.said from versions v
			join facts f on f.content_id = v.content_id where v.asset_id = r.asset_id and v.number = r.number limit 1) f on true
		order by r.place`, args, func(rows pgx.Rows) (err error) {
		hits, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Hit])
		return err
	})
	return hits, err
}

// sought is something that what is present is looked for by: a condition on its rows r, with a place (%d) for the number of its argument.
// Among says that it is to be looked for among the others, not in an index, which gathers all that it has before the first of it is told:
// that takes long of what nearly all have, of which enough is soon found by looking. Parts are values of which all hold where it holds, in
// place of which an index may be asked: with what is rare in it for that which nearly all have.
type sought struct {
	condition, value string
	parts            []string
	among            bool
}

// inWords is what is found by a word.
func inWords(word string) sought {
	return sought{condition: `r.words @@ $%d::tsquery`, value: finding.Query([]string{word})}
}

// An index of texts is of three letters or digits in a row, of which there may be none; parts are of so many.
const (
	indexed = 3
	partOf  = 6
)

// inPath is what has a text anywhere in its path.
func inPath(text string) sought {
	s := sought{condition: `r.folded like $%d`, value: containing([]string{text})[0], among: true}
	for _, row := range strings.FieldsFunc(text, func(c rune) bool { return !unicode.IsLetter(c) && !unicode.IsDigit(c) }) {
		c := []rune(row)
		s.among = s.among && len(c) < indexed
		for i := 0; len(c)-i >= indexed && len(s.parts) < 8; i += partOf {
			s.parts = append(s.parts, containing([]string{string(c[max(0, min(i, len(c)-partOf)):min(i+partOf, len(c))])})...)
		}
	}
	return s
}

// allOf is the condition on rows r of the project $1 by which all of them are found, to be run by [Tx.byIndexes]; their values come behind
// args. byIndex says that an index finds them: then they are not looked for in one of the whole project besides.
func allOf(list []sought, args *[]any) (sql string, byIndex bool) {
	and := func(s sought, value string, among bool) {
		*args = append(*args, value)
		condition := fmt.Sprintf(s.condition, len(*args)) // each by itself, since like all has no index
		if among {
			condition = `(` + condition + `) is true`
		}
		byIndex = byIndex || !among
		sql += ` and ` + condition
	}
	for _, s := range list {
		for _, part := range s.parts {
			and(s, part, false)
		}
		and(s, s.value, s.among || len(s.parts) > 0)
	}
	if byIndex {
		return `(r.project_id = $1) is true` + sql, true
	}
	return `r.project_id = $1` + sql, false
}

// ask asks something, whose rows read reads.
func (tx *Tx) ask(ctx context.Context, sql string, args []any, read func(pgx.Rows) error) error {
	rows, err := tx.q.Query(ctx, sql, args...)
	if err != nil {
		return err
	}
	return read(rows)
}

// byIndexes asks something that is to look into indexes, and in their order, whatever PostgreSQL believes of what a table holds: it may not
// have counted since that grew a thousandfold. read reads the rows.
func (tx *Tx) byIndexes(ctx context.Context, sql string, args []any, read func(pgx.Rows) error) error {
	const set = `select set_config('enable_seqscan', $1, true), set_config('enable_sort', $1, true)`
	batch := &pgx.Batch{}
	batch.Queue(set, "off")
	batch.Queue(sql, args...).Query(read)
	batch.Queue(set, "on")
	return tx.q.SendBatch(ctx, batch).Close()
}

// sampled is how many assets at either end of their order are looked at to know what is found often: in more than one of rarely at both.
const (
	sampled = 1000
	rarely  = 50
)

// weigh finds out what of several lists is found often, and is to be looked for among the others, and which parts are not. Relies on
// present_by_path.
func (tx *Tx) weigh(ctx context.Context, project int64, lists ...[]sought) error {
	args := []any{project, sampled}
	sql := ``
	for _, s := range slices.Concat(lists...) {
		for _, value := range append([]string{s.value}, s.parts...) {
			args = append(args, value)
			sql += fmt.Sprintf(`, count(*) filter (where `+s.condition+`)`, len(args))
		}
	}
	end := func(down string) string {
		return `(select array[` + sql[2:] + `] from (select words, folded from present where project_id = $1
			order by folded` + down + ` limit $2) r)`
	}
	var first, last []int
	if err := tx.byIndexes(ctx, `select `+end("")+`, `+end(" desc"), args, func(rows pgx.Rows) error {
		_, err := pgx.ForEachRow(rows, []any{&first, &last}, func() error { return nil })
		return err
	}); err != nil {
		return err
	}
	n := 0
	often := func() (here, there bool) {
		n++
		return first[n-1]*rarely > sampled, last[n-1]*rarely > sampled
	}
	for _, list := range lists {
		for i := range list {
			s := &list[i]
			here, there := often()
			s.among = s.among || here && there
			s.parts = slices.DeleteFunc(s.parts, func(string) bool {
				here, there := often()
				return here || there // what is left of them is to be rare everywhere
			})
		}
	}
	return nil
}

// FindHandoffs finds the latest handoffs with all of some texts in their notes, their tasks, their stage or the name of who made them.
func (tx *Tx) FindHandoffs(ctx context.Context, project int64, words []string, limit int) ([]model.Handoff, error) {
	rows, err := tx.q.Query(ctx, `select `+handoffColumns+` where h.project_id = $1
		and lower(h.note || ' ' || array_to_string(h.tasks, ' ') || ' ' || h.stage || ' ' || `+authorName+` || ' h' || h.number) like all ($2)
		order by h.number desc limit $3`, project, containing(words), limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanHandoff)
}

// containing are patterns of like for what has each of some texts in it.
func containing(texts []string) []string {
	patterns := make([]string, len(texts))
	for i, t := range texts {
		patterns[i] = "%" + likeEscapes.Replace(t) + "%"
	}
	return patterns
}

// Unlooked lists contents that are present, under names that end so, of which nothing was read yet, over all projects; skip leaves some
// out.
func (tx *Tx) Unlooked(ctx context.Context, endings []string, skip, limit int) ([]Unread, error) {
	rows, err := tx.q.Query(ctx, `select r.project_id, r.path, encode(c.digest, 'hex'), r.size from present r
		cross join lateral (select content_id from versions v where v.asset_id = r.asset_id and v.number = r.number limit 1) v
		cross join lateral (select digest from contents c where c.id = v.content_id limit 1) c
		left join facts f on f.content_id = v.content_id
		where r.ending = any($1) and r.size > 0 and f.print_of is null offset $2 limit $3`, endings, skip, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (u Unread, err error) {
		err = row.Scan(&u.Project, &u.Path, &u.Content, &u.Size)
		return u, err
	})
}

// Alike is an asset that is present whose print is some bits apart from another's.
type Alike struct {
	Asset int64
	Apart int
}

// PresentAlike lists what is present that looks or sounds like what stands at a folded path: whose print is apart bits away at most, the
// nearest first, without what is the same. It looks at all prints of the project. Nothing is listed of what has no print. Relies on
// facts_prints and versions_of_content.
func (tx *Tx) PresentAlike(ctx context.Context, project int64, folded string, apart, limit int) ([]Alike, error) {
	rows, err := tx.q.Query(ctx, `with one as (select f.content_id, f.print, f.print_of from present r
			join versions v on v.asset_id = r.asset_id and v.number = r.number join facts f on f.content_id = v.content_id
			where r.project_id = $1 and r.folded = $2 and f.print is not null),
		near as (select f.content_id, bit_count((f.print # one.print)::bit(64))::int as apart from one
			join facts f on f.project_id = $1 and f.print_of = one.print_of and f.content_id <> one.content_id
			where bit_count((f.print # one.print)::bit(64)) <= $3 order by apart limit 1000)
		select r.asset_id, n.apart from near n join versions v on v.content_id = n.content_id
			join present r on r.asset_id = v.asset_id and r.number = v.number and r.project_id = $1
		order by n.apart, r.folded limit $4`, project, folded, apart, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Alike])
}
