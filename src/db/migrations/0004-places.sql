-- Depots of other kinds than a local folder; locks, holds, and what a check found.

alter table depots drop constraint depots_kind_check;
alter table depots add check (kind in ('folder', 'share', 's3'));
-- for a bucket: endpoint, region, bucket and so on; `path` is then what people see, and what must be unique
alter table depots add settings jsonb not null default '{}';
-- the secret access key, sealed with the master key
alter table depots add secret bytea;
alter table depots add check ((kind = 's3') = (secret is not null));

-- days in which nobody drops or alters what was stored; may only grow
alter table grants add lock_days int not null default 0 check (lock_days between 0 and 36500);
alter table points add locked_until timestamptz;

-- something may be left to take away: points were purged, or packs were spared for a run that went on
alter table grants add purge_due boolean not null default false;
-- when a run was last told that the pack's chunks are there: a purge leaves it while such a run goes on
alter table packs add used_at timestamptz;
update packs set used_at = created_at;
alter table packs alter used_at set not null;

-- points that came from a depot have no run here
alter table points alter run_id drop not null;

-- A hold stops dropping and purging of a source's points, or of one point, until it is lifted.
create table holds (
  id uuid primary key,
  client_id uuid not null references clients,
  source_id uuid not null references sources,
  point_id bytea references points,
  reason text not null,
  placed_by text not null,
  placed_at timestamptz not null,
  lifted_by text,
  lifted_at timestamptz,
  check ((lifted_by is null) = (lifted_at is null))
);
create index holds_in_force on holds (source_id) where lifted_at is null;

-- Checks of a client's space in a depot, and the objects that they found damaged.
create table checks (
  id uuid primary key,
  client_id uuid not null references clients,
  depot_id uuid not null references depots,
  depth text not null check (depth in ('objects', 'trees', 'bytes')),
  requested_by text not null,
  requested_at timestamptz not null,
  started_at timestamptz,
  ended_at timestamptz,
  outcome text check (outcome in ('clean', 'damage', 'failed')),
  message text,
  figures jsonb not null default '{}'
);
create index checks_of_depot on checks (depot_id, requested_at desc);
create table damages (
  space_id uuid not null references grants (space_id),
  client_id uuid not null references clients,
  -- pack or point, with its id
  object text not null check (object in ('pack', 'point')),
  object_id bytea not null,
  found_at timestamptz not null,
  detail text not null,
  -- the files of which points it touches, as far as the trees tell
  touches jsonb not null default '[]',
  primary key (space_id, object, object_id)
);
alter table points add damaged_at timestamptz;

do $$
declare
  name text;
begin
  foreach name in array array['holds', 'checks', 'damages']
  loop
    execute format('alter table %I enable row level security', name);
    execute format('create policy reading on %I for select using (sees(client_id))', name);
    execute format('create policy adding on %I for insert with check (scope_role() in (''system'', ''provider''))', name);
    execute format('create policy changing on %I for update using (scope_role() in (''system'', ''provider''))', name);
    execute format('create policy removing on %I for delete using (scope_role() in (''system'', ''provider''))', name);
    execute format('grant select, insert, update on %I to deepkeep_app', name);
  end loop;
end $$;
grant delete on damages to deepkeep_app;

-- A lock never shrinks, whoever asks: the database itself refuses it.
create function keep_locks() returns trigger language plpgsql as $$
begin
  if tg_table_name = 'grants' and new.lock_days < old.lock_days then
    raise exception 'a lock is never shortened' using errcode = 'DK001';
  end if;
  return new;
end $$;
create trigger keep_locks before update of lock_days on grants for each row execute function keep_locks();
create function keep_locked_points() returns trigger language plpgsql as $$
begin
  if old.locked_until is not null and (new.locked_until is null or new.locked_until < old.locked_until) then
    raise exception 'a lock is never shortened' using errcode = 'DK001';
  end if;
  if old.purged_at is null and new.purged_at is not null and old.locked_until > new.purged_at then
    raise exception 'a locked copy is not purged' using errcode = 'DK001';
  end if;
  return new;
end $$;
create trigger keep_locked_points before update on points for each row execute function keep_locked_points();
