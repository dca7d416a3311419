-- Passkeys: a way in beside the passphrase. credential is what the library keeps of each.
create table passkeys (
  id bigint generated always as identity primary key,
  person_id bigint not null references people,
  credential_id bytea not null unique,
  credential jsonb not null,
  name text not null,
  made timestamptz not null default clock_timestamp(),
  used timestamptz
);
create index passkeys_of_person on passkeys (person_id);
-- What a browser was asked, until it answers: once, and soon. person_id is null where somebody wants to sign in.
create table ceremonies (
  secret bytea primary key,
  person_id bigint references people,
  session jsonb not null,
  until timestamptz not null
);

---- create above / drop below ----

drop table ceremonies, passkeys;
