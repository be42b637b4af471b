-- Files that a point has and the one after it has not: their last copies. Null while nobody has looked.
alter table points add last_copies int;
create or replace view placed_points with (security_invoker = true) as
  select id, client_id, source_id, run_id, depot_id, moment, root, files, folders, links, bytes, added_bytes, object_bytes,
    dropped_at, drop_reason, purge_after, purged_at, locked_until, damaged_at, last_copies from points
  union all
  select p.id, p.client_id, p.source_id, p.run_id, c.depot_id, p.moment, p.root, p.files, p.folders, p.links, p.bytes, p.added_bytes,
    c.object_bytes, p.dropped_at, p.drop_reason, p.purge_after, c.purged_at, c.locked_until, c.damaged_at, p.last_copies
  from copies c join points p on p.id = c.point_id;
