-- What a merge brought onto a branch as it is on the other one: versions that were there, and the ones that the branch had before (0 for
-- none). What a merge made anew are versions of its own.
create table came (
  project_id bigint not null,
  handoff integer not null,
  asset_id bigint not null,
  number integer not null,
  before integer not null,
  primary key (project_id, handoff, asset_id)
);
-- Deletions, which no tree shows: a merge asks which there were on one side alone.
create index versions_gone on versions (branch_id, handoff) where gone;

---- create above / drop below ----

drop index versions_gone;
drop table came;
