-- Names for handoffs that stay.
create table milestones (
  project_id bigint not null references projects,
  name text collate "C" not null,
  folded text collate "C" not null,
  handoff integer not null,
  note text not null default '',
  person_id bigint not null references people,
  at timestamptz not null default now(),
  primary key (project_id, folded)
);
create index milestones_of_handoff on milestones (project_id, handoff);

-- What a workspace said last of itself: where it is, what comes down to it, and what it follows (a handoff, or 0 for the newest). told is
-- when it did.
alter table workspaces
  add column machine text not null default '',
  add column folder text not null default '',
  add column branch text not null default 'main',
  add column scope text[] not null default '{}',
  add column follows integer not null default 0,
  add column pinned boolean not null default false,
  add column told timestamptz;

-- Where the rules send those who follow a task id, as [{"match": …, "link": …}]; written whenever the rules change.
alter table projects add column task_links jsonb not null default '[]';

---- create above / drop below ----

alter table projects drop column task_links;
alter table workspaces drop column machine, drop column folder, drop column branch, drop column scope, drop column follows, drop column pinned, drop column told;
drop table milestones;
