-- A client's key is held in escrow, sealed with the master key, or wrapped by a passphrase that nobody here knows.
alter table client_keys add holding text not null default 'escrow' check (holding in ('escrow', 'passphrase'));
-- Argon2id's salt and costs, for a key under a passphrase
alter table client_keys add wrapping jsonb;
-- a hash of the group that is asked for, until it is confirmed: the console cannot open the key to compare
alter table client_keys add asked_hash bytea;
-- tells keys apart without opening them
alter table client_keys add fingerprint text;
alter table client_keys add destroyed_at timestamptz;
alter table client_keys alter sealed drop not null;
alter table client_keys add check ((destroyed_at is null) = (sealed is not null));
alter table client_keys add check ((holding = 'passphrase') = (wrapping is not null) or destroyed_at is not null);

-- The key of a client without escrow, sealed to each of its machines: they run by themselves, and the console cannot read it.
create table machine_keys (
  machine_id uuid primary key references machines,
  client_id uuid not null references clients,
  sealed bytea not null,
  created_at timestamptz not null
);
alter table machine_keys enable row level security;
create policy reading on machine_keys for select using (changes(client_id));
create policy adding on machine_keys for insert with check (scope_role() in ('system', 'provider'));
create policy changing on machine_keys for update using (scope_role() in ('system', 'provider'));
create policy removing on machine_keys for delete using (scope_role() in ('system', 'provider'));
grant select, insert, update, delete on machine_keys to deepkeep_app;

-- Runners that are up: each has a key pair in its memory alone, to which a passphrase's session lends a client's key.
create table runners (
  id uuid primary key,
  public_key bytea not null,
  seen_at timestamptz not null
);
create table lent_keys (
  runner_id uuid not null references runners on delete cascade,
  client_id uuid not null references clients,
  session_id bytea not null,
  sealed bytea not null,
  until timestamptz not null,
  primary key (runner_id, client_id, session_id)
);
alter table runners enable row level security;
alter table lent_keys enable row level security;
create policy everything on runners using (scope_role() = 'system');
create policy everything on lent_keys using (scope_role() = 'system');
grant select, insert, update, delete on runners, lent_keys to deepkeep_app;

-- What cannot be undone is asked for by one person and agreed to by another.
create table consents (
  id uuid primary key,
  client_id uuid not null references clients,
  kind text not null,
  -- what it is about, for people
  subject text not null,
  request jsonb not null,
  reason text not null,
  asked_by uuid not null references people,
  asked_at timestamptz not null,
  expires_at timestamptz not null,
  decision text check (decision in ('agreed', 'declined', 'withdrawn')),
  decided_by uuid references people,
  decided_at timestamptz,
  check ((decision is null) = (decided_by is null) and (decision is null) = (decided_at is null)),
  check (decision is distinct from 'agreed' or decided_by <> asked_by)
);
create index consents_open on consents (client_id) where decision is null;
alter table consents enable row level security;
create policy reading on consents for select using (scope_role() in ('system', 'provider'));
create policy adding on consents for insert with check (scope_role() in ('system', 'provider'));
create policy changing on consents for update using (scope_role() in ('system', 'provider'));
grant select, insert, update on consents to deepkeep_app;

-- What stays when a key is gone.
create table certificates (
  id uuid primary key,
  client_id uuid not null references clients,
  made_at timestamptz not null,
  body jsonb not null
);
alter table certificates enable row level security;
create policy reading on certificates for select using (sees(client_id));
create policy adding on certificates for insert with check (scope_role() in ('system', 'provider'));
grant select, insert on certificates to deepkeep_app;
