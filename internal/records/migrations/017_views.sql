-- Views are filters of assets that somebody kept under a name: their own, or the team's (person_id null).
create table views (
  project_id bigint not null references projects on delete cascade,
  person_id bigint references people,
  name text not null,
  folded text not null,
  folder text not null,
  query text not null,
  kept_by bigint not null references people,
  kept timestamptz not null default now()
);
create unique index views_names on views (project_id, coalesce(person_id, 0), folded);

---- create above / drop below ----

drop table views;
