-- What is known of branches goes to the packs, too, so that it comes back from them alone: turn counts its states, and packed says which of
-- them lies in a pack.
alter table branches add column turn integer not null default 1, add column packed integer not null default 0;
update branches set packed = 1 where came_from is null;

---- create above / drop below ----

alter table branches drop column turn, drop column packed;
