import { CodedError } from "@/core/codes";
import { cborDecoder, cborEncoder, frame, unframe } from "../packs/pack";
import type { StoreKeys } from "../seal/keys";
import { HEADER_BYTES, headerOf, readHeader, seal, unseal } from "../seal/sealing";

/** What a recovery point holds, sealed in one object that is written last. */
export interface PointContent {
  readonly sourceId: string;
  readonly sourceName: string;
  readonly machineName: string;
  /** Open: a reader that does not know it shows the point as files. */
  readonly kind: string;
  /** Milliseconds since 1970: the moment the run began to read. */
  readonly moment: number;
  /** Id of the node of the folder `/`. */
  readonly root: Uint8Array;
  readonly counts: PointCounts;
  /** Id of the point before it, 16 bytes, or null. */
  readonly previous: Uint8Array | null;
  /** The clauses in force, as JSON: a depot alone is enough to start again. */
  readonly policy: string;
  readonly policyName?: string | undefined;
  /** Whose it is, so that a catalogue can be made from the depot. */
  readonly client?: PointClient | undefined;
  readonly siteName?: string | undefined;
}

export interface PointClient {
  readonly name: string;
  readonly zone: string;
  readonly region: string;
  readonly contactName: string;
  readonly contactEmail: string;
}

export interface PointCounts {
  readonly files: number;
  readonly folders: number;
  readonly links: number;
  /** Sum of the files' lengths. */
  readonly bytes: number;
}

export function sealPoint(keys: StoreKeys, id: Uint8Array, content: PointContent): Buffer {
  const header = headerOf("point", id);
  const body = frame(cborEncoder.encode(content), 1024);
  return Buffer.concat([header, seal(keys.objectKey(id), 0, header, body)]);
}

/** Opens a point. Throws `store.wrong-key` when nothing of it opens. */
export function openPoint(keys: StoreKeys, bytes: Buffer): { id: Buffer; content: PointContent } {
  const id = Buffer.from(readHeader(bytes, "point"));
  let body: Buffer;
  try {
    body = unseal(keys.objectKey(id), 0, bytes.subarray(0, HEADER_BYTES), bytes.subarray(HEADER_BYTES));
  } catch (error) {
    throw new CodedError("store.wrong-key", "a recovery point does not open", { cause: error });
  }
  return { id, content: cborDecoder.decode(unframe(body)) as PointContent };
}
