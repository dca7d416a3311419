-- Which assets have unsent changes in which workspace, as that workspace said last. since is when the file was changed there.
create table heads_ups (
  workspace_id uuid not null references workspaces,
  project_id bigint not null,
  asset_id bigint not null,
  state text not null,
  size bigint not null,
  since timestamptz not null,
  primary key (workspace_id, asset_id)
);
create index heads_ups_of_project on heads_ups (project_id, asset_id);

-- Somebody who may not change the rules asks that a path be an asset; a lead decides.
create table rule_requests (
  id bigint generated always as identity primary key,
  project_id bigint not null references projects,
  person_id bigint not null references people,
  path text collate "C" not null,
  reason text not null,
  at timestamptz not null default now(),
  answered timestamptz,
  accepted boolean,
  answerer_id bigint references people,
  word text not null default ''
);
create index rule_requests_open on rule_requests (project_id, id) where answered is null;

---- create above / drop below ----

drop table rule_requests, heads_ups;
