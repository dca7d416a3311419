-- Branches may have different assets at one place: each has a claim on it, and which of them a branch means is a question of its versions.
-- rank tells them apart; the first is 0, and is given once.
alter table claims add column rank integer not null default 0;
alter table claims drop constraint claims_pkey, add primary key (project_id, folded, rank);

-- Versions that do not follow the one numbered before them: an asset that has none has one line, whatever branches there are, and its newest
-- version descends from all.
create index versions_forked on versions (asset_id) where cardinality(parents) > 1 or parents[1] is distinct from nullif(number - 1, 0);

---- create above / drop below ----

drop index versions_forked;
delete from claims where rank > 0;
alter table claims drop column rank, add primary key (project_id, folded);
