package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chain"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
)

const releaseColumns = `r.kit, r.number, r.handoff, encode(h.digest, 'hex'), r.match, r.note, p.handle, r.at from kit_releases r
	join handoffs h on h.project_id = r.project_id and h.number = r.handoff join people p on p.id = r.person_id`

func scanRelease(row pgx.CollectableRow) (r model.KitRelease, err error) {
	err = row.Scan(&r.Kit, &r.Number, &r.Handoff, &r.Digest, &r.Match, &r.Note, &r.Person, &r.At)
	return r, err
}

// AddKitRelease releases a kit under the next number. The transaction has the lock of the project's names (LockNames).
func (tx *Tx) AddKitRelease(ctx context.Context, project, person int64, r model.KitRelease) (number int, err error) {
	err = tx.q.QueryRow(ctx, `insert into kit_releases (project_id, kit, number, handoff, match, note, person_id)
		select $1, $2, coalesce(max(number), 0) + 1, $3, $4, $5, $6 from kit_releases where project_id = $1 and kit = $2 returning number`,
		project, r.Kit, r.Handoff, r.Match, r.Note, person).Scan(&number)
	return number, err
}

// KitReleases lists a project's, by kit, the latest first; those of one kit, where it is named. Relies on their primary key.
func (tx *Tx) KitReleases(ctx context.Context, project int64, kit string) ([]model.KitRelease, error) {
	rows, err := tx.q.Query(ctx, `select `+releaseColumns+` where r.project_id = $1 and ($2 = '' or r.kit = $2) order by r.kit, r.number desc`,
		project, kit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRelease)
}

// KitRelease is one, by its number; the latest with 0. See ErrNotFound.
func (tx *Tx) KitRelease(ctx context.Context, project int64, kit string, number int) (model.KitRelease, error) {
	rows, err := tx.q.Query(ctx, `select `+releaseColumns+` where r.project_id = $1 and r.kit = $2 and ($3 = 0 or r.number = $3)
		order by r.number desc limit 1`, project, kit, number)
	if err != nil {
		return model.KitRelease{}, err
	}
	r, err := pgx.CollectExactlyOneRow(rows, scanRelease)
	if err == pgx.ErrNoRows {
		err = ErrNotFound
	}
	return r, err
}

// LostReleases are those of handoffs that are not there.
func (tx *Tx) LostReleases(ctx context.Context, project int64) ([]model.KitRelease, error) {
	rows, err := tx.q.Query(ctx, `select r.kit, r.number, r.handoff from kit_releases r where r.project_id = $1
		and not exists (select from handoffs h where h.project_id = $1 and h.number = r.handoff) order by r.kit, r.number`, project)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r model.KitRelease, err error) {
		err = row.Scan(&r.Kit, &r.Number, &r.Handoff)
		return r, err
	})
}

// RestoreKitRelease releases one as it was.
func (tx *Tx) RestoreKitRelease(ctx context.Context, project, person int64, r model.KitRelease) error {
	_, err := tx.q.Exec(ctx, `insert into kit_releases (project_id, kit, number, handoff, match, note, person_id, at)
		values ($1, $2, $3, $4, $5, $6, $7, $8) on conflict do nothing`, project, r.Kit, r.Number, r.Handoff, r.Match, r.Note, person, r.At)
	return err
}

// UnpackedReleases are those that lie in no pack yet.
func (tx *Tx) UnpackedReleases(ctx context.Context, project int64) ([]chain.Release, error) {
	rows, err := tx.q.Query(ctx, `select j.key, r.kit, r.number, h.number, h.digest, r.match, r.note, p.handle, r.at
		from kit_releases r join projects j on j.id = r.project_id join handoffs h on h.project_id = r.project_id and h.number = r.handoff
		join people p on p.id = r.person_id where r.project_id = $1 and not r.packed order by r.kit, r.number`, project)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r chain.Release, err error) {
		var digest []byte
		var at time.Time
		err = row.Scan(&r.Project, &r.Kit, &r.Number, &r.Handoff.Number, &digest, &r.Match, &r.Note, &r.Person, &at)
		if r.At = at.UnixMicro(); err == nil {
			r.Handoff.Digest = chunk.Digest(digest)
		}
		return r, err
	})
}

// PackedReleases notes that releases lie in a pack.
func (tx *Tx) PackedReleases(ctx context.Context, project int64, list []chain.Release) error {
	kits, numbers := make([]string, len(list)), make([]int, len(list))
	for i, r := range list {
		kits[i], numbers[i] = r.Kit, r.Number
	}
	_, err := tx.q.Exec(ctx, `update kit_releases r set packed = true from unnest($2::text[], $3::integer[]) u (k, n)
		where r.project_id = $1 and r.kit = u.k and r.number = u.n`, project, kits, numbers)
	return err
}

// KitFile is what the file of a use says, but for its assets, of which it has so many. Kit is "" where it says nothing of the kind.
type KitFile struct {
	Maker   string
	Kit     string
	Release int
	Handoff chunk.Digest
	Stay    bool
	Assets  int
}

// KitFileKeys are the folded paths at which a project has, or had, files of uses, in order. Relies on assets_of_kits.
func (tx *Tx) KitFileKeys(ctx context.Context, project int64) ([]string, error) {
	rows, err := tx.q.Query(ctx, `select folded from assets where project_id = $1 and right(folded, 9) = '/tarn.kit' order by folded`, project)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// KitFiles are what files of uses say, by their content, as far as they were read.
func (tx *Tx) KitFiles(ctx context.Context, project int64, contents []chunk.Digest) (map[chunk.Digest]KitFile, error) {
	rows, err := tx.q.Query(ctx, `select c.digest, f.maker, f.kit, f.release, f.handoff, f.stay, f.assets from unnest($2::bytea[]) u (d)
		cross join lateral (select * from contents where project_id = $1 and digest = u.d limit 1) c join kit_files f on f.content_id = c.id`,
		project, raw(contents))
	if err != nil {
		return nil, err
	}
	found := map[chunk.Digest]KitFile{}
	var digest, handoff []byte
	var f KitFile
	_, err = pgx.ForEachRow(rows, []any{&digest, &f.Maker, &f.Kit, &f.Release, &handoff, &f.Stay, &f.Assets}, func() error {
		if f.Handoff = (chunk.Digest{}); len(handoff) == len(f.Handoff) {
			f.Handoff = chunk.Digest(handoff)
		}
		found[chunk.Digest(digest)] = f
		return nil
	})
	return found, err
}

// SetKitFile notes what the file of a use says.
func (tx *Tx) SetKitFile(ctx context.Context, project int64, content chunk.Digest, f KitFile) error {
	var handoff []byte
	if f.Handoff != (chunk.Digest{}) {
		handoff = f.Handoff[:]
	}
	_, err := tx.q.Exec(ctx, `insert into kit_files (content_id, project_id, maker, kit, release, handoff, stay, assets)
		select id, project_id, $3, $4, $5, $6, $7, $8 from contents where project_id = $1 and digest = $2 on conflict do nothing`,
		project, content[:], f.Maker, f.Kit, f.Release, handoff, f.Stay, f.Assets)
	return err
}

// UnreadKitFiles are the contents of files of uses that are present in any project, and were not read yet.
func (tx *Tx) UnreadKitFiles(ctx context.Context) ([]Content, error) {
	rows, err := tx.q.Query(ctx, `select `+contentColumns+` from contents where id in (
		select v.content_id from assets a join present r on r.asset_id = a.id join versions v on v.asset_id = a.id and v.number = r.number
		where right(a.folded, 9) = '/tarn.kit' and not exists (select from kit_files f where f.content_id = v.content_id)) order by id`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanContent)
}

// Maker is the project that has the key of the maker of a use, that of number Of in a list: Newest is the latest release of the kit, 0 for
// none, and Handoff that of the release that the use has, zero where there is none such.
type Maker struct {
	Of      int
	Project Project
	Newest  int
	Handoff chunk.Digest
}

// Makers are those of uses, with what role somebody has in each.
func (tx *Tx) Makers(ctx context.Context, person int64, uses []KitFile) ([]Maker, error) {
	makers, kits, numbers := make([]string, len(uses)), make([]string, len(uses)), make([]int32, len(uses))
	for i, u := range uses {
		makers[i], kits[i], numbers[i] = u.Maker, u.Kit, int32(u.Release)
	}
	rows, err := tx.q.Query(ctx, `select u.i - 1, p.id, p.key, coalesce(m.role, ''),
			coalesce((select max(number) from kit_releases n where n.project_id = p.id and n.kit = u.k), 0), h.digest
		from unnest($2::text[], $3::text[], $4::int[]) with ordinality u (maker, k, n, i) join projects p on p.key = u.maker and p.deleted is null
		left join memberships m on m.project_id = p.id and m.person_id = $1
		left join kit_releases r on r.project_id = p.id and r.kit = u.k and r.number = u.n
		left join handoffs h on h.project_id = p.id and h.number = r.handoff`, person, makers, kits, numbers)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (m Maker, err error) {
		var digest []byte
		err = row.Scan(&m.Of, &m.Project.ID, &m.Project.Key, &m.Project.Role, &m.Newest, &digest)
		if len(digest) == len(m.Handoff) {
			m.Handoff = chunk.Digest(digest)
		}
		return m, err
	})
}

// Using is a project that uses a kit. Shared says that somebody belongs to both, as one who may be told of one in the other; a steward
// alone counts for nobody.
type Using struct {
	Project
	Shared bool
}

// Using are the projects, by key, that have a use of a kit on their first branch, as far as the files of those were read.
func (tx *Tx) Using(ctx context.Context, maker, kit string) ([]Using, error) {
	rows, err := tx.q.Query(ctx, `select p.id, p.key, p.archived is not null, exists (select from memberships m join memberships o
			on o.person_id = m.person_id join projects j on j.id = o.project_id and j.key = $1 where m.project_id = p.id)
		from projects p where p.deleted is null and exists (
			select from kit_files f join assets a on a.project_id = f.project_id and right(a.folded, 9) = '/tarn.kit'
				join present r on r.asset_id = a.id join versions v on v.asset_id = a.id and v.number = r.number and v.content_id = f.content_id
				where f.maker = $1 and f.kit = $2 and f.project_id = p.id) order by p.key`, maker, kit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (u Using, err error) {
		err = row.Scan(&u.ID, &u.Key, &u.Archived, &u.Shared)
		return u, err
	})
}
