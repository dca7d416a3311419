-- Text is looked for in paths by the index, with the trigrams that PostgreSQL's own package brings.
create extension if not exists pg_trgm;
create index claims_text on claims using gin (folded gin_trgm_ops);

-- What a project takes is added up from its packs by looking into the index alone.
drop index packs_of_project;
create index packs_of_project on packs (project_id) include (size);

---- create above / drop below ----

drop index packs_of_project;
create index packs_of_project on packs (project_id);
drop index claims_text;
drop extension pg_trgm;
