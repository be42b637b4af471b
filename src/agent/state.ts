import {
  closeSync,
  existsSync,
  fstatSync,
  mkdirSync,
  openSync,
  readFileSync,
  readSync,
  renameSync,
  rmSync,
  writeFileSync,
  writeSync,
} from "node:fs";
import { join } from "node:path";
import { z } from "zod";
import type { VolumeSnapshots } from "@/kinds/files/volume-snapshot";
import type { PreviousTree } from "@/sources/store-source";
import { IdNumbers } from "@/store/packs/id-numbers";
import { ID_BYTES } from "@/store/seal/identity";

/** What an agent keeps on its machine: who it is, and the trees of its last recovery points. All files 0600. */
const identitySchema = z.object({
  console: z.url(),
  machineId: z.uuid(),
  token: z.string(),
  privateKey: z.string(),
  name: z.string(),
  /** The folder that counts as `/`. */
  root: z.string(),
});
export type Identity = z.infer<typeof identitySchema>;

export class AgentState {
  constructor(readonly folder: string) {}

  private get identityFile(): string {
    return join(this.folder, "identity.json");
  }

  readIdentity(): Identity | null {
    try {
      return identitySchema.parse(JSON.parse(readFileSync(this.identityFile, "utf8")));
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === "ENOENT") return null;
      throw new Error(`${this.identityFile} cannot be read: ${(error as Error).message}`, { cause: error });
    }
  }

  writeIdentity(identity: Identity): void {
    mkdirSync(this.folder, { recursive: true, mode: 0o700 });
    writeFileSync(`${this.identityFile}.new`, `${JSON.stringify(identity, null, 2)}\n`, { mode: 0o600 });
    renameSync(`${this.identityFile}.new`, this.identityFile);
  }

  /** Snapshots of volumes that a run made and has not taken away yet. */
  readonly snapshots: VolumeSnapshots = {
    read: () => {
      try {
        return z.array(z.string()).parse(JSON.parse(readFileSync(this.snapshotsFile, "utf8")));
      } catch {
        return [];
      }
    },
    write: (paths) => {
      if (paths.length === 0) {
        rmSync(this.snapshotsFile, { force: true });
        return;
      }
      mkdirSync(this.folder, { recursive: true, mode: 0o700 });
      writeFileSync(`${this.snapshotsFile}.new`, JSON.stringify(paths), { mode: 0o600 });
      renameSync(`${this.snapshotsFile}.new`, this.snapshotsFile);
    },
  };
  private get snapshotsFile(): string {
    return join(this.folder, "snapshots.json");
  }

  private restoreFile = (runId: string): string => join(this.folder, `restore-${runId}`);

  /** Notes that a restore begins; of one that goes on after a break, when its first attempt began. */
  beginRestore(runId: string, attempt: number, now: Date): Date | null {
    const file = this.restoreFile(runId);
    const begun = attempt > 1 && existsSync(file) ? new Date(Number(readFileSync(file, "utf8"))) : null;
    if (!begun) {
      mkdirSync(this.folder, { recursive: true, mode: 0o700 });
      // times of files come from a clock that lags by some milliseconds
      writeFileSync(file, String(now.getTime() - 100), { mode: 0o600 });
    }
    return begun;
  }

  endRestore(runId: string): void {
    rmSync(this.restoreFile(runId), { force: true });
  }

  private treeFile(sourceId: string): string {
    return join(this.folder, `${sourceId}.tree`);
  }

  /** The remembered tree with this root, or null when another or none is remembered. */
  openTree(sourceId: string, root: Uint8Array): RememberedTree | null {
    return RememberedTree.open(this.treeFile(sourceId), root);
  }

  /** Begins to remember a new tree; it counts from `commit` on. */
  newTree(sourceId: string, previous: RememberedTree | null): TreeMemory {
    mkdirSync(this.folder, { recursive: true, mode: 0o700 });
    return new TreeMemory(this.treeFile(sourceId), previous);
  }
}

const TREE_MAGIC = Buffer.from("DKTREE01");
const RECORD_HEAD = ID_BYTES + 4;

/** Read at once where the records of a tree are looked up; most nodes are shorter. */
const READ_BYTES = 4096;

/** Reads what there is from a place of a file on, as much as there is room for; less at its end. */
function readAll(fd: number, into: Buffer, position: number): number {
  let filled = 0;
  while (filled < into.length) {
    const got = readSync(fd, into, filled, into.length - filled, position + filled);
    if (got === 0) break;
    filled += got;
  }
  return filled;
}

/** A tree on the disk: magic, root id, then nodes as id, length (u32 LE), bytes. */
export class RememberedTree implements PreviousTree {
  private readonly head = Buffer.allocUnsafe(READ_BYTES);

  private constructor(
    private readonly fd: number,
    readonly root: Uint8Array,
    private readonly ids: IdNumbers,
    /** Where the record of each id begins. */
    private readonly places: readonly number[],
  ) {}

  static open(path: string, root: Uint8Array): RememberedTree | null {
    let fd: number;
    try {
      fd = openSync(path, "r");
    } catch {
      return null;
    }
    const tree = RememberedTree.index(fd, root);
    if (!tree) closeSync(fd);
    return tree;
  }

  /** Goes through the records, without holding them. */
  private static index(fd: number, root: Uint8Array): RememberedTree | null {
    const { size } = fstatSync(fd);
    const window = Buffer.allocUnsafe(FLUSH_BYTES);
    const start = TREE_MAGIC.length + ID_BYTES;
    let [from, filled] = [0, readAll(fd, window, 0)];
    if (
      filled < start ||
      !window.subarray(0, 8).equals(TREE_MAGIC) ||
      Buffer.compare(window.subarray(8, start), root) !== 0
    )
      return null;
    const ids = new IdNumbers();
    const places: number[] = [];
    for (let at = start; at < size; ) {
      if (at + RECORD_HEAD > from + filled) {
        from = at;
        filled = readAll(fd, window, from);
        if (filled < RECORD_HEAD) return null;
      }
      const end = at + RECORD_HEAD + window.readUInt32LE(at - from + ID_BYTES);
      if (end > size) return null;
      places[ids.add(window, at - from)] = at;
      at = end;
    }
    return ids.find(root) >= 0 ? new RememberedTree(fd, root, ids, places) : null;
  }

  bytes(id: Uint8Array): Buffer {
    const place = this.places[this.ids.find(id)];
    if (place === undefined) throw new Error("a remembered tree lacks a node");
    const filled = readAll(this.fd, this.head, place);
    const length = this.head.readUInt32LE(ID_BYTES);
    const bytes = Buffer.allocUnsafe(length);
    const there = this.head.copy(bytes, 0, RECORD_HEAD, Math.min(filled, RECORD_HEAD + length));
    if (
      there < length &&
      readAll(this.fd, bytes.subarray(there), place + RECORD_HEAD + there) < length - there
    )
      throw new Error("a remembered tree became shorter");
    return bytes;
  }

  close(): void {
    closeSync(this.fd);
  }
}

const FLUSH_BYTES = 1024 * 1024;

/** Writes the tree of a run beside the remembered one. */
export class TreeMemory {
  private readonly fd: number;
  private readonly unfinished: string;
  private readonly written = new IdNumbers();
  private waiting: Buffer[] = [];
  private waitingBytes = 0;

  constructor(
    private readonly path: string,
    private readonly previous: RememberedTree | null,
  ) {
    this.unfinished = `${path}.new`;
    this.fd = openSync(this.unfinished, "w", 0o600);
    this.put(Buffer.concat([TREE_MAGIC, Buffer.alloc(ID_BYTES)]));
  }

  private put(bytes: Buffer): void {
    this.waiting.push(bytes);
    this.waitingBytes += bytes.length;
    if (this.waitingBytes >= FLUSH_BYTES) this.flush();
  }

  private flush(): void {
    const all = Buffer.concat(this.waiting);
    for (let at = 0; at < all.length; ) at += writeSync(this.fd, all, at, all.length - at);
    this.waiting = [];
    this.waitingBytes = 0;
  }

  /** Keeps a node; without bytes it is taken over from the previous tree. */
  keep(id: Uint8Array, bytes: Uint8Array | null): void {
    const { count } = this.written;
    this.written.add(id);
    if (this.written.count === count) return;
    const content = bytes ?? this.previous!.bytes(id);
    const head = Buffer.alloc(RECORD_HEAD);
    head.set(id);
    head.writeUInt32LE(content.length, ID_BYTES);
    this.put(Buffer.concat([head, content]));
  }

  /** Makes this the remembered tree. */
  commit(root: Uint8Array): void {
    this.flush();
    writeSync(this.fd, root, 0, ID_BYTES, TREE_MAGIC.length);
    closeSync(this.fd);
    this.previous?.close();
    renameSync(this.unfinished, this.path);
  }

  discard(): void {
    closeSync(this.fd);
    this.previous?.close();
    rmSync(this.unfinished, { force: true });
  }
}
