package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/pack"
)

// LeaseDays is how long what somebody was told to be here stays, without anything that refers to it.
const LeaseDays = 14

// AddPack records a pack that is durable in the store, with its chunks and manifest nodes; records of other kinds are found through
// the tree. A chunk that another pack brought meanwhile stays there, unless it is damaged or condemned: then this one takes its place.
func (tx *Tx) AddPack(ctx context.Context, project int64, name string, size int64, entries []pack.Entry) error {
	var id int64
	history := false
	for _, e := range entries {
		history = history || e.Kind > pack.Manifest
	}
	if err := tx.q.QueryRow(ctx, `insert into packs (project_id, name, size, history) values ($1, $2, $3, $4) returning id`, project, name,
		size, history).Scan(&id); err != nil {
		return err
	}
	n := 0
	digests := make([][]byte, len(entries))
	starts, stored, sizes := make([]int64, len(entries)), make([]int32, len(entries)), make([]int32, len(entries))
	codecs, kinds := make([]int16, len(entries)), make([]int16, len(entries))
	seen := make(map[chunk.Digest]bool, len(entries))
	for _, e := range entries {
		if e.Kind > pack.Manifest || seen[e.Digest] {
			continue
		}
		seen[e.Digest] = true
		digests[n], starts[n], stored[n], sizes[n], codecs[n], kinds[n] = e.Digest[:], e.Offset, int32(e.Stored), int32(e.Size), int16(e.Codec),
			int16(e.Kind)
		n++
	}
	_, err := tx.q.Exec(ctx, `
		with brought as (
			insert into chunks (project_id, digest, pack_id, start, stored, size, codec, kind)
			select $1, d, $2, s, t, z, c, k from unnest($3::bytea[], $4::bigint[], $5::int[], $6::int[], $7::smallint[], $8::smallint[]) as u (d, s,
				t, z, c, k)
			order by d on conflict (project_id, digest) do update
				set pack_id = excluded.pack_id, start = excluded.start, stored = excluded.stored, size = excluded.size, codec = excluded.codec,
					kind = excluded.kind, seen = now(), condemned = null, damaged = null
				where chunks.damaged is not null or chunks.condemned is not null
			returning digest)
		update damage set healed = now() where project_id = $1 and healed is null and digest in (select digest from brought)`,
		project, id, digests[:n], starts[:n], stored[:n], sizes[:n], codecs[:n], kinds[:n])
	return err
}

// Place is where a chunk lies in the store.
type Place struct {
	Pack string
	pack.Entry
}

// Places finds chunks of a project; what is not there, or damaged, is left out. Relies on the primary key of chunks.
func (tx *Tx) Places(ctx context.Context, project int64, digests []chunk.Digest) (map[chunk.Digest]Place, error) {
	rows, err := tx.q.Query(ctx, `select c.digest, p.name, c.start, c.stored, c.size, c.codec, c.kind
		from unnest($2::bytea[]) u (d) cross join lateral (select * from chunks c where c.project_id = $1 and c.digest = u.d limit 1) c
		join packs p on p.id = c.pack_id where c.damaged is null`, project, raw(digests))
	if err != nil {
		return nil, err
	}
	found := make(map[chunk.Digest]Place, len(digests))
	var digest []byte
	var p Place
	_, err = pgx.ForEachRow(rows, []any{&digest, &p.Pack, &p.Offset, &p.Stored, &p.Size, &p.Codec, &p.Kind}, func() error {
		p.Digest = chunk.Digest(digest)
		found[p.Digest] = p
		return nil
	})
	return found, err
}

// Lease finds which chunks are there and sound, with their sizes, and promises that they stay: what the answer names is not collected
// for LeaseDays. The day's slack saves a write where a chunk is asked for often. Relies on the primary key of chunks.
func (tx *Tx) Lease(ctx context.Context, project int64, digests []chunk.Digest) (map[chunk.Digest]int, error) {
	rows, err := tx.q.Query(ctx, `select c.digest, c.size, c.seen < now() - interval '1 day' or c.condemned is not null
		from unnest($2::bytea[]) u (d)
		cross join lateral (select * from chunks c where c.project_id = $1 and c.digest = u.d limit 1) c
			where c.damaged is null`, project, raw(digests))
	if err != nil {
		return nil, err
	}
	found := make(map[chunk.Digest]int, len(digests))
	var digest []byte
	var size int
	var old bool
	var renew []chunk.Digest
	if _, err = pgx.ForEachRow(rows, []any{&digest, &size, &old}, func() error {
		if d := chunk.Digest(digest); old {
			renew = append(renew, d)
		} else {
			found[d] = size
		}
		return nil
	}); err != nil || len(renew) == 0 {
		return found, err
	}
	// This waits for a collection that is removing some of them: only what it gives back is there.
	rows, err = tx.q.Query(ctx, `update chunks c set seen = now(), condemned = null from (
			select k.digest from unnest($2::bytea[]) u (d) join chunks k on k.project_id = $1 and k.digest = u.d
				order by k.digest for update of k) old
		where c.project_id = $1 and c.digest = old.digest and c.damaged is null returning c.digest, c.size`, project, raw(renew))
	if err != nil {
		return nil, err
	}
	_, err = pgx.ForEachRow(rows, []any{&digest, &size}, func() error {
		found[chunk.Digest(digest)] = size
		return nil
	})
	return found, err
}

func raw(digests []chunk.Digest) [][]byte {
	out := make([][]byte, len(digests))
	for i := range digests {
		out[i] = digests[i][:]
	}
	return out
}

// Content is a row of contents. Whole is the digest of all its bytes, once it is sealed.
type Content struct {
	ID      int64
	Project int64
	Digest  chunk.Digest
	Size    int64
	Claimed *chunk.Digest
	Whole   *chunk.Digest
	Person  int64
	// old says that its lease is to be renewed.
	old bool
}

func optional(b []byte) *chunk.Digest {
	if len(b) != 32 {
		return nil
	}
	d := chunk.Digest(b)
	return &d
}

func bytesOf(d *chunk.Digest) []byte {
	if d == nil {
		return nil
	}
	return d[:]
}

// Contents finds contents of a project by digest; what is not there is left out. With lease, what is found stays for LeaseDays.
// Relies on contents_project_id_digest_key.
func (tx *Tx) Contents(ctx context.Context, project int64, digests []chunk.Digest, lease bool) (map[chunk.Digest]Content, error) {
	rows, err := tx.q.Query(ctx, `select `+contentColumns+` from unnest($2::bytea[]) u (d)
		cross join lateral (select * from contents where project_id = $1 and digest = u.d limit 1) c`, project, raw(digests))
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, scanContent)
	found := make(map[chunk.Digest]Content, len(list))
	var ids []int64
	for _, c := range list {
		if found[c.Digest] = c; c.old {
			ids = append(ids, c.ID)
		}
	}
	if err == nil && lease && len(ids) > 0 {
		_, err = tx.q.Exec(ctx, `update contents c set seen = now() from (
			select id from contents where id = any($1) and seen < now() - interval '1 day' order by id for update) old where c.id = old.id`, ids)
	}
	return found, err
}

const contentColumns = `id, project_id, digest, size, claimed, whole, coalesce(person_id, 0), seen < now() - interval '1 day'`

func scanContent(row pgx.CollectableRow) (c Content, err error) {
	var digest, claimed, whole []byte
	if err = row.Scan(&c.ID, &c.Project, &digest, &c.Size, &claimed, &whole, &c.Person, &c.old); err == nil {
		c.Digest, c.Claimed, c.Whole = chunk.Digest(digest), optional(claimed), optional(whole)
	}
	return c, err
}

// AddContents records contents whose chunks are there. What is there already stays as it is. One with Whole is sealed.
func (tx *Tx) AddContents(ctx context.Context, project int64, list []Content) error {
	digests, claimed, whole := make([][]byte, len(list)), make([][]byte, len(list)), make([][]byte, len(list))
	sizes, people := make([]int64, len(list)), make([]int64, len(list))
	for i, c := range list {
		digests[i], sizes[i], claimed[i], whole[i], people[i] = list[i].Digest[:], c.Size, bytesOf(c.Claimed), bytesOf(c.Whole), c.Person
	}
	_, err := tx.q.Exec(ctx, `
		insert into contents (project_id, digest, size, claimed, whole, sealed, person_id)
		select $1, d, s, c, w, case when w is not null then now() end, nullif(p, 0) from unnest($2::bytea[], $3::bigint[], $4::bytea[],
			$5::bytea[], $6::bigint[]) as u (d, s, c, w, p)
		order by d on conflict do nothing`, project, digests, sizes, claimed, whole, people)
	return err
}

// Unsealed lists contents that the service has not read yet, the oldest first. Relies on contents_unsealed.
func (tx *Tx) Unsealed(ctx context.Context, limit int) ([]Content, error) {
	rows, err := tx.q.Query(ctx, `select `+contentColumns+` from contents where sealed is null order by id limit $1`, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanContent)
}

// Seal keeps what the service found out about contents, by id: nil for one that could not be read.
func (tx *Tx) Seal(ctx context.Context, contents []int64, wholes []*chunk.Digest) error {
	digests := make([][]byte, len(wholes))
	for i, d := range wholes {
		digests[i] = bytesOf(d)
	}
	_, err := tx.q.Exec(ctx, `update contents c set sealed = now(), whole = u.whole from unnest($1::bigint[], $2::bytea[]) u (id, whole)
		where c.id = u.id`, contents, digests)
	return err
}

// PathsOf lists up to limit paths of versions that have a content.
func (tx *Tx) PathsOf(ctx context.Context, project, content int64, limit int) ([]string, error) {
	rows, err := tx.q.Query(ctx, `select distinct path from versions where project_id = $1 and content_id = $2 order by path limit $3`,
		project, content, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Damage is a chunk that could not be read back. Healed is nil as long as it lacks.
type Damage struct {
	Digest chunk.Digest
	Pack   string
	Start  int64
	Cause  string
	Found  time.Time
	Healed *time.Time
}

// AddDamage sets a chunk aside, if it still lies where it was found damaged: it counts as lacking until somebody brings it again. Its
// bytes stay where they are.
func (tx *Tx) AddDamage(ctx context.Context, project int64, d Damage) error {
	_, err := tx.q.Exec(ctx, `
		with hit as (
			update chunks c set damaged = now() from packs p
			where p.id = c.pack_id and c.project_id = $1 and c.digest = $2 and p.name = $3 and c.start = $4 and c.damaged is null returning c.digest)
		insert into damage (project_id, digest, pack, start, cause) select $1, digest, $3, $4, $5
			from hit`, project, d.Digest[:], d.Pack, d.Start, d.Cause)
	return err
}

// Damaged lists up to limit chunks that are lacking because they are damaged. Relies on chunks_damaged.
func (tx *Tx) Damaged(ctx context.Context, project int64, limit int) ([]chunk.Digest, error) {
	rows, err := tx.q.Query(ctx, `select digest from chunks where project_id = $1 and damaged is not null limit $2`, project, limit)
	if err != nil {
		return nil, err
	}
	return digestsOf(rows)
}

func digestsOf(rows pgx.Rows) ([]chunk.Digest, error) {
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (chunk.Digest, error) {
		var b []byte
		if err := row.Scan(&b); err != nil || len(b) != 32 {
			return chunk.Digest{}, err
		}
		return chunk.Digest(b), nil
	})
}

// Stored is how many bytes a project takes. Relies on packs_of_project.
func (tx *Tx) Stored(ctx context.Context, project int64) (n int64, err error) {
	err = tx.q.QueryRow(ctx, `select coalesce(sum(stored), 0)::bigint from project_room where project_id = $1`, project).Scan(&n)
	return n, err
}

// ChargeRoom waits for the right to charge room of a project that has a limit, and has it for this transaction: two that fit one by one
// may be too much together.
func (tx *Tx) ChargeRoom(ctx context.Context, project int64) error {
	_, err := tx.q.Exec(ctx, `select pg_advisory_xact_lock(7424, id::integer) from projects where id = $1 and storage_limit is not null`,
		project)
	return err
}

// Room is the limit of a project in bytes, 0 for none, and what it takes.
func (tx *Tx) Room(ctx context.Context, project int64) (limit, stored int64, err error) {
	err = one(tx.q.QueryRow(ctx, `select coalesce(storage_limit, 0), case when storage_limit is null then 0 else (select coalesce(sum(stored),
		0)::bigint from project_room where project_id = $1) end
		from projects where id = $1`, project), &limit, &stored)
	return limit, stored, err
}
