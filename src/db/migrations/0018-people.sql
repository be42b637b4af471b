-- Who may do what. Roles of the provider: owner, technician (of all clients, or of some), reader. Of a client: manager, person.
alter table people drop constraint people_role_check;
alter table people drop constraint people_check;
update people set role = 'manager' where role = 'portal';
alter table people add check (role in ('owner', 'technician', 'reader', 'manager', 'person'));
alter table people add check ((role in ('manager', 'person')) = (client_id is not null));
-- invited people have none until they take the invitation up
alter table people alter password_hash drop not null;
-- the second factor (RFC 6238): its seed sealed with the master key; counts only once a code was given; a step is used once
alter table people add factor_seed bytea;
alter table people add factor_confirmed_at timestamptz;
alter table people add factor_step bigint;
alter table people add closed_at timestamptz;
alter table people add last_seen_at timestamptz;
-- an address can be given to another person once an account is closed
alter table people drop constraint people_email_key;
create unique index people_by_email on people (email) where closed_at is null;
create policy changing on people for update using ((select scope_role() in ('system', 'provider')));

-- Of which clients a technician or reader is; without rows: of all.
create table people_clients (
  person_id uuid not null references people on delete cascade,
  client_id uuid not null references clients,
  primary key (person_id, client_id)
);
-- Codes for the day the second factor is lost, each good once, held as SHA-256.
create table recovery_codes (
  person_id uuid not null references people on delete cascade,
  id bytea not null,
  used_at timestamptz,
  primary key (person_id, id)
);
create table invitations (
  id bytea primary key,
  person_id uuid not null references people on delete cascade,
  made_by text not null,
  made_at timestamptz not null,
  expires_at timestamptz not null
);
create index invitations_of_person on invitations (person_id);

alter table sessions add agent text not null default '';
alter table sessions add seen_at timestamptz;
update sessions set seen_at = created_at;
alter table sessions alter seen_at set not null;
-- for lists: the secret's hash stays where it is
alter table sessions add public_id uuid not null unique default gen_random_uuid();
alter table api_tokens add public_id uuid not null unique default gen_random_uuid();
alter table api_tokens add reach text not null default 'change' check (reach in ('read', 'change'));
alter table api_tokens add used_at timestamptz;
-- browsers that a person has signed in from: a new one is told by mail
create table known_agents (
  person_id uuid not null references people on delete cascade,
  id bytea not null,
  first_at timestamptz not null,
  primary key (person_id, id)
);
-- roles that must have a second factor
alter table provider add factor_roles text[] not null default '{}';

-- What a technician has given to one of a client's people: a source, or what lies below a path of it.
create table gifts (
  id uuid primary key,
  client_id uuid not null references clients,
  person_id uuid not null references people,
  source_id uuid not null references sources,
  -- bytes of the path; '/' is all of it
  path bytea not null,
  -- a restore to the machine waits until a manager of the client agrees
  ask_first boolean not null default false,
  given_by text not null,
  given_at timestamptz not null,
  until timestamptz,
  ended_at timestamptz
);
create unique index gifts_once on gifts (person_id, source_id, path) where ended_at is null;
create index gifts_of_source on gifts (source_id) where ended_at is null;

-- Restores that wait for a manager of the client.
create table asks (
  id uuid primary key,
  client_id uuid not null references clients,
  person_id uuid not null references people,
  source_id uuid not null references sources,
  request jsonb not null,
  files bigint not null,
  bytes bigint not null,
  asked_at timestamptz not null,
  expires_at timestamptz not null,
  decision text check (decision in ('agreed', 'declined')),
  decided_by text,
  decided_at timestamptz,
  run_id uuid references runs,
  check ((decision is null) = (decided_by is null))
);
create index asks_open on asks (client_id) where decision is null;

-- A restore that one of a client's people asked for.
alter table runs add person_id uuid references people;
create index runs_of_person on runs (person_id, due_at desc) where person_id is not null;

-- Who asks, further: the person, and the clients that a technician is limited to (null: all).
create function scope_person() returns uuid language sql stable as
  $$ select nullif(current_setting('deepkeep.person', true), '')::uuid $$;
create function scope_clients() returns uuid[] language sql stable as
  $$ select nullif(current_setting('deepkeep.clients', true), '')::uuid[] $$;
grant execute on function scope_person(), scope_clients() to deepkeep_app;

alter table people_clients enable row level security;
create policy reading on people_clients for select using ((select scope_role() in ('system', 'provider')));
create policy adding on people_clients for insert with check ((select scope_role() in ('system', 'provider')));
create policy removing on people_clients for delete using ((select scope_role() in ('system', 'provider')));
alter table recovery_codes enable row level security;
create policy everything on recovery_codes using ((select scope_role() = 'system'));
alter table invitations enable row level security;
create policy everything on invitations using ((select scope_role() = 'system'));
alter table known_agents enable row level security;
create policy everything on known_agents using ((select scope_role() = 'system'));
grant select, insert, update, delete on people_clients, recovery_codes, invitations, known_agents to deepkeep_app;

alter table gifts enable row level security;
create policy reading on gifts for select using ((select scope_role() in ('system', 'provider'))
  or ((select scope_role() = 'client') and client_id = (select scope_client()))
  or ((select scope_role() = 'person') and person_id = (select scope_person())));
create policy adding on gifts for insert with check ((select scope_role() in ('system', 'provider')));
create policy changing on gifts for update using ((select scope_role() in ('system', 'provider')));
grant select, insert, update on gifts to deepkeep_app;

alter table asks enable row level security;
create policy reading on asks for select using ((select scope_role() in ('system', 'provider'))
  or ((select scope_role() = 'client') and client_id = (select scope_client()))
  or ((select scope_role() = 'person') and person_id = (select scope_person())));
create policy adding on asks for insert with check ((select scope_role() in ('client', 'person'))
  and client_id = (select scope_client()) and person_id = (select scope_person()) and decision is null);
create policy changing on asks for update using ((select scope_role() = 'client') and client_id = (select scope_client()) and decision is null)
  with check ((select scope_role() = 'client') and client_id = (select scope_client()));
grant select, insert, update on asks to deepkeep_app;

-- One of a client's people who is no manager (scope 'person') sees themself, their client's name and what was given.
create function given_sources() returns setof uuid language sql stable as
  $$ select source_id from gifts where person_id = scope_person() and ended_at is null $$;
grant execute on function given_sources() to deepkeep_app;
create policy themself on people for select using ((select scope_role() = 'person') and id = (select scope_person()));
create policy their_client on clients for select using ((select scope_role() = 'person') and id = (select scope_client()));
create policy given on sources for select using ((select scope_role() = 'person') and client_id = (select scope_client())
  and id in (select given_sources()));
create policy given on points for select using ((select scope_role() = 'person') and client_id = (select scope_client())
  and source_id in (select given_sources()));
create policy given on machines for select using ((select scope_role() = 'person') and client_id = (select scope_client())
  and exists (select from sources s where s.machine_id = machines.id and s.id in (select given_sources())));
create policy their_restores on runs for select using ((select scope_role() = 'person') and person_id = (select scope_person()));
create policy their_key on client_keys for select using ((select scope_role() = 'person') and client_id = (select scope_client()));
-- and may ask for a restore of what was given, in their own name; stopping it is theirs too
create policy restoring on runs for insert with check ((select scope_role() in ('client', 'person')) and kind = 'restore'
  and client_id = (select scope_client())
  and exists (select from gifts g where g.person_id = runs.person_id and g.source_id = runs.source_id and g.ended_at is null)
  and (person_id = (select scope_person()) or (select scope_role() = 'client')));
create policy stopping on runs for update using ((select scope_role() in ('client', 'person')) and kind = 'restore'
  and person_id = (select scope_person()))
  with check ((select scope_role() in ('client', 'person')) and kind = 'restore' and person_id = (select scope_person()));
create policy own_archives on archives for insert with check ((select scope_role() in ('client', 'person'))
  and client_id = (select scope_client()) and person_id = (select scope_person()));
create policy reading_own on archives for select using ((select scope_role() = 'person') and person_id = (select scope_person()));

-- A technician of some clients sees and changes those alone, whatever else a table allows; what is the provider's own
-- (its rules, its depots) they read and do not change.
do $$
declare
  name text;
  theirs text := '((select scope_clients() is null) or client_id = any ((select scope_clients())::uuid[]))';
begin
  for name in select c.relname from pg_class c join pg_attribute a on a.attrelid = c.oid and a.attname = 'client_id'
    where c.relnamespace = 'public'::regnamespace and c.relkind = 'r' and c.relrowsecurity loop
    if name in ('policies', 'policy_revisions', 'people') then
      execute format('create policy narrowed on %I as restrictive for select using (client_id is null or %s)', name, theirs);
    else
      execute format('create policy narrowed on %I as restrictive for select using (%s)', name, theirs);
    end if;
    execute format('create policy narrowed_adding on %I as restrictive for insert with check (%s)', name, theirs);
    execute format('create policy narrowed_changing on %I as restrictive for update using (%s)', name, theirs);
    execute format('create policy narrowed_removing on %I as restrictive for delete using (%s)', name, theirs);
  end loop;
  foreach name in array array['depots', 'absences', 'webhooks', 'mail_settings'] loop
    execute format('create policy narrowed_adding on %I as restrictive for insert with check ((select scope_clients() is null))', name);
    execute format('create policy narrowed_changing on %I as restrictive for update using ((select scope_clients() is null))', name);
    execute format('create policy narrowed_removing on %I as restrictive for delete using ((select scope_clients() is null))', name);
  end loop;
end $$;
create policy narrowed on clients as restrictive for select using ((select scope_clients() is null) or id = any ((select scope_clients())::uuid[]));
create policy narrowed_changing on clients as restrictive for update using ((select scope_clients() is null) or id = any ((select scope_clients())::uuid[]));
create policy narrowed_adding on clients as restrictive for insert with check ((select scope_clients() is null));
create policy narrowed on depots as restrictive for select using ((select scope_clients() is null)
  or exists (select from grants where grants.depot_id = depots.id));
