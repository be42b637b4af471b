import Link from "next/link";
import type { ClientId, SiteId } from "@/core/ids";
import { keyStateOf } from "@/core/keysheet/wrapping";
import { baseOf } from "@/core/places";
import { inForce, type Layer, LEVELS, type Level } from "@/core/policy/cascade";
import { counted } from "@/core/units/duration";
import { certificateOf, openConsents } from "@/db/access/consents";
import type { Person } from "@/db/access/people";
import type { Tx } from "@/db/base/scope";
import { type Client, clientById, listClients, listSites, siteById } from "@/db/clients/clients";
import { clientKey, machinesWithoutKey } from "@/db/clients/keys";
import { type Depot, listDepots, listGrants } from "@/db/depots/depots";
import { listWebhooks } from "@/db/notices/notices";
import { listMachines } from "@/db/sources/machines";
import {
  layersOfClient,
  listPolicies,
  type Owner,
  type Policy,
  policyById,
  policyOfOwner,
} from "@/db/sources/policies";
import { countUnassigned, sourceById, sourcesOfClient } from "@/db/sources/sources";
import { shownConsent } from "@/ui/clients/shown-consent";
import { PolicySheet } from "@/ui/frame/lazy";
import { clockText } from "@/ui/parts/moment";
import { ImportPolicy } from "@/ui/policies/import-policy";
import type { SheetClient, SheetPolicy } from "@/ui/policies/policy-sheet";
import type { ViewInput, ViewOutput } from "./view";

async function sheetClient(
  tx: Tx,
  client: Client,
  depots: readonly Depot[],
  person: Person,
  now: Date,
): Promise<SheetClient> {
  const key = await clientKey(tx, client.id);
  const consent = (await openConsents(tx, client.id, now)).find((one) => one.kind === "destroy-key");
  return {
    id: client.id,
    name: client.name,
    key: keyStateOf(key),
    machinesWithout:
      key?.holding === "passphrase"
        ? (await machinesWithoutKey(tx, client.id)).map((machine) => machine.name)
        : [],
    consent: consent ? { ...shownConsent(consent), own: consent.askedBy === person.id } : null,
    certificate: key?.destroyedAt ? ((await certificateOf(tx, client.id))?.body ?? null) : null,
    askedGroup: key && !key.confirmedAt ? key.askedGroup : null,
    depots: depots.map(({ id, name }) => ({ id, name })),
  };
}

/** What is chosen: a policy, rules of another level, or a policy that is not made yet. */
interface Chosen {
  readonly sel: string;
  readonly level: Level;
  readonly client: Client | null;
  readonly policy: Policy | null;
  readonly owner: SheetPolicy["owner"];
  readonly name: string;
  readonly about: string;
  /** The site and source whose wider levels are above it. */
  readonly siteId: SiteId | null;
  readonly groupId: string | null;
}

async function choose(
  { tx, place, provider, ask }: ViewInput,
  first: Policy | undefined,
): Promise<Chosen | null> {
  const sel = ask("sel") ?? first?.id ?? (place.client ? "new" : "provider");
  const none = { clientId: null, siteId: null, sourceId: null };
  const layer = async (
    owner: Owner,
    ownerId: string,
    more: Omit<Chosen, "sel" | "level" | "policy" | "owner">,
  ) => ({
    sel,
    level: owner.level,
    policy: await policyOfOwner(tx, owner),
    owner: { level: owner.level, ownerId },
    ...more,
  });
  const nothing = { siteId: null, groupId: null };
  if (sel === "provider")
    return layer({ level: "provider", ...none }, "all", {
      ...nothing,
      client: null,
      name: provider.name,
      about: "for every client without its own clauses",
    });
  if (sel === "client" && place.client)
    return layer({ level: "client", ...none, clientId: place.client.id }, place.client.id, {
      ...nothing,
      client: place.client,
      name: place.client.name,
      about: "for everything of this client without its own clauses",
    });
  const [kind, id] = sel.split(":") as [string, string | undefined];
  if (kind === "site" && id) {
    const site = await siteById(tx, id);
    const client = site && (await clientById(tx, site.clientId));
    if (!site || !client) return null;
    return layer({ level: "site", ...none, clientId: client.id, siteId: site.id }, site.id, {
      ...nothing,
      client,
      name: site.name,
      about: `a site of ${client.name}`,
    });
  }
  if (kind === "source" && id) {
    const source = await sourceById(tx, id);
    const client = source && (await clientById(tx, source.clientId));
    if (!source || !client) return null;
    return layer({ level: "source", ...none, clientId: client.id, sourceId: source.id }, source.id, {
      siteId: source.siteId,
      groupId: source.policyId,
      client,
      name: source.name,
      about: `of ${client.name}, this source alone`,
    });
  }
  if (sel === "new") {
    const client =
      place.client ??
      ((await clientById(tx, ask("client") ?? "00000000-0000-0000-0000-000000000000")) || null);
    if (!client) return null;
    return {
      ...nothing,
      sel,
      level: "group",
      client,
      policy: null,
      owner: null,
      name: "",
      about: `for ${client.name}, new`,
    };
  }
  const policy = /^[0-9a-f-]{36}$/.test(sel) ? await policyById(tx, sel) : null;
  const client = policy?.clientId ? await clientById(tx, policy.clientId) : null;
  if (policy?.level !== "group" || !client) return null;
  return {
    ...nothing,
    sel,
    level: "group",
    client,
    policy,
    owner: null,
    name: policy.name,
    about: `for ${client.name}`,
  };
}

/** What the levels above give: those that are wider than this one and touch what it touches. */
async function inheritedBy(tx: Tx, chosen: Chosen): Promise<SheetPolicy["inherited"]> {
  const depth = LEVELS.indexOf(chosen.level);
  const all: readonly Layer[] = chosen.client
    ? (await layersOfClient(tx, chosen.client.id)).filter(
        (layer) =>
          LEVELS.indexOf(layer.level) < depth &&
          (layer.level !== "site" || layer.siteId === chosen.siteId) &&
          (layer.level !== "group" || layer.id === chosen.groupId),
      )
    : [];
  const { clauses, origins } = inForce(all);
  return { clauses, origins };
}

/** Sources that the chosen rules touch and that have a point to try them out on. */
async function touchedBy(
  tx: Tx,
  chosen: Chosen,
  clientId: ClientId,
): Promise<{ id: string; name: string }[]> {
  const sources = await sourcesOfClient(tx, clientId);
  const touched = sources.filter((source) => {
    if (source.kind !== "files") return false;
    if (chosen.level === "group") return source.policyId === chosen.policy?.id;
    if (chosen.level === "site")
      return source.siteId === chosen.siteId || source.siteId === chosen.owner?.ownerId;
    if (chosen.level === "source") return source.id === chosen.owner?.ownerId;
    return true;
  });
  return touched.slice(0, 200).map(({ id, name }) => ({ id, name }));
}

/** Volumes that machines of the client have besides their root. */
async function volumesOf(tx: Tx, clientId: ClientId): Promise<string[]> {
  const machines = (await listMachines(tx, clientId)).filter((machine) => !machine.goneAt);
  const paths = machines.flatMap((machine) => (machine.system.volumes ?? []).map(({ path }) => path));
  return [...new Set(paths)]
    .filter((path) => path !== "/")
    .sort()
    .slice(0, 12);
}

export async function policiesView(input: ViewInput): Promise<ViewOutput> {
  const { tx, now, person, place, provider, href } = input;
  const policies = await listPolicies(tx, place.client?.id ?? null);
  const clients = await listClients(tx);
  const nameOf = new Map(clients.map((client) => [client.id, client]));
  const sites = place.client ? await listSites(tx, place.client.id) : [];
  const chosen = await choose(input, policies[0]);
  const unassigned = await countUnassigned(tx, place.client?.id ?? null);
  const row = (sel: string, title: string, below: string) => (
    <li key={sel}>
      <Link
        href={href({ sel, client: undefined })}
        className="row"
        data-row
        aria-current={sel === chosen?.sel}
      >
        <span className="block font-semibold">{title}</span>
        <span className="text-soft block text-[13px]">{below}</span>
      </Link>
    </li>
  );
  const list = (
    <nav className="border-base-300 min-h-0 overflow-y-auto border-r" aria-label="Policies" tabIndex={0}>
      <h2 className="part-title px-[14px] pt-[10px] pb-1">Policies</h2>
      <ul>
        {policies.map((policy) =>
          row(
            policy.id,
            policy.name,
            `${place.client ? "" : `${nameOf.get(policy.clientId)?.name} · `}${counted(policy.sources, "source")}`,
          ),
        )}
      </ul>
      <h2 className="part-title px-[14px] pt-[14px] pb-1">Rules above them</h2>
      <ul>
        {row("provider", provider.name, "every client")}
        {place.client && row("client", place.client.name, "the whole client")}
        {sites.map((site) => row(`site:${site.id}`, site.name, "this site"))}
        {chosen?.level === "source" && row(chosen.sel, chosen.name, "this source alone")}
      </ul>
      <div className="grid gap-3 p-[14px]">
        {place.client && (
          <>
            <Link className="btn btn-plain" href={href({ sel: "new" })}>
              New policy…
            </Link>
            <ImportPolicy clientId={place.client.id} />
          </>
        )}
        {unassigned > 0 && (
          <Link
            className="text-soft text-[13px] underline"
            href={`${place.client ? baseOf(place.client.slug) : "/all"}/sources`}
          >
            {unassigned} {unassigned === 1 ? "source has" : "sources have"} no policy
          </Link>
        )}
      </div>
    </nav>
  );
  if (!chosen) {
    const main = (
      <>
        <div className="head-line">
          <h1 className="text-[15px] font-bold">Policies</h1>
        </div>
        <div className="p-5">
          <p className="mb-3">
            There is nothing of this kind here. A policy belongs to a client: choose one.
          </p>
          <ul className="grid gap-1">
            {clients.map((one) => (
              <li key={one.id}>
                <Link className="text-primary underline" href={`${baseOf(one.slug)}/policies?sel=new`}>
                  {one.name}
                </Link>
              </li>
            ))}
          </ul>
          {clients.length === 0 && (
            <Link className="btn btn-primary" href="/all/sources?sheet=client">
              Add client…
            </Link>
          )}
        </div>
      </>
    );
    return { main, docket: null };
  }
  const { policy, client } = chosen;
  const granted = new Set(
    client
      ? (await listGrants(tx)).filter((grant) => grant.clientId === client.id).map((grant) => grant.depotId)
      : [],
  );
  const depots = (await listDepots(tx)).filter((depot) => !client || granted.has(depot.id));
  const main = (
    <PolicySheet
      key={`${chosen.sel} ${policy?.revision ?? 0}`}
      client={client && (await sheetClient(tx, client, depots, person, now))}
      depots={depots.map(({ id, name }) => ({ id, name }))}
      zone={client?.zone ?? "the client"}
      now={now}
      policies={
        client
          ? policies
              .filter((one) => one.clientId === client.id && one.id !== policy?.id)
              .map(({ id, name }) => ({ id, name }))
          : []
      }
      sources={client ? await touchedBy(tx, chosen, client.id) : []}
      volumes={client ? await volumesOf(tx, client.id) : []}
      webhooks={(await listWebhooks(tx)).map(({ id, name }) => ({ id, name }))}
      policy={{
        id: policy?.id ?? null,
        level: chosen.level,
        owner: chosen.owner,
        name: chosen.name,
        about: chosen.about,
        revision: policy?.revision ?? 0,
        clauses: policy?.clauses ?? {},
        pins: policy?.pins ?? [],
        rule: policy?.rule ?? null,
        inherited: await inheritedBy(tx, chosen),
        changed: policy
          ? `changed ${clockText(policy.changedAt, provider.zone)} by ${policy.changedBy}`
          : null,
      }}
      list={list}
    />
  );
  return { main, docket: null };
}
