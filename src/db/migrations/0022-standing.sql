-- What Watch and Sources ask of twenty thousand sources is answered where the rows lie.
-- Of the rules in force they need two facts of every source: read once, when the rules are written.
alter table sources add target_hours int generated always as ((rules->'when'->>'targetHours')::int) stored;
alter table sources add depot_id uuid generated always as ((rules->'where'->>'depotId')::uuid) stored;
drop index sources_by_depot;
create index sources_by_depot on sources (depot_id);
create index sources_of_site on sources (site_id, name);
-- Beside its points and runs (0015) a summary says what decides the state of its source.
alter table source_summaries add site_id uuid, add policy_id uuid, add depot_id uuid, add target_hours int;
-- its machine or connection was taken away, or the far end has it no more
alter table source_summaries add gone boolean not null default false;
alter table source_summaries add paused boolean not null default false;
-- from when on it is past its target, and past it by half
alter table source_summaries add slips_at timestamptz, add exposed_at timestamptz;
create function note_ages() returns trigger language plpgsql as $$
begin
  new.slips_at := new.newest_point + new.target_hours * interval '1 hour';
  new.exposed_at := new.newest_point + new.target_hours * interval '90 minutes';
  return new;
end $$;
create trigger ages before insert or update of newest_point, target_hours on source_summaries for each row execute function note_ages();
create function describe_sources(ids uuid[]) returns void language sql security definer set search_path = public as $$
  update source_summaries u set site_id = s.site_id, policy_id = s.policy_id, depot_id = s.depot_id, target_hours = s.target_hours, paused = s.paused,
    gone = m.gone_at is not null or cn.gone_at is not null or s.vanished_at is not null or (s.machine_id is null and s.connection_id is null)
  from sources s left join machines m on m.id = s.machine_id left join connections cn on cn.id = s.connection_id
  where u.source_id = s.id and s.id = any(ids)
$$;
create or replace function summarize_new() returns trigger language plpgsql security definer set search_path = public as $$
begin
  insert into source_summaries (source_id, client_id) select id, client_id from touched on conflict do nothing;
  perform describe_sources(array(select id from touched));
  return null;
end $$;
create function describe_changed() returns trigger language plpgsql security definer set search_path = public as $$
begin
  perform describe_sources(array[new.id]);
  return null;
end $$;
create trigger sources_described after update of rules, paused, vanished_at, machine_id, connection_id, site_id, policy_id on sources for each row
  when ((old.target_hours, old.depot_id, old.paused, old.vanished_at, old.machine_id, old.connection_id, old.site_id, old.policy_id)
    is distinct from (new.target_hours, new.depot_id, new.paused, new.vanished_at, new.machine_id, new.connection_id, new.site_id, new.policy_id))
  execute function describe_changed();
create function describe_of_far_end() returns trigger language plpgsql security definer set search_path = public as $$
begin
  perform describe_sources(array(select id from sources where machine_id = new.id or connection_id = new.id));
  return null;
end $$;
create trigger machines_gone after update of gone_at on machines for each row when (old.gone_at is distinct from new.gone_at) execute function describe_of_far_end();
create trigger connections_gone after update of gone_at on connections for each row when (old.gone_at is distinct from new.gone_at) execute function describe_of_far_end();
select describe_sources(array(select id from sources));
create index summaries_in_need on source_summaries (source_id) where last_outcome in ('failed', 'caution') or gone or policy_id is null;
create index summaries_by_age on source_summaries (slips_at);
create index machines_by_word on machines (seen_at) where gone_at is null;

-- The state of a source, as core/protection/state.ts says it; a test holds the two together.
create function protection_state(newest timestamptz, slips_at timestamptz, exposed_at timestamptz, last_outcome text, paused boolean, at timestamptz)
returns text language sql immutable parallel safe as $$
  select case
    when paused then 'paused'
    when newest is null then 'never kept'
    when last_outcome = 'failed' or at > exposed_at then 'exposed'
    when last_outcome = 'caution' or at > slips_at then 'slipping'
    else 'kept' end
$$;

-- Runs of each night by outcome, counted up to a moment; what came since is counted when somebody asks. A run that ends
-- later than that is added as it ends. Whoever counts locks the moment against those that end.
create table nights_counted (
  one boolean primary key default true check (one),
  until timestamptz not null
);
insert into nights_counted (until) values ('2000-01-01Z');
create table night_totals (
  client_id uuid not null references clients,
  -- the local date of its evening, in the client's zone
  night date not null,
  clean int not null,
  caution int not null,
  failed int not null,
  stopped int not null,
  missed int not null,
  primary key (client_id, night)
);
create index night_totals_by_night on night_totals (night);
alter table nights_counted enable row level security;
create policy reading on nights_counted for select using (true);
alter table night_totals enable row level security;
create policy reading on night_totals for select using ((select scope_role() in ('system', 'provider'))
  or ((select scope_role() in ('client', 'machine')) and client_id = (select scope_client())));
create policy narrowed on night_totals as restrictive using ((select scope_clients() is null) or client_id = any ((select scope_clients())::uuid[]));
grant select on nights_counted, night_totals to deepkeep_app;

create function night_of(at timestamptz, zone text) returns date language sql stable parallel safe as
  $$ select ((at - interval '12 hours') at time zone zone)::date $$;
create function add_nights(from_at timestamptz, to_at timestamptz, client uuid) returns void language sql security definer set search_path = public as $$
  insert into night_totals as n (client_id, night, clean, caution, failed, stopped, missed)
  select r.client_id, night_of(r.due_at, c.zone), count(*) filter (where outcome = 'clean'), count(*) filter (where outcome = 'caution'),
    count(*) filter (where outcome = 'failed'), count(*) filter (where outcome = 'stopped'), count(*) filter (where outcome = 'missed')
  from runs r join clients c on c.id = r.client_id
  where r.kind = 'backup' and r.state = 'ended' and r.due_at >= from_at and r.due_at < to_at and (client is null or r.client_id = client)
  group by 1, 2
  on conflict (client_id, night) do update set clean = n.clean + excluded.clean, caution = n.caution + excluded.caution,
    failed = n.failed + excluded.failed, stopped = n.stopped + excluded.stopped, missed = n.missed + excluded.missed
$$;
create function count_nights(to_at timestamptz) returns void language plpgsql security definer set search_path = public as $$
declare
  before timestamptz;
begin
  select until into before from nights_counted for update;
  if to_at > before then
    perform add_nights(before, to_at, null);
    update nights_counted set until = to_at;
  end if;
end $$;
create function count_late_run() returns trigger language plpgsql security definer set search_path = public as $$
declare
  counted timestamptz;
begin
  select until into counted from nights_counted for share;
  if new.due_at < counted then
    insert into night_totals as n (client_id, night, clean, caution, failed, stopped, missed)
    select new.client_id, night_of(new.due_at, zone), (new.outcome = 'clean')::int, (new.outcome = 'caution')::int, (new.outcome = 'failed')::int,
      (new.outcome = 'stopped')::int, (new.outcome = 'missed')::int from clients where id = new.client_id
    on conflict (client_id, night) do update set clean = n.clean + excluded.clean, caution = n.caution + excluded.caution,
      failed = n.failed + excluded.failed, stopped = n.stopped + excluded.stopped, missed = n.missed + excluded.missed;
  end if;
  return null;
end $$;
drop index runs_of_nights;
-- with all that row-level security asks for, so that the index alone answers
create index runs_of_nights on runs (due_at, client_id, outcome, person_id) where kind = 'backup' and state = 'ended';
create trigger runs_made_late after insert on runs for each row when (new.kind = 'backup' and new.state = 'ended') execute function count_late_run();
create trigger runs_ended_late after update of state on runs for each row
  when (new.kind = 'backup' and new.state = 'ended' and old.state <> 'ended') execute function count_late_run();
-- a client that changes its zone has other nights
create function recount_nights() returns trigger language plpgsql security definer set search_path = public as $$
begin
  perform from nights_counted for update;
  delete from night_totals where client_id = new.id;
  perform add_nights('2000-01-01Z', (select until from nights_counted), new.id);
  return null;
end $$;
create trigger clients_zone after update of zone on clients for each row when (new.zone <> old.zone) execute function recount_nights();
select count_nights(now() - interval '1 hour');
