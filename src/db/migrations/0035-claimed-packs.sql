-- Which chunks a pack holds is the word of the machine that made it, until its bytes were read and compared: up to then it
-- counts for that machine alone. Null: verified, or made by the console itself.
alter table packs add column claimed_by uuid references machines;
create index packs_claimed on packs (space_id, id) where claimed_by is not null;
