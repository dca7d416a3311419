package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/pack"
)

// What verify, collect and rebuild read and write, beside the rest of the service.

// AllProjects lists every project that was not deleted.
func (tx *Tx) AllProjects(ctx context.Context) ([]Project, error) {
	rows, err := tx.q.Query(ctx, `select id, key, handoffs from projects where deleted is null order by id`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p Project, err error) {
		err = row.Scan(&p.ID, &p.Key, &p.Handoffs)
		return p, err
	})
}

// PackRow is a row of packs. Live is how many bytes of it are in use (with the 92 that a record takes beside its data), Damaged how many
// of its chunks are set aside.
type PackRow struct {
	ID        int64
	Name      string
	Size      int64
	Age       time.Duration
	History   bool
	Condemned *time.Time
	Live      int64
	Chunks    int
	Damaged   int
	Loose     int // S2 blocks, which can be pressed harder
}

// Packs lists up to limit packs of a project behind an id. Relies on packs_of_project and chunks_of_pack.
func (tx *Tx) Packs(ctx context.Context, project, after int64, limit int) ([]PackRow, error) {
	rows, err := tx.q.Query(ctx, `
		select p.id, p.name, p.size, now() - p.created, p.history, p.condemned, coalesce(c.live, 0), coalesce(c.n, 0), coalesce(c.damaged, 0),
			coalesce(c.loose, 0)
		from (select * from packs where project_id = $1 and id > $2 order by id limit $3) p
		left join lateral (select sum(stored + 92)::bigint as live, count(*) as n, count(damaged) as damaged,
			count(*) filter (where codec = 2) as loose from chunks where pack_id = p.id) c on true
		order by p.id`, project, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p PackRow, err error) {
		err = row.Scan(&p.ID, &p.Name, &p.Size, &p.Age, &p.History, &p.Condemned, &p.Live, &p.Chunks, &p.Damaged, &p.Loose)
		return p, err
	})
}

// ChunksOfPack lists what the index says is in a pack and not set aside, in the order in which it lies there. Relies on chunks_of_pack.
func (tx *Tx) ChunksOfPack(ctx context.Context, id int64) ([]pack.Entry, error) {
	rows, err := tx.q.Query(ctx, `select digest, start, stored, size, codec, kind from chunks where pack_id = $1 and damaged is null
		order by start`, id)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (e pack.Entry, err error) {
		var digest []byte
		if err = row.Scan(&digest, &e.Offset, &e.Stored, &e.Size, &e.Codec, &e.Kind); err == nil {
			e.Digest = chunk.Digest(digest)
		}
		return e, err
	})
}

// ContentsAfter lists up to limit contents of a project behind an id.
func (tx *Tx) ContentsAfter(ctx context.Context, project, after int64, limit int) ([]Content, error) {
	rows, err := tx.q.Query(ctx, `select `+contentColumns+` from contents where project_id = $1 and id > $2 order by id limit $3`, project,
		after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanContent)
}

// VersionsWith lists versions that have a content, as people write them: path and number.
func (tx *Tx) VersionsWith(ctx context.Context, project, content int64) ([]string, error) {
	rows, err := tx.q.Query(ctx, `select path || '@v' || number from versions where project_id = $1 and content_id = $2 order by path, number`,
		project, content)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// VersionRow is a version as a handoff wrote it.
type VersionRow struct {
	Asset      int64
	Number     int
	Parents    []int
	Path       string
	Content    chunk.Digest
	Gone       bool
	Executable bool
}

// VersionsOf lists the versions of a handoff by path. Relies on versions_of_handoff.
func (tx *Tx) VersionsOf(ctx context.Context, project int64, handoff int) ([]VersionRow, error) {
	rows, err := tx.q.Query(ctx, `select v.asset_id, v.number, v.parents, v.path, coalesce(c.digest, ''), v.gone, v.executable
		from versions v left join contents c on c.id = v.content_id
		where v.project_id = $1 and v.handoff = $2 order by v.path`, project, handoff)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (v VersionRow, err error) {
		var content []byte
		if err = row.Scan(&v.Asset, &v.Number, &v.Parents, &v.Path, &content, &v.Gone, &v.Executable); err == nil && len(content) == 32 {
			v.Content = chunk.Digest(content)
		}
		return v, err
	})
}

// WriteHistoryAnew makes the keeper of the history write all of a project's handoffs to packs once more.
func (tx *Tx) WriteHistoryAnew(ctx context.Context, project int64) error {
	if _, err := tx.q.Exec(ctx, `update branches set packed = 0 where project_id = $1`, project); err != nil {
		return err
	}
	if _, err := tx.q.Exec(ctx, `update kit_releases set packed = false where project_id = $1`, project); err != nil {
		return err
	}
	_, err := tx.q.Exec(ctx, `update handoffs set packed = false where project_id = $1`, project)
	return err
}

// ForgetHistoryPack takes a pack of the history that can't be read out of the index. Its file stays, for whoever wants to look.
func (tx *Tx) ForgetHistoryPack(ctx context.Context, name string) error {
	_, err := tx.q.Exec(ctx, `delete from packs where name = $1 and history`, name)
	return err
}

// UnusedContents lists up to limit contents, by id behind after, that no version has and that nobody was told of since the lease began.
// Relies on versions_of_content.
func (tx *Tx) UnusedContents(ctx context.Context, project, after int64, lease time.Duration, limit int) ([]int64, error) {
	rows, err := tx.q.Query(ctx, `select c.id from contents c where c.project_id = $1 and c.id > $2 and c.seen < now() - $3::interval
		and not exists (select from versions v where v.content_id = c.id) order by c.id limit $4`, project, after, lease, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// DropContents removes those of the contents that are unused still. It needs the exclusive gate.
func (tx *Tx) DropContents(ctx context.Context, ids []int64, lease time.Duration) (int64, error) {
	tag, err := tx.q.Exec(ctx, `delete from contents c where c.id = any($1) and c.seen < now() - $2::interval
		and not exists (select from versions v where v.content_id = c.id)`, ids, lease)
	return tag.RowsAffected(), err
}

// Unseen lists up to limit sound chunks, by digest behind after, that nobody was told of since the lease began.
func (tx *Tx) Unseen(ctx context.Context, project int64, after []byte, lease time.Duration, limit int) ([]chunk.Digest, error) {
	rows, err := tx.q.Query(ctx, `select digest from chunks where project_id = $1 and digest > $2 and seen < now() - $3::interval
		and condemned is null and damaged is null order by digest limit $4`, project, after, lease, limit)
	if err != nil {
		return nil, err
	}
	return digestsOf(rows)
}

// Condemned lists up to limit chunks, by digest behind after, that were condemned at least so long ago. Relies on chunks_condemned.
func (tx *Tx) Condemned(ctx context.Context, project int64, after []byte, ago time.Duration, limit int) ([]chunk.Digest, error) {
	rows, err := tx.q.Query(ctx, `select digest from chunks where project_id = $1 and digest > $2 and condemned <= now() - $3::interval
		order by digest limit $4`, project, after, ago, limit)
	if err != nil {
		return nil, err
	}
	return digestsOf(rows)
}

// Condemn marks chunks that nothing refers to, unless somebody was told of them meanwhile.
func (tx *Tx) Condemn(ctx context.Context, project int64, digests []chunk.Digest, lease time.Duration) (int64, error) {
	tag, err := tx.q.Exec(ctx, `update chunks c set condemned = now() from (select k.digest from unnest($2::bytea[]) u (d) join chunks k
		on k.project_id = $1 and k.digest = u.d order by k.digest for update of k) d
		where c.project_id = $1 and c.digest = d.digest and c.seen < now() - $3::interval and c.condemned is null`, project, raw(digests), lease)
	return tag.RowsAffected(), err
}

// DropChunks removes condemned chunks from the index, unless somebody was told of them meanwhile, and returns how many stored bytes that
// are. It needs the exclusive gate.
func (tx *Tx) DropChunks(ctx context.Context, project int64, digests []chunk.Digest, lease,
	condemned time.Duration) (n, size int64, err error) {
	err = tx.q.QueryRow(ctx, `
		with gone as (delete from chunks c using unnest($2::bytea[]) u (d) where c.project_id = $1 and c.digest = u.d
			and condemned <= now() - $4::interval and seen < now() - $3::interval returning stored)
		select count(*), coalesce(sum(stored), 0)::bigint from gone`, project, raw(digests), lease, condemned).Scan(&n, &size)
	return n, size, err
}

// CondemnPacks marks packs that have nothing in use.
func (tx *Tx) CondemnPacks(ctx context.Context, ids []int64) error {
	_, err := tx.q.Exec(ctx, `update packs p set condemned = now() where id = any($1) and condemned is null and not exists (select 1
		from chunks c where c.pack_id = p.id)`, ids)
	return err
}

// CondemnedPacks lists the packs that were condemned at least so long ago.
func (tx *Tx) CondemnedPacks(ctx context.Context, project int64, condemned time.Duration) ([]PackRow, error) {
	rows, err := tx.q.Query(ctx, `select id, name, size from packs p where project_id = $1 and condemned <= now() - $2::interval
		and not exists (select 1 from chunks c where c.pack_id = p.id) order by id`, project, condemned)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p PackRow, err error) {
		err = row.Scan(&p.ID, &p.Name, &p.Size)
		return p, err
	})
}

// DropPack forgets a pack whose file is gone.
func (tx *Tx) DropPack(ctx context.Context, id int64) error {
	_, err := tx.q.Exec(ctx, `delete from packs p where id = $1 and not exists (select 1 from chunks c where c.pack_id = p.id)`, id)
	return err
}

// MovePack records a pack that was written out of others: what still lies in those lies in it from now on, and they are condemned.
func (tx *Tx) MovePack(ctx context.Context, project int64, from []int64, name string, size int64, history bool,
	entries []pack.Entry) error {
	var id int64
	if err := tx.q.QueryRow(ctx, `insert into packs (project_id, name, size, history) values ($1, $2, $3, $4) returning id`, project, name,
		size, history).Scan(&id); err != nil {
		return err
	}
	digests, starts, stored := make([][]byte, len(entries)), make([]int64, len(entries)), make([]int32, len(entries))
	codecs := make([]int16, len(entries))
	for i, e := range entries {
		digests[i], starts[i], stored[i], codecs[i] = entries[i].Digest[:], e.Offset, int32(e.Stored), int16(e.Codec)
	}
	if !history {
		if _, err := tx.q.Exec(ctx, `
			update chunks c set pack_id = $3, start = u.s, stored = u.t, codec = u.c
			from (select * from unnest($4::bytea[], $5::bigint[], $6::int[], $7::smallint[]) as u (d, s, t, c) order by d) u
			where c.project_id = $1 and c.digest = u.d and c.pack_id = any($2)
				and c.damaged is null`, project, from, id, digests, starts, stored, codecs); err != nil {
			return err
		}
	}
	_, err := tx.q.Exec(ctx, `update packs p set condemned = now() where id = any($1) and not exists (select 1 from chunks c
		where c.pack_id = p.id)`, from)
	return err
}

// PackStands tells whether a pack is still in use.
func (tx *Tx) PackStands(ctx context.Context, id int64) (ok bool, err error) {
	err = tx.q.QueryRow(ctx, `select exists (select 1 from packs where id = $1 and condemned is null)`, id).Scan(&ok)
	return ok, err
}

// PackNames is the set of the names of all packs.
func (tx *Tx) PackNames(ctx context.Context) (map[string]bool, error) {
	rows, err := tx.q.Query(ctx, `select name from packs`)
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	names := make(map[string]bool, len(list))
	for _, n := range list {
		names[n] = true
	}
	return names, err
}

// DeletedProjects lists the deleted projects whose days of grace are over.
func (tx *Tx) DeletedProjects(ctx context.Context) ([]Project, error) {
	rows, err := tx.q.Query(ctx, `select id, key from projects where deleted is not null and goes <= now() order by id`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p Project, err error) {
		err = row.Scan(&p.ID, &p.Key)
		return p, err
	})
}

// DropProject removes a project and everything of it, but for the record of what was done.
func (tx *Tx) DropProject(ctx context.Context, id int64) error {
	if _, err := tx.q.Exec(ctx, `update events set project_id = null where project_id = $1`, id); err != nil {
		return err
	}
	for _, table := range []string{"tokens", "pins", "milestones", "deliveries", "hooks", "holds", "asks", "waits", "rule_requests",
		"heads_ups", "remarks", "review_answers", "review_people", "reviews", "send_keys", "came", "versions", "handoff_parents", "handoffs",
		"present", "facts", "claims", "assets", "contents", "damage", "chunks", "packs",
		"nodes", "branches", "workspaces",
		"memberships"} {
		if _, err := tx.q.Exec(ctx, fmt.Sprintf(`delete from %s where project_id = $1`, table), id); err != nil {
			return err
		}
	}
	_, err := tx.q.Exec(ctx, `delete from projects where id = $1`, id)
	return err
}

// Alone runs work while no other program on this database runs work of the same kind; ok is false where one does.
func (db *DB) Alone(ctx context.Context, kind int32, work func() error) (ok bool, err error) {
	err = db.Use(ctx, func(tx *Tx) error {
		if err := tx.q.QueryRow(ctx, `select pg_try_advisory_lock(7422, $1)`, kind).Scan(&ok); err != nil || !ok {
			return err
		}
		defer func() {
			_, _ = tx.q.Exec(context.WithoutCancel(ctx), `select pg_advisory_unlock(7422, $1)`, kind)
		}()
		return work()
	})
	return ok, err
}

// RestoreProject makes a project under the id that its packs have.
func (tx *Tx) RestoreProject(ctx context.Context, id int64, key string) error {
	_, err := tx.q.Exec(ctx, `insert into projects (id, key) overriding system value values ($1, $2)`, id, key)
	return err
}

// RestoreAssets makes assets under the ids that trees have, those that are there already excepted, and gives them the claims on their
// places.
func (tx *Tx) RestoreAssets(ctx context.Context, project int64, ids []int64, paths, folded []string) error {
	var batch pgx.Batch
	batch.Queue(`insert into assets (id, project_id, path, folded) overriding system value
		select i, $1, p, f from unnest($2::bigint[], $3::text[], $4::text[]) as u (i, p, f) on conflict do nothing`, project, ids, paths, folded)
	batch.Queue(addClaims, project, ids, folded)
	return tx.q.SendBatch(ctx, &batch).Close()
}

// SetHandoffs sets the counter of a project's handoffs.
func (tx *Tx) SetHandoffs(ctx context.Context, project int64, n int) error {
	_, err := tx.q.Exec(ctx, `update projects set handoffs = $2 where id = $1`, project, n)
	return err
}

// Restored brings the counters of ids behind what was restored.
func (tx *Tx) Restored(ctx context.Context) error {
	for _, table := range []string{"projects", "assets"} {
		if _, err := tx.q.Exec(ctx, fmt.Sprintf(`select setval(pg_get_serial_sequence('%[1]s', 'id'), greatest((select max(id) from %[1]s), 1))`,
			table)); err != nil {
			return err
		}
	}
	return nil
}

// EnsurePerson finds a person by handle, or makes one who can't sign in until they get a passphrase.
func (tx *Tx) EnsurePerson(ctx context.Context, handle string) (id int64, err error) {
	if _, err := tx.q.Exec(ctx, `insert into people (handle, passphrase) values ($1, '') on conflict do nothing`, handle); err != nil {
		return 0, err
	}
	err = tx.q.QueryRow(ctx, `select id from people where handle = $1`, handle).Scan(&id)
	return id, err
}

// SetPassphrase gives a person a passphrase, where they have none.
func (tx *Tx) SetPassphrase(ctx context.Context, handle, passphrase string, steward bool) (id int64, err error) {
	err = one(tx.q.QueryRow(ctx, `update people set passphrase = $2, steward = steward or $3 where handle = $1 and passphrase = ''
		returning id`, handle, passphrase, steward), &id)
	return id, err
}
