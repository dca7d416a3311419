-- What tarnd asks of PostgreSQL for one lock and one unlock of an asset, statement by statement (internal/records: TokenByDigest, OpenLocks,
-- SetLocks), for an asset and a client drawn at random. The first statement, which only draws the client, is pgbench's own.
\set n random(0, :assets - 1)
\set client random(0, :clients - 1)
select ws, digest, person, handle from bench_clients where n = :client \gset
select p.id, p.handle, p.steward, t.label, coalesce(t.revoked, t.expires), t.revoked is not null or t.expires <= now() from tokens t join people p on p.id = t.person_id where t.digest = :digest::bytea;
begin;
select set_config('plan_cache_mode', 'force_generic_plan', true), set_config('enable_seqscan', 'off', true);
select pg_advisory_xact_lock_shared(7420, id::integer) from projects where key = :project and deleted is null;
select now() as now, p.id as project_id, p.key, p.handoffs, coalesce(m.role, '') as role, coalesce(p.storage_limit, 0) as most, p.offer_for, p.answer_within, p.forgotten_after, p.behind_warns from projects p left join memberships m on m.project_id = p.id and m.person_id = :person where p.key = :project and p.deleted is null \gset p_
select w.id, w.project_id, w.person_id, p.handle, w.name, w.kind from workspaces w join people p on p.id = w.person_id where w.id = :ws;
select a.id, a.folded, a.path, a.newest, a.gone, a.fence, coalesce(a.holder_id, 0) as holder, coalesce(a.workspace_id::text, '') as space, a.locked, a.lock_note, a.diverged, a.waiting + a.asked as people, exists (select from heads_ups h where h.project_id = a.project_id and h.asset_id = a.id) as heads
 from assets a where a.id = any(array(select a.id from unnest(array['d' || lpad((:n / 500)::text, 3, '0') || '/asset' || lpad(:n::text, 6, '0') || '.bin']) u (f) cross join lateral (select id from assets a where a.project_id = (select p.id from projects p join memberships m on m.project_id = p.id and m.person_id = :person where p.key = :project and p.deleted is null) and a.folded = u.f limit 1) a)) order by a.id for update of a \gset a_
update assets a set fence = u.fence, holder_id = (select id from people p where p.handle = u.holder), workspace_id = u.space, locked = u.since, lock_note = u.note, diverged = u.diverged, waiting = u.waiting, asked = u.asked
 from unnest(array[:a_fence::bigint + 1], array[:handle], array[:ws::uuid], array[''], array[now()], array[0], array[0], array[0], array[:a_id::bigint]) as u (fence, holder, space, note, since, diverged, waiting, asked, id) where a.id = u.id;
insert into events (project_id, person_id, kind, subject) values (nullif(:p_project_id::bigint, 0), nullif(:person::bigint, 0), 'bench.lock', jsonb_build_object('note', '', 'count', 1, 'paths', array[:a_path], 'person', 'person01', 'workspace', 'person01-1'));
commit;
select p.id, p.handle, p.steward, t.label, coalesce(t.revoked, t.expires), t.revoked is not null or t.expires <= now() from tokens t join people p on p.id = t.person_id where t.digest = :digest::bytea;
begin;
select set_config('plan_cache_mode', 'force_generic_plan', true), set_config('enable_seqscan', 'off', true);
select pg_advisory_xact_lock_shared(7420, id::integer) from projects where key = :project and deleted is null;
select now() as now, p.id as project_id, p.key, p.handoffs, coalesce(m.role, '') as role, coalesce(p.storage_limit, 0) as most, p.offer_for, p.answer_within, p.forgotten_after, p.behind_warns from projects p left join memberships m on m.project_id = p.id and m.person_id = :person where p.key = :project and p.deleted is null \gset p_
select w.id, w.project_id, w.person_id, p.handle, w.name, w.kind from workspaces w join people p on p.id = w.person_id where w.id = :ws;
select a.id, a.folded, a.path, a.newest, a.gone, a.fence, coalesce(a.holder_id, 0) as holder, coalesce(a.workspace_id::text, '') as space, a.locked, a.lock_note, a.diverged, a.waiting + a.asked as people, exists (select from heads_ups h where h.project_id = a.project_id and h.asset_id = a.id) as heads
 from assets a where a.id = any(array(select a.id from unnest(array['d' || lpad((:n / 500)::text, 3, '0') || '/asset' || lpad(:n::text, 6, '0') || '.bin']) u (f) cross join lateral (select id from assets a where a.project_id = (select p.id from projects p join memberships m on m.project_id = p.id and m.person_id = :person where p.key = :project and p.deleted is null) and a.folded = u.f limit 1) a)) order by a.id for update of a \gset a_
insert into holds (project_id, asset_id, path, person_id, workspace_id, note, fence, taken, ended, ending, ender_id, word, handoff)
 select :p_project_id, a, f, (select id from people p where p.handle = h), w, n, x, t, now(), 'given-back', nullif(:person::bigint, 0), '', nullif(0, 0)
 from unnest(array[:a_id::bigint], array[:a_path], array[:handle], array[:ws::uuid], array[''], array[:a_fence::bigint], array[now()]) as u (a, f, h, w, n, x, t);
update assets a set fence = u.fence, holder_id = (select id from people p where p.handle = u.holder), workspace_id = u.space, locked = u.since, lock_note = u.note, diverged = u.diverged, waiting = u.waiting, asked = u.asked
 from unnest(array[:a_fence::bigint + 1], array[''], array[null::uuid], array[''], array[null::timestamptz], array[0], array[0], array[0], array[:a_id::bigint]) as u (fence, holder, space, note, since, diverged, waiting, asked, id) where a.id = u.id;
insert into events (project_id, person_id, kind, subject) values (nullif(:p_project_id::bigint, 0), nullif(:person::bigint, 0), 'bench.unlock', jsonb_build_object('count', 1, 'paths', array[:a_path], 'person', 'person01', 'workspace', 'person01-1'));
commit;
