-- The codecs of pack format 3. A tarnd of the release before would take an S2 block for damage: this step keeps it from this database.
alter table chunks add constraint chunks_codec check (codec between 0 and 2) not valid;

---- create above / drop below ----

alter table chunks drop constraint chunks_codec;
