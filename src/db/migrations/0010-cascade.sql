-- Rules cascade: provider, client, site, group (what people call a policy), source. Each level gives some clauses and may
-- pin them; what is in force is worked out for each source whenever something above it changes.
alter table policies alter client_id drop not null;
alter table policies add level text not null default 'group' check (level in ('provider', 'client', 'site', 'group', 'source'));
alter table policies add site_id uuid references sites;
alter table policies add source_id uuid references sources;
alter table policies add pins text[] not null default '{}';
-- which sources a group takes by themselves
alter table policies add rule jsonb;
alter table policies add check ((level = 'provider') = (client_id is null));
alter table policies add check ((level = 'site') = (site_id is not null));
alter table policies add check ((level = 'source') = (source_id is not null));
alter table policies add check (rule is null or level = 'group');
alter table policies drop constraint policies_client_id_name_key;
create unique index policies_names on policies (client_id, name) where level = 'group';
create unique index policies_of_provider on policies (level) where level = 'provider';
create unique index policies_of_client on policies (client_id) where level = 'client';
create unique index policies_of_site on policies (site_id) where level = 'site';
create unique index policies_of_source on policies (source_id) where level = 'source';

alter table policy_revisions alter client_id drop not null;
alter table policy_revisions add name text;
alter table policy_revisions add pins text[] not null default '{}';
alter table policy_revisions add rule jsonb;
alter table policy_revisions add reason text;
update policy_revisions r set name = p.name from policies p where p.id = r.policy_id;

alter table sources add tags text[] not null default '{}';
-- what is in force: all clauses, or null while one is missing; and where each comes from
alter table sources add rules jsonb;
alter table sources add origins jsonb not null default '{}';
update sources s set rules = p.clauses, origins = (
    select jsonb_object_agg(clause, jsonb_build_object('layerId', p.id, 'level', 'group', 'name', p.name, 'pinned', false))
    from unnest(array['what', 'when', 'howLong', 'where']) clause)
  from policies p where p.id = s.policy_id;
create index sources_by_depot on sources ((rules->'where'->>'depotId'));
