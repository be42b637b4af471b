-- Watch counts two weeks of runs over all clients: from this index alone.
create index runs_of_nights on runs (due_at, client_id, outcome) where kind = 'backup' and state = 'ended';
