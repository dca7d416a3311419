-- What the rules of a project say of its locks, in seconds; written whenever the rules change.
alter table projects
  add column offer_for integer not null default 86400,
  add column answer_within integer not null default 14400,
  add column forgotten_after integer not null default 259200,
  add column behind_warns boolean not null default false;

-- diverged is the version that the holder works from knowingly though a newer one was there. waiting and asked count the open rows of
-- waits and asks: most locks have none, and nobody looks there. reminded is the fence under which the holder was last reminded.
alter table assets
  add column diverged integer not null default 0,
  add column waiting integer not null default 0,
  add column asked integer not null default 0,
  add column reminded bigint not null default 0;
create index assets_waited_for on assets (project_id) where waiting > 0;

-- The lines: those who wait, and who waited. place orders a line; until is how long it stands offered to them.
create table waits (
  id bigint generated always as identity primary key,
  project_id bigint not null,
  asset_id bigint not null,
  person_id bigint not null references people,
  workspace_id uuid not null references workspaces,
  note text not null,
  since timestamptz not null,
  place integer not null,
  passed boolean not null default false,
  until timestamptz,
  ended timestamptz,
  ending text not null default ''
);
create unique index waits_open on waits (asset_id, person_id) where ended is null;
create index waits_due on waits (until) where ended is null and until is not null;
create index waits_of_project on waits (project_id, since);

-- Requests to a holder to let go. late is when the asker is told that no answer came; told is when that was done.
create table asks (
  id bigint generated always as identity primary key,
  project_id bigint not null,
  asset_id bigint not null,
  person_id bigint not null references people,
  holder_id bigint not null references people,
  fence bigint not null,
  reason text not null,
  at timestamptz not null,
  late timestamptz not null,
  told boolean not null default false,
  answered timestamptz,
  answer text not null default '',
  word text not null default '',
  until timestamptz
);
create unique index asks_open on asks (asset_id, person_id) where answered is null;
create index asks_due on asks (late) where answered is null and not told;
create index asks_of_asset on asks (asset_id, fence);

-- Who held what, once it has ended. ending says how: given-back, sent, given, overridden, brought, removed.
create table holds (
  id bigint generated always as identity primary key,
  project_id bigint not null,
  asset_id bigint not null,
  path text collate "C" not null,
  person_id bigint not null,
  workspace_id uuid not null,
  note text not null,
  fence bigint not null,
  taken timestamptz not null,
  ended timestamptz not null,
  ending text not null,
  ender_id bigint,
  word text not null default '',
  handoff integer
);
create index holds_of_project on holds (project_id, taken, id);

-- How a person wants to hear of each kind of news; what is not here is as the program has it.
alter table people add column mail text not null default '';
create table wishes (
  person_id bigint not null references people,
  kind text not null,
  mail text not null,
  desktop boolean not null,
  primary key (person_id, kind)
);

-- Where a project's news is sent to, signed with the secret.
create table hooks (
  id bigint generated always as identity primary key,
  project_id bigint not null references projects,
  url text not null,
  secret text not null,
  kinds text[] not null,
  made timestamptz not null default now(),
  person_id bigint not null references people
);
create index hooks_of_project on hooks (project_id);

-- The one who addresses news reads the events of all projects in order.
create index events_in_order on events (transaction, id);

-- How far the one who addresses news has read the events.
create table readers (
  name text primary key,
  transaction xid8 not null,
  event_id bigint not null
);

-- What is to be delivered: one row a person, or hook, and event. key stays the same however often it is tried.
create table deliveries (
  id bigint generated always as identity primary key,
  key uuid not null default gen_random_uuid(),
  event_id bigint not null references events,
  project_id bigint,
  person_id bigint references people,
  hook_id bigint references hooks on delete cascade,
  daily boolean not null default false,
  due timestamptz not null,
  tries integer not null default 0,
  error text not null default '',
  done timestamptz
);
create index deliveries_due on deliveries (due) where done is null;
create index deliveries_of_hook on deliveries (hook_id, id);

---- create above / drop below ----

drop index events_in_order;
drop table deliveries, readers, hooks, wishes, holds, asks, waits;
alter table people drop column mail;
alter table assets drop column diverged, drop column waiting, drop column asked, drop column reminded;
alter table projects drop column offer_for, drop column answer_within, drop column forgotten_after, drop column behind_warns;
