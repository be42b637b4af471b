import { CodedError } from "@/core/codes";
import { lastPart, packName, packsOf, pointName, pointsOf } from "../packs/layout";
import { openPack } from "../packs/pack";
import { verifyBlock } from "../packs/verify-pack";
import type { Place } from "../places/place";
import type { StoreKeys } from "../seal/keys";
import { openPoint } from "../tree/point";
import { idKey, showBytes } from "../tree/tree";
import { chunksOf, walkTree } from "./browse";
import { StoreReader } from "./reader";

/** What should be there. */
export interface CheckedPack {
  readonly id: string;
  readonly size: number;
}
export interface CheckedPoint {
  readonly id: string;
  readonly root: Uint8Array;
  readonly size: number;
}

export interface Finding {
  readonly object: "pack" | "point";
  readonly id: string;
  readonly detail: string;
  /** Of a pack: the chunks that are lost; null for all of them. */
  readonly chunks: readonly Buffer[] | null;
}
/** A file (or, with the path of a folder, all below it) of a point that cannot be read whole. */
export interface Touched {
  readonly pointId: string;
  readonly path: string;
  /** The packs that it lacks; none when the tree itself is broken there. */
  readonly packs: readonly string[];
}

export interface CheckFigures {
  packs: number;
  points: number;
  bytes: number;
  files: number;
}

export interface CheckOptions {
  /** Null where the key is not open: then only `objects` can be checked, and nobody can say which files a damage touches. */
  readonly keys: StoreKeys | null;
  readonly place: Place;
  readonly spaceId: string;
  readonly depth: "objects" | "trees" | "bytes";
  readonly packs: readonly CheckedPack[];
  readonly points: readonly CheckedPoint[];
  /** What is not read again, and what was read; a check that goes on, or looks again, is handed the one from before. */
  readonly verified?: VerifiedPacks;
  /** Called now and then with what was done so far. */
  readonly progress?: (figures: Readonly<CheckFigures>) => void;
  /** Touched files are named up to so many for each point. */
  readonly mostNamed?: number;
}

/** Packs of which every byte was read, in the order of their ids. */
export class VerifiedPacks {
  private to: string | null;
  /** In packs that were whole. */
  private bytes: number;
  private readonly suspect: Set<string>;

  constructor(
    from: { readonly to: string; readonly suspect: readonly string[]; readonly bytes: number } | null,
  ) {
    this.to = from?.to ?? null;
    this.bytes = from?.bytes ?? 0;
    this.suspect = new Set(from?.suspect);
  }

  /** Whether a pack was read and was whole. One that was not is read each time anew. */
  has(id: string): boolean {
    return this.to !== null && id <= this.to && !this.suspect.has(id);
  }
  note(id: string, whole: boolean, bytes: number): void {
    if (whole && !this.has(id)) this.bytes += bytes;
    if (!whole) this.suspect.add(id);
    else this.suspect.delete(id);
    if (this.to === null || id > this.to) this.to = id;
  }
  state(): { to: string; suspect: string[]; bytes: number } | null {
    return this.to === null ? null : { to: this.to, suspect: [...this.suspect], bytes: this.bytes };
  }
}

export interface CheckResult {
  readonly findings: readonly Finding[];
  readonly touched: readonly Touched[];
  readonly figures: CheckFigures;
}

/**
 * Checks a client's space in a depot. What is found does not end the check: everything that can be read is. Only a place
 * that does not answer does, with its code.
 */
export async function checkSpace(options: CheckOptions): Promise<CheckResult> {
  return new SpaceCheck(options).run();
}

class SpaceCheck {
  private readonly findings: Finding[] = [];
  private readonly figures: CheckFigures = { packs: 0, points: 0, bytes: 0, files: 0 };
  /** Packs of which nothing can be read. */
  private readonly lostPacks = new Set<string>();
  private readonly badBlocks: { pack: string; ids: readonly Uint8Array[]; error: CodedError }[] = [];
  /** In which pack each chunk lies that can be read, as far as the depth of this check tells. */
  private readonly index = new Map<string, string>();
  /** Chunks of damaged blocks. The same chunk may lie whole in another pack. */
  private readonly badChunks = new Map<string, string>();

  constructor(private readonly options: CheckOptions) {}

  async run(): Promise<CheckResult> {
    const { depth, packs, points } = this.options;
    const sizes = await this.listed();
    this.figures.bytes = this.options.verified?.state()?.bytes ?? 0;
    for (const pack of [...packs].sort((a, b) => (a.id < b.id ? -1 : 1))) {
      await this.checkPack(pack, sizes.has(pack.id));
      this.figures.packs += 1;
      this.options.progress?.(this.figures);
    }
    this.judgeBlocks();
    const touched: Touched[] = [];
    const open: CheckedPoint[] = [];
    for (const point of points) {
      if (await this.checkPoint(point, sizes.has(point.id))) open.push(point);
      this.figures.points += 1;
      this.options.progress?.(this.figures);
    }
    if (depth !== "objects" || this.findings.length > 0)
      for (const point of open) touched.push(...(await this.touchedOf(point)));
    return { findings: this.findings, touched, figures: this.figures };
  }

  /** What the place lists: one call for thousands of objects. */
  private async listed(): Promise<Set<string>> {
    const { place, spaceId } = this.options;
    const there = new Set<string>();
    for (const prefix of [packsOf(spaceId), pointsOf(spaceId)])
      for await (const name of place.list(prefix)) there.add(lastPart(name));
    return there;
  }

  private note(object: Finding["object"], id: string, error: unknown): void {
    this.findings.push({ object, id, detail: damageOf(error).message, chunks: null });
    if (object === "pack") this.lostPacks.add(id);
  }

  /** A damaged block whose chunks all lie whole in other packs is no loss: they were stored anew. */
  private judgeBlocks(): void {
    const lost = new Map<string, { detail: string; chunks: Buffer[] }>();
    for (const { pack, ids, error } of this.badBlocks) {
      const missing = ids.filter((id) => !this.index.has(idKey(id)));
      if (missing.length === 0) continue;
      const found = lost.get(pack) ?? { detail: error.message, chunks: [] };
      for (const id of missing) {
        found.chunks.push(Buffer.from(id));
        this.badChunks.set(idKey(id), pack);
      }
      lost.set(pack, found);
    }
    for (const [id, found] of lost) this.findings.push({ object: "pack", id, ...found });
  }

  private async checkPack({ id, size }: CheckedPack, there: boolean): Promise<void> {
    const { place, spaceId, keys, depth, verified } = this.options;
    try {
      if (!there) throw new CodedError("store.damaged", "a pack is missing");
      const name = packName(spaceId, id);
      const length = await place.size(name);
      if (length !== size)
        throw new CodedError("store.damaged", `a pack has ${length} bytes, ${size} were stored`);
      if (!keys) return;
      // directories are always read: without them nothing could say what a damage touches
      const bytes = { size, read: (offset: number, count: number) => place.read(name, offset, count) };
      const pack = await openPack(keys, Buffer.from(id, "hex"), bytes);
      const isThere = (block: { readonly ids: readonly Uint8Array[] }) => {
        for (const chunk of block.ids) this.index.set(idKey(chunk), id);
      };
      if (depth !== "bytes" || verified?.has(id)) {
        for (const block of pack.blocks) isThere(block);
        return;
      }
      let read = 0;
      let whole = true;
      for (const [place, block] of pack.blocks.entries()) {
        try {
          read += await verifyBlock(keys, pack, bytes, place);
          isThere(block);
        } catch (error) {
          this.badBlocks.push({ pack: id, ids: block.ids, error: damageOf(error) });
          whole = false;
        }
      }
      this.figures.bytes += read;
      verified?.note(id, whole, read);
    } catch (error) {
      this.note("pack", id, error);
      verified?.note(id, false, 0);
    }
  }

  private async checkPoint({ id, root, size }: CheckedPoint, there: boolean): Promise<boolean> {
    const { place, spaceId, keys, depth } = this.options;
    try {
      if (!there) throw new CodedError("store.damaged", "a point is missing");
      if (depth === "objects" || !keys) return true;
      const object = await place.read(pointName(spaceId, id), 0, size + 1);
      if (object.length !== size) throw new CodedError("store.damaged", "a point has another length");
      const { content } = openPoint(keys, object);
      if (Buffer.compare(content.root, root) !== 0)
        throw new CodedError("store.damaged", "a point has another root than was stored");
    } catch (error) {
      this.note("point", id, error);
    }
    // its tree may be whole all the same: the catalogue knows the root
    return true;
  }

  /** Files of a point that lack a chunk, and folders that do not open. */
  private async touchedOf({ id, root }: CheckedPoint): Promise<Touched[]> {
    const { place, spaceId, keys, mostNamed = 100 } = this.options;
    if (!keys) return [];
    const reader = new StoreReader(keys, {
      locate: async (ids) => ids.map((chunk) => this.index.get(idKey(chunk)) ?? null),
      open: async (packId) => {
        const name = packName(spaceId, packId);
        return {
          size: await place.size(name),
          read: (offset, length) => place.read(name, offset, length),
        };
      },
    });
    const touched: Touched[] = [];
    let path = "/";
    try {
      for await (const walked of walkTree(reader, root, "/")) {
        path = showBytes(walked.path);
        if (walked.entry.type !== "file") continue;
        this.figures.files += 1;
        const packs = new Set<string>();
        let lacks = false;
        for await (const chunk of chunksOf(reader, walked.entry)) {
          const key = idKey(chunk);
          if (this.index.has(key)) continue;
          lacks = true;
          const bad = this.badChunks.get(key);
          if (bad) packs.add(bad);
        }
        // what no directory names lay in a pack that is lost as a whole
        if (lacks && packs.size === 0) for (const pack of this.lostPacks) packs.add(pack);
        if (lacks && touched.length < mostNamed) touched.push({ pointId: id, path, packs: [...packs] });
      }
    } catch (error) {
      if (!(error instanceof CodedError) || error.code !== "store.damaged") throw error;
      touched.push({ pointId: id, path: `everything after ${path}`, packs: [...this.lostPacks] });
    }
    return touched;
  }
}

/** What says that something is damaged. A place that does not answer says nothing about what lies there: that is thrown. */
function damageOf(error: unknown): CodedError {
  if (
    error instanceof CodedError &&
    ["store.damaged", "store.wrong-key", "not-found", "depot.newer"].includes(error.code)
  )
    return error;
  throw error;
}
