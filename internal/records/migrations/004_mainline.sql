-- A token may be for one project only, and for less than its person's role there.
alter table tokens
  add column id bigint generated always as identity,
  add column project_id bigint references projects,
  add column role text not null default '';
create index tokens_of_project on tokens (project_id, person_id) where project_id is not null;

-- What was brought in from a git history: the commit that a handoff stands for, and the author's name where that is nobody known here
-- (author_id is whoever brought it in then).
alter table handoffs
  add column commit_id text collate "C" not null default '',
  add column signed text not null default '';
create unique index handoffs_of_commit on handoffs (project_id, commit_id) where commit_id <> '';

-- Which commits of the main history pin which handoffs, as workspaces told.
create table pins (
  project_id bigint not null references projects,
  commit_id text collate "C" not null,
  handoff integer not null,
  author text not null,
  subject text not null,
  at timestamptz not null,
  person_id bigint not null references people,
  primary key (project_id, commit_id)
);
create index pins_of_handoff on pins (project_id, handoff);

---- create above / drop below ----

drop table pins;
drop index handoffs_of_commit;
alter table handoffs drop column commit_id, drop column signed;
drop index tokens_of_project;
alter table tokens drop column id, drop column project_id, drop column role;
