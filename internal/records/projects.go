package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
	"kettletarn/internal/core/tree"
)

// Project is a row of projects with the role of the person it was read for ("" for none).
type Project struct {
	ID       int64
	Key      string
	Handoffs int
	Role     string
	// Limit is the most bytes that its packs may have, 0 for none.
	Limit int64
	// Archived says that it is only looked at.
	Archived bool
	Terms    LockTerms
}

// AddProject makes a project with its branch main and its owner.
func (tx *Tx) AddProject(ctx context.Context, key string, owner int64) (id int64, err error) {
	if err := tx.q.QueryRow(ctx, `insert into projects (key) values ($1) returning id`, key).Scan(&id); err != nil {
		return 0, err
	}
	root := tree.Empty()
	if _, err := tx.q.Exec(ctx, `insert into branches (project_id, name, folded, root) values ($1, $2, $2, $3)`, id, model.FirstBranch,
		root[:]); err != nil {
		return 0, err
	}
	return id, tx.SetMember(ctx, id, owner, model.Owner)
}

// ProjectFor relies on projects_key_key and the primary key of memberships.
func (tx *Tx) ProjectFor(ctx context.Context, key string, person int64) (p Project, err error) {
	return scanProject(tx.q.QueryRow(ctx, `select `+projectColumns+` from projects p left join memberships m on m.project_id = p.id
		and m.person_id = $2
		where p.key = $1 and p.deleted is null`, key, person))
}

const projectColumns = `p.id, p.key, p.handoffs, coalesce(m.role, ''), coalesce(p.storage_limit, 0), p.offer_for, p.answer_within,
	p.forgotten_after, p.behind_warns, p.archived is not null`

// scanProject reads projectColumns, behind other columns if there are any.
func scanProject(row pgx.Row, before ...any) (p Project, err error) {
	var offer, answer, forgotten int
	err = one(row, append(before, &p.ID, &p.Key, &p.Handoffs, &p.Role, &p.Limit, &offer, &answer, &forgotten, &p.Terms.BehindWarns,
		&p.Archived)...)
	p.Terms.OfferFor, p.Terms.AnswerWithin, p.Terms.ForgottenAfter = time.Duration(offer)*time.Second, time.Duration(answer)*time.Second,
		time.Duration(forgotten)*time.Second
	return p, err
}

// ProjectByID is a project without anybody's role in it.
func (tx *Tx) ProjectByID(ctx context.Context, id int64) (Project, error) {
	return scanProject(tx.q.QueryRow(ctx, `select `+projectColumns+` from projects p left join memberships m on false where p.id = $1`, id))
}

// Projects lists those that a person belongs to, or all of them for a steward; only, where not empty, restricts it to one key.
func (tx *Tx) Projects(ctx context.Context, person int64, all bool, only string) ([]model.Project, error) {
	rows, err := tx.q.Query(ctx, `
		select p.key, coalesce(m.role, ''), p.handoffs,
			b.assets, b.size, (select coalesce(sum(k.stored), 0)::bigint from project_room k where k.project_id = p.id),
			coalesce(p.storage_limit, 0), (select count(*) from memberships o where o.project_id = p.id),
			(select count(*) from assets a where a.project_id = p.id and a.holder_id is not null),
			(select h.at from handoffs h where h.project_id = p.id order by h.number desc limit 1), p.task_links, p.archived
		from projects p join branches b on b.project_id = p.id and b.name = $4
		left join memberships m on m.project_id = p.id and m.person_id = $1
		where (m.role is not null or $2) and ($3 = '' or p.key = $3) and p.deleted is null order by p.key`, person, all, only, model.FirstBranch)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p model.Project, err error) {
		err = row.Scan(&p.Key, &p.Role, &p.Handoffs, &p.Assets, &p.Size, &p.Stored, &p.Limit, &p.Members, &p.Locks, &p.Latest, &p.TaskLinks,
			&p.Archived)
		return p, err
	})
}

// DeletedOf lists the projects that were deleted and are still there, of a person, or all of them.
func (tx *Tx) DeletedOf(ctx context.Context, person int64, all bool, only string) ([]model.DeletedProject, error) {
	rows, err := tx.q.Query(ctx, `select p.key, coalesce(m.role, ''),
			(select coalesce(sum(k.stored), 0)::bigint from project_room k where k.project_id = p.id), p.deleted, coalesce(d.handle, ''), p.goes
		from projects p left join memberships m on m.project_id = p.id and m.person_id = $1 left join people d on d.id = p.deleted_by
		where p.deleted is not null and not p.coming and (m.role is not null or $2) and ($3 = '' or p.key = $3) order by p.key`, person,
		all, only)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p model.DeletedProject, err error) {
		err = row.Scan(&p.Key, &p.Role, &p.Stored, &p.Deleted, &p.By, &p.Goes)
		return p, err
	})
}

// SetArchived makes a project one that is only looked at, or brings it back, and reports whether that is a change.
func (tx *Tx) SetArchived(ctx context.Context, project int64, archived bool) (bool, error) {
	tag, err := tx.q.Exec(ctx, `update projects set archived = case when $2 then now() end where id = $1 and (archived is not null) <> $2`,
		project, archived)
	return tag.RowsAffected() == 1, err
}

// DeleteProject marks a project as deleted by a person; it goes for good after grace. It returns when.
func (tx *Tx) DeleteProject(ctx context.Context, project, person int64, grace time.Duration) (goes time.Time, err error) {
	err = one(tx.q.QueryRow(ctx, `update projects set deleted = now(), deleted_by = $2, goes = now() + $3::interval where id = $1
		returning goes`, project, person, grace), &goes)
	return goes, err
}

// UndeleteProject takes that back, and returns the project. See ErrNotFound.
func (tx *Tx) UndeleteProject(ctx context.Context, key string) (id int64, err error) {
	err = one(tx.q.QueryRow(ctx,
		`update projects set deleted = null, deleted_by = null, goes = null where key = $1 and deleted is not null and not coming
		returning id`, key), &id)
	return id, err
}

// SetLimit sets the most bytes that a project's packs may have, 0 for none.
func (tx *Tx) SetLimit(ctx context.Context, project, limit int64) error {
	_, err := tx.q.Exec(ctx, `update projects set storage_limit = nullif($2::bigint, 0) where id = $1`, project, limit)
	return err
}

// Member is somebody in a project, with the role that they have there.
type Member struct {
	ID   int64
	Role string
}

// MembersCalled finds members by handle.
func (tx *Tx) MembersCalled(ctx context.Context, project int64, handles []string) (map[string]Member, error) {
	rows, err := tx.q.Query(ctx, `select p.handle, p.id, m.role from memberships m join people p on p.id = m.person_id
		where m.project_id = $1 and p.handle = any($2)`, project, handles)
	if err != nil {
		return nil, err
	}
	found := map[string]Member{}
	var handle string
	var m Member
	_, err = pgx.ForEachRow(rows, []any{&handle, &m.ID, &m.Role}, func() error {
		found[handle] = m
		return nil
	})
	return found, err
}

// Members lists a project's people by handle.
func (tx *Tx) Members(ctx context.Context, project int64) ([]model.Member, error) {
	rows, err := tx.q.Query(ctx,
		`select p.handle, m.role, p.name, m.by_group from memberships m join people p on p.id = m.person_id where m.project_id = $1
		order by p.handle`, project)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (m model.Member, err error) {
		err = row.Scan(&m.Handle, &m.Role, &m.Name, &m.ByGroup)
		return m, err
	})
}

// SetMember gives a person a role in a project, by name: whatever group they are in, they keep it.
func (tx *Tx) SetMember(ctx context.Context, project, person int64, role string) error {
	_, err := tx.q.Exec(ctx, `insert into memberships (project_id, person_id, role) values ($1, $2, $3)
		on conflict (project_id, person_id) do update set role = excluded.role, by_group = false`, project, person, role)
	return err
}

// RemoveMember takes a person out of a project, and reports whether they were in it.
func (tx *Tx) RemoveMember(ctx context.Context, project, person int64) (bool, error) {
	tag, err := tx.q.Exec(ctx, `delete from memberships where project_id = $1 and person_id = $2`, project, person)
	return tag.RowsAffected() > 0, err
}

// Gate passes the project's gate: shared for what changes assets, exclusive for what may not run beside that (removals).
func (tx *Tx) Gate(ctx context.Context, project int64, exclusive bool) error {
	sql := `select pg_advisory_xact_lock_shared(7420, $1)`
	if exclusive {
		sql = `select pg_advisory_xact_lock(7420, $1)`
	}
	_, err := tx.q.Exec(ctx, sql, int32(project))
	return err
}

// AddWorkspace makes a workspace.
func (tx *Tx) AddWorkspace(ctx context.Context, id string, project, person int64, name, kind string) error {
	_, err := tx.q.Exec(ctx, `insert into workspaces (id, project_id, person_id, name, kind) values ($1, $2, $3, $4, $5)`, id, project, person,
		name, kind)
	return err
}

// ConsoleSeat returns the id of a person's seat at the console, making it where it is missing. Relies on workspaces_console.
func (tx *Tx) ConsoleSeat(ctx context.Context, fresh string, project, person int64) (id string, err error) {
	err = one(tx.q.QueryRow(ctx, `
		insert into workspaces (id, project_id, person_id, name, kind) values ($1, $2, $3, 'the console', 'console')
		on conflict (project_id, person_id) where kind = 'console' do update set seen = now() returning id`, fresh, project, person), &id)
	return id, err
}

// FindConsoleSeat is ConsoleSeat for what is only looked at. See ErrNotFound.
func (tx *Tx) FindConsoleSeat(ctx context.Context, project, person int64) (id string, err error) {
	err = one(tx.q.QueryRow(ctx, `select id from workspaces where project_id = $1 and person_id = $2 and kind = 'console'`, project, person),
		&id)
	return id, err
}

// Workspace is a row of workspaces with its person.
type Workspace struct {
	ID       string
	Project  int64
	PersonID int64
	Handle   string
	Name     string
	Kind     string
	// Branch is the name of the one that it is on.
	Branch string
}

// Heard notes that a person's workspace was heard of.
func (tx *Tx) Heard(ctx context.Context, id string, person int64) error {
	_, err := tx.q.Exec(ctx, `update workspaces set seen = now() where id = $1 and person_id = $2`, id, person)
	return err
}

const workspaceByID = `select w.id, w.project_id, w.person_id, p.handle, w.name, w.kind, w.branch from workspaces w join people p
	on p.id = w.person_id where w.id = $1`

// WorkspaceByID relies on the primary key.
func (tx *Tx) WorkspaceByID(ctx context.Context, id string) (Workspace, error) {
	return scanWorkspace(tx.q.QueryRow(ctx, workspaceByID, id))
}

func scanWorkspace(row pgx.Row) (w Workspace, err error) {
	err = one(row, &w.ID, &w.Project, &w.PersonID, &w.Handle, &w.Name, &w.Kind, &w.Branch)
	return w, err
}

// Workspaces lists those of one person in a project, the latest seen first.
func (tx *Tx) Workspaces(ctx context.Context, project, person int64) ([]model.Workspace, error) {
	rows, err := tx.q.Query(ctx, `select w.id, w.name, w.kind, p.handle, j.key, w.seen, w.machine, w.folder, w.branch, w.scope, w.follows,
		w.pinned, w.told,
			(select count(*) from assets a where a.project_id = w.project_id and a.holder_id = w.person_id and a.workspace_id = w.id),
			(select count(*) from heads_ups h where h.workspace_id = w.id)
		from workspaces w join people p on p.id = w.person_id join projects j on j.id = w.project_id
		where w.project_id = $1 and w.person_id = $2 order by w.seen desc, w.id`, project, person)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (w model.Workspace, err error) {
		err = row.Scan(&w.ID, &w.Name, &w.Kind, &w.Owner, &w.Project, &w.Seen, &w.Machine, &w.Folder, &w.Branch, &w.Scope, &w.Follows, &w.Pinned,
			&w.Told, &w.Locks, &w.Unsent)
		return w, err
	})
}

// DescribeWorkspace keeps what a workspace says of itself, and reports false where it is not that person's in that project.
func (tx *Tx) DescribeWorkspace(ctx context.Context, project, person int64, id string, d model.WorkspaceTold) (bool, error) {
	if d.Scope == nil {
		d.Scope = []string{}
	}
	tag, err := tx.q.Exec(ctx, `update workspaces set machine = $4, folder = $5, branch = $6, scope = $7, follows = $8, pinned = $9,
		told = now(), seen = now()
		where id = $3 and project_id = $1 and person_id = $2`, project, person, id, d.Machine, d.Folder, d.Branch, d.Scope, d.Follows, d.Pinned)
	return tag.RowsAffected() == 1, err
}
