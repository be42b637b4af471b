import type { Code } from "@/core/codes";
import type { SourceReader } from "@/sources/reader";
import type { ChunkReader } from "@/store/read/reader";
import type { Steps } from "@/store/steps";
import type { ByteString } from "@/store/tree/tree";

/** A connection with its secret in the clear. */
export interface OpenConnection<Settings> {
  readonly address: string;
  readonly settings: Settings;
  readonly secret: string;
}

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

/** What the runner needs of a kind that it reads over the network. */
export interface NetworkAccess<Settings> {
  /** Tests a connection step by step, up to the first step that fails, and lists what it offers. */
  test(connection: OpenConnection<Settings>): Promise<Steps & { readonly found: readonly FoundSource[] }>;
  /** Opens one of its sources for a run. Throws a CodedError of the `source.` codes. */
  open(connection: OpenConnection<Settings>, id: string): Promise<SourceReader>;
  /**
   * Puts items back into one of its sources, of this or of another connection. Repeating it duplicates nothing. Throws a
   * CodedError of the `source.` and `restore.` codes.
   */
  restore(connection: OpenConnection<Settings>, id: string, work: RestoreWork): Promise<RestoreResult>;
}
