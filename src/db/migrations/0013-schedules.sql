-- Schedules become recurrence rules (RFC 5545), any number of them, with windows and what belongs to them.
create function rules_of_schedule(place jsonb) returns jsonb language sql immutable as $$
  select case
    when place is null or not place ? 'schedule' then place
    else (place - 'schedule') || '{"windows": [], "stopAfterHours": null, "missed": "at-once", "after": null, "spreadMinutes": 0}'
      || jsonb_build_object('schedules', case place->'schedule'->>'kind'
        when 'on-demand' then '[]'::jsonb
        else jsonb_build_array(jsonb_build_object('pass', 'incremental', 'rule', case place->'schedule'->>'kind'
          when 'every' then 'FREQ=HOURLY;INTERVAL=' || (place->'schedule'->>'hours')
          else (case place->'schedule'->>'kind'
              when 'daily' then 'FREQ=DAILY'
              else 'FREQ=WEEKLY;BYDAY=' || (select string_agg((array['MO','TU','WE','TH','FR','SA','SU'])[d::int], ',' order by d::int)
                from jsonb_array_elements_text(place->'schedule'->'days') d)
            end)
            || ';BYHOUR=' || split_part(place->'schedule'->>'at', ':', 1)::int
            || ';BYMINUTE=' || split_part(place->'schedule'->>'at', ':', 2)::int
          end)) end)
  end
$$;
update policies set clauses = jsonb_set(clauses, '{when}', rules_of_schedule(clauses->'when')) where clauses->'when' ? 'schedule';
update policy_revisions set clauses = jsonb_set(clauses, '{when}', rules_of_schedule(clauses->'when')) where clauses->'when' ? 'schedule';
update sources set rules = jsonb_set(rules, '{when}', rules_of_schedule(rules->'when'))
  || '{"conduct": {"compression": "fast", "bandwidth": [], "before": null, "after": null, "retries": 2, "retryMinutes": 10},
       "notices": {"on": [], "mail": [], "webhooks": [], "digestAt": null, "quiet": null}}'
  where rules is not null;
drop function rules_of_schedule(jsonb);

alter table runs drop constraint runs_cause_check;
alter table runs add check (cause in ('schedule', 'person', 'retry', 'after'));
-- until when the run may go on: its window closes, or it has run for as long as it may
alter table runs add stop_at timestamptz;
create index runs_running on runs (client_id) where kind = 'backup' and state in ('claimed', 'reading', 'closing');
create index runs_waiting on runs (source_id) where kind = 'backup' and state = 'due';
create index sources_after on sources ((rules->'when'->>'after')) where rules->'when'->>'after' is not null;
create index sources_by_policy on sources (policy_id);

-- What may run at once, and how fast: for a client, for a site (its link), for a depot.
alter table clients add limits jsonb not null default '{"atOnce": null, "bandwidth": []}';
alter table sites add limits jsonb not null default '{"atOnce": null, "bandwidth": []}';
alter table depots add at_once int check (at_once > 0);
grant update on clients, sites, depots to deepkeep_app;

-- Whether any limit bears on a source, and whether there is room for one more run of it. A machine sees its own client's
-- runs alone, but a depot's limit counts all of them.
create function limited(source uuid) returns boolean language sql stable security definer set search_path = public as $$
  select exists (
    select from sources s join clients c on c.id = s.client_id join sites i on i.id = s.site_id
    where s.id = source and (c.limits->>'atOnce' is not null or i.limits->>'atOnce' is not null
      or exists (select from depots d where d.at_once is not null and (d.id = (s.rules->'where'->>'depotId')::uuid or s.rules->'where'->'beside' ? d.id::text))))
$$;
create function room_for(source uuid) returns boolean language sql stable security definer set search_path = public as $$
  with wanted as (
    select s.client_id, s.site_id, s.rules->'where' as place, (c.limits->>'atOnce')::int as of_client, (i.limits->>'atOnce')::int as of_site
    from sources s join clients c on c.id = s.client_id join sites i on i.id = s.site_id where s.id = source),
  running as (
    select r.id, r.client_id, s.site_id from runs r join sources s on s.id = r.source_id
    where r.kind = 'backup' and r.state in ('claimed', 'reading', 'closing'))
  select (w.of_client is null or (select count(*) from running where client_id = w.client_id) < w.of_client)
    and (w.of_site is null or (select count(*) from running where site_id = w.site_id) < w.of_site)
    and not exists (select from depots d
      where d.at_once is not null and (d.id = (w.place->>'depotId')::uuid or w.place->'beside' ? d.id::text)
        and (select count(*) from running join run_depots rd on rd.run_id = running.id where rd.depot_id = d.id) >= d.at_once)
  from wanted w
$$;
-- How many runs share the link of a client and of a site now.
create function sharing(client uuid, site uuid) returns table (of_client int, of_site int) language sql stable security definer set search_path = public as $$
  select count(*)::int, count(*) filter (where s.site_id = site)::int from runs r join sources s on s.id = r.source_id
  where r.kind = 'backup' and r.state in ('claimed', 'reading', 'closing') and r.client_id = client
$$;
grant execute on function limited(uuid), room_for(uuid), sharing(uuid, uuid) to deepkeep_app;
