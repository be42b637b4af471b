-- A run may write to several depots. What became of each is noted, so that one that failed is caught up later.

update policies set clauses = jsonb_set(clauses, '{where}',
  '{"beside": [], "atOnce": 2, "carryTo": [], "whenAway": "wait"}'::jsonb || (clauses->'where'));

create table run_depots (
  run_id uuid not null references runs,
  depot_id uuid not null references depots,
  client_id uuid not null references clients,
  -- the order in which they are written
  place int not null,
  -- behind: lacks the point that this run builds on, so it is caught up first
  state text not null check (state in ('writing', 'kept', 'failed', 'behind', 'away', 'caught up')),
  code text,
  message text,
  packs int not null default 0,
  bytes bigint not null default 0,
  primary key (run_id, depot_id)
);
create index run_depots_to_catch_up on run_depots (client_id) where state in ('failed', 'behind', 'away');

alter table run_depots enable row level security;
create policy reading on run_depots for select using (sees(client_id));
create policy adding on run_depots for insert with check (changes(client_id));
create policy changing on run_depots for update using (changes(client_id)) with check (changes(client_id));
grant select, insert, update on run_depots to deepkeep_app;

-- a run makes copies itself now
drop policy adding on copies;
create policy adding on copies for insert with check (changes(client_id));

-- In which depots a run of these rules may write; it waits only while all of them are away.
create function run_depots_of(place jsonb) returns setof uuid language sql immutable rows 4 as $$
  select (place->>'depotId')::uuid
  union all
  select d::uuid from jsonb_array_elements_text(coalesce(place->'beside', '[]') || coalesce(place->'carryTo', '[]')) d
  where place->>'whenAway' = 'others'
$$;
grant execute on function run_depots_of(jsonb) to deepkeep_app;
