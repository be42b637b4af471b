import type { Clauses } from "../policy/clauses";
import { decideRetention } from "../retention/decide";
import { type Due, longestPause, nextRuns } from "../schedule/schedule";
import { openSpan } from "../schedule/windows";
import { zoned } from "../units/zoned";
import { type Advice, adviceOn } from "./advice";
import type { Band, ClientFacts, DepotFacts, SourceFacts, SpaceAt } from "./facts";
import { keptCount } from "./kept-count";

/** What would follow from a set of clauses for the sources that they touch. Plain computation, asked at each keystroke. */
export interface Wish {
  readonly clauses: Partial<Clauses>;
  readonly client: ClientFacts | null;
  readonly providerZone: string;
  readonly sources: readonly SourceFacts[];
  readonly depots: readonly DepotFacts[];
  readonly now: Date;
}

export interface InventedPoint {
  readonly moment: Date;
  readonly reason: string | null;
  readonly keep: boolean;
}

export interface Consequences {
  readonly next: readonly Due[];
  /** The two zones show different clocks at one of those moments. */
  readonly zonesDiffer: boolean;
  readonly sources: number;
  /** What all sources take up now, and after 30, 90 and 365 days; null where nothing is known of their growth yet. */
  readonly spaceNow: number;
  readonly space: readonly SpaceAt[] | null;
  /** Points as they would stand after a year, the newest first, and those that would have gone by then, in part. */
  readonly points: readonly InventedPoint[];
  readonly pointsAfterYear: number;
  /** Of each hour of the day by the client's clock: runs a day that begin in it, and the minutes that they take together. */
  readonly load: readonly { readonly runs: number; readonly minutes: number; readonly bytes: number }[];
  /** Minutes until the largest source is back, at the rate of its own runs; null where none is known. */
  readonly restoreMinutes: number | null;
  readonly advice: readonly Advice[];
}

const DAY_MS = 86_400_000;
export const HORIZONS = [30, 90, 365] as const;
const NEXT_RUNS = 10;
const WEEK_RUNS_MOST = 2100;
/** 80 % of a normal distribution lie within this many standard deviations. */
const EIGHT_OF_TEN = 1.28;

const clock = zoned("en-GB", { hour: "2-digit", minute: "2-digit", day: "2-digit" });

/** How a set of sources grows under a schedule and a retention. Null when nothing of any of them is known. */
export function spaceAfter(
  sources: readonly SourceFacts[],
  retention: Clauses["howLong"],
  runsPerDay: number,
  days: number,
  now: Date,
): Band | null {
  let mid = 0;
  let variance = 0;
  let doubt = 0;
  let known = false;
  for (const source of sources) {
    if (source.points === 0 || !source.oldest) continue;
    known = true;
    const age = Math.max(0, (now.getTime() - source.oldest.getTime()) / DAY_MS);
    const added = source.addedMean ?? 0;
    // what stays for good is growth; the rest of what a run adds goes with its point
    const lasting = Math.max(0, Math.min(added, (source.grownPerDay ?? 0) / Math.max(runsPerDay, 0.01)));
    const passing = added - lasting;
    const runs = runsPerDay * days;
    const kept = Math.min(keptCount(retention, age + days, runsPerDay), source.points + runs);
    mid += Math.max(
      source.storedBytes - passing * Math.max(0, source.points - 1),
      source.storedBytes + lasting * runs + passing * (kept - source.points),
    );
    variance += (source.addedSpread ?? added) ** 2 * Math.max(1, kept);
    // a dropped point leaves behind what later ones share with it
    doubt += passing * Math.max(0, runs - Math.max(0, kept - source.points)) * 0.1;
  }
  if (!known) return null;
  const half = EIGHT_OF_TEN * Math.sqrt(variance);
  return { low: Math.max(0, mid - half), mid, high: mid + half + doubt };
}

export function consequencesOf(wish: Wish): Consequences {
  const { clauses, client, providerZone, sources, now } = wish;
  const zone = client?.zone ?? providerZone;
  const { when, howLong } = clauses;
  const next = when ? nextRuns(when, zone, now, NEXT_RUNS, { anchor: now }) : [];
  const { runs: week, days: span } = when ? coming(when, zone, now) : { runs: [], days: 28 };
  const runsPerDay = week.length / span;
  const spaces =
    howLong && when
      ? HORIZONS.map((days) => ({ days, band: spaceAfter(sources, howLong, runsPerDay, days, now) }))
      : [];
  const space =
    spaces.length && spaces.every(({ band }) => band)
      ? spaces.map(({ days, band }) => ({ days, ...band! }))
      : null;
  const spaceNow = sources.reduce((sum, source) => sum + source.storedBytes, 0);
  const points = howLong && when ? inventedPoints(when, howLong, zone, now, runsPerDay) : [];
  const minutes = sources.reduce((sum, source) => sum + (source.usualMinutes ?? 0), 0);
  const bytes = sources.reduce((sum, source) => sum + (source.addedMean ?? 0), 0);
  const hours = Array.from({ length: 24 }, () => 0);
  for (const { at } of week) hours[hourIn(at, zone)]! += 1 / Math.max(1, span);
  const restores = sources
    .filter((source) => source.readRate)
    .map((source) => source.bytes / source.readRate! / 60);
  return {
    next,
    zonesDiffer: next.some(({ at }) => clock(at, zone) !== clock(at, providerZone)),
    sources: sources.length,
    spaceNow,
    space,
    points,
    pointsAfterYear: howLong && when ? afterYear(when, howLong, zone, now, runsPerDay) : 0,
    load: hours.map((share) => ({
      runs: share * sources.length,
      minutes: share * minutes,
      bytes: share * bytes,
    })),
    restoreMinutes: restores.length ? Math.max(...restores) : null,
    advice: adviceOn({
      clauses,
      client,
      sources,
      depots: wish.depots,
      pause: when ? longestPause(when, now) : null,
      windowMinutes: when ? shortestWindow(when, next, zone) : null,
      spaceNow,
      space,
    }),
  };
}

/** Days over which runs are counted, until there are enough of them to tell their pace. */
const SPANS = [28, 366, 5 * 366] as const;
const ENOUGH = 12;

/** The coming runs, over as many days as it takes to tell their pace. */
function coming(when: Clauses["when"], zone: string, now: Date): { runs: readonly Due[]; days: number } {
  for (const days of SPANS) {
    const until = new Date(now.getTime() + days * DAY_MS);
    const runs = nextRuns(when, zone, now, WEEK_RUNS_MOST, { anchor: now, until });
    // what comes every minute fills the list before the days are over
    if (runs.length === WEEK_RUNS_MOST)
      return { runs, days: Math.max(1 / 1440, (runs.at(-1)!.at.getTime() - now.getTime()) / DAY_MS) };
    if (runs.length >= ENOUGH || days === SPANS.at(-1)) return { runs, days };
  }
  return { runs: [], days: SPANS[0] };
}

/** So many runs of a year are gone through one by one: one in five minutes, nearly. */
const SIMULATED_MOST = 100_000;

/** How many points there are after a year that begins now with none, as runs and retention would have it. */
function afterYear(
  when: Clauses["when"],
  retention: Clauses["howLong"],
  zone: string,
  now: Date,
  runsPerDay: number,
): number {
  if (runsPerDay * 365 > SIMULATED_MOST) return Math.round(keptCount(retention, 365, runsPerDay));
  const until = new Date(now.getTime() + 365 * DAY_MS);
  const made = nextRuns(when, zone, now, SIMULATED_MOST + 1000, { anchor: now, until });
  const points = made.map(({ at }, i) => ({ id: String(i), moment: at }));
  return decideRetention(points, retention, until, zone).filter((one) => one.keep).length;
}

const hour = zoned("en-GB", { hour: "2-digit", hourCycle: "h23" });
const hourIn = (moment: Date, zone: string): number => Number(hour(moment, zone));

/** Of the next runs, the least time that one has before its window closes, in minutes. */
function shortestWindow(when: Clauses["when"], next: readonly Due[], zone: string): number | null {
  const lengths = next.flatMap(({ at }) => {
    const closes = openSpan(when.windows, zone, at)?.closes;
    return closes ? [(closes.getTime() - at.getTime()) / 60_000] : [];
  });
  if (when.stopAfterHours !== null) lengths.push(when.stopAfterHours * 60);
  return lengths.length ? Math.min(...lengths) : null;
}

const INVENTED_MOST = 800;

/**
 * A year of runs as the schedule would have made them, and what the retention says of each. Where runs come oftener than
 * a day can show, some stand for many.
 */
function inventedPoints(
  when: Clauses["when"],
  retention: Clauses["howLong"],
  zone: string,
  now: Date,
  runsPerDay: number,
): InventedPoint[] {
  if (runsPerDay === 0) return [];
  const days = Math.min(366, Math.max(2, INVENTED_MOST / runsPerDay));
  const start = new Date(now.getTime() - days * DAY_MS);
  const made = nextRuns(when, zone, start, INVENTED_MOST, { anchor: start, until: now }).map(({ at }, i) => ({
    id: String(i),
    moment: at,
  }));
  const decided = decideRetention(made, retention, now, zone);
  const byId = new Map(decided.map((one) => [one.id, one]));
  return made
    .map(({ id, moment }) => {
      const decision = byId.get(id)!;
      return { moment, keep: decision.keep, reason: decision.keep ? (decision.reason ?? null) : null };
    })
    .reverse();
}
