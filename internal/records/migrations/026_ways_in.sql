-- How somebody is called besides their handle.
alter table people add column name text not null default '';
-- Links by which somebody who forgot their passphrase, or has none yet, chooses one: each is good once, until its end. made_by is null where
-- they asked for it by mail themselves.
create table ways_in (
  secret bytea primary key,
  person_id bigint not null references people,
  made timestamptz not null default clock_timestamp(),
  made_by bigint references people,
  until timestamptz not null,
  used timestamptz
);
create index ways_in_of_person on ways_in (person_id, made);

---- create above / drop below ----

drop table ways_in;
alter table people drop column name;
