-- Showings are links by which somebody outside looks at one path as of a handoff, at another beside it, or, where path is '', at all of the
-- handoff. One holds until its end, while nobody ended it, the project's are not switched off, and who made it is in the project
-- and was not let go.
create table showings (
  project_id bigint not null references projects on delete cascade,
  number integer not null,
  secret bytea not null unique,
  made_by bigint not null references people,
  made timestamptz not null default now(),
  until timestamptz not null,
  about text not null,
  state text not null,
  path text not null,
  version integer not null,
  handoff integer not null,
  with_path text not null,
  with_version integer not null,
  with_handoff integer not null,
  files boolean not null,
  ended timestamptz,
  ended_by bigint references people,
  opened integer not null default 0,
  opened_last timestamptz,
  primary key (project_id, number)
);
alter table projects add column showings_off boolean not null default false;

---- create above / drop below ----

alter table projects drop column showings_off;
drop table showings;
