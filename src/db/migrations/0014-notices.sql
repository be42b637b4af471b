-- Who hears of what. A run that ends as a policy's Notices say leaves an event for each of its recipients; events with
-- one cause become one message, and messages are sent with retries.
create table webhooks (
  id uuid primary key,
  name text not null unique,
  url text not null,
  -- the signing secret, sealed with the master key
  secret bytea not null,
  created_at timestamptz not null,
  created_by text not null,
  removed_at timestamptz
);
alter table webhooks enable row level security;
create policy everything on webhooks using (scope_role() in ('system', 'provider'));
grant select, insert, update on webhooks to deepkeep_app;

-- How mail leaves: one row at most.
create table mail_settings (
  one boolean primary key default true check (one),
  host text not null,
  port int not null check (port between 1 and 65535),
  -- none, or TLS from the beginning, or STARTTLS
  security text not null check (security in ('none', 'tls', 'starttls')),
  username text,
  password bytea,
  sender text not null,
  changed_at timestamptz not null,
  changed_by text not null
);
alter table mail_settings enable row level security;
create policy everything on mail_settings using (scope_role() in ('system', 'provider'));
grant select, insert, update, delete on mail_settings to deepkeep_app;

create table notice_events (
  id bigint generated always as identity primary key,
  client_id uuid not null references clients,
  source_id uuid not null references sources,
  run_id uuid not null references runs,
  -- mail:address or webhook:id
  recipient text not null,
  cause text not null,
  outcome text not null,
  code text,
  at timestamptz not null,
  -- not before: a digest's time, or the end of quiet hours
  due_at timestamptz not null,
  -- told with all others of its recipient in one message
  digest boolean not null,
  message_id uuid
);
create index notice_events_due on notice_events (due_at) where message_id is null;
create index notice_events_told on notice_events (recipient, cause, at desc) where message_id is not null;
alter table notice_events enable row level security;
create policy reading on notice_events for select using (scope_role() in ('system', 'provider'));
create policy adding on notice_events for insert with check (changes(client_id));
create policy changing on notice_events for update using (scope_role() = 'system');
grant select, insert, update on notice_events to deepkeep_app;

create table messages (
  id uuid primary key,
  client_id uuid references clients,
  recipient text not null,
  subject text not null,
  -- mail: text; webhook: the JSON that is posted
  body text not null,
  attachments jsonb not null default '[]',
  made_at timestamptz not null,
  attempts int not null default 0,
  next_try_at timestamptz,
  sent_at timestamptz,
  given_up_at timestamptz,
  error text
);
create index messages_to_send on messages (next_try_at) where next_try_at is not null;
create index messages_made on messages (made_at desc);
alter table messages enable row level security;
create policy everything on messages using (scope_role() in ('system', 'provider'));
grant select, insert, update on messages to deepkeep_app;
