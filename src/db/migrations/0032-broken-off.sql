-- A run that ended without a point leaves none of its depots in the middle of writing, and nothing to catch up.
alter table run_depots drop constraint run_depots_state_check;
alter table run_depots add constraint run_depots_state_check
  check (state in ('writing', 'kept', 'failed', 'behind', 'away', 'caught up', 'broken off'));

update run_depots d set state = 'broken off' from runs r
where r.id = d.run_id and r.state = 'ended'
  and not exists (select from run_depots k where k.run_id = d.run_id and k.state in ('kept', 'caught up'));
