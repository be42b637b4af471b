import type { SourceReader } from "@/sources/reader";
import type { Steps } from "@/store/steps";

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

/** What the runner needs of a kind that it reads over the network. */
export interface NetworkAccess<Settings> {
  /** Tests a connection step by step, up to the first step that fails, and lists what it offers. */
  test(connection: OpenConnection<Settings>): Promise<Steps & { readonly found: readonly FoundSource[] }>;
  /** Opens one of its sources for a run. Throws a CodedError of the `source.` codes. */
  open(connection: OpenConnection<Settings>, id: string): Promise<SourceReader>;
}
