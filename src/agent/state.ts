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
import type { SnapshotLedger } from "@/sources/files/standing-still";
import type { PreviousTree } from "@/sources/snapshot";
import { ID_BYTES } from "@/store/identity";
import { decodeNode, idKey, type TreeNode } from "@/store/tree";

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
  readonly snapshots: SnapshotLedger = {
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

/** A tree on the disk: magic, root id, then nodes as id, length (u32 LE), bytes. */
export class RememberedTree implements PreviousTree {
  private constructor(
    private readonly fd: number,
    readonly root: Uint8Array,
    private readonly places: ReadonlyMap<string, readonly [offset: number, length: number]>,
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

  private static index(fd: number, root: Uint8Array): RememberedTree | null {
    const { size } = fstatSync(fd);
    const bytes = Buffer.allocUnsafe(size);
    for (let at = 0; at < size; ) {
      const got = readSync(fd, bytes, at, size - at, at);
      if (got === 0) return null;
      at += got;
    }
    const start = TREE_MAGIC.length + ID_BYTES;
    if (
      size < start ||
      !bytes.subarray(0, 8).equals(TREE_MAGIC) ||
      Buffer.compare(bytes.subarray(8, start), root) !== 0
    )
      return null;
    const places = new Map<string, readonly [number, number]>();
    for (let at = start; at < size; ) {
      if (at + RECORD_HEAD > size) return null;
      const length = bytes.readUInt32LE(at + ID_BYTES);
      if (at + RECORD_HEAD + length > size) return null;
      places.set(idKey(bytes.subarray(at, at + ID_BYTES)), [at + RECORD_HEAD, length]);
      at += RECORD_HEAD + length;
    }
    return places.has(idKey(root)) ? new RememberedTree(fd, root, places) : null;
  }

  bytes(id: Uint8Array): Buffer {
    const place = this.places.get(idKey(id));
    if (!place) throw new Error("a remembered tree lacks a node");
    const bytes = Buffer.allocUnsafe(place[1]);
    readSync(this.fd, bytes, 0, place[1], place[0]);
    return bytes;
  }

  node(id: Uint8Array): TreeNode {
    return decodeNode(this.bytes(id));
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
  private readonly written = new Set<string>();
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
    const key = idKey(id);
    if (this.written.has(key)) return;
    this.written.add(key);
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
