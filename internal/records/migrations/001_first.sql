create table people (
  id bigint generated always as identity primary key,
  handle text not null unique,
  passphrase text not null,
  steward boolean not null default false,
  created timestamptz not null default now()
);

-- A token is kept as its BLAKE3-256 only: it is random, so a plain digest can't be turned around.
create table tokens (
  digest bytea primary key,
  person_id bigint not null references people,
  label text not null,
  created timestamptz not null default now(),
  expires timestamptz not null,
  revoked timestamptz
);

create table projects (
  id bigint generated always as identity primary key,
  key text collate "C" not null unique,
  created timestamptz not null default now(),
  handoffs integer not null default 0,
  -- The most bytes that its packs may have.
  storage_limit bigint,
  -- When it was deleted: collect takes it away after the days of grace.
  deleted timestamptz
);

create table memberships (
  project_id bigint not null references projects,
  person_id bigint not null references people,
  role text not null,
  primary key (project_id, person_id)
);

create table workspaces (
  id uuid primary key,
  project_id bigint not null references projects,
  person_id bigint not null references people,
  name text not null,
  kind text not null,
  created timestamptz not null default now(),
  seen timestamptz not null default now()
);
create index workspaces_of_person on workspaces (project_id, person_id);
-- One seat at the console a person and project.
create unique index workspaces_console on workspaces (project_id, person_id) where kind = 'console';

-- What a branch holds is the tree under root, as of the handoff head; assets and size are what the root node says.
create table branches (
  id bigint generated always as identity primary key,
  project_id bigint not null references projects,
  name text collate "C" not null,
  root bytea not null,
  head integer not null default 0,
  assets bigint not null default 0,
  size bigint not null default 0,
  unique (project_id, name)
);

-- The tables below that have a row for every asset, version, content, chunk or node name other rows without a foreign key: checking each
-- row on its way in costs as much as writing it. What they name is written in the same transaction or locked by it, and never removed
-- before them; tarnd verify looks whether it is there.

-- Nodes of asset trees, named by their digest, written once.
create table nodes (
  project_id bigint not null,
  digest bytea not null,
  data bytea not null,
  primary key (project_id, digest)
);
-- Mostly digests, which nothing compresses.
alter table nodes alter column data set storage external;

-- A condemned pack has nothing in it that is needed any more; its file goes when nobody can be reading it.
create table packs (
  id bigint generated always as identity primary key,
  project_id bigint not null references projects,
  name text not null unique,
  size bigint not null,
  created timestamptz not null default now(),
  -- Whether it holds handoffs and tree nodes: those have no rows in chunks.
  history boolean not null default false,
  condemned timestamptz
);
create index packs_of_project on packs (project_id);

-- Where each chunk and each manifest node of a project lies. The chunk space is per project. seen is when somebody was last told that
-- it is here, or brought it: nothing is collected within 14 days of that. What is damaged counts as lacking.
create table chunks (
  project_id bigint not null,
  digest bytea not null,
  kind smallint not null,
  pack_id bigint not null,
  start bigint not null,
  stored integer not null,
  size integer not null,
  codec smallint not null,
  seen timestamptz not null default now(),
  condemned timestamptz,
  damaged timestamptz,
  primary key (project_id, digest)
);
create index chunks_of_pack on chunks (pack_id);
create index chunks_damaged on chunks (project_id) where damaged is not null;
create index chunks_condemned on chunks (project_id) where condemned is not null;

-- What was found damaged or missing, where it lay, and when it was made good.
create table damage (
  id bigint generated always as identity primary key,
  project_id bigint not null references projects,
  digest bytea not null,
  pack text not null,
  start bigint not null,
  cause text not null,
  found timestamptz not null default now(),
  healed timestamptz
);
create index damage_open on damage (project_id, digest) where healed is null;

-- A content is named by the root of its manifest. whole is the BLAKE3 of all its bytes once the service has read them (sealed);
-- claimed is what a sender said it would be.
create table contents (
  id bigint generated always as identity primary key,
  project_id bigint not null,
  digest bytea not null,
  size bigint not null,
  claimed bytea,
  whole bytea,
  sealed timestamptz,
  person_id bigint,
  seen timestamptz not null default now(),
  unique (project_id, digest)
);
create index contents_unsealed on contents (id) where sealed is null;

-- One row per asset carries newest version, holder and fence: whoever decides about one of them locks the row first.
-- Without versions it is a path that was claimed and not used yet.
create table assets (
  id bigint generated always as identity primary key,
  project_id bigint not null,
  path text collate "C" not null,
  folded text collate "C" not null,
  newest integer not null default 0,
  gone boolean not null default true,
  holder_id bigint references people,
  workspace_id uuid references workspaces,
  locked timestamptz,
  lock_note text not null default '',
  fence bigint not null default 0,
  unique (project_id, folded)
);
create index assets_held on assets (project_id) where holder_id is not null;

create table handoffs (
  project_id bigint not null references projects,
  number integer not null,
  branch_id bigint not null references branches,
  author_id bigint not null references people,
  workspace_id uuid references workspaces,
  note text not null,
  at timestamptz not null default now(),
  tasks text[] not null default '{}',
  stage text not null default '',
  parent integer not null,
  root bytea not null,
  digest bytea not null,
  assets integer not null,
  size bigint not null,
  -- Whether it lies in a pack too, with the nodes of its tree.
  packed boolean not null default false,
  primary key (project_id, number)
);
create index handoffs_unpacked on handoffs (project_id, number) where not packed;

create table versions (
  asset_id bigint not null,
  number integer not null,
  project_id bigint not null,
  handoff integer not null,
  before integer not null,
  path text collate "C" not null,
  content_id bigint,
  gone boolean not null,
  executable boolean not null default false,
  primary key (asset_id, number)
);
create index versions_of_handoff on versions (project_id, handoff);

-- The key that a client wrote down before it posted a handoff. Without a handoff it is closed: nothing will come of it any more.
create table send_keys (
  project_id bigint not null references projects,
  key uuid not null,
  person_id bigint not null references people,
  request bytea,
  handoff integer,
  created timestamptz not null default now(),
  primary key (project_id, key)
);

-- Everything that was done. A reader's cursor is (transaction, id), below the oldest running transaction, so that nothing that
-- commits late is skipped.
create table events (
  id bigint generated always as identity primary key,
  transaction xid8 not null default pg_current_xact_id(),
  project_id bigint references projects,
  person_id bigint references people,
  at timestamptz not null default now(),
  kind text not null,
  subject jsonb not null
);
create index events_of_project on events (project_id, transaction, id);

---- create above / drop below ----

drop table events, send_keys, versions, handoffs, assets, contents, damage, chunks, packs, nodes, branches, workspaces, memberships, projects, tokens, people;
