-- A page of a handoff's assets is read by path, without sorting all of them.
drop index versions_of_handoff;
create index versions_of_handoff on versions (project_id, handoff, path);

---- create above / drop below ----

drop index versions_of_handoff;
create index versions_of_handoff on versions (project_id, handoff);
