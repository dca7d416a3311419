-- What happened carries the time at which it was done, not that at which its transaction began.
alter table events alter column at set default clock_timestamp();

-- Lines and asks of rows that are gone: nobody could end them.
update waits w set ended = now(), ending = 'removed', until = null where ended is null and not exists (select from assets a where a.id = w.asset_id);
update asks k set answered = now(), answer = 'removed' where answered is null and not exists (select from assets a where a.id = k.asset_id);

-- Which versions have a content: collect asks before it drops one.
create index versions_of_content on versions (content_id) where content_id is not null;

---- create above / drop below ----

drop index versions_of_content;
alter table events alter column at set default now();
