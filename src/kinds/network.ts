import type { Code } from "@/core/codes";
import type { SourceReader } from "@/sources/reader";
import type { ChunkReader } from "@/store/read/reader";
import type { Steps } from "@/store/steps";
import type { ByteString } from "@/store/tree/tree";
import type { OpenConnection } from "./connection-base";

/** A source that a connection offers. `id` is the server's own and does not change; the name may. */
export interface FoundSource {
  readonly id: string;
  readonly name: string;
}

/** What is to be put back into a source, and to whom it is told. */
export interface RestoreWork {
  readonly items: readonly {
    readonly store: ChunkReader;
    readonly root: Uint8Array;
    readonly path: ByteString;
  }[];
  /** A folder of the target, names separated by slashes; null: where everything was. */
  readonly folder: string | null;
  /** Of a database: the one table that is wanted. */
  readonly table?: { readonly schema: string; readonly name: string } | null;
  /** Of a guest: it runs from the depot at once, and its data is copied meanwhile. */
  readonly start?: boolean;
  readonly runId?: string;
  /** What will pass, as soon as it is known. */
  readonly expect: (items: number, bytes: number) => void;
  readonly log: (
    level: "info" | "caution",
    code: Code | null,
    path: ByteString | null,
    message: string,
  ) => void;
  readonly progress: { items: number; bytes: number };
  readonly signal: AbortSignal;
}

export interface RestoreResult {
  /** Items that were put back, and their bytes. */
  readonly files: number;
  readonly bytes: number;
  /** Folders that were created. */
  readonly folders: number;
  /** Items that were there already. */
  readonly present: number;
  readonly cautions: number;
}

/** A source that is being read: everything that its reader lists in these folders belongs to the recovery point. */
export interface OpenedSource {
  readonly reader: SourceReader;
  readonly folders: readonly ByteString[];
  /** Why all of it is read although there is a recovery point before; null or absent where not. */
  readonly reset?: string | null;
  /** What is worth knowing, for the log. */
  readonly notes?: readonly string[];
}

/** What a run knows of its source besides its connection. */
export interface KnownBefore {
  readonly sourceId: string;
  /** The recovery point before; null for the first, or where it does not open. */
  readonly previous: { readonly store: ChunkReader; readonly root: Uint8Array } | null;
}

/** What the runner needs of a kind that it reads over the network. */
export interface NetworkAccess<Settings, What> {
  /** Tests a connection step by step, up to the first step that fails, and lists what it offers. */
  test(connection: OpenConnection<Settings>): Promise<Steps & { readonly found: readonly FoundSource[] }>;
  /** Opens what a policy protects of one of its sources. Throws a CodedError of the `source.` codes. */
  open(
    connection: OpenConnection<Settings>,
    id: string,
    what: What,
    known: KnownBefore,
  ): Promise<OpenedSource>;
  /**
   * Puts items back into one of its sources, of this or of another connection. Repeating it duplicates nothing. Throws a
   * CodedError of the `source.` and `restore.` codes.
   */
  restore(connection: OpenConnection<Settings>, id: string, work: RestoreWork): Promise<RestoreResult>;
}
