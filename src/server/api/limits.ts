import { RateLimiterMemory } from "rate-limiter-flexible";
import { Problem } from "../base/problem";

/**
 * How much one caller may ask for. Far above what a person or a well-made program does, and far below what keeps others
 * from being served. Signing in and guessing have limits of their own: sign-in.ts, key-holding.ts.
 */
const MINUTE = 60;
/** Requests of one session or token. */
const byCaller = new RateLimiterMemory({ points: 1500, duration: MINUTE });
/** Requests of nobody, from one network address: signing in, invitations, links. */
const byAddress = new RateLimiterMemory({ points: 600, duration: MINUTE });
/** Of these alone: they read a whole depot, or make a document. */
const COSTLY = new Set([
  "searchEntries",
  "searchSource",
  "searchGiven",
  "searchGivenMoments",
  "listChanges",
  "prepareDownload",
  "prepareGivenDownload",
  "measureBasket",
  "measureGiven",
  "sendStatement",
  "openStatementLink",
  "exportTrail",
]);
const costlyByCaller = new RateLimiterMemory({ points: 300, duration: MINUTE });

const LIMITS = [byCaller, byAddress, costlyByCaller].map((limiter) => ({ limiter, points: limiter.points }));
/**
 * Each of several web processes counts for itself and allows its share: a proxy before them spreads requests evenly. Where
 * it leads a session to one of them, that session has the share of one.
 */
export function shareLimits(webs: number): void {
  for (const { limiter, points } of LIMITS) limiter.points = Math.ceil(points / Math.max(1, webs));
}

async function take(limiter: RateLimiterMemory, key: string): Promise<void> {
  try {
    await limiter.consume(key);
  } catch (refused) {
    const seconds = Math.ceil(((refused as { msBeforeNext?: number }).msBeforeNext ?? 1000) / 1000);
    throw new Problem("request.too-many", `Rate limit reached. Try again in ${seconds} s.`);
  }
}

/** Takes one request of whoever asks; throws `request.too-many` where there were too many. */
export async function takeRequest(
  caller: string | null,
  address: string,
  operationId: string,
): Promise<void> {
  await (caller === null ? take(byAddress, address) : take(byCaller, caller));
  if (COSTLY.has(operationId)) await take(costlyByCaller, caller ?? address);
}
