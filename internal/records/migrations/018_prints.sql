-- What looks or sounds alike is found by prints of 64 bits, kept with what was read of a content: print_of says of what kind it is, "" that there
-- is none, null that nobody looked for one yet.
alter table facts add column print bigint, add column print_of text;
create index facts_prints on facts (project_id, print_of) where print is not null;

---- create above / drop below ----

alter table facts drop column print, drop column print_of;
