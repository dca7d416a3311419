package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/change"
	"kettletarn/internal/core/model"
)

// AddPins keeps which commits pin which handoffs, where the digest agrees, and tells how many are new; what is known already stays.
func (tx *Tx) AddPins(ctx context.Context, project, person int64, list []model.PinnedCommit) (fresh int64, err error) {
	n := len(list)
	commits, handoffs, digests, authors, subjects, times := make([]string, n), make([]int32, n), make([]string, n), make([]string, n),
		make([]string, n), make([]time.Time, n)
	for i, p := range list {
		commits[i], handoffs[i], digests[i], authors[i], subjects[i], times[i] = p.Commit, int32(p.Handoff), p.Digest, p.Author, p.Subject, p.At
	}
	tag, err := tx.q.Exec(ctx, `insert into pins (project_id, commit_id, handoff, author, subject, at, person_id)
		select $1, u.c, u.h, u.a, u.s, u.t, $2 from unnest($3::text[], $4::integer[], $5::text[], $6::text[], $7::text[], $8::timestamptz[]) u (c,
			h, d, a, s, t)
		cross join lateral (select digest from handoffs h where h.project_id = $1 and h.number = u.h limit 1) h
		where h.digest = decode(u.d, 'hex') on conflict do nothing`, project, person, commits, handoffs, digests, authors, subjects, times)
	return tag.RowsAffected(), err
}

// Pins lists the commits that pin handoffs, the latest first: those of one handoff, or, with 0, of all. Relies on pins_of_handoff.
func (tx *Tx) Pins(ctx context.Context, project int64, handoff, limit int) ([]model.PinnedCommit, error) {
	rows, err := tx.q.Query(ctx, `select commit_id, author, subject, at, handoff from pins where project_id = $1 and ($2 = 0 or handoff = $2)
		order by at desc, handoff desc, commit_id limit $3`, project, handoff, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p model.PinnedCommit, err error) {
		err = row.Scan(&p.Commit, &p.Author, &p.Subject, &p.At, &p.Handoff)
		return p, err
	})
}

// Past is the newest handoff that stands for a commit, and whether the project has handoffs at all.
func (tx *Tx) Past(ctx context.Context, project int64, branch string) (p model.Past, err error) {
	err = one(tx.q.QueryRow(ctx, `select h.commit_id, h.number from handoffs h join branches b on b.id = h.branch_id
		where h.project_id = $1 and h.commit_id <> '' and b.name = $2 order by h.number desc limit 1`, project, branch), &p.Commit, &p.Handoff)
	if err == ErrNotFound {
		err = nil
	}
	return p, err
}

// OfCommits finds the handoffs that stand for commits. Relies on handoffs_of_commit.
func (tx *Tx) OfCommits(ctx context.Context, project int64, commits []string) (map[string]model.PastHandoff, error) {
	rows, err := tx.q.Query(ctx, `select h.commit_id, h.number, `+authorName+`, h.signed = '' from handoffs h join people p
		on p.id = h.author_id
		where h.project_id = $1 and h.commit_id <> '' and h.commit_id = any($2)`, project, commits)
	if err != nil {
		return nil, err
	}
	found := map[string]model.PastHandoff{}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (h model.PastHandoff, err error) {
		err = row.Scan(&h.Commit, &h.Handoff, &h.Author, &h.Known)
		return h, err
	})
	for _, h := range list {
		found[h.Commit] = h
	}
	return found, err
}

// PeopleByMail finds people by mail address, in small letters. One that several have is nobody's.
func (tx *Tx) PeopleByMail(ctx context.Context, mails []string) (map[string]Person, error) {
	rows, err := tx.q.Query(ctx, `select lower(mail), min(id), min(handle) from people where mail <> ''
		and lower(mail) = any($1) group by lower(mail) having count(*) = 1`, mails)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	found := map[string]Person{}
	for rows.Next() {
		var mail string
		var p Person
		if err := rows.Scan(&mail, &p.ID, &p.Handle); err != nil {
			return nil, err
		}
		found[mail] = p
	}
	return found, rows.Err()
}

// LastOf tells where the newest versions of assets behind a state came from, by id. Relies on the primary key of versions.
func (tx *Tx) LastOf(ctx context.Context, project int64, state int, ids []int64) (map[int64]change.Last, error) {
	rows, err := tx.q.Query(ctx, behind+`select a.id, v.handoff, `+authorName+`, h.commit_id from unnest($3::bigint[]) a (id)
		cross join lateral `+newestBehind+`
		cross join lateral (select * from handoffs h where h.project_id = $1 and h.number = v.handoff limit 1) h
		join people p on p.id = h.author_id`, project, state, ids)
	if err != nil {
		return nil, err
	}
	found := map[int64]change.Last{}
	var id int64
	var last change.Last
	_, err = pgx.ForEachRow(rows, []any{&id, &last.Handoff, &last.Author, &last.Commit}, func() error {
		found[id] = last
		return nil
	})
	return found, err
}
