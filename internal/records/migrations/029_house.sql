-- Who somebody is at the sign-on of the house (OpenID Connect): a subject of an issuer is one person, who is no other one there. shown is
-- how the issuer calls them.
create table ties (
  id bigint generated always as identity primary key,
  issuer text not null,
  subject text not null,
  person_id bigint not null references people,
  shown text not null,
  made timestamptz not null default clock_timestamp(),
  used timestamptz,
  unique (issuer, subject),
  unique (person_id, issuer)
);
-- Whether somebody is in a project because of a group of the house, and not because a person let them in.
alter table memberships add column by_group boolean not null default false;
-- Programs that wait for somebody who signs in with a browser elsewhere (RFC 8628). person_id is who said yes; asked is when the program
-- asked last.
create table elsewhere (
  secret bytea primary key,
  code text not null unique,
  label text not null,
  address text not null,
  person_id bigint references people,
  refused boolean not null default false,
  asked timestamptz,
  until timestamptz not null
);

---- create above / drop below ----

drop table elsewhere;
alter table memberships drop column by_group;
drop table ties;
