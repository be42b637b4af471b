import { baseOf, isView, slugOf, type View } from "@/core/places";
import { type Client, clientBySlug, listSites, type Site } from "@/db/clients";
import { all, type Tx } from "@/db/scope";
import type { StandingFilter } from "@/db/sources";

/** Where a person is: a scope and a view, as the address says. */
export interface Place {
  /** `/all` or `/c/client[/site[/source]]`. */
  readonly base: string;
  readonly view: View;
  readonly client: Client | null;
  readonly site: Site | null;
  readonly source: { readonly id: string; readonly name: string } | null;
  readonly filter: StandingFilter;
}

/** Reads `client[/site[/source]]/view`; null when something of it is not there for this person. */
export async function resolvePlace(tx: Tx, segments: readonly string[]): Promise<Place | null> {
  const view = segments.at(-1);
  if (!isView(view)) return null;
  const [clientSlug, siteSlug, sourceSlug, tooMuch] = segments.slice(0, -1);
  if (tooMuch) return null;
  if (!clientSlug) return { base: "/all", view, client: null, site: null, source: null, filter: {} };
  const client = await clientBySlug(tx, clientSlug);
  if (!client) return null;
  const site = siteSlug ? (await listSites(tx, client.id)).find((one) => one.slug === siteSlug) : null;
  if (site === undefined) return null;
  let source: { id: string; name: string } | null | undefined = null;
  if (sourceSlug) {
    const here = await all<{ id: string; name: string }>(
      tx,
      "select id, name from sources where client_id = $1 and site_id = $2",
      [client.id, site!.id],
    );
    source = here.find((one) => slugOf(one.name) === sourceSlug);
    if (!source) return null;
  }
  return {
    base: baseOf(client.slug, site?.slug, source?.name),
    view,
    client,
    site,
    source,
    filter: { clientId: client.id, siteId: site?.id ?? null, sourceId: source?.id ?? null },
  };
}

export interface FoundPlace {
  readonly kind: "client" | "site" | "source";
  readonly label: string;
  readonly base: string;
}

const MOST = 30;

/** Clients, sites and sources by a part of their name, for the scope and the command field. */
export async function findPlaces(tx: Tx, text: string): Promise<FoundPlace[]> {
  const rows = await all<{
    kind: FoundPlace["kind"];
    client: string;
    clientSlug: string;
    site: string | null;
    siteSlug: string | null;
    source: string | null;
  }>(
    tx,
    `select * from (
       select 'client' as kind, name as client, slug as "clientSlug", null as site, null as "siteSlug", null as source, 0 as rank from clients
       union all
       select 'site', c.name, c.slug, s.name, s.slug, null, 1 from sites s join clients c on c.id = s.client_id
       union all
       select 'source', c.name, c.slug, si.name, si.slug, s.name, 2 from sources s join clients c on c.id = s.client_id join sites si on si.id = s.site_id
     ) places
     where position(lower($1) in lower(concat_ws(' › ', client, site, source))) > 0
     order by rank, client, site, source limit $2`,
    [text, MOST],
  );
  return rows.map((row) => ({
    kind: row.kind,
    label: [row.client, row.site, row.source].filter(Boolean).join(" › "),
    base: baseOf(row.clientSlug, row.siteSlug ?? undefined, row.source ?? undefined),
  }));
}
