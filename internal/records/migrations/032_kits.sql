-- Releases of kits: what matched the patterns in the state of a handoff, under a number that goes up. None is ever changed or removed.
create table kit_releases (
  project_id bigint not null references projects on delete cascade,
  kit text not null,
  number integer not null,
  handoff integer not null,
  match text[] not null,
  note text not null,
  person_id bigint not null references people,
  at timestamptz not null default clock_timestamp(),
  primary key (project_id, kit, number)
);

---- create above / drop below ----

drop table kit_releases;
