-- What goes with the statements: what people wrote to an exception, whom they are sent to and when, and links that open
-- one without an account.
create table statement_words (
  id uuid primary key,
  client_id uuid not null references clients,
  -- how runs ended and why: exceptionKey of core/statement
  about text not null,
  -- the first day of the exception that it was written to
  day date not null,
  side text not null check (side in ('provider', 'client')),
  by text not null,
  at timestamptz not null,
  text text not null,
  taken_back_at timestamptz
);
create index statement_words_of_client on statement_words (client_id, day) where taken_back_at is null;

create table statement_schedules (
  client_id uuid primary key references clients,
  every text not null check (every in ('week', 'month')),
  -- a weekday, Monday is 1; or a day of the month
  on_day int not null,
  -- HH:MM in the client's zone
  at_time text not null,
  recipients text[] not null check (cardinality(recipients) > 0),
  paper text not null check (paper in ('a4', 'letter')),
  next_at timestamptz not null,
  set_by text not null,
  set_at timestamptz not null,
  check (on_day between 1 and case every when 'week' then 7 else 28 end)
);
create index statement_schedules_due on statement_schedules (next_at);

create table statement_links (
  id uuid primary key,
  -- SHA-256 of what stands in the address
  secret_hash bytea not null unique,
  client_id uuid not null references clients,
  first_day date not null,
  last_day date not null,
  made_by text not null,
  made_at timestamptz not null,
  expires_at timestamptz not null,
  ended_at timestamptz,
  opened int not null default 0,
  opened_at timestamptz
);
create index statement_links_of_client on statement_links (client_id, made_at desc);

alter table statement_words enable row level security;
create policy reading on statement_words for select using ((select scope_role() in ('system', 'provider'))
  or ((select scope_role() = 'client') and client_id = (select scope_client())));
create policy adding on statement_words for insert with check ((side = 'provider' and (select scope_role() = 'provider'))
  or (side = 'client' and (select scope_role() = 'client') and client_id = (select scope_client())));
create policy changing on statement_words for update using ((side = 'provider' and (select scope_role() = 'provider'))
  or (side = 'client' and (select scope_role() = 'client') and client_id = (select scope_client())));
alter table statement_schedules enable row level security;
create policy everything on statement_schedules using ((select scope_role() in ('system', 'provider')));
alter table statement_links enable row level security;
create policy everything on statement_links using ((select scope_role() in ('system', 'provider')));
grant select, insert on statement_words to deepkeep_app;
-- what was written stays as it was; it can be taken back
grant update (taken_back_at) on statement_words to deepkeep_app;
grant select, insert, update, delete on statement_schedules to deepkeep_app;
grant select, insert on statement_links to deepkeep_app;
grant update (ended_at, opened, opened_at) on statement_links to deepkeep_app;

-- a technician of some clients sees and changes those alone
do $$
declare
  name text;
  theirs text := '((select scope_clients() is null) or client_id = any ((select scope_clients())::uuid[]))';
begin
  foreach name in array array['statement_words', 'statement_schedules', 'statement_links'] loop
    execute format('create policy narrowed on %I as restrictive using (%s) with check (%s)', name, theirs, theirs);
  end loop;
end $$;
