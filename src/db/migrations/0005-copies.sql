-- Further places of a recovery point. The first one is in `points` itself; these were carried there by the runner.

create table copies (
  point_id bytea not null references points,
  depot_id uuid not null references depots,
  client_id uuid not null references clients,
  object_bytes bigint not null,
  carried_at timestamptz not null,
  locked_until timestamptz,
  damaged_at timestamptz,
  purged_at timestamptz,
  primary key (point_id, depot_id)
);
create index copies_of_depot on copies (depot_id, client_id) where purged_at is null;

alter table copies enable row level security;
create policy reading on copies for select using (sees(client_id));
create policy adding on copies for insert with check (scope_role() in ('system', 'provider'));
create policy changing on copies for update using (scope_role() in ('system', 'provider'));
grant select, insert, update on copies to deepkeep_app;

-- Every place of every point, as a point in that place.
create view placed_points with (security_invoker = true) as
  select id, client_id, source_id, run_id, depot_id, moment, root, files, folders, links, bytes, added_bytes, object_bytes,
    dropped_at, drop_reason, purge_after, purged_at, locked_until, damaged_at from points
  union all
  select p.id, p.client_id, p.source_id, p.run_id, c.depot_id, p.moment, p.root, p.files, p.folders, p.links, p.bytes, p.added_bytes,
    c.object_bytes, p.dropped_at, p.drop_reason, p.purge_after, c.purged_at, c.locked_until, c.damaged_at
  from copies c join points p on p.id = c.point_id;
grant select on placed_points to deepkeep_app;
