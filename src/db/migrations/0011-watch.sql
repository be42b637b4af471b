-- Evidence of an alarm; a hold with evidence was placed by the program, and stays until a person lifts it.
alter table holds add evidence jsonb;
create index holds_with_evidence on holds (source_id) where lifted_at is null and evidence is not null;
-- a run that ends with an alarm places the hold in the machine's own scope
drop policy adding on holds;
create policy adding on holds for insert with check (changes(client_id));

-- Causes that somebody has set aside in Watch: not forgotten, only not in the way until then.
create table set_asides (
  key text primary key,
  client_id uuid references clients,
  title text not null,
  until timestamptz not null,
  note text not null,
  set_by text not null,
  set_at timestamptz not null
);
alter table set_asides enable row level security;
create policy everything on set_asides using (scope_role() in ('system', 'provider'));
grant select, insert, update, delete on set_asides to deepkeep_app;

-- What one shift leaves for the next.
create table handovers (
  id uuid primary key,
  written_at timestamptz not null,
  written_by text not null,
  text text not null
);
alter table handovers enable row level security;
create policy everything on handovers using (scope_role() in ('system', 'provider'));
grant select, insert on handovers to deepkeep_app;
