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
    /** Moment of the point as it is put into names: `2026-11-17 18.05`. */
    readonly momentLabel: string;
  }[];
  /** A folder of the target, names separated by slashes; null: where everything was. */
  readonly folder: string | null;
  /** What becomes of an item whose name is taken, where the kind gives a choice. */
  readonly clash?: "keep-both" | "replace" | "skip";
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
  /** Of `files`, those that were restored beside an existing item, and those that replaced one. */
  readonly keptBoth?: number;
  readonly replaced?: number;
}

/** Access that a person grants at the server's own page (OAuth 2.0). */
export interface GrantAccess<Settings> {
  /** The page to send the browser to, and what is kept secret until it returns to `redirectUri` with `state`. */
  begin(
    connection: OpenConnection<Settings>,
    redirectUri: string,
    state: string,
  ): Promise<{ readonly url: string; readonly verifier: string }>;
  /** Exchanges what it returned with for the connection's secret. Throws CodedErrors of the `source.` codes. */
  complete(
    connection: OpenConnection<Settings>,
    redirectUri: string,
    state: string,
    verifier: string,
    returned: URLSearchParams,
  ): Promise<string>;
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
  /** Present where a person's grant can take the place of a password: `isGranted` of the settings tells whether it does. */
  readonly grant?: GrantAccess<Settings>;
}
