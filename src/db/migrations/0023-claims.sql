-- The next run of a machine or of the runner, in the order in which they begin: found without looking at all that wait.
create index runs_to_claim on runs (client_id, machine_id, kind desc, due_at) where state = 'due';
