import { LRUCache } from "lru-cache";
import { CodedError } from "@/core/codes";
import type { ClientId, DepotId } from "@/core/ids";
import type { Database } from "@/db/base/scope";
import { type ClientKey, clientKey } from "@/db/clients/keys";
import { depotById, grantOf } from "@/db/depots/depots";
import { locateChunks } from "@/db/points/chunks";
import { placesOfPoints } from "@/db/points/copies";
import { InsideReader, leadsInside } from "@/disks/files/inside-reader";
import { packName } from "@/store/packs/layout";
import { type ChunkReader, CopiesReader, StoreReader } from "@/store/read/reader";
import { deriveStoreKeys, type StoreKeys } from "@/store/seal/keys";
import type { Secrets } from "@/store/seal/secrets";
import type { ByteString } from "@/store/tree/tree";
import type { UnlockedKeys } from "../access/unlocked";
import type { Places } from "../depots/places";

export const keyContext = (clientId: ClientId): string => `client key ${clientId}`;

/** What is asked of a point to find its data. */
export interface PlacedPoint {
  readonly id: Buffer;
  readonly clientId: ClientId;
  readonly depotId: DepotId;
}

/** The same with its tree. */
export interface RootedPoint extends PlacedPoint {
  readonly root: Uint8Array;
}

/**
 * Readers of clients' spaces, for browsing on the server with the key in escrow or opened by a passphrase. They are kept for a while, because an
 * opened pack serves the next click too.
 */
export class SpaceReaders {
  private readonly readers = new LRUCache<string, StoreReader>({ max: 24, ttl: 10 * 60_000 });

  constructor(
    private readonly db: Database,
    private readonly secrets: Secrets,
    private readonly places: Places,
    private readonly now: () => Date,
    private readonly unlocked: UnlockedKeys,
  ) {}

  /**
   * The data key of a client: from escrow, or what a passphrase opened for whoever is served now. Throws
   * `key.not-confirmed`, `key.destroyed` or `key.passphrase-needed`.
   */
  async dataKey(clientId: ClientId): Promise<Buffer> {
    const key = await this.db.withScope({ role: "system" }, (tx) => clientKey(tx, clientId));
    if (!key) throw new CodedError("key.not-confirmed");
    return this.opened(key);
  }

  /** The same of a key that was read already. */
  async opened(key: ClientKey): Promise<Buffer> {
    if (!key.sealed) throw new CodedError("key.destroyed");
    if (key.holding === "escrow") return this.secrets.unseal(key.sealed, keyContext(key.clientId));
    const opened = await this.unlocked.keyOf(key.clientId);
    if (!opened) throw new CodedError("key.passphrase-needed");
    return opened;
  }

  async keys(clientId: ClientId): Promise<StoreKeys> {
    return deriveStoreKeys(await this.dataKey(clientId));
  }

  /** Forgets where things lay: packs were written anew. */
  forget(clientId: ClientId, depotId: DepotId): void {
    this.readers.delete(`${clientId} ${depotId}`);
  }

  /** Forgets everything of a client: its key is held otherwise, or gone. */
  forgetClient(clientId: ClientId): void {
    for (const name of this.readers.keys()) if (name.startsWith(`${clientId} `)) this.readers.delete(name);
  }

  /** A reader of a point from all its places: the first, and what that lacks from the others. */
  async ofPoint(point: PlacedPoint): Promise<ChunkReader> {
    return (await this.ofPoints([point]))[0]!;
  }

  private readonly insides = new LRUCache<
    string,
    { readonly base: ChunkReader; readonly inside: InsideReader }
  >({
    max: 8,
    ttl: 10 * 60_000,
  });

  /** The same for a path, which may lead to the files inside a disk. */
  async at(point: RootedPoint, path: ByteString): Promise<ChunkReader> {
    return this.within(await this.ofPoint(point), point, path);
  }

  /** Whether a path leads to the files inside a disk. */
  async isInsideDisk(point: RootedPoint, path: ByteString): Promise<boolean> {
    return leadsInside(await this.ofPoint(point), point.root, path);
  }

  /** The reader of a point for a path, from the point's own reader. */
  async within(base: ChunkReader, point: RootedPoint, path: ByteString): Promise<ChunkReader> {
    if (!(await leadsInside(base, point.root, path))) return base;
    const key = point.id.toString("hex");
    const kept = this.insides.get(key);
    if (kept?.base === base) return kept.inside;
    const inside = new InsideReader(base, point.root);
    this.insides.set(key, { base, inside });
    return inside;
  }

  /** The same of several points, of one client or of several, in their order: asked for at once. */
  async ofPoints(points: readonly PlacedPoint[]): Promise<ChunkReader[]> {
    const { places, keys } = await this.db.withScope({ role: "system" }, async (tx) => {
      const found = new Map<string, ClientKey | null>();
      for (const { clientId } of points)
        if (!found.has(clientId)) found.set(clientId, await clientKey(tx, clientId));
      const ids = points.map((point) => point.id);
      return { places: await placesOfPoints(tx, ids, this.now()), keys: found };
    });
    const opened = new Map<string, Buffer>();
    for (const [clientId, key] of keys) {
      if (!key) throw new CodedError("key.not-confirmed");
      opened.set(clientId, await this.opened(key));
    }
    const readers: ChunkReader[] = [];
    for (const [i, point] of points.entries()) {
      const copies = [];
      let failure: unknown = null;
      for (const depotId of places[i]!.length ? places[i]! : [point.depotId]) {
        try {
          copies.push(await this.readerWith(point.clientId, depotId, opened.get(point.clientId)!));
        } catch (error) {
          failure ??= error;
        }
      }
      if (copies.length === 0) throw failure;
      readers.push(copies.length === 1 ? copies[0]! : new CopiesReader(copies));
    }
    return readers;
  }

  /** A reader of what a client has in a depot. Whoever calls has checked that the asker may see this client. */
  async reader(clientId: ClientId, depotId: DepotId): Promise<StoreReader> {
    return this.readerWith(clientId, depotId, await this.dataKey(clientId));
  }

  private async readerWith(clientId: ClientId, depotId: DepotId, dataKey: Buffer): Promise<StoreReader> {
    const name = `${clientId} ${depotId}`;
    const kept = this.readers.get(name);
    if (kept) return kept;
    const found = await this.db.withScope({ role: "system" }, async (tx) => ({
      grant: await grantOf(tx, depotId, clientId),
      depot: await depotById(tx, depotId),
    }));
    const { grant, depot } = found;
    if (!grant || !depot)
      throw new CodedError("depot.not-reached", "the depot is not granted to this client");
    const place = this.places.of(depot);
    const reader = new StoreReader(deriveStoreKeys(dataKey), {
      locate: async (ids) => {
        const packs = await this.db.withScope({ role: "system" }, (tx) =>
          locateChunks(tx, grant.spaceId, ids),
        );
        return packs.map((pack) => pack?.toString("hex") ?? null);
      },
      open: async (packId) => {
        const object = packName(grant.spaceId, packId);
        const size = await place.size(object);
        return { size, read: (offset, length) => place.read(object, offset, length) };
      },
    });
    this.readers.set(name, reader);
    return reader;
  }
}
