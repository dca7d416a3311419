-- What projects take, by the hour: stored is that of their packs, present that of the newest files of the first branch as people have them, past
-- that of all other versions, brought and fetched what travelled in that hour. stored is null until the hour was counted.
create table usage (
  project_id bigint not null references projects on delete cascade,
  hour timestamptz not null,
  stored bigint,
  present bigint not null default 0,
  past bigint not null default 0,
  assets integer not null default 0,
  brought bigint not null default 0,
  fetched bigint not null default 0,
  -- The stored bytes of each hour that this row stands for, added up, where it stands for a day; null for its own hour.
  byte_hours double precision,
  primary key (project_id, hour)
);
-- The same by what it is of, once a day: part is branch, folder, kind (by the endings of names) or person.
create table usage_parts (
  project_id bigint not null references projects on delete cascade,
  day date not null,
  part text not null,
  name text not null,
  present bigint not null,
  past bigint not null,
  primary key (project_id, day, part, name)
);
-- The share of its limit, in percent, of which people were last warned.
alter table projects add column warned integer not null default 0;

---- create above / drop below ----

alter table projects drop column warned;
drop table usage_parts;
drop table usage;
