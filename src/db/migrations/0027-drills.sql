-- Drills: restores that the runner does on purpose, to prove that a recovery point restores.
alter table runs drop constraint runs_kind_check;
alter table runs add constraint runs_kind_check check (kind in ('backup', 'restore', 'drill'));
create index runs_of_drills on runs (source_id, due_at desc) where kind = 'drill';

-- what was written down before Conduct said how often
update sources set rules = jsonb_set(rules, '{conduct,drillDays}', '30')
where rules ? 'conduct' and not rules->'conduct' ? 'drillDays';
update policies set clauses = jsonb_set(clauses, '{conduct,drillDays}', '30')
where clauses ? 'conduct' and not clauses->'conduct' ? 'drillDays';
