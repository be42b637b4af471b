-- Who writes into a space beside its runs, and which objects are being written or removed there. A purge frees nothing that
-- a registered writer may count on, and a sweep removes no object that somebody is writing.

-- A carry, a mend, a purge, or a check that confirms what it found. It holds an advisory lock of its id as long as its process lives.
create table writers (
  id uuid primary key,
  client_id uuid not null references clients,
  space_id uuid not null references grants (space_id),
  kind text not null check (kind in ('carry', 'mend', 'purge', 'check')),
  started_at timestamptz not null
);
create index writers_of_space on writers (space_id);
-- one purge of a space at a time, and none beside a check that confirms what it found
create unique index one_purge_per_space on writers (space_id) where kind in ('purge', 'check');

-- An object that no index row names yet (writing) or any more (removing). One row decides between a writer and a sweep.
create table pending_objects (
  space_id uuid not null references grants (space_id),
  object text not null check (object in ('pack', 'point')),
  id bytea not null check (length(id) = 16),
  client_id uuid not null references clients,
  state text not null check (state in ('writing', 'removing')),
  run_id uuid references runs,
  writer_id uuid,
  since timestamptz not null,
  primary key (space_id, object, id),
  check ((run_id is null) <> (writer_id is null))
);

do $$
declare
  name text;
begin
  foreach name in array array['writers', 'pending_objects']
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
grant select, insert, update, delete on writers, pending_objects to deepkeep_app;
