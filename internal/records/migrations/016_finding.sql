-- What an asset that is present is found by: the words of its path, of what is in it, and of who sent it why; null until they are gathered, which
-- happens behind what people wait for. What was read of a content is kept with it, in words.
alter table present add column words tsvector;
create index present_words on present using gin (words);
create index present_unread on present (project_id) where words is null;
create table facts (
  content_id bigint primary key references contents on delete cascade,
  project_id bigint not null,
  said text not null
);

---- create above / drop below ----

drop table facts;
alter table present drop column words;
