-- What the newest state of a project's first branch holds, a row an asset, for lists that are sorted and filtered: a tree knows one order
-- alone. It is written with each handoff; listed is the handoff up to which it was, and where that is not the head it is made anew from the
-- tree. folder is the folded path of the folder with its slash, "" for the root: what is below one
-- lies side by side then. ending is that of the name with its dot.
create table present (
  asset_id bigint primary key,
  project_id bigint not null,
  path text not null,
  folded text collate "C" not null,
  folder text collate "C" not null,
  ending text collate "C" not null,
  number integer not null,
  handoff integer not null,
  size bigint not null
);
create index present_in_folder on present (project_id, folder, folded);
create index present_by_path on present (project_id, folded);
-- Text is looked for in what is present; it was looked for in all that was ever claimed.
drop index claims_text;
create index present_text on present using gin (folded gin_trgm_ops);
-- The endings of the names of what a handoff changed, in small letters with their dots, so that kinds are looked for without its assets.
alter table handoffs add column endings text[] not null default '{}';
update handoffs h set endings = x.e from (select project_id, handoff, array_agg(distinct coalesce(substring(lower(path) from
	'[^/](\.[^./]*)$'), '')) e from (select project_id, handoff, path from versions
	union all select k.project_id, k.handoff, v.path from came k join versions v on v.asset_id = k.asset_id and v.number = k.number) c
	group by project_id, handoff) x where x.project_id = h.project_id and x.handoff = h.number;
alter table branches add column listed integer not null default 0;

---- create above / drop below ----

alter table branches drop column listed;
drop table present;
alter table handoffs drop column endings;
create index claims_text on claims using gin (folded gin_trgm_ops);
