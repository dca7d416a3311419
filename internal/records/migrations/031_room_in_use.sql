-- What a project takes: all its packs but those that are condemned. What is in those is elsewhere, or needed by nobody, and they go by
-- themselves: they count for no limit.
create view project_room as select project_id, sum(size)::bigint as stored from packs where condemned is null group by project_id;

---- create above / drop below ----

drop view project_room;
