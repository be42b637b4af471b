-- What names kinds of sources. Until now one selection stood for files and mail alike: it becomes a part for each kind of
-- source that it applied to; without any, for files.
create function upgraded_what(what jsonb, files boolean, mail boolean) returns jsonb language sql immutable as $$
  select case when what is null or not what ? 'folders' then what else
    case when files or not mail then jsonb_build_object('files', what) else '{}'::jsonb end ||
    case when mail then jsonb_build_object('mail', jsonb_build_object(
      'folders', case when what->'folders' ? '/' then '[]'::jsonb else what->'folders' end,
      'exclude', coalesce(what->'exclude', '[]'::jsonb))) else '{}'::jsonb end end
$$;

create temporary table what_kinds on commit drop as
  select p.id as policy_id, coalesce(bool_or(s.kind = 'files'), false) as files, coalesce(bool_or(s.kind = 'mail'), false) as mail
  from policies p left join sources s on case p.level
    when 'provider' then true
    when 'client' then s.client_id = p.client_id
    when 'site' then s.site_id = p.site_id
    when 'source' then s.id = p.source_id
    else s.policy_id = p.id end
  group by p.id;

update policies p set clauses = jsonb_set(p.clauses, '{what}', upgraded_what(p.clauses->'what', k.files, k.mail))
  from what_kinds k where k.policy_id = p.id and p.clauses->'what' ? 'folders';
update policy_revisions r set clauses = jsonb_set(r.clauses, '{what}', upgraded_what(r.clauses->'what', k.files, k.mail))
  from what_kinds k where k.policy_id = r.policy_id and r.clauses->'what' ? 'folders';
update consents c set request = jsonb_set(c.request, '{policy,clauses,what}',
    upgraded_what(c.request#>'{policy,clauses,what}', coalesce(k.files, true), coalesce(k.mail, false)))
  from consents d left join what_kinds k on k.policy_id::text = d.request#>>'{policy,id}'
  where d.id = c.id and c.request#>'{policy,clauses,what}' ? 'folders';
-- the parts of a source's policy, as they are worked out anew with the next change
update sources s set rules = jsonb_set(s.rules, '{what}', upgraded_what(s.rules->'what', coalesce(k.files, s.kind = 'files'), coalesce(k.mail, s.kind = 'mail')))
  from sources t left join what_kinds k on k.policy_id = coalesce((t.origins#>>'{what,layerId}')::uuid, t.policy_id)
  where t.id = s.id and s.rules->'what' ? 'folders';
drop function upgraded_what(jsonb, boolean, boolean);
