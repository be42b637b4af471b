-- What that was given before stays as it was: rubbish is left out of new selections alone.
update policies set clauses = jsonb_set(clauses, '{what}', '{"rubbish": false, "largestBytes": null, "changedWithinDays": null}'::jsonb || (clauses->'what')) where clauses ? 'what';
update policy_revisions set clauses = jsonb_set(clauses, '{what}', '{"rubbish": false, "largestBytes": null, "changedWithinDays": null}'::jsonb || (clauses->'what')) where clauses ? 'what';
update sources set rules = jsonb_set(rules, '{what}', '{"rubbish": false, "largestBytes": null, "changedWithinDays": null}'::jsonb || (rules->'what')) where rules is not null;
