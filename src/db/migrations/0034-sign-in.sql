-- Secrets in the database: none in clear, none longer than needed; and attempts that every web process counts together.

-- A link that grants power goes out by mail and is kept nowhere: sealed until the message is sent, then gone.
alter table messages add column sealed_link bytea;
update messages set body = regexp_replace(body, '/invitation/[A-Za-z0-9_-]+', '/invitation/(not kept)', 'g'),
  next_try_at = null,
  given_up_at = case when sent_at is null then coalesce(given_up_at, made_at) end,
  error = case when sent_at is null then 'the invitation it held is no longer kept; make a new one' else error end
where body ~ '/invitation/[A-Za-z0-9_-]+';

-- Answers of repeated requests: sealed, without one-time secrets, for a day.
delete from idempotency_keys;
alter table idempotency_keys drop column body;
alter table idempotency_keys add column sealed bytea;
-- the request changed something that was committed, whatever became of its answer
alter table idempotency_keys add column committed boolean not null default false;
create index idempotency_keys_by_age on idempotency_keys (created_at);

-- Notes, in the transaction of the work itself, that a request with a key has changed something.
create function note_committed(person uuid, given text) returns void language sql security definer set search_path = public as
  $$ update idempotency_keys set committed = true where person_id = person and key = given $$;
revoke all on function note_committed(uuid, text) from public;
grant execute on function note_committed(uuid, text) to deepkeep_app;

-- Attempts to guess something, counted before they are evaluated. Keys are hashes.
create table rate_limits (
  key varchar(255) primary key,
  points integer not null default 0,
  expire bigint
);
create index rate_limits_by_expiry on rate_limits (expire);
grant select, insert, update, delete on rate_limits to deepkeep_app;

-- Who reset which half of a sign-in: one person alone does not reset both.
alter table people add column password_reset_by uuid references people;
alter table people add column factor_reset_by uuid references people;

-- The hand-over note is the provider's: who is limited to some clients reads it.
create policy narrowed_adding on handovers as restrictive for insert with check ((select scope_clients() is null));
create policy narrowed_changing on handovers as restrictive for update using ((select scope_clients() is null));
