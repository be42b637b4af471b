import { AsyncLocalStorage } from "node:async_hooks";
import { randomUUID } from "node:crypto";
import type { ClientId } from "@/core/ids";
import type { Database } from "@/db/base/scope";
import { forgetRunners, lentKey, seeRunner, websThere } from "@/db/clients/keys";
import { makeKeyPair, openSealed } from "@/store/seal/secrets";

/** Keys of clients without escrow, where somebody gave the passphrase. Gone with the session. */
export interface UnlockedKeys {
  /** The key if it is open to whoever is being served now. */
  keyOf(clientId: ClientId): Promise<Buffer | null>;
}

const serving = new AsyncLocalStorage<string>();

/** Does something for a session (the hash of its token): keys that it opened are open meanwhile. */
export const asSession = <T>(session: string | null, work: () => T): T =>
  session === null ? work() : serving.run(session, work);
/** The session that is being served, or null. */
export const sessionServed = (): string | null => serving.getStore() ?? null;

const RUNNER_GONE_MS = 5 * 60_000;
/** A runner says so often that it is there. */
export const RUNNER_BEAT_MS = 20_000;
/** So long after its last word a runner still counts as there. */
export const RUNNER_THERE_MS = 60_000;

/**
 * Keys that sessions opened by a passphrase, lent to a process: sealed to a pair that is in its memory alone. A web process
 * opens them for the session that it serves, whichever web process the passphrase was given to; a runner for every run.
 */
export class LentKeys implements UnlockedKeys {
  readonly id = randomUUID();
  private readonly pair = makeKeyPair();
  /** A runner's workers in the queue: what they hold is released when it falls silent. */
  readonly workers = new Set<string>();

  constructor(
    private readonly db: Database,
    private readonly now: () => Date,
    private readonly part: "web" | "runner",
  ) {}

  /** Says that this process is there, and forgets those that fell silent. Returns how many web processes are there. */
  async beat(): Promise<number> {
    const now = this.now();
    return this.db.withScope({ role: "system" }, async (tx) => {
      await seeRunner(
        tx,
        {
          id: this.id,
          publicKey: this.pair.publicKey,
          workers: [...this.workers],
          web: this.part === "web",
        },
        now,
      );
      await forgetRunners(tx, new Date(now.getTime() - RUNNER_GONE_MS));
      return websThere(tx, new Date(now.getTime() - RUNNER_THERE_MS));
    });
  }

  async keyOf(clientId: ClientId): Promise<Buffer | null> {
    const session = this.part === "web" ? sessionServed() : null;
    if (this.part === "web" && session === null) return null;
    const lent = await this.db.withScope({ role: "system" }, (tx) =>
      lentKey(tx, this.id, clientId, session === null ? null : Buffer.from(session, "hex"), this.now()),
    );
    return lent && openSealed(this.pair.privateKey, lent.sealed);
  }
}
