-- Tenancy at the same strength and less cost: who asks is worked out once for a statement, not once for each row.
do $$
declare
  rule record;
  col text;
  seen text := '((select scope_role() in (''system'', ''provider'')) or ((select scope_role() in (''client'', ''machine'')) and %1$I = (select scope_client())))';
  changed text := '((select scope_role() in (''system'', ''provider'')) or ((select scope_role() = ''machine'') and %1$I = (select scope_client())))';
begin
  for rule in select * from pg_policies where schemaname = 'public' loop
    col := substring(rule.qual from '^sees\((\w+)\)$');
    if col is not null then
      execute format('alter policy %I on %I using (' || format(seen, col) || ')', rule.policyname, rule.tablename);
    end if;
    col := substring(rule.qual from '^changes\((\w+)\)$');
    if col is not null then
      execute format('alter policy %I on %I using (' || format(changed, col) || ')', rule.policyname, rule.tablename);
    end if;
    col := substring(rule.with_check from '^changes\((\w+)\)$');
    if col is not null then
      execute format('alter policy %I on %I with check (' || format(changed, col) || ')', rule.policyname, rule.tablename);
    end if;
    if rule.qual = '(scope_role() = ANY (ARRAY[''system''::text, ''provider''::text]))' then
      execute format('alter policy %I on %I using ((select scope_role() in (''system'', ''provider'')))', rule.policyname, rule.tablename);
    end if;
  end loop;
end $$;

create index points_damaged on points (depot_id) where damaged_at is not null;
create index copies_damaged on copies (depot_id) where damaged_at is not null;
-- what Watch asks of every source: its last run that ended
create index runs_ended on runs (source_id, due_at desc) where kind = 'backup' and state = 'ended' and outcome <> 'stopped';
create index runs_by_outcome on runs (outcome, due_at desc) where state = 'ended';
