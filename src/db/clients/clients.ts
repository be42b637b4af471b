import type { ClientId, SiteId } from "@/core/ids";
import type { BandwidthHours } from "@/core/policy/conduct";
import { all, change, one, onePlanned, type Tx } from "../base/scope";

/** What may run at once over a link, and how fast. */
export interface LinkLimits {
  readonly atOnce: number | null;
  readonly bandwidth: readonly BandwidthHours[];
}

export const NO_LIMITS: LinkLimits = { atOnce: null, bandwidth: [] };

export interface Client {
  readonly id: ClientId;
  readonly slug: string;
  readonly name: string;
  readonly zone: string;
  readonly region: string;
  readonly contactName: string;
  readonly contactEmail: string;
  readonly limits: LinkLimits;
}

export interface Site {
  readonly id: SiteId;
  readonly clientId: ClientId;
  readonly slug: string;
  readonly name: string;
  readonly limits: LinkLimits;
}

const CLIENT = `id, slug, name, zone, region, contact_name as "contactName", contact_email as "contactEmail", limits`;
const SITE = `id, client_id as "clientId", slug, name, limits`;

export const listClients = (tx: Tx) => all<Client>(tx, `select ${CLIENT} from clients order by name`);
export const clientById = (tx: Tx, id: ClientId) =>
  onePlanned<Client>(tx, "client by id", `select ${CLIENT} from clients where id = $1`, [id]);
export const clientBySlug = (tx: Tx, slug: string) =>
  onePlanned<Client>(tx, "client by slug", `select ${CLIENT} from clients where slug = $1`, [slug]);

export const insertClient = (tx: Tx, client: Omit<Client, "limits">, now: Date) =>
  change(
    tx,
    `insert into clients (id, slug, name, zone, region, contact_name, contact_email, created_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8)`,
    [
      client.id,
      client.slug,
      client.name,
      client.zone,
      client.region,
      client.contactName,
      client.contactEmail,
      now,
    ],
  );

export const updateClient = (tx: Tx, client: Omit<Client, "slug" | "limits">) =>
  change(
    tx,
    "update clients set name = $2, zone = $3, region = $4, contact_name = $5, contact_email = $6 where id = $1",
    [client.id, client.name, client.zone, client.region, client.contactName, client.contactEmail],
  );

export const listSites = (tx: Tx, clientId: ClientId | null = null) =>
  all<Site>(tx, `select ${SITE} from sites where ($1::uuid is null or client_id = $1) order by name`, [
    clientId,
  ]);
export const siteById = (tx: Tx, id: SiteId) =>
  one<Site>(tx, `select ${SITE} from sites where id = $1`, [id]);

export const insertSite = (tx: Tx, site: Omit<Site, "limits">) =>
  change(tx, "insert into sites (id, client_id, slug, name) values ($1, $2, $3, $4)", [
    site.id,
    site.clientId,
    site.slug,
    site.name,
  ]);

export const setClientLimits = (tx: Tx, id: string, limits: LinkLimits) =>
  change(tx, "update clients set limits = $2 where id = $1", [id, JSON.stringify(limits)]);
export const setSiteLimits = (tx: Tx, id: string, limits: LinkLimits) =>
  change(tx, "update sites set limits = $2 where id = $1", [id, JSON.stringify(limits)]);

export interface Provider {
  readonly name: string;
  readonly zone: string;
}
export const readProvider = (tx: Tx) =>
  onePlanned<Provider>(tx, "provider", "select name, zone from provider");
/** The zone whose clock is used for a client; the provider's where there is no client. */
export const zoneFor = async (tx: Tx, clientId: ClientId | null): Promise<string> =>
  (clientId ? (await clientById(tx, clientId))?.zone : (await readProvider(tx))?.zone) ?? "UTC";
/** Says who the provider is; one that an adopted depot made up is renamed so. */
export const setProvider = (tx: Tx, provider: Provider) =>
  change(
    tx,
    `insert into provider (name, zone) values ($1, $2)
     on conflict (only_one) do update set name = excluded.name, zone = excluded.zone`,
    [provider.name, provider.zone],
  );

/** Clients, sites and sources by a part of their name with those that they belong to: clients first. */
export const placesNamed = (tx: Tx, text: string, most: number) =>
  all<{
    kind: "client" | "site" | "source";
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
    [text, most],
  );
