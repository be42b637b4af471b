-- Authorisations that a person has begun at the page of a server, until the browser returns from it.
create table authorisations (
  id uuid primary key,
  client_id uuid not null references clients,
  -- the connection that is authorised again; null for one that is new
  connection_id uuid references connections,
  asked_by uuid not null references people on delete cascade,
  asked_at timestamptz not null,
  -- what is connected, and the secret that the answer has to match; sealed by the master key
  sealed bytea not null
);

alter table authorisations enable row level security;
create policy everything on authorisations using ((select scope_role() in ('system', 'provider')));
create policy narrowed on authorisations as restrictive
  using ((select scope_clients() is null) or client_id = any ((select scope_clients())::uuid[]))
  with check ((select scope_clients() is null) or client_id = any ((select scope_clients())::uuid[]));
grant select, insert, delete on authorisations to deepkeep_app;
