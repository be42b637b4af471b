import { CodedError } from "@/core/codes";
import { besideName } from "@/sources/beside-name";
import { fileBytes, findEntry, walkTree } from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import { type ByteString, byteString, type Entry, showBytes } from "@/store/tree/tree";
import type { RestoreResult, RestoreWork } from "../network";
import type { LibraryClient, LibraryItem, Precondition } from "./client";
import { versionOf } from "./reader";

/** So many files are on their way at once. */
const AT_ONCE = 3;
/** So many restored versions of one file are kept side by side. */
const BESIDE_MOST = 100;
/** Errors that concern one file: the others go on. */
const OF_ONE_FILE: ReadonlySet<string> = new Set(["restore.message-rejected", "store.damaged"]);

interface Planned {
  readonly store: ChunkReader;
  readonly entry: Entry;
  /** Where it was, for the log. */
  readonly from: ByteString;
  /** Where it goes, below the library. */
  readonly to: ByteString;
  readonly label: string;
}
type Done = "restored" | "beside" | "replaced" | "present";

const parentOf = (path: ByteString): ByteString => path.slice(0, path.lastIndexOf("/"));
const nameOf = (path: ByteString): ByteString => path.slice(path.lastIndexOf("/") + 1);

/**
 * Restores files and folders of recovery points into a library. A file that is there with the same content is left, so that
 * a restore can be repeated. Of a file that differs both are kept, or the one that is there is replaced if it is still the
 * one that was looked at, or it is left. Nothing is deleted.
 */
export async function restoreLibrary(
  client: LibraryClient,
  root: ByteString,
  work: RestoreWork,
): Promise<RestoreResult> {
  const { folders, files } = await planOf(work);
  work.expect(
    files.length,
    files.reduce((sum, { entry }) => sum + (entry.size ?? 0), 0),
  );
  const result = { files: 0, folders: 0, bytes: 0, present: 0, cautions: 0, keptBoth: 0, replaced: 0 };
  const target = new Target(client, root);
  for (const folder of folders) {
    work.signal.throwIfAborted();
    try {
      result.folders += await target.reach(folder);
    } catch (error) {
      if (!(error instanceof CodedError) || !OF_ONE_FILE.has(error.code)) throw error;
      result.cautions += 1;
      work.log("caution", error.code, folder, error.message);
    }
  }
  const waiting = [...files];
  const worker = async () => {
    for (let next = waiting.shift(); next; next = waiting.shift()) {
      work.signal.throwIfAborted();
      await one(next);
    }
  };
  const one = async (planned: Planned) => {
    const bytes = planned.entry.size ?? 0;
    try {
      result.folders += await target.reach(parentOf(planned.to));
      const { done, as } = await target.restore(planned, work.clash ?? "keep-both");
      if (done === "present") result.present += 1;
      else {
        result.files += 1;
        result.bytes += bytes;
        if (done === "beside") result.keptBoth += 1;
        if (done === "replaced") result.replaced += 1;
      }
      work.log("info", null, planned.from, WORDS[done](showBytes(as)));
    } catch (error) {
      if (!(error instanceof CodedError) || !OF_ONE_FILE.has(error.code)) throw error;
      result.cautions += 1;
      work.log("caution", error.code, planned.from, error.message);
    }
    work.progress.items += 1;
    work.progress.bytes += bytes;
  };
  const workers = await Promise.allSettled(Array.from({ length: AT_ONCE }, worker));
  const failed = workers.find((settled) => settled.status === "rejected");
  if (failed) throw failed.reason;
  return result;
}

const WORDS: Readonly<Record<Done, (as: string) => string>> = {
  restored: (as) => `restored as ${as}`,
  beside: (as) => `restored beside the existing file, as ${as}`,
  replaced: (as) => `${as} replaced`,
  present: (as) => `${as} is kept as it is`,
};

/** The folders and files of a basket, each with its place in the library; a folder comes before what is in it. */
async function planOf(work: RestoreWork): Promise<{ folders: ByteString[]; files: Planned[] }> {
  const base = work.folder === null ? null : `/${byteString(work.folder)}`;
  const folders = new Set<ByteString>();
  const files = new Map<ByteString, Planned>();
  const add = (store: ChunkReader, label: string, entry: Entry, from: ByteString, to: ByteString) => {
    if (entry.type === "folder") folders.add(to);
    else if (entry.type === "file") {
      // one place may be named twice in one basket, of two moments
      let place = to;
      for (let number = 1; files.has(place) && number < BESIDE_MOST; number += 1)
        place = `${parentOf(to)}/${besideName(nameOf(to), label, number)}`;
      files.set(place, { store, entry, from, to: place, label });
    }
  };
  for (const { store, root, path, momentLabel } of work.items) {
    if (base) folders.add(base);
    if (path === "/") {
      for await (const { path: at, entry } of walkTree(store, root, "/"))
        add(store, momentLabel, entry, at, `${base ?? ""}${at}`);
      continue;
    }
    const entry = await findEntry(store, root, path);
    if (!entry) throw new CodedError("not-found", `the recovery point has no ${showBytes(path)}`);
    const to = base === null ? path : `${base}/${nameOf(path)}`;
    add(store, momentLabel, entry, path, to);
    if (entry.node)
      for await (const inside of walkTree(store, entry.node, "/"))
        add(store, momentLabel, inside.entry, path + inside.path, to + inside.path);
  }
  return { folders: [...folders].sort(), files: [...files.values()] };
}

/** What a library has where things are restored to. */
class Target {
  private readonly reached = new Map<ByteString, Promise<number>>();

  constructor(
    private readonly client: LibraryClient,
    private readonly root: ByteString,
  ) {}

  /** Creates a folder and those above it where they are missing; returns how many were created by this call. */
  async reach(folder: ByteString): Promise<number> {
    if (folder === "" || folder === "/") return 0;
    const known = this.reached.get(folder);
    if (known) return known.then(() => 0);
    const made = this.make(folder);
    this.reached.set(folder, made);
    return made;
  }

  private async make(folder: ByteString): Promise<number> {
    const above = await this.reach(parentOf(folder));
    const there = await this.client.look(this.root + folder);
    if (there?.folder) return above;
    if (there)
      throw new CodedError(
        "restore.message-rejected",
        `${showBytes(folder)} is a file in the library, not a folder`,
      );
    const made = await this.client.makeFolder(this.root + folder);
    return above + (made === "created" ? 1 : 0);
  }

  async restore(
    planned: Planned,
    clash: "keep-both" | "replace" | "skip",
  ): Promise<{ done: Done; as: ByteString }> {
    const { to, label } = planned;
    for (let number = 0; number <= BESIDE_MOST; number += 1) {
      const as = number === 0 ? to : `${parentOf(to)}/${besideName(nameOf(to), label, number)}`;
      const there = await this.client.look(this.root + as);
      if (!there) {
        if ((await this.put(planned, as, { nothing: true })) === "stored")
          return { done: number === 0 ? "restored" : "beside", as };
        // somebody put something there meanwhile: it is looked at once more
        number -= 1;
        continue;
      }
      if (await this.isSame(planned, as, there)) return { done: "present", as };
      if (clash === "skip") return { done: "present", as };
      if (clash === "keep-both") continue;
      if (there.folder)
        throw new CodedError(
          "restore.message-rejected",
          `${showBytes(as)} is a folder in the library, not a file`,
        );
      // a weak ETag matches nothing (RFC 9110, section 13.1.1)
      const etag = there.etag && !there.etag.startsWith("W/") ? there.etag : "*";
      if ((await this.put(planned, as, { etag })) === "stored") return { done: "replaced", as };
      throw new CodedError(
        "restore.message-rejected",
        `${showBytes(as)} was changed in the meantime; it is kept`,
      );
    }
    throw new CodedError(
      "restore.message-rejected",
      `the library has ${BESIDE_MOST} restored versions already`,
    );
  }

  private put({ store, entry }: Planned, as: ByteString, precondition: Precondition) {
    return this.client.put(this.root + as, entry.size ?? 0, () => fileBytes(store, entry), precondition);
  }

  /** Whether the library has this content at the path. */
  private async isSame({ store, entry }: Planned, as: ByteString, there: LibraryItem): Promise<boolean> {
    if (there.folder || (there.size !== null && there.size !== (entry.size ?? 0))) return false;
    if (there.etag !== null && entry.inode !== undefined && versionOf(there) === entry.inode) return true;
    const { stream, ended } = await this.client.open(this.root + as);
    try {
      const theirs = stream[Symbol.asyncIterator]() as AsyncIterator<Buffer>;
      let held: Buffer = Buffer.alloc(0);
      for await (let ours of fileBytes(store, entry))
        while (ours.length > 0) {
          if (held.length === 0) {
            const next = await theirs.next();
            if (next.done) return false;
            held = next.value;
          }
          const length = Math.min(held.length, ours.length);
          if (!held.subarray(0, length).equals(ours.subarray(0, length))) return false;
          held = held.subarray(length);
          ours = ours.subarray(length);
        }
      const rest = held.length > 0 ? { done: false } : await theirs.next();
      if (!rest.done) return false;
      await ended;
      return true;
    } finally {
      stream.destroy();
    }
  }
}
