-- What a client has bought: how many sources of each kind may be protected.
create table contracts (
  client_id uuid not null references clients,
  kind text not null,
  sources int not null check (sources between 0 and 1000000),
  primary key (client_id, kind)
);

-- How many sources of each kind were protected on each day, whichever depots they are in: compared with the contract.
create table usage_counts (
  -- of the provider's zone
  day date not null,
  client_id uuid not null references clients,
  kind text not null,
  sources int not null,
  primary key (day, client_id, kind)
);
create index usage_counts_of_client on usage_counts (client_id, day);

-- Colour and logo of a client's statement and portal. The logo is a PNG that the console wrote itself.
create table looks (
  client_id uuid primary key references clients,
  colour text check (colour ~ '^#[0-9a-f]{6}$'),
  logo bytea,
  changed_at timestamptz not null
);

do $$
declare
  name text;
begin
  foreach name in array array['contracts', 'usage_counts', 'looks']
  loop
    execute format('alter table %I enable row level security', name);
    execute format('create policy reading on %I for select using (sees(client_id))', name);
    execute format('create policy adding on %I for insert with check (changes(client_id))', name);
    execute format('create policy changing on %I for update using (changes(client_id)) with check (changes(client_id))', name);
    execute format('create policy removing on %I for delete using (changes(client_id))', name);
    execute format('create policy narrowed on %I as restrictive using ((select scope_clients() is null)
      or client_id = any ((select scope_clients())::uuid[]))', name);
  end loop;
end $$;
grant select, insert, update, delete on contracts, usage_counts, looks to deepkeep_app;
