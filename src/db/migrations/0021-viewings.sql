-- Recovery points opened read-only as a WebDAV address, for chosen people, for a while.
create table viewings (
  id uuid primary key,
  client_id uuid not null references clients,
  source_id uuid not null references sources,
  point_id bytea not null references points,
  -- bytes of the path; '/' is all of it
  path bytea not null,
  made_by text not null,
  made_at timestamptz not null,
  expires_at timestamptz not null,
  ended_at timestamptz,
  ended_by text
);
create index viewings_open on viewings (point_id) where ended_at is null;
create index viewings_of_client on viewings (client_id, made_at desc);
-- Each of the people has a name and a password of their own for it, good for nothing else.
create table viewing_keys (
  user_name text primary key,
  viewing_id uuid not null references viewings,
  client_id uuid not null references clients,
  person_id uuid not null references people,
  -- SHA-256 of the password, which has 118 bits of chance
  secret_hash bytea not null,
  seen_at timestamptz,
  files_read bigint not null default 0,
  bytes_read bigint not null default 0,
  unique (viewing_id, person_id)
);

alter table viewings enable row level security;
create policy everything on viewings using ((select scope_role() in ('system', 'provider')));
alter table viewing_keys enable row level security;
create policy everything on viewing_keys using ((select scope_role() in ('system', 'provider')));
grant select, insert on viewings, viewing_keys to deepkeep_app;
grant update (ended_at, ended_by) on viewings to deepkeep_app;
grant update (seen_at, files_read, bytes_read) on viewing_keys to deepkeep_app;

do $$
declare
  name text;
  theirs text := '((select scope_clients() is null) or client_id = any ((select scope_clients())::uuid[]))';
begin
  foreach name in array array['viewings', 'viewing_keys'] loop
    execute format('create policy narrowed on %I as restrictive using (%s) with check (%s)', name, theirs, theirs);
  end loop;
end $$;
