-- Up to which row the trail was sent elsewhere: docs/operations.md.
create table trail_sent (
  one boolean primary key default true check (one),
  -- to where, as the operator wrote it: another place gets all of it from the beginning
  target text not null,
  upto bigint not null
);
grant select, insert, update on trail_sent to deepkeep_app;
alter table trail_sent enable row level security;
create policy system on trail_sent using ((select scope_role() = 'system'));
