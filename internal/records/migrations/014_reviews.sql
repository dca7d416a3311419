-- Conversations on a branch, or on one handoff. A remark keeps the asset and the version that it was made on, by whatever name that goes later.
create table reviews (
  project_id bigint not null,
  number integer not null,
  branch_id bigint references branches,
  handoff integer not null,
  person_id bigint not null references people,
  at timestamptz not null default now(),
  body text not null,
  closed timestamptz,
  closer_id bigint references people,
  primary key (project_id, number)
);
create index reviews_of_branch on reviews (branch_id) where branch_id is not null;
create table review_people (
  project_id bigint not null,
  review integer not null,
  person_id bigint not null references people,
  primary key (project_id, review, person_id)
);
-- Every answer stays on record; the last of each person counts. head is what the branch was at.
create table review_answers (
  id bigint generated always as identity primary key,
  project_id bigint not null,
  review integer not null,
  person_id bigint not null references people,
  yes boolean not null,
  why text not null,
  at timestamptz not null default now(),
  head integer not null
);
create index answers_of_review on review_answers (project_id, review, id);
create table remarks (
  project_id bigint not null,
  review integer not null,
  number integer not null,
  person_id bigint not null references people,
  at timestamptz not null default now(),
  body text not null,
  path text collate "C" not null,
  asset_id bigint,
  version integer not null,
  spot text not null,
  answers integer not null,
  settled timestamptz,
  settler_id bigint references people,
  primary key (project_id, review, number)
);

---- create above / drop below ----

drop table remarks;
drop table review_answers;
drop table review_people;
drop table reviews;
