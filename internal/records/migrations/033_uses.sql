-- Releases are kept in packs, as handoffs are.
alter table kit_releases add column packed boolean not null default false;

-- What the files of uses say, by their content, which never changes: which release of which project's kit is there. kit is empty for one that
-- says nothing of the kind. A row is made when the file is first read.
create table kit_files (
  content_id bigint primary key references contents on delete cascade,
  project_id bigint not null references projects on delete cascade,
  maker text collate "C" not null,
  kit text collate "C" not null,
  release integer not null,
  handoff bytea,
  stay boolean not null,
  assets integer not null
);
create index kit_files_by_kit on kit_files (maker, kit);
create index kit_files_of_project on kit_files (project_id);
-- The places of such files.
create index assets_of_kits on assets (project_id) where right(folded, 9) = '/tarn.kit';

---- create above / drop below ----

drop index assets_of_kits;
drop table kit_files;
alter table kit_releases drop column packed;
