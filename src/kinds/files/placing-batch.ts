import { randomBytes } from "node:crypto";
import { lstatSync, readdirSync, renameSync, rmdirSync, unlinkSync } from "node:fs";
import { CodedError } from "@/core/codes";
import { systemPath } from "@/sources/machine/paths";
import type { Holder } from "@/store/cutting/windows";
import { joinTime, splitTime } from "@/store/tree/times";
import { type ByteString, showBytes } from "@/store/tree/tree";
import { putBytes } from "@/store/write/copy";
import { type Metadata, OwnFolders, type Put, putFile, wellPut, writeAll } from "./put-file";

export interface FileToPlace {
  /** Path of its folder, without a slash at the end. */
  readonly folder: ByteString;
  readonly name: ByteString;
  /** Nobody but this program puts anything into its folder. */
  readonly fresh: boolean;
  readonly metadata: Metadata;
  readonly digest: boolean;
}
export type Placed =
  | Put
  | { readonly code: string | null; readonly coded: boolean; readonly message: string };

/** Files of a batch and their bytes, at most. */
export const BATCH_FILES = 192;
export const BATCH_BYTES = 2 * 1024 * 1024;

/** Shared memory of a batch: the content of files, one after another, and `WORDS` numbers for each file. */
export interface BatchMemory {
  readonly content: Uint8Array;
  readonly numbers: Float64Array;
}
export const makeMemory = (): BatchMemory => ({
  content: new Uint8Array(new SharedArrayBuffer(BATCH_BYTES)),
  numbers: new Float64Array(new SharedArrayBuffer(BATCH_FILES * WORDS * 8)),
});

/** Files that are put in place together. What is sent for each is little, since it adds up. */
export interface Batch {
  readonly memory: BatchMemory;
  /** Shared memory elsewhere that content lies in. */
  readonly elsewhere: readonly SharedArrayBuffer[];
  readonly count: number;
  /** Folders, as the files come to them, and the name of each file, with a NUL after each. */
  readonly folders: readonly ByteString[];
  readonly names: string;
  /** Extended attributes of those files that have some, by their number in the batch. */
  readonly attributes: ReadonlyMap<number, NonNullable<Metadata["xattrs"]>>;
  /** Whose files that are not whole yet they are. */
  readonly mark: string;
}

/**
 * The folder's number; where the content lies (0: in the batch's memory, else elsewhere, counted from 1), from which byte on,
 * its length; fresh, digest; mode, uid, gid, seconds and nanoseconds of the time of last change.
 */
const WORDS = 11;

/** Gathers files into a batch. */
export class BatchBuilder {
  private names = "";
  private readonly folders: ByteString[] = [];
  private readonly attributes = new Map<number, NonNullable<Metadata["xattrs"]>>();
  /** Of the batch's own memory, and of all content. */
  private used = 0;
  private bytes = 0;
  /** Who holds the memory elsewhere, each once. */
  private readonly elsewhere: SharedArrayBuffer[] = [];
  private readonly holders: Holder[] = [];
  count = 0;

  constructor(
    private readonly memory: BatchMemory,
    private readonly mark: string,
  ) {}

  /** Ends rather where another folder begins. */
  hasRoomFor(length: number, folder: ByteString): boolean {
    const share = folder === this.folders.at(-1) ? 1 : 2 / 3;
    return this.count < share * BATCH_FILES && this.bytes + length <= Math.max(length, share * BATCH_BYTES);
  }

  /** Content with a holder is not copied where its memory is shared; it is held until `release`. */
  add(
    { folder, name, fresh, metadata, digest }: FileToPlace,
    pieces: readonly Uint8Array[],
    holder: Holder | null,
  ): void {
    const [where, from, length] = this.place(pieces, holder);
    const { mode, uid, gid, mtime, xattrs } = metadata;
    const [seconds, nanoseconds] = splitTime(mtime);
    const { numbers } = this.memory;
    if (folder !== this.folders.at(-1)) this.folders.push(folder);
    let at = this.count * WORDS;
    numbers[at++] = this.folders.length - 1;
    numbers[at++] = where;
    numbers[at++] = from;
    numbers[at++] = length;
    numbers[at++] = Number(fresh);
    numbers[at++] = Number(digest);
    numbers[at++] = mode;
    numbers[at++] = uid;
    numbers[at++] = gid;
    numbers[at++] = seconds;
    numbers[at] = nanoseconds;
    if (xattrs?.length) {
      // a part of a larger memory would take all of that along
      const attributes = xattrs.map(([name, value]) => [name, Uint8Array.from(value)] as const);
      this.attributes.set(this.count, attributes);
    }
    this.names += `${name}\0`;
    this.count += 1;
    this.bytes += length;
  }

  private place(
    pieces: readonly Uint8Array[],
    holder: Holder | null,
  ): [where: number, from: number, length: number] {
    const [only] = pieces;
    if (holder && pieces.length === 1 && only!.buffer instanceof SharedArrayBuffer) {
      let known = this.elsewhere.indexOf(only!.buffer);
      if (known < 0) {
        holder.hold();
        this.holders.push(holder);
        known = this.elsewhere.push(only!.buffer) - 1;
      }
      return [known + 1, only!.byteOffset, only!.length];
    }
    const from = this.used;
    for (const piece of pieces) {
      putBytes(this.memory.content, this.used, piece);
      this.used += piece.length;
    }
    return [0, from, this.used - from];
  }

  batch(): Batch {
    const { memory, elsewhere, count, folders, names, attributes, mark } = this;
    return { memory, elsewhere, count, folders, names, attributes, mark };
  }

  release(): void {
    for (const holder of this.holders) holder.release();
  }
}

/** A piece of a larger file that is open already. */
export interface PieceToWrite {
  readonly fd: number;
  /** In shared memory. */
  readonly bytes: Uint8Array;
  readonly offset: number;
}

/** Why a piece could not be written; null where it was. */
export type PieceWritten = { readonly code: string | undefined; readonly message: string } | null;

export function writePiece({ fd, bytes, offset }: PieceToWrite): PieceWritten {
  try {
    writeAll(fd, bytes, offset);
    return null;
  } catch (error) {
    return { code: (error as NodeJS.ErrnoException).code, message: (error as Error).message };
  }
}

/** What became of a batch: most files have nothing to tell, and some a digest alone. */
export interface BatchedReport {
  readonly digests: readonly (string | null)[] | null;
  readonly others: ReadonlyMap<number, Placed>;
}

/** What became of a file of a batch by its number. */
export const placedOf = ({ digests, others }: BatchedReport, number: number): Placed =>
  others.get(number) ?? wellPut(digests?.[number] ?? null);

/** Puts files in place, each whole or not at all; what went wrong with one is told beside it. */
export function placeAll(batch: Batch): BatchedReport {
  const { memory, elsewhere, count, folders, names, attributes, mark } = batch;
  const others = new Map<number, Placed>();
  let digests: (string | null)[] | null = null;
  const eachName = names.split("\0");
  const { content, numbers } = memory;
  const own = new OwnFolders();
  try {
    for (let i = 0; i < count; i += 1) {
      let at = i * WORDS;
      const folder = folders[numbers[at++]!]!;
      const [where, from, length] = [numbers[at++]!, numbers[at++]!, numbers[at++]!];
      const bytes =
        where === 0
          ? content.subarray(from, from + length)
          : new Uint8Array(elsewhere[where - 1]!, from, length);
      const [fresh, wantsDigest] = [numbers[at++] === 1, numbers[at++] === 1];
      const [mode, uid, gid] = [numbers[at++]!, numbers[at++]!, numbers[at++]!];
      const mtime = joinTime(numbers[at++]!, numbers[at]!);
      const metadata = { mode, uid, gid, mtime, xattrs: attributes.get(i) };
      const placed = placeOne(folder, eachName[i]!, bytes, metadata, fresh ? own : null, wantsDigest, mark);
      if ("code" in placed || placed.owner !== null || placed.attributes.length) others.set(i, placed);
      else if (placed.digest !== null) {
        digests ??= new Array<string | null>(count).fill(null);
        digests[i] = placed.digest;
      }
    }
  } finally {
    own.close();
  }
  return { digests, others };
}

function placeOne(
  folder: ByteString,
  name: ByteString,
  content: Uint8Array,
  metadata: Metadata,
  /** Where its folder is one of them. */
  own: OwnFolders | null,
  digest: boolean,
  mark: string,
): Placed {
  let unfinished: ByteString | null = null;
  try {
    const put = own?.put(folder, name, content, metadata, digest);
    if (put) return put;
    unfinished = unfinishedIn(folder, mark);
    const named = putFile(unfinished, content, metadata, digest);
    putInPlace(unfinished, `${folder}/${name}`, own !== null);
    return named;
  } catch (error) {
    // what could not be made is not ours
    if (unfinished !== null && (error as NodeJS.ErrnoException).syscall !== "open") tryUnlink(unfinished);
    const coded = error instanceof CodedError;
    return {
      code: (error as NodeJS.ErrnoException).code ?? null,
      coded,
      message: (error as Error).message,
    };
  }
}

/** Names of files that are not whole yet: by the mark of whose they are, random for this thread, then counted. */
const threadMark = randomBytes(6).toString("hex");
let unfinishedCount = 0;
const BEGIN = ".deep-keep-";
const END = ".part";

/** A new name for a file in a folder that has none yet. */
export function unfinishedIn(folder: ByteString, mark: string): ByteString {
  unfinishedCount += 1;
  return `${folder}/${BEGIN}${mark}-${threadMark}-${unfinishedCount}${END}`;
}

/** Paths of what is in a folder under such a name, of one mark; none where it cannot be listed. */
export function unfinishedOf(folder: ByteString, mark: string): ByteString[] {
  let names: ByteString[];
  try {
    names = readdirSync(systemPath(folder || "/"), "latin1");
  } catch {
    return [];
  }
  const ours = names.filter((name) => name.startsWith(`${BEGIN}${mark}-`) && name.endsWith(END));
  return ours.map((name) => `${folder}/${name}`);
}

/** What a thread that places is asked, and what it answers. */
export type PlacingJob = Batch | PieceToWrite;
export type PlacingAnswer = BatchedReport | PieceWritten;

/** Gives what is whole its name. A folder that is there gives way only when it is empty. */
export function putInPlace(unfinished: ByteString, path: ByteString, fresh: boolean): void {
  if (!fresh && lookAt(path)?.isDirectory()) {
    try {
      rmdirSync(systemPath(path));
    } catch (error) {
      tryUnlink(unfinished);
      throw new CodedError("restore.cannot-write", `${showBytes(path)} is a folder that is not empty`, {
        cause: error,
      });
    }
  }
  renameSync(systemPath(unfinished), systemPath(path));
}

export const lookAt = (path: ByteString) => lstatSync(systemPath(path), { throwIfNoEntry: false });

export function tryUnlink(path: ByteString): void {
  try {
    unlinkSync(systemPath(path));
  } catch {
    // it was renamed away, or never made
  }
}
