-- Depots that are away by plan: a disk in a drawer, a ship at sea. Runs wait meanwhile.

create table absences (
  id uuid primary key,
  depot_id uuid not null references depots,
  from_at timestamptz not null,
  to_at timestamptz not null check (to_at > from_at),
  note text not null,
  created_by text not null,
  created_at timestamptz not null
);
create index absences_of_depot on absences (depot_id, to_at);
alter table absences enable row level security;
-- no client's data in it; a machine's run must know of it
create policy reading on absences for select using (scope_role() in ('system', 'provider', 'machine'));
create policy adding on absences for insert with check (scope_role() in ('system', 'provider'));
create policy removing on absences for delete using (scope_role() in ('system', 'provider'));
grant select, insert, delete on absences to deepkeep_app;
