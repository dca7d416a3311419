package records

import (
	"context"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chain"
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

// NewHandoff is what AddHandoffs writes. Record is what its digest covers; Author and Workspace are who made it and where.
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
