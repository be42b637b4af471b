import { createHash } from "node:crypto";
import { RateLimiterPostgres, type RateLimiterRes } from "rate-limiter-flexible";
import type { Database } from "@/db/base/scope";
import { Problem } from "../base/problem";

/** What can be guessed, how often (points) and in how many seconds (duration). */
const LIMITS = {
  /** A password, and a code of the second factor, by the address of the account. */
  "sign-in": { points: 10, duration: 900 },
  /** The same by network address. */
  "sign-in address": { points: 50, duration: 900 },
  /** A person's own password, asked again for a change, and codes beside it. */
  "own password": { points: 10, duration: 900 },
  /** The passphrase of a client's key. */
  passphrase: { points: 10, duration: 900 },
  /** Enrolment codes, by network address. */
  enrolment: { points: 20, duration: 900 },
  /** Name and password of a viewing, by network address. */
  viewing: { points: 50, duration: 900 },
} as const;
export type Guessed = keyof typeof LIMITS;

/**
 * Counts attempts in the database, before they are evaluated: parallel ones are all counted, and every web process counts
 * the same. What turned out right is given back.
 */
export class Attempts {
  private readonly limiters: ReadonlyMap<Guessed, RateLimiterPostgres>;

  constructor(db: Pick<Database, "pool">) {
    const names = Object.keys(LIMITS) as Guessed[];
    this.limiters = new Map(
      names.map((name) => [
        name,
        new RateLimiterPostgres({
          storeClient: db.pool,
          storeType: "pool",
          tableName: "rate_limits",
          tableCreated: true,
          keyPrefix: name,
          // whoever runs out is held off as long as the others
          ...LIMITS[name],
        }),
      ]),
    );
  }

  /** Takes an attempt. Throws `request.too-many` when there were too many. */
  async take(what: Guessed, by: string): Promise<void> {
    try {
      await this.limiters.get(what)!.consume(keyOf(by));
    } catch (refused) {
      if (refused instanceof Error) throw refused;
      const seconds = Math.ceil(((refused as RateLimiterRes).msBeforeNext ?? 1000) / 1000);
      throw new Problem(
        "request.too-many",
        `Too many attempts. Try again in ${Math.ceil(seconds / 60)} minutes.`,
        [],
        { "retry-after": String(seconds) },
      );
    }
  }

  /** Gives back an attempt that was right. */
  async giveBack(what: Guessed, by: string): Promise<void> {
    await this.limiters.get(what)!.reward(keyOf(by));
  }

  /** Forgets all attempts: whoever made them has shown who they are. */
  async forget(what: Guessed, by: string): Promise<void> {
    await this.limiters.get(what)!.delete(keyOf(by));
  }
}

/** Addresses of people are not kept. */
const keyOf = (by: string): string => createHash("sha256").update(by).digest("base64url");
