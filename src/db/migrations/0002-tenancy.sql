-- Tenancy in the database itself. The application's role neither owns the tables nor may bypass this. A transaction sets
-- deepkeep.role (system, provider, client, machine) and deepkeep.client; with neither set, nothing is seen.

create function scope_role() returns text language sql stable as
  $$ select coalesce(current_setting('deepkeep.role', true), '') $$;
create function scope_client() returns uuid language sql stable as
  $$ select nullif(current_setting('deepkeep.client', true), '')::uuid $$;

create function sees(client uuid) returns boolean language sql stable as
  $$ select scope_role() in ('system', 'provider') or (scope_role() in ('client', 'machine') and client = scope_client()) $$;
-- a client's people read; what they may change goes through functions of its own
create function changes(client uuid) returns boolean language sql stable as
  $$ select scope_role() in ('system', 'provider') or (scope_role() = 'machine' and client = scope_client()) $$;

do $$
declare
  name text;
begin
  foreach name in array array['sites', 'client_keys', 'grants', 'enrolment_codes', 'machines', 'policies',
    'policy_revisions', 'sources', 'runs', 'run_log', 'points', 'packs', 'chunks', 'archives']
  loop
    execute format('alter table %I enable row level security', name);
    execute format('create policy reading on %I for select using (sees(client_id))', name);
    execute format('create policy adding on %I for insert with check (changes(client_id))', name);
    execute format('create policy changing on %I for update using (changes(client_id)) with check (changes(client_id))', name);
    execute format('create policy removing on %I for delete using (scope_role() in (''system'', ''provider''))', name);
  end loop;
end $$;

alter table clients enable row level security;
create policy reading on clients for select using (sees(id));
create policy adding on clients for insert with check (scope_role() in ('system', 'provider'));
create policy changing on clients for update using (scope_role() in ('system', 'provider'));

alter table people enable row level security;
create policy reading on people for select using (scope_role() in ('system', 'provider') or (scope_role() = 'client' and client_id = scope_client()));
create policy adding on people for insert with check (scope_role() in ('system', 'provider'));

alter table sessions enable row level security;
create policy everything on sessions using (scope_role() = 'system');
alter table api_tokens enable row level security;
create policy everything on api_tokens using (scope_role() = 'system');

alter table idempotency_keys enable row level security;
create policy everything on idempotency_keys using (scope_role() = 'system');

alter table depots enable row level security;
create policy reading on depots for select using (
  scope_role() in ('system', 'provider') or exists (select from grants where grants.depot_id = depots.id));
create policy adding on depots for insert with check (scope_role() in ('system', 'provider'));
create policy changing on depots for update using (scope_role() in ('system', 'provider'));

alter table trail enable row level security;
create policy reading on trail for select using (
  scope_role() in ('system', 'provider') or (scope_role() = 'client' and client_id = scope_client()));

grant select, insert, update, delete on all tables in schema public to deepkeep_app;
grant usage on all sequences in schema public to deepkeep_app;
revoke update, delete on run_log, policy_revisions, trail from deepkeep_app;
revoke insert on trail from deepkeep_app;
revoke delete on clients, sites, people, depots, grants, machines, policies, sources, runs, points from deepkeep_app;

-- The trail: each row's hash covers the row and the hash before it.
create function trail_hash(previous bytea, at timestamptz, client_id uuid, actor text, address text, action text, subject text, details jsonb)
returns bytea language sql immutable as $$
  select sha256(previous || convert_to(jsonb_build_array(
    extract(epoch from at), client_id, actor, address, action, subject, details)::text, 'UTF8'))
$$;

create function append_trail(at timestamptz, client_id uuid, actor text, address text, action text, subject text, details jsonb)
returns void language plpgsql security definer set search_path = public as $$
declare
  last bytea;
begin
  perform pg_advisory_xact_lock(7205759);
  select hash into last from trail order by id desc limit 1;
  last := coalesce(last, '\x00');
  insert into trail (at, client_id, actor, address, action, subject, details, previous, hash)
  values (at, client_id, actor, address, action, subject, details, last,
    trail_hash(last, at, client_id, actor, address, action, subject, details));
end $$;

-- The first row that does not fit the chain, or null.
create function verify_trail() returns bigint language sql stable as $$
  select min(id) from (
    select id, hash, previous, lag(hash, 1, '\x00'::bytea) over (order by id) as before,
      trail_hash(previous, at, client_id, actor, address, action, subject, details) as computed
    from trail) checked
  where previous <> before or hash <> computed
$$;
grant execute on all functions in schema public to deepkeep_app;

-- A machine sees its own client's grant alone, but the room left in a depot depends on all of them.
create function depot_used(depot uuid) returns bigint language sql stable security definer set search_path = public as
  $$ select coalesce(sum(used_bytes), 0)::bigint from grants where depot_id = depot $$;
grant execute on function depot_used(uuid) to deepkeep_app;
