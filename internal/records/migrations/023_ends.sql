-- What becomes of a project in the end: one that is archived is only looked at; one that was deleted goes for good when its days of grace are
-- over, which is written down when it is deleted.
alter table projects
  add column archived timestamptz,
  add column deleted_by bigint references people,
  add column goes timestamptz;
update projects set goes = deleted + interval '30 days' where deleted is not null;
-- The record of a project, the latest first.
create index events_by_project on events (project_id, id);

---- create above / drop below ----

drop index events_by_project;
alter table projects drop column archived, drop column deleted_by, drop column goes;
