-- How far a check has read every byte, so that it goes on there after its runner was killed.
alter table checks add column verified jsonb;
-- The queue's workers of each runner: what workers of a dead one hold is released.
alter table runners add column workers text[] not null default '{}';
