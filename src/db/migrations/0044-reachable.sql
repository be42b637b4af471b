-- Whether there is still a way to a source. Clients' people may know it of what is shared with them, though connections are
-- the provider's.
create function source_reachable(source uuid) returns boolean language sql stable security definer set search_path = public as $$
  select exists (
    select from sources s left join machines m on m.id = s.machine_id left join connections cn on cn.id = s.connection_id
    where s.id = source and s.vanished_at is null and (m.id is not null or cn.id is not null) and m.gone_at is null and cn.gone_at is null)
$$;
