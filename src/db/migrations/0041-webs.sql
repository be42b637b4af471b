-- Web processes are lent keys too, so that a passphrase given to one opens the key in all of them.
alter table runners add column web boolean not null default false;

-- What a session or token lent ends with it, whatever ends it.
create function end_loans() returns trigger language plpgsql security definer set search_path = public as $$
begin
  delete from lent_keys where session_id = old.id;
  return null;
end $$;
create trigger sessions_loans after delete on sessions for each row execute function end_loans();
create trigger api_tokens_loans after delete on api_tokens for each row execute function end_loans();
