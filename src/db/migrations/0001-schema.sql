-- Tables of the console. Times are always handed in by the program, never now(): a simulated clock must hold everywhere.
-- Everything with a client carries client_id; 0002 puts row-level security on it.

create table provider (
  only_one boolean primary key default true check (only_one),
  name text not null,
  zone text not null
);

create table clients (
  id uuid primary key,
  slug text not null unique check (slug ~ '^[a-z0-9][a-z0-9-]*$'),
  name text not null,
  zone text not null,
  region text not null,
  contact_name text not null,
  contact_email text not null,
  created_at timestamptz not null
);

create table sites (
  id uuid primary key,
  client_id uuid not null references clients,
  slug text not null,
  name text not null,
  unique (client_id, slug)
);

create table people (
  id uuid primary key,
  client_id uuid references clients,
  email text not null unique check (email = lower(email)),
  name text not null,
  role text not null check (role in ('owner', 'technician', 'portal')),
  password_hash text not null,
  created_at timestamptz not null,
  check ((role = 'portal') = (client_id is not null))
);

-- Sessions and tokens are held by the SHA-256 of their secret.
create table sessions (
  id bytea primary key,
  person_id uuid not null references people on delete cascade,
  created_at timestamptz not null,
  expires_at timestamptz not null,
  address text not null
);
create index sessions_of_person on sessions (person_id);

create table api_tokens (
  id bytea primary key,
  person_id uuid not null references people on delete cascade,
  name text not null,
  created_at timestamptz not null,
  expires_at timestamptz not null
);

create table client_keys (
  client_id uuid primary key references clients,
  sealed bytea not null,
  created_at timestamptz not null,
  confirmed_at timestamptz,
  asked_group int not null check (asked_group between 0 and 12)
);

create table depots (
  id uuid primary key,
  name text not null unique,
  kind text not null check (kind in ('folder')),
  path text not null unique,
  region text not null,
  capacity_bytes bigint check (capacity_bytes > 0),
  created_at timestamptz not null
);

create table grants (
  depot_id uuid not null references depots,
  client_id uuid not null references clients,
  space_id uuid not null unique,
  quota_bytes bigint not null check (quota_bytes > 0),
  used_bytes bigint not null default 0,
  created_at timestamptz not null,
  primary key (depot_id, client_id)
);
create index grants_of_client on grants (client_id);

create table enrolment_codes (
  id bytea primary key,
  client_id uuid not null references clients,
  site_id uuid not null references sites,
  expires_at timestamptz not null,
  uses_left int not null check (uses_left >= 0),
  created_by uuid references people,
  created_at timestamptz not null
);

create table machines (
  id uuid primary key,
  client_id uuid not null references clients,
  site_id uuid not null references sites,
  name text not null,
  token_hash bytea not null unique,
  public_key bytea not null,
  system jsonb not null default '{}',
  enrolled_at timestamptz not null,
  seen_at timestamptz,
  gone_at timestamptz
);
create index machines_of_client on machines (client_id);

create table policies (
  id uuid primary key,
  client_id uuid not null references clients,
  name text not null,
  clauses jsonb not null,
  revision int not null default 1,
  changed_at timestamptz not null,
  changed_by text not null,
  unique (client_id, name)
);

create table policy_revisions (
  policy_id uuid not null references policies,
  client_id uuid not null references clients,
  revision int not null,
  clauses jsonb not null,
  changed_at timestamptz not null,
  changed_by text not null,
  primary key (policy_id, revision)
);

create table sources (
  id uuid primary key,
  client_id uuid not null references clients,
  site_id uuid not null references sites,
  machine_id uuid references machines,
  kind text not null check (kind in ('files')),
  name text not null,
  policy_id uuid references policies,
  paused boolean not null default false,
  next_due_at timestamptz,
  last_due_at timestamptz,
  created_at timestamptz not null,
  unique (client_id, name)
);
create index sources_of_machine on sources (machine_id);
create index sources_due on sources (next_due_at) where next_due_at is not null;

create table runs (
  id uuid primary key,
  client_id uuid not null references clients,
  source_id uuid not null references sources,
  machine_id uuid not null references machines,
  kind text not null check (kind in ('backup', 'restore')),
  cause text not null check (cause in ('schedule', 'person')),
  requested_by text,
  due_at timestamptz not null,
  state text not null default 'due' check (state in ('due', 'claimed', 'reading', 'closing', 'ended')),
  outcome text check (outcome in ('clean', 'caution', 'failed', 'stopped', 'missed')),
  code text,
  message text,
  attempt int not null default 0,
  lease_until timestamptz,
  started_at timestamptz,
  ended_at timestamptz,
  stop_requested_at timestamptz,
  request jsonb not null default '{}',
  progress jsonb not null default '{}',
  figures jsonb not null default '{}',
  check ((state = 'ended') = (outcome is not null)),
  check ((state = 'ended') = (ended_at is not null))
);
create index runs_open on runs (machine_id, due_at) where state <> 'ended';
create index runs_of_source on runs (source_id, due_at desc);
create index runs_of_client on runs (client_id, due_at desc);
create index runs_by_due on runs (due_at desc);
create unique index one_run_per_source on runs (source_id) where kind = 'backup' and state in ('claimed', 'reading', 'closing');

create table run_log (
  id bigint generated always as identity primary key,
  run_id uuid not null references runs,
  client_id uuid not null references clients,
  at timestamptz not null,
  level text not null check (level in ('info', 'caution', 'error')),
  code text,
  path text,
  message text not null
);
create index run_log_of_run on run_log (run_id, id);

create table points (
  id bytea primary key check (length(id) = 16),
  client_id uuid not null references clients,
  source_id uuid not null references sources,
  run_id uuid not null references runs,
  depot_id uuid not null references depots,
  moment timestamptz not null,
  root bytea not null,
  files bigint not null,
  folders bigint not null,
  links bigint not null,
  bytes bigint not null,
  added_bytes bigint not null,
  object_bytes bigint not null,
  dropped_at timestamptz,
  drop_reason text,
  purge_after timestamptz,
  purged_at timestamptz
);
create index points_of_source on points (source_id, moment desc) where purged_at is null;
create index points_of_run on points (run_id);

create table packs (
  space_id uuid not null references grants (space_id),
  id bytea not null check (length(id) = 16),
  client_id uuid not null references clients,
  size bigint not null,
  created_at timestamptz not null,
  primary key (space_id, id)
);

create table chunks (
  space_id uuid not null,
  id bytea not null,
  pack_id bytea not null,
  client_id uuid not null references clients,
  primary key (space_id, id),
  foreign key (space_id, pack_id) references packs on delete cascade
);
create index chunks_of_pack on chunks (space_id, pack_id);

create table trail (
  id bigint generated always as identity primary key,
  at timestamptz not null,
  client_id uuid references clients,
  actor text not null,
  address text not null,
  action text not null,
  subject text not null,
  details jsonb not null,
  previous bytea not null,
  hash bytea not null
);
create index trail_of_client on trail (client_id, id desc);

-- Answers to creating requests that carried an Idempotency-Key, so that a repeated one creates nothing.
create table idempotency_keys (
  person_id uuid not null references people on delete cascade,
  key text not null,
  request_hash bytea not null,
  created_at timestamptz not null,
  status int,
  body jsonb,
  primary key (person_id, key)
);

-- A basket that somebody asked to download, until it is fetched or an hour has passed.
create table archives (
  id uuid primary key,
  client_id uuid not null references clients,
  person_id uuid not null references people on delete cascade,
  request jsonb not null,
  created_at timestamptz not null
);
