-- Sources that are reached over the network: the runner reads them, with credentials sealed by the master key.

create table connections (
  id uuid primary key,
  client_id uuid not null references clients,
  site_id uuid not null references sites,
  kind text not null check (kind in ('mail')),
  name text not null,
  address text not null,
  settings jsonb not null,
  secret bytea not null,
  created_at timestamptz not null,
  checked_at timestamptz,
  check_code text,
  check_message text,
  gone_at timestamptz,
  unique (client_id, name)
);

alter table sources drop constraint sources_kind_check;
alter table sources add check (kind in ('files', 'mail'));
alter table sources add connection_id uuid references connections;
-- what the far end calls it, and when it was first missed there
alter table sources add remote_id text;
alter table sources add vanished_at timestamptz;
create unique index sources_of_connection on sources (connection_id, remote_id) where connection_id is not null;

-- a run without a machine is the runner's
alter table runs alter machine_id drop not null;
create index runs_of_runner on runs (due_at) where machine_id is null and state = 'due';

alter table connections enable row level security;
create policy reading on connections for select using (scope_role() in ('system', 'provider'));
create policy adding on connections for insert with check (scope_role() in ('system', 'provider'));
create policy changing on connections for update using (scope_role() in ('system', 'provider'));
grant select, insert, update on connections to deepkeep_app;
