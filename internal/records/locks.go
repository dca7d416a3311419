package records

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
)

// lockRows locks rows of assets by id, which a subquery looks up first, one index look for each path (see the note at Tx), and reads them
// as they are then: what for update gives back is the newest of each row. Nothing is joined: that would be as of before. Several assets may
// have claims on one place; all of them are locked.
const (
	idsOf = `array(select c.asset_id from unnest($2::text[]) u (f) cross join lateral (select asset_id from claims c where c.project_id = $1
		and c.folded = u.f limit 1000) c)`
	lockColumns = `select a.id, a.path, a.fence, coalesce(a.holder_id, 0), coalesce(a.workspace_id::text, ''),
		a.locked, a.lock_note, a.diverged, a.waiting + a.asked,
		exists (select from heads_ups h where h.project_id = a.project_id and h.asset_id = a.id)
		from assets a`
	lockRows  = lockColumns + ` where a.id = any(` + idsOf + `) order by a.id`
	forUpdate = ` for update of a`
)

// forked is whether k, versions, does not follow the one numbered before it. Relies on versions_forked.
const forked = `(cardinality(k.parents) > 1 or k.parents[1] is distinct from nullif(k.number - 1, 0))`

// heldRows tells, for each place, which assets have claims on it by now, their newest versions on the branch $3, and of all, and whether
// their versions are one line. It is asked behind the locks.
var heldRows = behindOf("behind", `(select head from branches where project_id = $1 and name = $3)`) + `
	select c.folded, c.asset_id, coalesce(v.number, 0), coalesce(v.gone, true), coalesce(v.path, ''), coalesce(m.number, 0),
		exists (select from versions k where k.asset_id = c.asset_id and ` + forked + `) from unnest($2::text[]) u (f)
	cross join lateral (select folded, asset_id, asset_id as id from claims c where c.project_id = $1 and c.folded = u.f limit 1000) c
	cross join lateral (select c.asset_id as id) a left join lateral ` + newestBehind + ` on true
	left join lateral (select number from versions m where m.asset_id = c.asset_id order by number desc limit 1) m on true`

// LockAssets locks the rows of assets by id and returns them by folded path, with what a branch has of them: nothing, for the branch "".
// What is decided on is read under the lock.
func (tx *Tx) LockAssets(ctx context.Context, project int64, branch string, folded []string) (map[string]*Asset, error) {
	return tx.assets(ctx, lockRows+forUpdate, project, branch, folded)
}

// Assets is LockAssets without the locks: for what is only looked at.
func (tx *Tx) Assets(ctx context.Context, project int64, branch string, folded []string) (map[string]*Asset, error) {
	return tx.assets(ctx, lockRows, project, branch, folded)
}

func (tx *Tx) assets(ctx context.Context, sql string, project int64, branch string, folded []string) (map[string]*Asset, error) {
	batch := &pgx.Batch{}
	batch.Queue(sql, project, folded)
	batch.Queue(heldRows, project, folded, branch)
	results := tx.q.SendBatch(ctx, batch)
	defer results.Close()
	read, err := scanLocks(results)
	if err != nil {
		return nil, err
	}
	if err := results.Close(); err != nil {
		return nil, err
	}
	return tx.names(ctx, read, Workspace{})
}

// Opened is what a change of locks begins with.
type Opened struct {
	Project   Project
	Workspace Workspace
	Now       time.Time
	Assets    map[string]*Asset
}

// cheapPlans makes the statements of this transaction use the plans that were made before, which look into indexes whatever the tables
// were like then. Only statements whose every look is a look into an index may run under it.
const cheapPlans = `select set_config('plan_cache_mode', 'force_generic_plan', true), set_config('enable_seqscan', 'off', true)`

// OpenLocks passes the gate of the project with a key, locks the rows of assets by id, and reads behind that whatever a change of locks is
// decided on: in one round trip. Only a member's request locks rows. What is not there comes back empty, with id 0.
// on is the branch that it is about, "" for that of the workspace. A request from no workspace, with the nil id, is about the first one.
func (tx *Tx) OpenLocks(ctx context.Context, key string, person int64, workspace, on string, folded []string) (o Opened, err error) {
	batch := &pgx.Batch{}
	batch.Queue(cheapPlans)
	batch.Queue(`select pg_advisory_xact_lock_shared(7420, id::integer) from projects where key = $1 and deleted is null`, key)
	batch.Queue(`select `+projectColumns+` from projects p left join memberships m on m.project_id = p.id and m.person_id = $2 where p.key = $1
		and p.deleted is null`, key, person)
	batch.Queue(workspaceByID, workspace)
	const member = `(select p.id from projects p join memberships m on m.project_id = p.id and m.person_id = $3 where p.key = $1
		and p.deleted is null)`
	batch.Queue(strings.ReplaceAll(lockRows+forUpdate, "$1", member), key, folded, person)
	const branch = `coalesce(nullif($6, ''), (select w.branch from workspaces w where w.id = $4), $5)`
	batch.Queue(strings.ReplaceAll(strings.ReplaceAll(heldRows, "$1", member), "= $3)", "= "+branch+")"), key, folded, person, workspace,
		model.FirstBranch, on)
	batch.Queue(`select clock_timestamp()`) // behind the rows' locks
	results := tx.q.SendBatch(ctx, batch)
	defer results.Close()
	for range 2 {
		if _, err := results.Exec(); err != nil {
			return o, err
		}
	}
	if o.Project, err = scanProject(results.QueryRow()); err != nil && err != ErrNotFound {
		return o, err
	}
	if o.Workspace, err = scanWorkspace(results.QueryRow()); err != nil && err != ErrNotFound {
		return o, err
	}
	read, err := scanLocks(results)
	if err != nil {
		return o, err
	}
	if err := results.QueryRow().Scan(&o.Now); err != nil {
		return o, err
	}
	if err := results.Close(); err != nil {
		return o, err
	}
	o.Assets, err = tx.names(ctx, read, o.Workspace)
	return o, err
}

// lockRow is a row of lockRows.
type lockRow struct {
	place   string // folded
	last    string // where the branch has it or had it last, or what it is called elsewhere, folded
	asset   *Asset
	holder  int64
	crowded bool
}

// scanLockRows reads what lockColumns give.
func scanLockRows(rows pgx.Rows) ([]lockRow, error) {
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r lockRow, err error) {
		r.asset = &Asset{}
		a, l := r.asset, &r.asset.Lock
		var since *time.Time
		var people int
		err = row.Scan(&a.ID, &a.Path, &l.Fence, &r.holder, &l.Holder.WorkspaceID, &since, &l.Note, &l.Diverged, &people, &a.HeadsUp)
		if since != nil {
			l.Since = *since
		}
		l.Path, r.crowded = a.Path, people > 0
		return r, err
	})
}

// scanLocks reads what lockRows and heldRows give. What lost its place in between is left out.
func scanLocks(results pgx.BatchResults) (read []lockRow, err error) {
	rows, err := results.Query()
	if err != nil {
		return nil, err
	}
	locked := map[int64]lockRow{}
	list, err := scanLockRows(rows)
	if err != nil {
		return nil, err
	}
	for _, r := range list {
		locked[r.asset.ID] = r
	}
	if rows, err = results.Query(); err != nil {
		return nil, err
	}
	var folded, path string
	var id int64
	var tip Tip
	var forks bool
	of := map[string][]lockRow{}
	if _, err = pgx.ForEachRow(rows, []any{&folded, &id, &tip.Number, &tip.Gone, &path, &tip.Numbered, &forks}, func() error {
		r, ok := locked[id]
		if !ok {
			return nil
		}
		a := r.asset
		r.last = assetpath.Fold(path)
		if path == "" {
			r.last = assetpath.Fold(a.Path)
		}
		if a.Stands = ""; !tip.Gone {
			a.Stands = r.last
		}
		if a.Folded == "" || a.Stands == folded {
			a.Folded = folded
		}
		a.Newest, a.Gone, a.Numbered, a.Forked = tip.Number, tip.Gone, tip.Numbered, forks
		if a.Lock.Newest = 0; !a.Gone {
			a.Lock.Newest = a.Newest
		}
		r.place = folded
		of[folded] = append(of[folded], r)
		return nil
	}); err != nil {
		return nil, err
	}
	for place, list := range of {
		if r, ok := meant(place, list); ok {
			read = append(read, r)
		}
	}
	return read, nil
}

// meant is which of the assets with claims on a place a branch means by it: the one that stands there; else one that stands nowhere on it,
// and stood there last, or, where the branch never had it, is called so elsewhere. Those that have no version yet come first (the name is
// kept for what comes), and then the youngest. No asset is meant by two places.
func meant(place string, list []lockRow) (found lockRow, ok bool) {
	for _, r := range list {
		a := r.asset
		switch {
		case a.Stands == place:
			return r, true
		case a.Stands != "" || r.last != place:
		case !ok, a.Numbered == 0 && found.asset.Numbered > 0,
			(a.Numbered == 0) == (found.asset.Numbered == 0) && a.ID > found.asset.ID:
			found, ok = r, true
		}
	}
	return found, ok
}

// names adds who holds what was read, and who waits and asks. The workspace that is known already is not looked up.
func (tx *Tx) names(ctx context.Context, read []lockRow, known Workspace) (map[string]*Asset, error) {
	places := map[string]lock.Place{known.ID: {Handle: known.Handle, WorkspaceID: known.ID, Workspace: known.Name}}
	var unknown []string
	crowded := map[int64]*Asset{}
	for _, r := range read {
		if id := r.asset.Lock.Holder.WorkspaceID; r.holder != 0 && places[id] == (lock.Place{}) {
			places[id] = lock.Place{WorkspaceID: id}
			unknown = append(unknown, id)
		}
		if r.crowded {
			crowded[r.asset.ID] = r.asset
		}
	}
	if len(unknown) > 0 {
		rows, err := tx.q.Query(ctx, `select p.handle, w.id::text, w.name from workspaces w join people p on p.id = w.person_id
			where w.id = any($1)`, unknown)
		if err != nil {
			return nil, err
		}
		found, err := pgx.CollectRows(rows, pgx.RowToStructByPos[lock.Place])
		if err != nil {
			return nil, err
		}
		for _, p := range found {
			places[p.WorkspaceID] = p
		}
	}
	out := make(map[string]*Asset, len(read))
	for _, r := range read {
		if r.holder != 0 {
			r.asset.Lock.Holder = places[r.asset.Lock.Holder.WorkspaceID]
		}
		out[r.place] = r.asset
	}
	if len(crowded) > 0 {
		if err := tx.readLines(ctx, crowded); err != nil {
			return nil, err
		}
	}
	for _, a := range out {
		a.Was = a.Lock
	}
	return out, nil
}

// readLines adds who waits and who asks. Relies on waits_open and asks_open.
func (tx *Tx) readLines(ctx context.Context, assets map[int64]*Asset) error {
	ids := make([]int64, 0, len(assets))
	for id := range assets {
		ids = append(ids, id)
	}
	rows, err := tx.q.Query(ctx, `select x.asset_id, p.handle, w.id, w.name, x.since, x.note, x.passed, x.until from waits x
		join people p on p.id = x.person_id join workspaces w on w.id = x.workspace_id
		where x.asset_id = any($1) and x.ended is null order by x.asset_id, x.place, x.id`, ids)
	if err != nil {
		return err
	}
	var asset int64
	var w lock.Waiter
	var until *time.Time
	if _, err := pgx.ForEachRow(rows, []any{&asset, &w.Handle, &w.WorkspaceID, &w.Workspace, &w.Since, &w.Note, &w.Passed, &until},
		func() error {
			w.Until = time.Time{}
			if until != nil {
				w.Until = *until
			}
			assets[asset].Lock.Line = append(assets[asset].Lock.Line, w)
			return nil
		}); err != nil {
		return err
	}
	rows, err = tx.q.Query(ctx, `select x.asset_id, p.handle, x.reason, x.at, x.told from asks x join people p on p.id = x.person_id
		where x.asset_id = any($1) and x.answered is null order by x.asset_id, x.id`, ids)
	if err != nil {
		return err
	}
	var a lock.Ask
	_, err = pgx.ForEachRow(rows, []any{&asset, &a.From, &a.Reason, &a.At, &a.Late}, func() error {
		assets[asset].Lock.Asks = append(assets[asset].Lock.Asks, a)
		return nil
	})
	return err
}

// Outcome says how what ends in a change of locks ends, by whom (0 for time), with which word, until when (zero for not said), and in which
// handoff (0 for none).
type Outcome struct {
	By      int64
	Ending  string
	Word    string
	Until   time.Time
	Handoff int
	Terms   LockTerms
}

// SetLocks writes the locks of assets whose rows are locked by this transaction, what is different from what was read, and what is told of
// that, in one round trip.
func (tx *Tx) SetLocks(ctx context.Context, project int64, o Outcome, assets []*Asset, events ...NewEvent) error {
	n := len(assets)
	ids, fences, handles, diverged := make([]int64, n), make([]int64, n), make([]string, n), make([]int, n)
	spaces, notes, since := make([]*string, n), make([]string, n), make([]*time.Time, n)
	waiting, asked := make([]int, n), make([]int, n)
	var ended []*Asset
	var lines []*Asset
	for i, a := range assets {
		l := &a.Lock
		ids[i], fences[i], handles[i], notes[i], diverged[i], waiting[i], asked[i] = a.ID, l.Fence, l.Holder.Handle, l.Note, l.Diverged,
			len(l.Line), len(l.Asks)
		if !l.Free() {
			spaces[i], since[i] = &l.Holder.WorkspaceID, &l.Since
		}
		if !a.Was.Free() && a.Was.Holder != l.Holder {
			ended = append(ended, a)
		}
		if !slices.Equal(a.Was.Line, l.Line) || !slices.Equal(a.Was.Asks, l.Asks) {
			lines = append(lines, a)
		}
	}
	batch := &pgx.Batch{}
	if len(ended) > 0 {
		n := len(ended)
		ids, paths, people, spaces, notes, fences, taken := make([]int64, n), make([]string, n), make([]string, n), make([]string, n),
			make([]string, n), make([]int64, n), make([]time.Time, n)
		for i, a := range ended {
			ids[i], paths[i], people[i], spaces[i], notes[i], fences[i], taken[i] = a.ID, a.Path, a.Was.Holder.Handle, a.Was.Holder.WorkspaceID,
				a.Was.Note, a.Was.Fence, a.Was.Since
		}
		batch.Queue(`
			insert into holds (project_id, asset_id, path, person_id, workspace_id, note, fence, taken, ended, ending, ender_id, word, handoff)
			select $1, a, f, (select id from people p where p.handle = h), w, n, x, t, clock_timestamp(), $2, nullif($3::bigint, 0), $4,
				nullif($5::integer, 0)
			from unnest($6::bigint[], $7::text[], $8::text[], $9::uuid[], $10::text[], $11::bigint[], $12::timestamptz[]) as u (a, f, h, w, n, x,
				t)`,
			project, o.Ending, o.By, o.Word, o.Handoff, ids, paths, people, spaces, notes, fences, taken)
	}
	setLines(batch, project, o, lines)
	batch.Queue(`
		update assets a set fence = u.fence, holder_id = (select id from people p where p.handle = u.holder), workspace_id = u.space,
			locked = u.since, lock_note = u.note, diverged = u.diverged,
			waiting = u.waiting, asked = u.asked
		from unnest($1::bigint[], $2::bigint[], $3::text[], $4::uuid[], $5::text[], $6::timestamptz[], $7::integer[], $8::integer[],
			$9::integer[]) as u (id, fence, holder, space, note, since, diverged, waiting, asked)
		where a.id = u.id`, ids, fences, handles, spaces, notes, since, diverged, waiting, asked)
	for _, e := range events {
		tx.events = true
		batch.Queue(addEvent, project, o.By, e.Kind, e.Subject)
	}
	return tx.q.SendBatch(ctx, batch).Close()
}

// setLines writes who waits and who asks.
func setLines(batch *pgx.Batch, project int64, o Outcome, assets []*Asset) {
	optional := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	for _, a := range assets {
		for _, w := range a.Was.Line {
			if a.Lock.InLine(w.Handle) > 0 {
				continue
			}
			ending := o.Ending
			if a.Lock.Holder.Handle == w.Handle {
				ending = lock.EndGot
			}
			batch.Queue(`update waits set ended = clock_timestamp(), ending = $3, until = null where asset_id = $1 and ended is null
				and person_id = (select id from people where handle = $2)`, a.ID, w.Handle, ending)
		}
		for i, w := range a.Lock.Line {
			if i < len(a.Was.Line) && a.Was.Line[i] == w {
				continue
			}
			batch.Queue(`insert into waits (project_id, asset_id, person_id, workspace_id, note, since, place, passed, until)
				select $1, $2, id, $4, $5, $6, $7, $8, $9 from people where handle = $3
				on conflict (asset_id, person_id) where ended is null do update set place = excluded.place, passed = excluded.passed,
					until = excluded.until`,
				project, a.ID, w.Handle, w.WorkspaceID, w.Note, w.Since, i, w.Passed, optional(w.Until))
		}
		for _, was := range a.Was.Asks {
			if !slices.ContainsFunc(a.Lock.Asks, func(k lock.Ask) bool { return k.From == was.From }) {
				batch.Queue(`update asks set answered = clock_timestamp(), answer = $3, word = $4, until = $5 where asset_id = $1 and answered is null
					and person_id = (select id from people where handle = $2)`,
					a.ID, was.From, o.Ending, o.Word, optional(o.Until))
			}
		}
		for _, k := range a.Lock.Asks {
			if slices.Contains(a.Was.Asks, k) {
				continue
			}
			batch.Queue(`insert into asks (project_id, asset_id, person_id, holder_id, fence, reason, at, late, told)
				select $1, $2, p.id, h.id, $5, $6, $7, $7::timestamptz + $8 * interval '1 second', $9 from people p, people h where p.handle = $3
					and h.handle = $4
				on conflict (asset_id, person_id) where answered is null do update set told = excluded.told`,
				project, a.ID, k.From, a.Lock.Holder.Handle, a.Lock.Fence, k.Reason, k.At, int(o.Terms.AnswerWithin/time.Second), k.Late)
		}
	}
}

// Locks lists what is held, or waited for, in a project, the longest held first; folded, where not "", is the one asset asked about.
// Relies on assets_held and assets_waited_for.
func (tx *Tx) Locks(ctx context.Context, project int64, folded string) ([]model.Lock, error) {
	rows, err := tx.q.Query(ctx, `select a.id, a.path, coalesce(p.handle, ''), coalesce(w.name, ''), coalesce(w.id::text, ''),
		coalesce(a.locked, now()), a.lock_note, a.fence, a.diverged, w.seen,
			exists (select from heads_ups h where h.workspace_id = a.workspace_id and h.asset_id = a.id), coalesce(`+forgotten+`, false),
			coalesce((select number from present r where r.asset_id = a.id), 0)
		from assets a join projects j on j.id = a.project_id left join people p on p.id = a.holder_id left join workspaces w
			on w.id = a.workspace_id
		where a.project_id = $1 and (a.holder_id is not null or a.waiting > 0) and ($2 = ''
			or a.id in (select asset_id from claims where project_id = $1 and folded = $2)) order by a.locked, a.path`, project, folded)
	if err != nil {
		return nil, err
	}
	at := map[int64]int{}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (l model.Lock, err error) {
		var id int64
		err = row.Scan(&id, &l.Path, &l.Holder, &l.Workspace, &l.WorkspaceID, &l.Since, &l.Note, &l.Fence, &l.Diverged, &l.Heard, &l.Unsent,
			&l.Forgotten, &l.Version)
		l.Waitlist = []model.Waiter{}
		at[id] = len(at)
		return l, err
	})
	if err != nil || len(list) == 0 {
		return list, err
	}
	return list, tx.addLines(ctx, project, list, at)
}

// addLines adds to locks, by asset id, who waits, and what was asked of the present holder.
func (tx *Tx) addLines(ctx context.Context, project int64, list []model.Lock, at map[int64]int) error {
	rows, err := tx.q.Query(ctx, `select x.asset_id, p.handle, w.name, w.id, x.since, x.note, x.until from assets a join waits x
		on x.asset_id = a.id and x.ended is null
		join people p on p.id = x.person_id join workspaces w on w.id = x.workspace_id
		where a.project_id = $1 and a.waiting > 0 order by x.asset_id, x.place, x.id`, project)
	if err != nil {
		return err
	}
	var asset int64
	var w model.Waiter
	if _, err := pgx.ForEachRow(rows, []any{&asset, &w.Handle, &w.Workspace, &w.WorkspaceID, &w.Since, &w.Note, &w.OfferedUntil},
		func() error {
			if i, ok := at[asset]; ok {
				list[i].Waitlist = append(list[i].Waitlist, w)
			}
			w.OfferedUntil = nil
			return nil
		}); err != nil {
		return err
	}
	rows, err = tx.q.Query(ctx, `select x.asset_id, p.handle, x.reason, x.at, x.answered is null and x.late <= now(), x.answer, x.answered,
		x.word, x.until
		from assets a join asks x on x.asset_id = a.id and x.fence = a.fence join people p on p.id = x.person_id
		where a.project_id = $1 and a.holder_id is not null and x.answer in ('', 'not-yet') order by x.asset_id, x.id`, project)
	if err != nil {
		return err
	}
	var k model.Ask
	_, err = pgx.ForEachRow(rows, []any{&asset, &k.Person, &k.Reason, &k.At, &k.Unanswered, &k.Answer, &k.Answered, &k.Word, &k.Until},
		func() error {
			if i, ok := at[asset]; ok {
				list[i].Asks = append(list[i].Asks, k)
			}
			k.Answered, k.Until = nil, nil
			return nil
		})
	return err
}

func notZero(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// Reserved counts the names that a person keeps in a project for assets that come later. Relies on assets_held.
func (tx *Tx) Reserved(ctx context.Context, project, person int64) (n int, err error) {
	err = tx.q.QueryRow(ctx, `select count(*) from assets where project_id = $1 and holder_id is not null and holder_id = $2
		and not exists (select from versions v where v.asset_id = assets.id)`,
		project, person).Scan(&n)
	return n, err
}
