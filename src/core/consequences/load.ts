/** The week over all clients: when whose runs are under way, and what moves where to fit. Minutes from Monday 0:00. */

export const WEEK_MINUTES = 7 * 1440;
export const HOURS = 7 * 24;

/** Runs that begin together: those of one policy. */
export interface LoadGroup {
  readonly id: string;
  readonly name: string;
  readonly client: string;
  /** Depots that its runs write to. */
  readonly depotIds: readonly string[];
  readonly starts: readonly number[];
  readonly sources: number;
  /** How long a run takes, and over how many minutes the sources are spread. */
  readonly minutes: number;
  readonly spread: number;
  /** Bytes that all its sources add each time. */
  readonly bytes: number;
  /** It has one time of day that can be changed, and no window that would hold it. */
  readonly movable: boolean;
}
export interface LoadDepot {
  readonly id: string;
  readonly name: string;
  /** How many runs it takes at once; null: nobody said. */
  readonly atOnce: number | null;
}
/** Minutes by which groups are moved. */
export type Shifts = Readonly<Record<string, number>>;

export interface HourLoad {
  /** The most runs under way at a moment of the hour. */
  readonly peak: number;
  readonly bytes: number;
  readonly collides: boolean;
}

/** More runs than this at once count as a collision where nobody set a limit. */
export const USUAL_AT_ONCE = 4;
/** Nothing is so short that it would not be seen. */
const LEAST_MINUTES = 5;
const SLOT = 5;
const SLOTS = WEEK_MINUTES / SLOT;

const wrap = (minute: number): number => ((minute % WEEK_MINUTES) + WEEK_MINUTES) % WEEK_MINUTES;

/** Runs under way in each five minutes of the week, added to `slots`. */
function lay(group: LoadGroup, shift: number, slots: Float64Array, sign: 1 | -1 = 1): void {
  const length = Math.max(LEAST_MINUTES, group.minutes);
  const span = Math.max(SLOT, group.spread);
  // those that begin in one slot of the spread are laid together
  const steps = Math.max(1, Math.round(span / SLOT));
  const each = group.spread ? group.sources / steps : group.sources;
  for (const start of group.starts)
    for (let step = 0; step < (group.spread ? steps : 1); step += 1) {
      const from = Math.floor(wrap(start + shift + step * SLOT) / SLOT);
      const count = Math.ceil(length / SLOT);
      for (let i = 0; i < count; i += 1) {
        const at = (from + i) % SLOTS;
        slots[at] = slots[at]! + sign * each;
      }
    }
}

const writesTo = (group: LoadGroup, depot: LoadDepot): boolean => group.depotIds.includes(depot.id);

/** The week of one depot by the hour. */
export function weekLoad(groups: readonly LoadGroup[], depot: LoadDepot, shifts: Shifts = {}): HourLoad[] {
  const slots = new Float64Array(SLOTS);
  const bytes = new Float64Array(HOURS);
  for (const group of groups) {
    if (!writesTo(group, depot)) continue;
    const shift = shifts[group.id] ?? 0;
    lay(group, shift, slots);
    for (const start of group.starts) {
      const hour = Math.floor(wrap(start + shift) / 60);
      bytes[hour] = bytes[hour]! + group.bytes;
    }
  }
  const most = depot.atOnce ?? USUAL_AT_ONCE;
  const perHour = 60 / SLOT;
  return Array.from({ length: HOURS }, (_, hour) => {
    const peak = Math.max(...slots.subarray(hour * perHour, (hour + 1) * perHour));
    return { peak: Math.round(peak * 10) / 10, bytes: bytes[hour]!, collides: peak > most + 1e-9 };
  });
}

export const peakOf = (hours: readonly HourLoad[]): number => Math.max(0, ...hours.map((hour) => hour.peak));

const STEP = 15;
const FARTHEST = 180;

/**
 * Times that flatten the peaks: the largest groups first, each where the depots it writes to are quietest, as near to its
 * own time as that allows. Groups that do not collide stay where they are.
 */
export function proposeSpread(groups: readonly LoadGroup[], depots: readonly LoadDepot[]): Shifts {
  const slots = new Map(depots.map((depot) => [depot.id, new Float64Array(SLOTS)]));
  for (const group of groups)
    for (const id of group.depotIds) {
      const of = slots.get(id);
      if (of) lay(group, 0, of);
    }
  const mostOf = new Map(depots.map((depot) => [depot.id, depot.atOnce ?? USUAL_AT_ONCE]));
  const shifts: Record<string, number> = {};
  const order = groups
    .filter((group) => group.movable && group.starts.length > 0)
    .sort((a, b) => b.sources - a.sources);
  for (const group of order) {
    const places = group.depotIds.flatMap((id) => slots.get(id) ?? []);
    const limits = group.depotIds.flatMap((id) => (slots.has(id) ? [mostOf.get(id)!] : []));
    if (places.length === 0) continue;
    const costAt = (shift: number): number => {
      let worst = 0;
      places.forEach((place, i) => {
        const probe = new Float64Array(SLOTS);
        lay(group, shift, probe);
        for (let at = 0; at < SLOTS; at += 1)
          if (probe[at]! > 0) worst = Math.max(worst, (place[at]! + probe[at]!) / limits[i]!);
      });
      return worst;
    };
    for (const place of places) lay(group, 0, place, -1);
    let best = 0;
    let bestCost = costAt(0);
    if (bestCost > 1 + 1e-9)
      for (let distance = STEP; distance <= FARTHEST; distance += STEP)
        for (const shift of [distance, -distance]) {
          const cost = costAt(shift);
          if (cost < bestCost - 1e-9) {
            best = shift;
            bestCost = cost;
          }
          if (bestCost <= 1 + 1e-9) break;
        }
    for (const place of places) lay(group, best, place);
    if (best) shifts[group.id] = best;
  }
  return shifts;
}
