-- What a state has behind it is a question to rows: each handoff has its parents, the first being the one on whose line it goes on, and each
-- version has its branch and the versions that it was made from.
create table handoff_parents (
  project_id bigint not null,
  number integer not null,
  place smallint not null,
  branch_id bigint not null,
  parent integer not null,
  parent_branch bigint not null,
  primary key (project_id, number, place)
);
-- Where one branch takes another one in, or begins: few, and all that a question of ancestry has to look at.
create index handoff_crossings on handoff_parents (branch_id, number) where branch_id <> parent_branch;
insert into handoff_parents (project_id, number, place, branch_id, parent, parent_branch)
  select h.project_id, h.number, 0, h.branch_id, h.parent, o.branch_id
  from handoffs h join handoffs o on o.project_id = h.project_id and o.number = h.parent;
alter table handoffs drop column parent;

alter table versions add column branch_id bigint,
  alter column before type integer[] using case when before = 0 then '{}'::integer[] else array[before] end;
alter table versions rename column before to parents;
update versions v set branch_id = h.branch_id from handoffs h where h.project_id = v.project_id and h.number = v.handoff;
alter table versions alter column branch_id set not null;

-- A path is claimed for an asset, over all branches; an asset's row keeps what it was called last, and no branch's truth.
create table claims (
  project_id bigint not null,
  folded text collate "C" not null,
  asset_id bigint not null,
  primary key (project_id, folded)
);
insert into claims (project_id, folded, asset_id) select project_id, folded, id from assets where not starts_with(folded, chr(1));
alter table assets drop constraint assets_project_id_folded_key, drop column newest, drop column gone;
update assets set folded = substr(folded, strpos(folded, '/') + 1) where starts_with(folded, chr(1));

-- What a workspace says of its branch counts from now on.
update workspaces w set branch = 'main' where not exists (select from branches b where b.project_id = w.project_id and b.name = w.branch);

---- create above / drop below ----

alter table assets add column newest integer not null default 0, add column gone boolean not null default true;
update assets a set folded = chr(1) || a.id || '/' || a.folded
  where not exists (select from claims c where c.project_id = a.project_id and c.folded = a.folded and c.asset_id = a.id);
alter table assets add constraint assets_project_id_folded_key unique (project_id, folded);
update assets a set newest = v.number, gone = v.gone
  from (select distinct on (asset_id) asset_id, number, gone from versions order by asset_id, number desc) v where v.asset_id = a.id;
drop table claims;

alter table versions drop column branch_id,
  alter column parents type integer using coalesce(parents[1], 0);
alter table versions rename column parents to before;

alter table handoffs add column parent integer not null default 0;
update handoffs h set parent = p.parent from handoff_parents p where p.project_id = h.project_id and p.number = h.number and p.place = 0;
drop table handoff_parents;
