-- Statements that were sent by mail, on their day or when somebody asked.
create table statements_sent (
  id bigint generated always as identity primary key,
  client_id uuid not null references clients,
  sent_at timestamptz not null,
  first_day date not null,
  last_day date not null,
  recipients text[] not null
);
create index statements_sent_of_client on statements_sent (client_id, sent_at desc);
alter table statements_sent enable row level security;
create policy reading on statements_sent for select using (sees(client_id));
create policy adding on statements_sent for insert with check (changes(client_id));
create policy changing on statements_sent for update using (changes(client_id)) with check (changes(client_id));
create policy removing on statements_sent for delete using (changes(client_id));
create policy narrowed on statements_sent as restrictive using ((select scope_clients() is null)
  or client_id = any ((select scope_clients())::uuid[]));
grant select, insert, update, delete on statements_sent to deepkeep_app;
