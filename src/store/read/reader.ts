import { LRUCache } from "lru-cache";
import { CodedError } from "@/core/codes";
import type { Holder } from "../cutting/windows";
import { ChunkPlaces } from "../packs/chunk-places";
import { type OpenPack, openPack, type PackBytes } from "../packs/pack";
import { openBlock } from "../press/block";
import { compressor } from "../press/compressor";
import { Memories } from "../press/memories";
import { type Press, thePress } from "../press/press";
import { ID_BYTES, Identifier } from "../seal/identity";
import type { StoreKeys } from "../seal/keys";
import { type ByteString, decodeNode, idKey, type TreeNode } from "../tree/tree";
import { putBytes } from "../write/copy";

/** Where packs are read from. */
export interface PackSource {
  /** In which pack each chunk lies, in the order asked; null for one that no pack holds. */
  locate(ids: readonly Uint8Array[]): Promise<(string | null)[]>;
  /** The bytes of a pack by its id in hex. */
  open(packId: string): Promise<PackBytes>;
}

/** Blocks of a pack that were fetched at once, told by their ranks: the first, and the one after the last. */
interface Stretch {
  readonly packId: string;
  readonly first: number;
  readonly after: number;
  /** Where in the pack it begins. */
  readonly start: number;
  readonly memory: Buffer;
  readonly sealed: Promise<Buffer>;
  /** How many blocks are being opened from it; its memory is used again when it is left and there are none. */
  users: number;
  left: boolean;
}
/** Kinds of chunks by the key that names them. */
type Named = "chunkId" | "treeId";

interface BlockContent {
  readonly bytes: Buffer;
  /** What its chunks were looked at as, when it was opened, and the numbers of those that are not what their ids say. */
  readonly named: Named | null;
  readonly wrong: readonly number[];
}

/** Where a stretch ended, for the one that follows it. */
interface StretchEnd {
  readonly packId: string;
  readonly after: number;
  /** It reached to the end of its pack's blocks. */
  readonly ended: boolean;
  readonly blocks: number;
}

/** A block's content, there or on its way; its memory is used again when nobody holds it any more. */
class LoadedBlock implements Holder {
  private holders = 1;
  constructor(
    readonly key: string,
    /** Bytes of memory that it takes. */
    readonly size: number,
    readonly content: Promise<BlockContent>,
    private readonly free: () => void,
  ) {}

  hold(): void {
    this.holders += 1;
  }

  release(): void {
    this.holders -= 1;
    if (this.holders === 0) void this.content.then(this.free, this.free);
  }
}
/** So many blocks that were read stay as they are. */
const KEPT = 4;

/** How long a stretch is at most, and how many are held. */
const STRETCH_BLOCKS = 8;
const STRETCH_BYTES = 5 * 1024 * 1024;
const STRETCHES = 2;
/** Blocks lie in a pack in the order in which they were ready, not quite in that of their numbers. */
const OUT_OF_ORDER = 4;

interface LoadedPack {
  readonly bytes: PackBytes;
  readonly pack: OpenPack;
  /** The numbers of the blocks as they lie one after another, and the rank of each in that order. */
  readonly order: readonly number[];
  readonly ranks: readonly number[];
  readonly places: ChunkPlaces;
}

/** A chunk's bytes, and whether they are known to be what its id says. */
interface Fetched {
  readonly bytes: Buffer;
  readonly sure: boolean;
}

function cutOut(
  { bytes, named, wrong }: BlockContent,
  places: ChunkPlaces,
  chunk: number,
  as: Named,
): Fetched {
  const offset = places.offset(chunk);
  const sure = named === as && !(wrong.length && wrong.includes(places.numberInBlock(chunk)));
  return { bytes: bytes.subarray(offset, offset + places.length(chunk)), sure };
}

/** The content of a chunk, which stays as it is until its holder is released. */
export interface AtHand {
  readonly bytes: Buffer;
  readonly holder: Holder;
}

/** Reads chunks and tree nodes by id, wherever they lie. */
export interface ChunkReader {
  /** Finds out where chunks lie before they are read one by one; saves a question for each. */
  locate(ids: readonly Uint8Array[]): Promise<void>;
  /** The content of a chunk. Throws `store.damaged` when it is missing or altered. */
  chunk(id: Uint8Array): Promise<Buffer>;
  /** The same where it lies beside what was read last, to be held for longer; null where it has to be waited for. */
  atHand(id: Uint8Array): AtHand | null;
  /**
   * Begins to fetch and open what holds a chunk that was located and is read before long, in the order in which it is told.
   * Where much is under way already, the answer is to be waited for before more is told. What goes wrong comes out when the
   * chunk is read.
   */
  soon(id: Uint8Array): Promise<void> | null;
  /** How long the content of a chunk is, bytes, without reading it. */
  length(id: Uint8Array): Promise<number>;
  /** A tree node. Throws `store.damaged` when it is missing or altered. */
  node(id: Uint8Array): Promise<TreeNode>;
  /** A tree node as its bytes. */
  rawNode(id: Uint8Array): Promise<Buffer>;
}

/** Reads from the first of several copies, and falls back to the next for what that cannot give, chunk by chunk. */
export class CopiesReader implements ChunkReader {
  constructor(private readonly copies: readonly ChunkReader[]) {}

  private async first<T>(read: (copy: ChunkReader) => Promise<T>): Promise<T> {
    let failure: unknown;
    for (const copy of this.copies) {
      try {
        return await read(copy);
      } catch (error) {
        if (!(error instanceof CodedError)) throw error;
        failure ??= error;
      }
    }
    throw failure;
  }

  locate = (ids: readonly Uint8Array[]) => this.first((copy) => copy.locate(ids));
  chunk = (id: Uint8Array) => this.first((copy) => copy.chunk(id));
  atHand(id: Uint8Array): AtHand | null {
    try {
      return this.copies[0]?.atHand(id) ?? null;
    } catch {
      // the others are asked when it is read as any other
      return null;
    }
  }
  soon = (id: Uint8Array) => this.copies[0]?.soon(id) ?? null;
  length = (id: Uint8Array) => this.first((copy) => copy.length(id));
  node = (id: Uint8Array) => this.first((copy) => copy.node(id));
  rawNode = (id: Uint8Array) => this.first((copy) => copy.rawNode(id));
}

const keyOf = (packId: string, number: number): string => `${packId} ${number}`;

/** A pack that is gone, before it was opened or since: purged, or written anew elsewhere. */
function missing(error: unknown): never {
  if (error instanceof CodedError && error.code === "not-found")
    throw new CodedError("store.damaged", "a pack is missing", { cause: error });
  throw error;
}

const LATELY = 8;
const BLOCK_CACHE_BYTES = 64 * 1024 * 1024;
/** Of one that reads ahead: what was read lately, and what is opened before it is read. */
const AHEAD_CACHE_BYTES = 32 * 1024 * 1024;
const COMING_BYTES = 24 * 1024 * 1024;
/** When so many blocks were read of which nobody had told, what was told is not what is read. */
const LEFT_BLOCKS = 8;
/** Who walks a tree ahead of the reader is so many entries ahead at most. */
export const WALKED_AHEAD = 2048;
/** Directories of packs are kept of so many chunks together, each of which takes 120 bytes: three full ones of the tiniest files. */
const DIRECTORIES = 3;
const AHEAD_DIRECTORY_CHUNKS = DIRECTORIES * 65_536;
/** Entries in the nodes of trees that are kept, so that those are read once for both. */
const AHEAD_ENTRIES = 3 * WALKED_AHEAD;

/** Entries of a node, pages, or chunks of a list: what is kept of a file of terabytes counts too. */
function entriesOf(node: TreeNode): number {
  if (node.kind === "folder") return 1 + node.entries.length;
  return 1 + (node.kind === "pages" ? node.pages.length : Math.ceil(node.ids.length / ID_BYTES));
}

/** What reading much in an order that is told works with: threads that open blocks, and memory for those. */
interface Ahead {
  readonly press: Press;
  readonly memories: Memories;
}

/**
 * Reads chunks and tree nodes by id. Opened packs, blocks and nodes are kept for a while.
 *
 * One that reads ahead works in the same memory again and again: the content of a chunk stays as it is until chunks of four
 * other blocks were read.
 */
export class StoreReader implements ChunkReader {
  private readonly packs: LRUCache<string, Promise<LoadedPack>>;
  private readonly blocks: LRUCache<string, LoadedBlock>;
  private readonly ahead: Ahead | null;
  private readonly nodes: LRUCache<ByteString, TreeNode>;
  private readonly identifiers: Readonly<Record<Named, Identifier>>;
  private readonly located = new LRUCache<ByteString, string>({ max: 50_000 });
  /** Stretches of several blocks that were fetched lately, and where all of them ended; the last one first. */
  private stretches: Stretch[] = [];
  private stretchEnds: StretchEnd[] = [];
  /** Blocks that something was read from lately, the last one last; of those of one that reads ahead. */
  private readonly kept: Readonly<Record<Named, LoadedBlock[]>> = { chunkId: [], treeId: [] };
  /** Blocks that were opened since something of them is read soon; the first one first. */
  private readonly coming = new Map<string, LoadedBlock>();
  private comingBytes = 0;
  private leftBlocks = 0;
  /** The block that was told of last, and who waits to tell more. */
  private told: { readonly places: LoadedPack["places"]; readonly number: number } | null = null;
  private readonly tellers: (() => void)[] = [];
  /** The block that something was read from last. */
  private current: {
    readonly places: LoadedPack["places"];
    readonly number: number;
    readonly content: BlockContent;
    readonly block: LoadedBlock;
  } | null = null;
  /** Packs that something was read from lately, or is soon: what is read next mostly lies in one of them. */
  private lately: { readonly packId: string; readonly places: LoadedPack["places"] }[] = [];

  constructor(
    private readonly keys: StoreKeys,
    private readonly source: PackSource,
    /** For reading much: what is told to be read soon is fetched and opened beforehand. */
    readAhead = false,
  ) {
    // who passes a whole tree needs little of what was passed before
    this.nodes = new LRUCache(
      readAhead
        ? {
            maxSize: AHEAD_ENTRIES,
            sizeCalculation: entriesOf,
          }
        : { max: 4096 },
    );
    this.packs = new LRUCache(
      readAhead
        ? { max: 16, maxSize: AHEAD_DIRECTORY_CHUNKS }
        : { max: 256, maxSize: 4 * AHEAD_DIRECTORY_CHUNKS },
    );
    this.blocks = new LRUCache({
      maxSize: readAhead ? AHEAD_CACHE_BYTES : BLOCK_CACHE_BYTES,
      dispose: (block) => block.release(),
    });
    this.ahead = readAhead ? { press: thePress(), memories: new Memories() } : null;
    this.identifiers = { chunkId: new Identifier(keys.chunkId), treeId: new Identifier(keys.treeId) };
  }

  async locate(ids: readonly Uint8Array[]): Promise<void> {
    const unknown = ids.filter((id) => this.knownPlace(id) === undefined);
    if (unknown.length === 0) return;
    const packs = await this.source.locate(unknown);
    unknown.forEach((id, i) => {
      const pack = packs[i];
      if (pack) this.located.set(idKey(id), pack);
    });
  }

  async chunk(id: Uint8Array): Promise<Buffer> {
    return this.verified(id, "chunkId");
  }

  atHand(id: Uint8Array): AtHand | null {
    if (!this.current) return null;
    const { places, number, content, block } = this.current;
    const chunk = places.find(id);
    if (chunk < 0 || places.block(chunk) !== number) return null;
    return { bytes: this.checked(id, cutOut(content, places, chunk, "chunkId"), "chunkId"), holder: block };
  }

  soon(id: Uint8Array): Promise<void> | null {
    if (!this.ahead) return null;
    if (this.told) {
      const { places, number } = this.told;
      const chunk = places.find(id);
      if (chunk >= 0 && places.block(chunk) === number) return null;
    }
    const packId = this.knownPlace(id);
    return packId ? this.comes(packId, id).catch(() => {}) : null;
  }

  private async comes(packId: string, id: Uint8Array): Promise<void> {
    const loaded = await this.pack(packId);
    const chunk = loaded.places.find(id);
    if (chunk < 0) return;
    const number = loaded.places.block(chunk);
    this.passes(packId, loaded);
    this.told = { places: loaded.places, number };
    while (this.comingBytes >= COMING_BYTES) await new Promise<void>((goOn) => this.tellers.push(goOn));
    const blockKey = keyOf(packId, number);
    // asking for it counts as using it: it stays until it is read
    if (this.blocks.get(blockKey) || this.coming.has(blockKey) || this.keptOf(blockKey)) return;
    const block = this.openBlock(packId, loaded, number, "chunkId");
    this.coming.set(blockKey, block);
    this.comingBytes += block.size;
  }

  /** Takes a block out of those that come: it is read, or not what is read next. */
  private hasCome(block: LoadedBlock): void {
    this.coming.delete(block.key);
    this.comingBytes -= block.size;
    this.leftBlocks = 0;
    for (const goOn of this.tellers.splice(0)) goOn();
  }

  async node(id: Uint8Array): Promise<TreeNode> {
    const key = idKey(id);
    const kept = this.nodes.get(key);
    if (kept) return kept;
    const node = decodeNode(await this.rawNode(id));
    this.nodes.set(key, node);
    return node;
  }

  async rawNode(id: Uint8Array): Promise<Buffer> {
    const bytes = await this.verified(id, "treeId");
    // nodes are kept, and what they are decoded from with them
    return this.ahead ? Buffer.from(bytes) : bytes;
  }

  private async verified(id: Uint8Array, as: Named): Promise<Buffer> {
    return this.checked(id, await this.placed(id, (packId) => this.fetchFrom(packId, id, as)), as);
  }

  private checked(id: Uint8Array, { bytes, sure }: Fetched, as: Named): Buffer {
    if (!sure && !this.identifiers[as].id(bytes).equals(id))
      throw new CodedError("store.damaged", "a chunk is not what its id says");
    return bytes;
  }

  async length(id: Uint8Array): Promise<number> {
    const [{ places }, chunk] = await this.placed(id, (packId) => this.placeOf(packId, id));
    return places.length(chunk);
  }

  /** Reading has come to a pack. */
  private passes(packId: string, { places }: LoadedPack): void {
    if (this.lately.some((one) => one.packId === packId)) return;
    this.lately.unshift({ packId, places });
    let chunks = 0;
    // of the others only as many as are kept in any case
    const after = this.lately.findIndex((one, i) => {
      chunks += one.places.count;
      return i === LATELY || (i > 0 && chunks > AHEAD_DIRECTORY_CHUNKS);
    });
    if (after > 0) this.lately.length = after;
  }

  /** The pack that a chunk lies in as far as it was asked, or one that was read from lately. */
  private knownPlace(id: Uint8Array): string | undefined {
    const { lately } = this;
    for (let i = 0; i < lately.length; i += 1) {
      const one = lately[i]!;
      if (one.places.find(id) < 0) continue;
      // what is looked for next mostly lies there too
      lately[i] = lately[0]!;
      lately[0] = one;
      return one.packId;
    }
    return this.located.get(idKey(id));
  }

  /** Does something with the pack that holds a chunk; asks again where it lies when it is not there any more. */
  private async placed<T>(id: Uint8Array, work: (packId: string) => Promise<T>): Promise<T> {
    const known = this.knownPlace(id);
    if (known) {
      try {
        return await work(known);
      } catch (error) {
        if (!(error instanceof CodedError) || error.code !== "store.damaged") throw error;
        // its pack may have been written anew since: ask again where it lies
        this.located.delete(idKey(id));
        this.packs.delete(known);
        this.lately = this.lately.filter(({ packId }) => packId !== known);
      }
    }
    const [packId] = await this.source.locate([id]);
    if (!packId) throw new CodedError("store.damaged", "a chunk is in no pack");
    this.located.set(idKey(id), packId);
    return work(packId);
  }

  private async placeOf(packId: string, id: Uint8Array) {
    const loaded = await this.pack(packId);
    this.passes(packId, loaded);
    const chunk = loaded.places.find(id);
    if (chunk < 0) throw new CodedError("store.damaged", "a pack does not hold the chunk it should");
    return [loaded, chunk] as const;
  }

  private async fetchFrom(packId: string, id: Uint8Array, as: Named): Promise<Fetched> {
    const [loaded, chunk] = await this.placeOf(packId, id);
    const { places } = loaded;
    const number = places.block(chunk);
    const block = this.block(packId, loaded, number, as);
    const content = await block.content;
    if (as === "chunkId") this.current = { places, number, content, block };
    return cutOut(content, places, chunk, as);
  }

  private pack(packId: string): Promise<LoadedPack> {
    let loading = this.packs.get(packId);
    if (!loading) {
      const begun = this.loadPack(packId);
      begun.then(
        // how much it takes is known when it is there; of what is set again as it is, the cache keeps the size as it was
        ({ places }) => {
          if (this.packs.peek(packId) !== begun) return;
          this.packs.delete(packId);
          const size = Math.min(1 + places.count, AHEAD_DIRECTORY_CHUNKS / DIRECTORIES);
          this.packs.set(packId, begun, { size });
        },
        () => this.packs.delete(packId),
      );
      this.packs.set(packId, begun, { size: 1 });
      loading = begun;
    }
    return loading;
  }

  private async loadPack(packId: string): Promise<LoadedPack> {
    const bytes = await this.source.open(packId).catch(missing);
    const pack = await openPack(this.keys, Buffer.from(packId, "hex"), bytes);
    const order = pack.blocks.map((_block, number) => number);
    order.sort((a, b) => pack.blocks[a]!.offset - pack.blocks[b]!.offset);
    const ranks = new Array<number>(order.length);
    order.forEach((number, rank) => {
      ranks[number] = rank;
    });
    return { bytes, pack, order, ranks, places: new ChunkPlaces(pack.blocks) };
  }

  /** The block that something is read from now. */
  private block(packId: string, loaded: LoadedPack, number: number, as: Named): LoadedBlock {
    const key = keyOf(packId, number);
    let block = this.blocks.get(key);
    if (!block) {
      block = this.coming.get(key) ?? this.keptOf(key);
      if (block && this.coming.has(key)) this.hasCome(block);
      else block?.hold();
      block ??= this.openOne(packId, loaded, number, as);
      this.blocks.set(key, block, { size: block.size });
    }
    if (this.ahead) this.keep(block, this.kept[as]);
    return block;
  }

  private keptOf(key: string): LoadedBlock | undefined {
    const isIt = (block: LoadedBlock) => block.key === key;
    return this.kept.chunkId.find(isIt) ?? this.kept.treeId.find(isIt);
  }

  /** Holds a block that is read, and lets go of the one that was read longest ago: what is opened beforehand takes no part. */
  private keep(block: LoadedBlock, kept: LoadedBlock[]): void {
    if (kept.at(-1) === block) return;
    block.hold();
    const before = kept.indexOf(block);
    kept.push(block);
    if (before >= 0) kept.splice(before, 1)[0]!.release();
    else if (kept.length > KEPT) kept.shift()!.release();
  }

  /** Opens a block of which nobody had told. */
  private openOne(packId: string, loaded: LoadedPack, number: number, as: Named): LoadedBlock {
    if (as === "chunkId") this.leftBlocks += 1;
    const [first] = this.coming.values();
    if (first && this.leftBlocks > LEFT_BLOCKS) {
      this.hasCome(first);
      first.release();
    }
    return this.openBlock(packId, loaded, number, as);
  }

  private openBlock(packId: string, loaded: LoadedPack, number: number, as: Named): LoadedBlock {
    const key = keyOf(packId, number);
    const length = loaded.pack.blocks[number]!.lengths.reduce((sum, one) => sum + one, 0);
    const memory = this.ahead?.memories.take(length) ?? null;
    const content = (
      memory
        ? this.fromStretch(packId, loaded, number, (sealed) => this.open(loaded, number, sealed, memory, as))
        : this.loadBlock(loaded, number)
    ).catch(missing);
    const block: LoadedBlock = new LoadedBlock(key, Math.max(1, memory?.length ?? length), content, () => {
      if (this.current?.block === block) this.current = null;
      if (memory) this.ahead!.memories.give(memory);
    });
    content.catch(() => this.forget(block));
    return block;
  }

  /** What could not be opened once may be the next time. */
  private forget(block: LoadedBlock): void {
    if (this.blocks.peek(block.key) === block) this.blocks.delete(block.key);
    if (this.coming.get(block.key) === block) {
      this.hasCome(block);
      block.release();
    }
    for (const kept of Object.values(this.kept)) {
      const at = kept.indexOf(block);
      if (at >= 0) kept.splice(at, 1)[0]!.release();
    }
  }

  private async loadBlock({ bytes, pack }: LoadedPack, number: number): Promise<BlockContent> {
    const { offset, sealedLength } = pack.blocks[number]!;
    const sealed = pack.sealedBlock(number, await bytes.read(offset, sealedLength));
    return { bytes: await openBlock(sealed, compressor), named: null, wrong: [] };
  }

  /** Has a thread open a block and look whether its chunks are what their ids say: most of them will be read. */
  private async open(
    { pack }: LoadedPack,
    number: number,
    sealed: Buffer,
    memory: Buffer,
    named: Named,
  ): Promise<BlockContent> {
    const { idBytes, lengths } = pack.blocks[number]!;
    const names = {
      key: Uint8Array.from(this.keys[named]),
      // a part of a larger memory would take all of that along
      ids: Uint8Array.from(idBytes),
      lengths: new Uint32Array(lengths),
    };
    const { content, wrong } = await this.ahead!.press.open(pack.sealedBlock(number, sealed), memory, names);
    return { bytes: content, named, wrong };
  }

  /**
   * Does something with the sealed bytes of a block, out of a stretch of blocks that are fetched at once: from a disk each
   * fetch is opening and closing, from a bucket a request. As long as one block follows the other, stretches become longer.
   */
  private async fromStretch<T>(
    packId: string,
    loaded: LoadedPack,
    number: number,
    work: (sealed: Buffer) => Promise<T>,
  ): Promise<T> {
    const { offset, sealedLength } = loaded.pack.blocks[number]!;
    const rank = loaded.ranks[number]!;
    const stretch =
      this.stretches.find((one) => one.packId === packId && one.first <= rank && rank < one.after) ??
      this.beginStretch(packId, loaded, rank);
    const from = offset - stretch.start;
    stretch.users += 1;
    try {
      return await work((await stretch.sealed).subarray(from, from + sealedLength));
    } catch (error) {
      // what could not be fetched once may be fetched the next time
      this.stretches = this.stretches.filter((one) => one !== stretch);
      stretch.left = true;
      throw error;
    } finally {
      stretch.users -= 1;
      this.leave(stretch, false);
    }
  }

  private beginStretch(packId: string, { bytes, pack, order }: LoadedPack, rank: number): Stretch {
    const { blocks } = pack;
    // where one before ended, in its pack or at the beginning of the next
    const nextOf = (one: StretchEnd) => (one.packId === packId ? one.after : one.ended ? 0 : Number.NaN);
    const before = this.stretchEnds.find((one) => nextOf(one) <= rank && rank < nextOf(one) + OUT_OF_ORDER);
    const first = before ? nextOf(before) : rank;
    const length = before ? Math.min(STRETCH_BLOCKS, 2 * before.blocks) : 1;
    const begin = blocks[order[first]!]!;
    let after = rank + 1;
    for (; after < Math.min(blocks.length, first + length); after += 1) {
      const one = blocks[order[after]!]!;
      if (one.offset + one.sealedLength - begin.offset > STRETCH_BYTES) break;
    }
    const end = blocks[order[after - 1]!]!;
    const total = end.offset + end.sealedLength - begin.offset;
    const memory = this.ahead!.memories.take(total);
    const stretch: Stretch = {
      packId,
      first,
      after,
      start: begin.offset,
      memory,
      sealed: bytes.read(begin.offset, total, memory).then((read) => {
        if (read.buffer === memory.buffer) return read;
        putBytes(memory, 0, read);
        return memory.subarray(0, read.length);
      }),
      users: 0,
      // of a block alone nothing else will be asked for
      left: after - first === 1,
    };
    this.stretchEnds = [
      { packId, after, ended: after === blocks.length, blocks: after - first },
      ...this.stretchEnds.filter((one) => one !== before).slice(0, LATELY - 1),
    ];
    if (stretch.left) return stretch;
    for (const one of this.stretches.slice(STRETCHES - 1)) this.leave(one, true);
    this.stretches = [stretch, ...this.stretches.slice(0, STRETCHES - 1)];
    return stretch;
  }

  /** Its memory is free when nothing is opened from it any more. */
  private leave(stretch: Stretch, now: boolean): void {
    stretch.left ||= now;
    if (stretch.left && stretch.users === 0) this.ahead!.memories.give(stretch.memory);
  }
}
