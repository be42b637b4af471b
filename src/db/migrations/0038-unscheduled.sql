-- Sources that a policy protects and that have no next run, for Watch.
create index sources_unscheduled on sources (id)
where next_due_at is null and policy_id is not null and (rules is null or jsonb_array_length(rules->'when'->'schedules') > 0);
