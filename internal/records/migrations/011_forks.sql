-- Versions that do not follow the one numbered before them: an asset that has none has one line, whatever branches there are, and its newest
-- version descends from all.
create index versions_forked on versions (asset_id) where cardinality(parents) > 1 or parents[1] is distinct from nullif(number - 1, 0);

---- create above / drop below ----

drop index versions_forked;
