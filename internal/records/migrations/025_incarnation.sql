-- Which life of this service it is: a service that is restored from a backup begins another one, since numbers may be given out twice then.
create table lives (
  incarnation uuid primary key default gen_random_uuid(),
  began timestamptz not null default clock_timestamp()
);
insert into lives default values;

---- create above / drop below ----

drop table lives;
