import { randomInt, randomUUID } from "node:crypto";
import { CodedError } from "@/core/codes";
import type { ClientId, DepotId, SpaceId } from "@/core/ids";
import { slugOf } from "@/core/places";
import { type Clauses, readClauses } from "@/core/policy/clauses";
import { whereClause } from "@/core/policy/where";
import type { Tx } from "@/db/base/scope";
import {
  type Client,
  clientBySlug,
  insertClient,
  insertSite,
  listClients,
  listSites,
  NO_LIMITS,
  readProvider,
  setProvider,
} from "@/db/clients/clients";
import { clientKey, confirmKey, setUnconfirmedKey } from "@/db/clients/keys";
import { countSpace, depotById, insertDepot, listDepots, upsertGrant } from "@/db/depots/depots";
import { insertPack, listPackIds } from "@/db/points/chunks";
import { insertCopy } from "@/db/points/copies";
import { insertPoint, pointById } from "@/db/points/points";
import { listPolicies, savePolicy } from "@/db/sources/policies";
import { assignPolicy, insertSource, sourceById, sourceNames } from "@/db/sources/sources";
import type { SourceKind } from "@/kinds";
import { settleRules } from "@/server/access/rules";
import { record } from "@/server/access/who";
import type { Services } from "@/server/base/services";
import { readDescription } from "@/server/depots/depot-test";
import { depotSecretContext } from "@/server/depots/places";
import { keyContext } from "@/server/inside/space-readers";
import { DEPOT_FILE, lastPart, packName, packsOf } from "@/store/packs/layout";
import { openPack } from "@/store/packs/pack";
import type { Place } from "@/store/places/place";
import { type OpenedPoint, openSpaces } from "@/store/read/opened-points";
import { deriveStoreKeys } from "@/store/seal/keys";
import { FORMAT_VERSION } from "@/store/seal/sealing";
import { fingerprintOf } from "@/store/seal/wrapping";
import type { PointContent } from "@/store/tree/point";
import type { NamedPlace } from "./depot-place";

export interface AdoptOptions {
  readonly place: NamedPlace;
  /** What the depot is called; a depot that the console knows keeps its name. */
  readonly name?: string | undefined;
  readonly quotaBytes: number;
  readonly say: (line: string) => void;
}

export interface Adopted {
  readonly client: string;
  readonly sources: number;
  readonly points: number;
  readonly packs: number;
  readonly chunks: number;
  readonly passedOver: number;
  /** Recovery points that do not open. */
  readonly damaged: number;
}

const AT_ONCE = 8;
const OPERATOR = { actor: "bin/keep adopt", address: "this machine" };
/** Where a point does not say more, as those of the first days do not. */
const UNKNOWN_CLIENT = {
  name: "Adopted client",
  zone: "UTC",
  region: "unknown",
  contactName: "unknown",
  contactEmail: "unknown@client.example",
};

/**
 * Rebuilds the catalogue from a depot and a client's key: the client with its sites, sources, policies and points, and the
 * index of chunks. What the console knows already stays as it is, so adopting twice is no harm. A pack that does not open
 * is passed over and told.
 */
export async function adopt(services: Services, dataKey: Buffer, options: AdoptOptions): Promise<Adopted> {
  const { place } = options.place;
  const described = await readDescription(place);
  if (!described)
    throw new CodedError("depot.not-a-depot", `there is no ${DEPOT_FILE} at ${options.place.path}`);
  if (described.version > FORMAT_VERSION) throw new CodedError("depot.newer", `format ${described.version}`);
  const keys = deriveStoreKeys(dataKey);
  const { spaces } = await openSpaces(place, keys);
  for (const { spaceId, points: opened, damaged } of spaces) {
    for (const { id, why } of damaged)
      options.say(`Recovery point ${id} is damaged and was skipped: ${why}.`);
    const packs: string[] = [];
    for await (const name of place.list(packsOf(spaceId))) packs.push(lastPart(name));
    options.say(`Space ${spaceId}: ${opened.length} recovery points, ${packs.length} packs.`);
    const catalogue = await services.db.withScope({ role: "system" }, (tx) =>
      writeCatalogue(services, tx, described.id, spaceId, opened, dataKey, options),
    );
    const index = await indexPacks(services, place, spaceId, catalogue.client.id, packs, keys, options.say);
    await services.db.withScope({ role: "system" }, (tx) =>
      record(
        tx,
        { ...OPERATOR, at: services.now() },
        catalogue.client.id,
        "adopted a depot",
        catalogue.depot,
        {
          points: opened.length,
          ...index,
        },
      ),
    );
    return {
      client: catalogue.client.name,
      sources: catalogue.sources,
      points: opened.length,
      damaged: damaged.length,
      ...index,
    };
  }
  throw new CodedError("store.wrong-key", "it opens no recovery point of this depot");
}

/** Client, sites, depot, grant, key, sources, policies, points: in one transaction, all or nothing. */
async function writeCatalogue(
  services: Services,
  tx: Tx,
  depotId: DepotId,
  spaceId: SpaceId,
  points: readonly OpenedPoint[],
  dataKey: Buffer,
  options: AdoptOptions,
): Promise<{ client: Client; depot: string; sources: number }> {
  const now = services.now();
  const newest = points.at(-1)!.content;
  const client = await clientOf(services, tx, newest, dataKey, now);
  let depot = await depotById(tx, depotId);
  if (!depot) {
    const names = new Set((await listDepots(tx)).map((one) => one.name));
    const { kind, path, settings, secret } = options.place;
    const wish = options.name ?? options.place.wish;
    depot = {
      id: depotId,
      name: names.has(wish) ? `${wish} ${depotId.slice(0, 8)}` : wish,
      kind,
      path,
      settings,
      secret:
        secret === null ? null : services.secrets.seal(Buffer.from(secret), depotSecretContext(depotId)),
      region: client.region,
      capacityBytes: null,
      direct: null,
      atOnce: null,
    };
    await insertDepot(tx, depot, now);
  }
  await upsertGrant(
    tx,
    { depotId, clientId: client.id, spaceId, quotaBytes: options.quotaBytes, lockDays: 0 },
    now,
  );
  const sources = new Set<string>();
  for (const { id, size, content } of points) {
    if (!sources.has(content.sourceId)) {
      sources.add(content.sourceId);
      await sourceOf(tx, client, content, now);
    }
    const known = await pointById(tx, id);
    if (known) {
      const copy = { pointId: id, depotId, clientId: client.id, objectBytes: size, lockedUntil: null };
      if (known.depotId !== depotId && (await insertCopy(tx, copy, now))) await countSpace(tx, spaceId, size);
      continue;
    }
    await insertPoint(tx, {
      id,
      clientId: client.id,
      sourceId: content.sourceId,
      runId: null,
      depotId,
      moment: new Date(content.moment),
      root: Buffer.from(content.root),
      ...content.counts,
      addedBytes: size,
      objectBytes: size,
      lockedUntil: null,
    });
    await countSpace(tx, spaceId, size);
  }
  const latest = new Map(points.map(({ content }) => [content.sourceId, content]));
  for (const content of latest.values()) await policyOf(tx, client, depotId, content, now);
  return { client, depot: depot.name, sources: sources.size };
}

/** The client that this key belongs to: one whose key it is, or one of the name in the point, or a new one. */
async function clientOf(
  services: Services,
  tx: Tx,
  content: PointContent,
  dataKey: Buffer,
  now: Date,
): Promise<Client> {
  if (!(await readProvider(tx))) await setProvider(tx, { name: "Adopted provider", zone: "UTC" });
  for (const client of await listClients(tx)) {
    const key = await clientKey(tx, client.id);
    if (key?.sealed && key.fingerprint === fingerprintOf(dataKey)) return client;
  }
  const told = { ...UNKNOWN_CLIENT, ...content.client };
  const taken = (await listClients(tx)).some((client) => client.name === told.name);
  const base = slugOf(told.name.split(/\s+/)[0]!, 40) || "client";
  let slug = base;
  for (let number = 2; await clientBySlug(tx, slug); number += 1) slug = `${base}-${number}`;
  const client: Client = {
    ...told,
    id: randomUUID(),
    slug,
    name: taken ? `${told.name} (adopted)` : told.name,
    limits: NO_LIMITS,
  };
  await insertClient(tx, client, now);
  await setUnconfirmedKey(
    tx,
    {
      clientId: client.id,
      holding: "escrow",
      sealed: services.secrets.seal(dataKey, keyContext(client.id)),
      wrapping: null,
      fingerprint: fingerprintOf(dataKey),
      askedGroup: randomInt(13),
      askedHash: null,
    },
    now,
  );
  // whoever adopts has just shown that the key is kept
  await confirmKey(tx, client.id, now);
  return client;
}

async function sourceOf(tx: Tx, client: Client, content: PointContent, now: Date): Promise<void> {
  if (await sourceById(tx, content.sourceId)) return;
  const wish = content.siteName ?? "Adopted site";
  const sites = await listSites(tx, client.id);
  let site = sites.find((one) => one.name === wish);
  if (!site) {
    const base = slugOf(wish) || "site";
    let slug = base;
    for (let number = 2; sites.some((one) => one.slug === slug); number += 1) slug = `${base}-${number}`;
    site = { id: randomUUID(), clientId: client.id, slug, name: wish, limits: NO_LIMITS };
    await insertSite(tx, site);
  }
  const names = new Set((await sourceNames(tx, client.id)).map((one) => one.name));
  let name = content.sourceName;
  for (let number = 2; names.has(name); number += 1) name = `${content.sourceName} ${number}`;
  await insertSource(
    tx,
    {
      id: content.sourceId,
      clientId: client.id,
      siteId: site.id,
      machineId: null,
      connectionId: null,
      remoteId: null,
      // of a kind that a newer version knows it is shown as files
      kind: content.kind as SourceKind,
      name,
    },
    now,
  );
}

async function policyOf(
  tx: Tx,
  client: Client,
  depotId: DepotId,
  content: PointContent,
  now: Date,
): Promise<void> {
  const source = await sourceById(tx, content.sourceId);
  if (!source || source.policyId) return;
  let read: Clauses;
  try {
    read = readClauses(JSON.parse(content.policy), [content.kind]);
  } catch {
    return;
  }
  const name = content.policyName ?? "Adopted policy";
  // other policies and webhooks have other ids here, or are not there
  const clauses = {
    ...read,
    when: { ...read.when, after: null },
    notices: { ...read.notices, webhooks: [] },
    where: whereClause.parse({ depotId }),
  };
  const same = (await listPolicies(tx, client.id)).find((policy) => policy.name === name);
  const id = same?.id ?? randomUUID();
  if (!same)
    await savePolicy(tx, {
      id,
      clientId: client.id,
      siteId: null,
      sourceId: null,
      level: "group",
      pins: [],
      rule: null,
      name,
      clauses,
      revision: 1,
      changedAt: now,
      changedBy: OPERATOR.actor,
    });
  await assignPolicy(tx, source.id, id);
  await settleRules(tx, client.id, now);
}

type NewPack = Parameters<typeof insertPack>[1];
/** Packs that are noted in one transaction, and the chunks in them. */
const PACKS_TOGETHER = 64;
const CHUNKS_TOGETHER = 8192;
const SAID_EACH = 200;

/** The index from the packs' own directories, several read at a time. */
async function indexPacks(
  services: Services,
  place: Place,
  spaceId: SpaceId,
  clientId: ClientId,
  packIds: readonly string[],
  keys: ReturnType<typeof deriveStoreKeys>,
  say: (line: string) => void,
): Promise<{ packs: number; chunks: number; passedOver: number }> {
  const done = { packs: 0, chunks: 0, passedOver: 0 };
  const known = new Set(
    (await services.db.withScope({ role: "system" }, (tx) => listPackIds(tx, spaceId))).map((pack) =>
      pack.id.toString("hex"),
    ),
  );
  const left = packIds.filter((id) => !known.has(id));
  const read = async (packId: string): Promise<NewPack> => {
    const name = packName(spaceId, packId);
    const size = await place.size(name);
    const id = Buffer.from(packId, "hex");
    const pack = await openPack(keys, id, {
      size,
      read: (offset, length) => place.read(name, offset, length),
    });
    const ids = pack.blocks.flatMap((block) => block.ids.map((id) => Buffer.from(id)));
    const contentBytes = pack.blocks.flatMap((block) => block.lengths).reduce((sum, one) => sum + one, 0);
    return { spaceId, clientId, id, size, holds: { ids, contentBytes } };
  };
  const store = async (packs: readonly NewPack[]) => {
    await services.db.withScope({ role: "system" }, async (tx) => {
      // first, since it is locked by this: two that note the same chunk in two packs do not wait for each other
      await countSpace(
        tx,
        spaceId,
        packs.reduce((sum, { size }) => sum + size, 0),
      );
      for (const pack of packs) await insertPack(tx, pack, services.now());
    });
    const before = done.packs;
    done.packs += packs.length;
    for (const { holds } of packs) done.chunks += holds.ids.length;
    if (Math.floor(before / SAID_EACH) < Math.floor(done.packs / SAID_EACH))
      say(`${done.packs} packs, ${done.chunks} chunks`);
  };
  const worker = async () => {
    // of large files a pack has a few chunks: one transaction for each would take longer than all else
    let gathered: NewPack[] = [];
    let chunks = 0;
    for (let packId = left.pop(); packId; packId = left.pop()) {
      try {
        const pack = await read(packId);
        gathered.push(pack);
        chunks += pack.holds.ids.length;
      } catch (error) {
        if (!(error instanceof CodedError)) throw error;
        done.passedOver += 1;
        say(`Pack ${packId} is damaged and was skipped: ${error.message}.`);
      }
      if (gathered.length < PACKS_TOGETHER && chunks < CHUNKS_TOGETHER) continue;
      await store(gathered);
      [gathered, chunks] = [[], 0];
    }
    if (gathered.length) await store(gathered);
  };
  await Promise.all(Array.from({ length: AT_ONCE }, worker));
  return done;
}
