-- Watch counts what is not kept one by one, and takes the rest for kept: those are found without looking at the others.
create index summaries_not_well on source_summaries (client_id) include (newest_point, slips_at, exposed_at, last_outcome, paused, gone)
  where paused or gone or newest_point is null or last_outcome in ('failed', 'caution');

-- What Watch tells of a source stands whole in its summary: a source's own row is wide, and whoever asks for it is asked for more.
alter table source_summaries add name text, add machine_id uuid, add connection_id uuid;
create or replace function describe_sources(ids uuid[]) returns void language sql security definer set search_path = public as $$
  update source_summaries u set name = s.name, machine_id = s.machine_id, connection_id = s.connection_id,
    site_id = s.site_id, policy_id = s.policy_id, depot_id = s.depot_id, target_hours = s.target_hours, paused = s.paused,
    gone = m.gone_at is not null or cn.gone_at is not null or s.vanished_at is not null or (s.machine_id is null and s.connection_id is null)
  from sources s left join machines m on m.id = s.machine_id left join connections cn on cn.id = s.connection_id
  where u.source_id = s.id and s.id = any(ids)
$$;
drop trigger sources_described on sources;
create trigger sources_described after update of name, rules, paused, vanished_at, machine_id, connection_id, site_id, policy_id on sources for each row
  when ((old.name, old.target_hours, old.depot_id, old.paused, old.vanished_at, old.machine_id, old.connection_id, old.site_id, old.policy_id)
    is distinct from (new.name, new.target_hours, new.depot_id, new.paused, new.vanished_at, new.machine_id, new.connection_id, new.site_id, new.policy_id))
  execute function describe_changed();
select describe_sources(array(select id from sources));
create index summaries_of_depot on source_summaries (depot_id);
create index summaries_of_machine on source_summaries (machine_id);
