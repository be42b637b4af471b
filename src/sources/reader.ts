import type { ByteString } from "@/store/tree/tree";

/** The owner of what has none of a Unix system, a message say: whoever restores it owns it. */
export const NOBODY_SAID = -1;

/**
 * What a kind of source gives the engine. A reader lists folders and opens files; the engine chunks, compares with the
 * last recovery point and stores. Paths are byte strings that begin with `/`.
 */
export interface Listed {
  readonly name: ByteString;
  /** `other`: a socket, pipe or device; it is noted and passed over. */
  readonly type: "file" | "folder" | "link" | "other";
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
  /** Nanoseconds since 1970. */
  readonly mtime: bigint;
  readonly ctime: bigint;
  readonly inode: bigint;
  readonly size: number;
  /** The size may differ from that of the content; a change shows in times and `inode` alone. */
  readonly roughSize?: boolean;
  /** Bytes that the file takes on the disk; less than `size` where it has holes. */
  readonly allocated: number;
  /** Device and inode of a file with several names. */
  readonly sameFile?: string | undefined;
  /** A file that `openDisk` opens. */
  readonly disk?: boolean;
}

/** Nanoseconds since 1970. */
export const nowNanoseconds = (): bigint => BigInt(Date.now()) * 1_000_000n;

/** What is in a folder. */
export interface Listing {
  /** Nanoseconds since 1970, before any of it was looked at. */
  readonly at: bigint;
  /** In byte order of the names. */
  readonly items: Iterable<Listed>;
}

export interface OpenFile {
  /** Length when it was opened; reading stops there, so that a growing log ends. */
  readonly size: number;
  /** Ranges that have data, in order; null when the file has no holes. */
  readonly extents: readonly (readonly [offset: number, length: number])[] | null;
  /** Fills `into` from `at` with up to `length` bytes from `position`; 0 at the end. */
  read(into: Buffer, at: number, length: number, position: number): number;
  /**
   * Of content that arrives as a stream: what to wait for until `length` bytes or the end are there; null when they are.
   * Its length is known at its end, so `size` is only a limit; it is read in turn.
   */
  pending?(length: number): Promise<void> | null;
  /** True when the file was written to since it was opened. */
  changed(): boolean;
  xattrs(): (readonly [ByteString, Uint8Array])[];
  close(): void;
}

/** A range of bytes. */
export interface ByteRange {
  readonly offset: number;
  readonly length: number;
}

/** A disk at one moment. It is read in any order, several parts at once; stored in chunks of fixed size. */
export interface OpenDisk {
  readonly size: number;
  /** Ranges in order, outside of which it is as it was at the recovery point before; null: not known, all of it is read. */
  readonly changed: readonly ByteRange[] | null;
  /** Ranges of a part that may hold other than zeros, in order. */
  allocated(offset: number, length: number): Promise<readonly ByteRange[]>;
  readInto(into: Buffer, offset: number): Promise<void>;
  close(): void;
}

/** Errors are CodedErrors of the `file.` and `folder.` codes: they concern the one item, and the run goes on. */
export interface SourceReader {
  /** Metadata of one path. Throws `folder.missing` when it is not there. */
  look(path: ByteString): Listed | Promise<Listed>;
  /** What is in a folder; `problem` is called for an entry that cannot be looked at, while the items are gone through. */
  list(path: ByteString, problem: (path: ByteString, error: unknown) => void): Listing | Promise<Listing>;
  open(path: ByteString): OpenFile | Promise<OpenFile>;
  /** Opens what is listed as a disk. */
  openDisk?(path: ByteString): Promise<OpenDisk>;
  /** Where this machine has a file: what has such a place is opened and read by a thread of its own. */
  place?(path: ByteString): ByteString;
  target(path: ByteString): ByteString;
  /** Extended attributes of a folder or link; those of a file come with its content. */
  xattrs(path: ByteString): (readonly [ByteString, Uint8Array])[];
  /** Folders that hold nothing to keep: pseudo file systems, the agent's own state. */
  passesOver(path: ByteString): boolean;
  /** Nothing more is asked for. It may be called again. */
  end?(): void | Promise<void>;
}
