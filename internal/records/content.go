package records

import (
	"context"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/pack"
)

// AddPack records a pack that is durable in the store, with its chunks. A chunk that another pack brought meanwhile stays there.
func (tx *Tx) AddPack(ctx context.Context, project int64, name string, size int64, entries []pack.Entry) error {
	var id int64
	if err := tx.q.QueryRow(ctx, `insert into packs (project_id, name, size) values ($1, $2, $3) returning id`, project, name, size).Scan(&id); err != nil {
		return err
	}
	digests := make([][]byte, len(entries))
	starts, stored, sizes, codecs := make([]int64, len(entries)), make([]int32, len(entries)), make([]int32, len(entries)), make([]int16, len(entries))
	for i, e := range entries {
		digests[i], starts[i], stored[i], sizes[i], codecs[i] = e.Digest[:], e.Offset, int32(e.Stored), int32(e.Size), int16(e.Codec)
	}
	_, err := tx.q.Exec(ctx, `
		insert into chunks (project_id, digest, pack_id, start, stored, size, codec)
		select $1, d, $2, s, t, z, c from unnest($3::bytea[], $4::bigint[], $5::int[], $6::int[], $7::smallint[]) as u (d, s, t, z, c)
		order by d on conflict do nothing`, project, id, digests, starts, stored, sizes, codecs)
	return err
}

// Place is where a chunk lies in the store.
type Place struct {
	Pack string
	pack.Entry
}

// Places finds chunks of a project; what is not there is left out. Relies on the primary key of chunks.
func (tx *Tx) Places(ctx context.Context, project int64, digests []chunk.Digest) (map[chunk.Digest]Place, error) {
	rows, err := tx.q.Query(ctx, `select c.digest, p.name, c.start, c.stored, c.size, c.codec
		from chunks c join packs p on p.id = c.pack_id where c.project_id = $1 and c.digest = any($2)`, project, raw(digests))
	if err != nil {
		return nil, err
	}
	found := make(map[chunk.Digest]Place, len(digests))
	var digest []byte
	var p Place
	_, err = pgx.ForEachRow(rows, []any{&digest, &p.Pack, &p.Offset, &p.Stored, &p.Size, &p.Codec}, func() error {
		p.Digest = chunk.Digest(digest)
		found[p.Digest] = p
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

// Content is a row of contents.
type Content struct {
	ID     int64
	Digest chunk.Digest
	Size   int64
}

// Contents finds contents of a project by digest; what is not there is left out. Relies on contents_project_id_digest_key.
func (tx *Tx) Contents(ctx context.Context, project int64, digests []chunk.Digest) (map[chunk.Digest]Content, error) {
	rows, err := tx.q.Query(ctx, `select id, digest, size from contents where project_id = $1 and digest = any($2)`, project, raw(digests))
	if err != nil {
		return nil, err
	}
	found := make(map[chunk.Digest]Content, len(digests))
	var digest []byte
	var c Content
	_, err = pgx.ForEachRow(rows, []any{&c.ID, &digest, &c.Size}, func() error {
		c.Digest = chunk.Digest(digest)
		found[c.Digest] = c
		return nil
	})
	return found, err
}

// AddContents records contents that were checked. What is there already stays as it is.
func (tx *Tx) AddContents(ctx context.Context, project int64, list []*chunk.Manifest) error {
	digests, sizes, byDigest := make([][]byte, len(list)), make([]int64, len(list)), make(map[chunk.Digest]*chunk.Manifest, len(list))
	for i, m := range list {
		digests[i], sizes[i], byDigest[m.Digest] = m.Digest[:], m.Size, m
	}
	rows, err := tx.q.Query(ctx, `insert into contents (project_id, digest, size) select $1, d, s from unnest($2::bytea[], $3::bigint[]) as u (d, s)
		order by d on conflict do nothing returning id, digest`, project, digests, sizes)
	if err != nil {
		return err
	}
	var chunks [][]any
	var id int64
	var digest []byte
	if _, err := pgx.ForEachRow(rows, []any{&id, &digest}, func() error {
		start := int64(0)
		for _, ref := range byDigest[chunk.Digest(digest)].Chunks {
			chunks = append(chunks, []any{id, start, ref.Digest[:], int32(ref.Size)})
			start += int64(ref.Size)
		}
		return nil
	}); err != nil {
		return err
	}
	_, err = tx.q.CopyFrom(ctx, pgx.Identifier{"content_chunks"}, []string{"content_id", "start", "digest", "size"}, pgx.CopyFromRows(chunks))
	return err
}

// ChunksOf lists the chunks of a content in order from the one that holds byte from on, at most limit, and the place of the first.
// Relies on the primary key of content_chunks.
func (tx *Tx) ChunksOf(ctx context.Context, content, from int64, limit int) (refs []chunk.Ref, start int64, err error) {
	rows, err := tx.q.Query(ctx, `select start, digest, size from content_chunks where content_id = $1 and start >=
		coalesce((select max(start) from content_chunks where content_id = $1 and start <= $2), 0) order by start limit $3`, content, from, limit)
	if err != nil {
		return nil, 0, err
	}
	var at int64
	var digest []byte
	var ref chunk.Ref
	_, err = pgx.ForEachRow(rows, []any{&at, &digest, &ref.Size}, func() error {
		if len(refs) == 0 {
			start = at
		}
		ref.Digest = chunk.Digest(digest)
		refs = append(refs, ref)
		return nil
	})
	return refs, start, err
}
