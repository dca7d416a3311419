-- What happened carries the time at which it was done, not that at which its transaction began.
alter table events alter column at set default clock_timestamp();

-- Lines and asks of rows that are gone: nobody could end them.
update waits w set ended = now(), ending = 'removed', until = null where ended is null and not exists (select from assets a where a.id = w.asset_id);
update asks k set answered = now(), answer = 'removed' where answered is null and not exists (select from assets a where a.id = k.asset_id);

-- Which versions have a content: collect asks before it drops one.
create index versions_of_content on versions (content_id) where content_id is not null;

-- When a sign-in was last used; when a person was let go; up to which event they have read their news; and the mail address that they want, until
-- they have shown that it is theirs with the code that was sent there.
alter table tokens add column used timestamptz;
alter table people
  add column ended timestamptz,
  add column news_read bigint not null default 0,
  add column mail_wanted text not null default '',
  add column mail_code bytea,
  add column mail_sent timestamptz,
  add column mail_tries integer not null default 0;

-- Who held an asset under which fence.
create index holds_of_asset on holds (asset_id, fence);

-- When a delivery was last begun.
alter table deliveries add column sent timestamptz;

---- create above / drop below ----

alter table deliveries drop column sent;
drop index holds_of_asset;
alter table people drop column ended, drop column news_read, drop column mail_wanted, drop column mail_code, drop column mail_sent, drop column mail_tries;
alter table tokens drop column used;

drop index versions_of_content;
alter table events alter column at set default now();
