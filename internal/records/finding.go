package records

import (
	"context"
	"fmt"
	"strings"

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
	rows, err := tx.q.Query(ctx, `select asset_id from present where words is null limit $1 for update skip locked`, limit)
	if err != nil {
		return nil, err
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	rows, err = tx.q.Query(ctx, `select r.asset_id, r.project_id, r.path, `+authorName+`, h.note, h.tasks, encode(c.digest, 'hex'), r.size,
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
func (tx *Tx) FindPresent(ctx context.Context, project int64, words []string, inPaths bool, limit int) ([]Hit, error) {
	often, err := tx.foundOften(ctx, project, words)
	if err != nil {
		return nil, err
	}
	args := []any{pgx.QueryExecModeCacheDescribe, project, strings.Join(words, " "), words[0], foundAtMost, limit}
	arm := func(format string, often []bool, value func(i int) string) string {
		arm := `(select asset_id from present where project_id = $1`
		for i := range words {
			args = append(args, value(i))
			// Each by itself, since like all has no index; and what is found often is looked for among the others, not in an index.
			condition := fmt.Sprintf(format, len(args)-1)
			if often[i] {
				condition = `(` + condition + `) is true`
			}
			arm += ` and ` + condition
		}
		return arm + ` limit $4)`
	}
	arms := arm(`words @@ $%d::tsquery`, often.words, func(i int) string { return finding.Query(words[i : i+1]) })
	if inPaths {
		patterns := containing(words)
		arms += ` union ` + arm(`folded like $%d`, often.paths, func(i int) string { return patterns[i] })
	}
	rows, err := tx.q.Query(ctx, `with q as (`+arms+`),
		best as (select r.asset_id, r.number, row_number() over (order by case when n.name = $2 or starts_with(n.name, $2 || '.') then 0
				when starts_with(n.name, $2) then 1 when strpos(n.name, $3) > 0 then 2 when strpos(r.folded, $3) > 0 then 3 else 4 end,
				length(r.folded), r.folded) as place
			from q cross join lateral (select * from present r where r.asset_id = q.asset_id limit 1) r
				cross join lateral (select substr(r.folded, length(r.folder) + 1) as name) n
			order by place limit $5)
		select r.asset_id, coalesce(f.said, '') from best r left join lateral (select f.said from versions v
			join facts f on f.content_id = v.content_id where v.asset_id = r.asset_id and v.number = r.number limit 1) f on true
		order by r.place`, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Hit])
}

// sampled is how many assets at either end of their order are looked at to know what is found often: in more than one of rarely at both.
const (
	sampled = 1000
	rarely  = 50
)

// often says of each word whether many assets are found by it, and have it in their paths.
type often struct{ words, paths []bool }

// foundOften looks at some assets for that. An index gathers all that it has of a word before the first of it is told, which takes long of
// what nearly all have; of that, enough is soon found by looking.
func (tx *Tx) foundOften(ctx context.Context, project int64, words []string) (o often, err error) {
	args := []any{pgx.QueryExecModeCacheDescribe, project, sampled}
	sql := ``
	add := func(format, value string) {
		args = append(args, value)
		sql += fmt.Sprintf(`, count(*) filter (where `+format+`)`, len(args)-1)
	}
	patterns := containing(words)
	for i := range words {
		add(`words @@ $%d::tsquery`, finding.Query(words[i:i+1]))
		add(`folded like $%d`, patterns[i])
	}
	end := func(down string) string {
		return `(select array[` + sql[2:] + `] from (select words, folded from present where project_id = $1
			order by folded` + down + ` limit $2) r)`
	}
	var first, last []int
	if err = tx.q.QueryRow(ctx, `select `+end("")+`, `+end(" desc"), args...).Scan(&first, &last); err != nil {
		return o, err
	}
	is := func(i int) bool { return first[i]*rarely > sampled && last[i]*rarely > sampled }
	for i := range words {
		o.words, o.paths = append(o.words, is(2*i)), append(o.paths, is(2*i+1))
	}
	return o, nil
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
