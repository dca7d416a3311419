-- A project that is being brought in from a file: nobody sees it before all of it is there.
alter table projects add column coming boolean not null default false;

---- create above / drop below ----

alter table projects drop column coming;
