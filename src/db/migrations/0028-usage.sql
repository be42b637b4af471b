-- What each client used on each day, for invoices: written down on the day, for purges take it away afterwards.
create table usage_days (
  -- of the provider's zone
  day date not null,
  client_id uuid not null references clients,
  depot_id uuid not null references depots,
  kind text not null,
  sources int not null,
  -- what the newest points there hold
  protected_bytes bigint not null,
  -- the client's share of the depot; that of a kind by what its points added
  stored_bytes bigint not null,
  primary key (day, client_id, depot_id, kind)
);
create index usage_of_client on usage_days (client_id, day);
alter table usage_days enable row level security;
create policy reading on usage_days for select using ((select scope_role() in ('system', 'provider'))
  or ((select scope_role() = 'client') and client_id = (select scope_client())));
create policy writing on usage_days for all using ((select scope_role() = 'system'));
create policy narrowed on usage_days as restrictive using ((select scope_clients() is null) or client_id = any ((select scope_clients())::uuid[]));
grant select, insert, update, delete on usage_days to deepkeep_app;
