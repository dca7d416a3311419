-- Branches are made from a state, are ready to come in at some time, and are closed: what they held stays. folded is the form in which names
-- are compared, over branches and milestones together; what a branch came from and where it began is null for the first.
alter table branches add column folded text collate "C",
  add column state smallint not null default 0 check (state between 0 and 2),
  add column why text not null default '',
  add column person_id bigint references people,
  add column made timestamptz not null default now(),
  add column came_from bigint references branches,
  add column began integer not null default 0;
update branches set folded = name;
update branches b set made = coalesce((select min(h.at) from handoffs h where h.branch_id = b.id), now());
alter table branches alter column folded set not null, add constraint branches_folded unique (project_id, folded);
-- How far apart two branches are, and what was handed off on one of them.
create index handoffs_of_branch on handoffs (branch_id, number);

---- create above / drop below ----

drop index handoffs_of_branch;
alter table branches drop column folded, drop column state, drop column why, drop column person_id, drop column made, drop column came_from,
  drop column began;
