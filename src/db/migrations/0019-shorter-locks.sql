-- A lock for points to come is shortened with a second person's word alone, once for each word; what is stored keeps its days.
alter table consents add spent_at timestamptz;
create function keep_grant_locks() returns trigger language plpgsql security definer set search_path = public as $$
declare
  word uuid;
begin
  if new.lock_days >= old.lock_days then
    return new;
  end if;
  select id into word from consents
    where kind = 'shorten-lock' and decision = 'agreed' and spent_at is null and client_id = new.client_id
      and request->>'depotId' = new.depot_id::text and (request->>'lockDays')::int = new.lock_days
    order by decided_at desc limit 1 for update;
  if word is null then
    raise exception 'a lock is shortened with a second person''s word alone' using errcode = 'DK001';
  end if;
  update consents set spent_at = decided_at where id = word;
  return new;
end $$;
drop trigger keep_locks on grants;
drop function keep_locks();
create trigger keep_locks before update of lock_days on grants for each row execute function keep_grant_locks();
