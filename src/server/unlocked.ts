import { AsyncLocalStorage } from "node:async_hooks";
import { randomUUID } from "node:crypto";
import { forgetRunners, lentKey, seeRunner } from "@/db/keys";
import type { Database } from "@/db/scope";
import { makeKeyPair, openSealed } from "@/store/secrets";

/** Keys of clients without escrow, where somebody gave the passphrase. In memory alone; gone with the session. */
export interface UnlockedKeys {
  /** The key if it is open to whoever is being served now. */
  keyOf(clientId: string): Promise<Buffer | null>;
}

const serving = new AsyncLocalStorage<string>();

/** Does something for a session (the hash of its token): keys that it opened are open meanwhile. */
export const asSession = <T>(session: string | null, work: () => T): T =>
  session === null ? work() : serving.run(session, work);
/** The session that is being served, or null. */
export const sessionServed = (): string | null => serving.getStore() ?? null;

/** Keys that sessions of this web process opened. */
export class SessionKeys implements UnlockedKeys {
  private readonly open = new Map<string, Map<string, { readonly key: Buffer; readonly until: number }>>();

  constructor(private readonly now: () => Date) {}

  add(session: string, clientId: string, key: Buffer, until: Date): void {
    const clients = this.open.get(session) ?? new Map();
    clients.set(clientId, { key, until: until.getTime() });
    this.open.set(session, clients);
  }

  has(session: string | null, clientId: string): boolean {
    const found = session === null ? undefined : this.open.get(session)?.get(clientId);
    return found !== undefined && found.until > this.now().getTime();
  }

  async keyOf(clientId: string): Promise<Buffer | null> {
    const session = sessionServed();
    return this.has(session, clientId) ? this.open.get(session!)!.get(clientId)!.key : null;
  }

  /** The session ended. */
  close(session: string): void {
    this.open.delete(session);
  }

  /** The client's key is held otherwise now, or gone. */
  closeClient(clientId: string): void {
    for (const clients of this.open.values()) clients.delete(clientId);
  }
}

const RUNNER_GONE_MS = 5 * 60_000;
/** A runner says so often that it is there. */
export const RUNNER_BEAT_MS = 20_000;
/** So long after its last word a runner still counts as there. */
export const RUNNER_THERE_MS = 60_000;

/** Keys that are lent to this runner: sealed to a pair that is in its memory alone. */
export class RunnerKeys implements UnlockedKeys {
  readonly id = randomUUID();
  private readonly pair = makeKeyPair();
  /** Its workers in the queue: what they hold is released when it falls silent. */
  readonly workers = new Set<string>();

  constructor(
    private readonly db: Database,
    private readonly now: () => Date,
  ) {}

  /** Says that this runner is there; forgets those that fell silent. */
  async beat(): Promise<void> {
    const now = this.now();
    await this.db.withScope({ role: "system" }, async (tx) => {
      await seeRunner(tx, this.id, this.pair.publicKey, [...this.workers], now);
      await forgetRunners(tx, new Date(now.getTime() - RUNNER_GONE_MS));
    });
  }

  async keyOf(clientId: string): Promise<Buffer | null> {
    const lent = await this.db.withScope({ role: "system" }, (tx) =>
      lentKey(tx, this.id, clientId, this.now()),
    );
    return lent && openSealed(this.pair.privateKey, lent.sealed);
  }
}
