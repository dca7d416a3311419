-- Of a very large project all is listed by size, and by when it was changed last, without sorting it.
create index present_by_size on present (project_id, size, folded);
create index present_by_handoff on present (project_id, handoff desc, folded);

---- create above / drop below ----

drop index present_by_size;
drop index present_by_handoff;
