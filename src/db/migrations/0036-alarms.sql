-- A source whose files seem to have been encrypted is exposed until somebody dismisses the alarm, whatever its runs say.
alter table source_summaries add column alarm boolean not null default false;

create function note_alarm() returns trigger language plpgsql security definer set search_path = public as $$
begin
  update source_summaries u set alarm = exists (
    select from holds h where h.source_id = u.source_id and h.lifted_at is null and h.evidence is not null)
  where u.source_id = coalesce(new.source_id, old.source_id);
  return null;
end $$;
create trigger holds_alarm after insert or update or delete on holds for each row execute function note_alarm();
update source_summaries u set alarm = true
where exists (select from holds h where h.source_id = u.source_id and h.lifted_at is null and h.evidence is not null);

-- The state of a source, as core/protection/state.ts has it; a test holds the two together.
create function protection_state(newest timestamptz, slips_at timestamptz, exposed_at timestamptz, last_outcome text, paused boolean,
  alarm boolean, at timestamptz)
returns text language sql immutable parallel safe as $$
  select case
    when alarm then 'exposed'
    when paused then 'paused'
    when newest is null then 'never kept'
    when last_outcome = 'failed' or at > exposed_at then 'exposed'
    when last_outcome = 'caution' or at > slips_at then 'slipping'
    else 'kept' end
$$;
drop function protection_state(timestamptz, timestamptz, timestamptz, text, boolean, timestamptz);
