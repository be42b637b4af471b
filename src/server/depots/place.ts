import { baseOf, isView, slugOf, type View } from "@/core/places";
import type { Tx } from "@/db/base/scope";
import { type Client, clientBySlug, listSites, placesNamed, type Site } from "@/db/clients/clients";
import type { StandingFilter } from "@/db/sources/sources";
import { sourceNames } from "@/db/sources/sources";

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
    const here = await sourceNames(tx, client.id, site!.id);
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
  const rows = await placesNamed(tx, text, MOST);
  return rows.map((row) => ({
    kind: row.kind,
    label: [row.client, row.site, row.source].filter(Boolean).join(" › "),
    base: baseOf(row.clientSlug, row.siteSlug ?? undefined, row.source ?? undefined),
  }));
}
