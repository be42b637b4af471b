-- What Load groups sources by, and what Depots sums up, without reading whole rows.
alter table sources add load_key text generated always as (md5((rules->'when')::text || (rules->'where')::text)) stored,
  add own_when boolean generated always as (origins->'when'->>'level' = 'group') stored;
create index sources_of_load on sources (policy_id, load_key, own_when, client_id, site_id, id)
  where rules is not null and not paused and next_due_at is not null;
create index points_of_depot on points (depot_id, moment) include (client_id, added_bytes, bytes, purged_at);
