-- What the views ask of every source stands beside it, worked out anew whenever one of its points or runs changes.
create table source_summaries (
  source_id uuid primary key references sources,
  client_id uuid not null references clients,
  newest_point timestamptz,
  bytes bigint not null default 0,
  files bigint not null default 0,
  points int not null default 0,
  -- all that its points have added to their depots and what is left of it, bytes
  stored_bytes bigint not null default 0,
  oldest_point timestamptz,
  -- over the last 60 days: added by a run, its spread, on weekends, on Mondays; content more each day
  added_mean double precision,
  added_spread double precision,
  added_weekend double precision,
  added_monday double precision,
  grown_per_day double precision,
  added_per_day double precision not null default 0,
  -- minutes that the last 30 good runs took: the middle one, and one of twenty
  usual_minutes double precision,
  long_minutes double precision,
  last_run_id uuid,
  last_run_ended timestamptz,
  last_outcome text,
  last_code text
);
create index source_summaries_of_client on source_summaries (client_id);
alter table source_summaries enable row level security;
create policy reading on source_summaries for select using ((select scope_role() in ('system', 'provider'))
  or ((select scope_role() in ('client', 'machine')) and client_id = (select scope_client())));
grant select on source_summaries to deepkeep_app;

create function summarize(ids uuid[]) returns void language plpgsql security definer set search_path = public as $$
begin
  insert into source_summaries (source_id, client_id) select id, client_id from sources where id = any(ids) order by id on conflict do nothing;
  -- first the lock, then a look at what is there once the others are done
  perform from source_summaries where source_id = any(ids) order by source_id for update;
  update source_summaries u set
    newest_point = newest.moment, bytes = coalesce(newest.bytes, 0), files = coalesce(newest.files, 0),
    points = counted.points, stored_bytes = counted.stored, oldest_point = counted.oldest,
    added_mean = counted.mean, added_spread = counted.spread, added_weekend = counted.weekend, added_monday = counted.monday,
    grown_per_day = case when counted.span >= 1 then (newest.bytes - counted.first_bytes) / counted.span end,
    added_per_day = coalesce(counted.month, 0) / 30.0,
    usual_minutes = took.usual, long_minutes = took.long,
    last_run_id = last.id, last_run_ended = last.ended_at, last_outcome = last.outcome, last_code = last.code
  from sources s join clients c on c.id = s.client_id
  left join lateral (select moment, bytes, files from points where source_id = s.id and purged_at is null and dropped_at is null
    order by moment desc limit 1) newest on true
  left join lateral (
    select count(*)::int as points, coalesce(sum(added_bytes), 0)::bigint as stored, min(moment) as oldest,
      sum(added_bytes) filter (where recent and moment > statement_timestamp() - interval '30 days') as month,
      avg(added_bytes) filter (where recent and not first) as mean, stddev_samp(added_bytes) filter (where recent and not first) as spread,
      avg(added_bytes) filter (where recent and not first and weekday > 5) as weekend,
      avg(added_bytes) filter (where recent and not first and weekday = 1) as monday,
      (array_agg(bytes order by moment) filter (where recent))[1] as first_bytes,
      extract(epoch from max(moment) - min(moment) filter (where recent)) / 86400.0 as span
    from (select moment, bytes, added_bytes, row_number() over (order by moment) = 1 as first,
        moment > max(moment) over () - interval '60 days' as recent, extract(isodow from moment at time zone c.zone) as weekday
      from points where source_id = s.id and purged_at is null and dropped_at is null) p) counted on true
  left join lateral (select percentile_cont(0.5) within group (order by minutes) as usual, percentile_cont(0.95) within group (order by minutes) as long
    from (select extract(epoch from ended_at - started_at) / 60.0 as minutes from runs
      where source_id = s.id and kind = 'backup' and state = 'ended' and outcome in ('clean', 'caution') order by due_at desc limit 30) r) took on true
  left join lateral (select id, ended_at, outcome, code from runs
    where source_id = s.id and kind = 'backup' and state = 'ended' and outcome <> 'stopped' order by due_at desc limit 1) last on true
  where u.source_id = s.id and s.id = any(ids);
end $$;

create function summarize_touched() returns trigger language plpgsql security definer set search_path = public as $$
declare
  ids uuid[];
begin
  select array_agg(distinct source_id) into ids from touched where source_id is not null;
  if ids is not null then perform summarize(ids); end if;
  return null;
end $$;
create function summarize_runs() returns trigger language plpgsql security definer set search_path = public as $$
declare
  ids uuid[];
begin
  select array_agg(distinct source_id) into ids from touched where kind = 'backup' and state = 'ended';
  if ids is not null then perform summarize(ids); end if;
  return null;
end $$;
create trigger points_made after insert on points referencing new table as touched for each statement execute function summarize_touched();
create trigger points_changed after update on points referencing new table as touched for each statement execute function summarize_touched();
create trigger points_gone after delete on points referencing old table as touched for each statement execute function summarize_touched();
create trigger runs_made after insert on runs referencing new table as touched for each statement execute function summarize_runs();
create trigger runs_changed after update on runs referencing new table as touched for each statement execute function summarize_runs();
create function summarize_new() returns trigger language plpgsql security definer set search_path = public as $$
begin
  insert into source_summaries (source_id, client_id) select id, client_id from touched on conflict do nothing;
  return null;
end $$;
create trigger sources_made after insert on sources referencing new table as touched for each statement execute function summarize_new();
select summarize(array(select id from sources));

-- Advice on a policy that somebody decided to live with, and why.
create table advice_set_aside (
  -- the policy or rules, or the client for those that are not saved yet
  policy_id uuid not null references policies,
  client_id uuid references clients,
  advice text not null,
  reason text not null,
  set_by text not null,
  set_at timestamptz not null,
  primary key (policy_id, advice)
);
alter table advice_set_aside enable row level security;
create policy everything on advice_set_aside using (scope_role() in ('system', 'provider'));
grant select, insert, update, delete on advice_set_aside to deepkeep_app;
