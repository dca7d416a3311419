-- Invitations are links by which people join a project with a role. One holds until its end, for so many people, while nobody ended it and
-- who made it may let people in; mail is where it was sent, '' for nowhere.
create table invitations (
  project_id bigint not null references projects on delete cascade,
  number integer not null,
  secret bytea not null unique,
  made_by bigint not null references people,
  made timestamptz not null default now(),
  until timestamptz not null,
  role text not null,
  mail text not null,
  uses integer not null,
  ended timestamptz,
  ended_by bigint references people,
  primary key (project_id, number)
);
-- Who joined by which.
create table invited (
  project_id bigint not null,
  number integer not null,
  person_id bigint not null references people,
  at timestamptz not null default now(),
  primary key (project_id, number, person_id),
  foreign key (project_id, number) references invitations on delete cascade
);

---- create above / drop below ----

drop table invited;
drop table invitations;
