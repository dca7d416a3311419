-- What projects took on each day: hours that nobody counted (the service was away) are as the last one before them that was. hour is the
-- last that was counted; byte_hours are the stored bytes of each hour of the day, added up.
create view usage_by_day as
with counted as (
  select *, case when byte_hours is null then hour else date_trunc('day', hour) end as begins,
    case when byte_hours is null then hour else date_trunc('day', hour) + interval '1 day' end as carries
  from usage where stored is not null),
spans as (
  select *, coalesce(lead(begins) over (partition by project_id order by hour), date_trunc('hour', now()) + interval '1 hour') as ends
  from counted),
pieces as (
  select project_id, hour, d::date as day, stored, present, past, assets,
    stored * extract(epoch from least(ends, d + interval '1 day') - greatest(carries, d))::double precision / 3600 as byte_hours
  from spans, generate_series(date_trunc('day', carries), ends - interval '1 second', interval '1 day') d
  union all
  select project_id, hour, hour::date, stored, present, past, assets, byte_hours from spans where byte_hours is not null)
select distinct on (project_id, day) project_id, day, hour, stored, present, past, assets,
  sum(byte_hours) over (partition by project_id, day) as byte_hours
from pieces order by project_id, day, hour desc;

---- create above / drop below ----

drop view usage_by_day;
