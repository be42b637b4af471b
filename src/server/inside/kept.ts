import { type Decision, decideRetention } from "@/core/retention/decide";
import { zoned } from "@/core/units/zoned";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import { holdsOf } from "@/db/points/holds";
import { type Point, pointsOf } from "@/db/points/points";
import type { Source } from "@/db/sources/sources";

const day = zoned("en-GB", { dateStyle: "medium" });

/**
 * Why each point of a source that was not dropped stays, or why it is to go, by its id in hex. Holds and locks go before
 * the clause How long; of a source that is paused, or to which no rules apply, nothing goes.
 */
export async function whyKept(
  tx: Tx,
  source: Pick<Source, "id" | "clientId" | "rules" | "paused">,
  now: Date,
  points?: readonly Point[],
): Promise<ReadonlyMap<string, Decision>> {
  const there = (points ?? (await pointsOf(tx, source.id))).filter((point) => !point.droppedAt);
  const ids = new Map(there.map((point) => [point, point.id.toString("hex")]));
  const zone = (await clientById(tx, source.clientId))?.zone ?? "UTC";
  const holds = await holdsOf(tx, source.id);
  const held = new Map(holds.map((hold) => [hold.pointId?.toString("hex") ?? null, hold.reason]));
  const idle = !source.rules ? "no rules apply to the source" : source.paused ? "the source is paused" : null;
  const decided = new Map(
    source.rules && !idle
      ? decideRetention(
          there.map((point) => ({
            id: ids.get(point)!,
            moment: point.moment,
            lastCopies: point.lastCopies,
          })),
          source.rules.howLong,
          now,
          zone,
        ).map((decision) => [decision.id, decision])
      : [],
  );
  return new Map(
    there.map((point) => {
      const id = ids.get(point)!;
      const hold = held.get(null) ?? held.get(id) ?? null;
      return [
        id,
        withReasons(id, decided.get(id), { hold, lockedUntil: point.lockedUntil, idle }, now, zone),
      ];
    }),
  );
}

/** What keeps a point besides the rules, or with none (`idle`: why no rules decide). A lock's last moment is not in it. */
export function withReasons(
  id: string,
  byRule: Decision | undefined,
  other: { readonly hold: string | null; readonly lockedUntil: Date | null; readonly idle: string | null },
  now: Date,
  zone: string,
): Decision {
  if (byRule?.keep) return byRule;
  const { hold, lockedUntil, idle } = other;
  const why =
    hold !== null
      ? `held: ${hold}`
      : lockedUntil && lockedUntil > now
        ? `locked until ${day(lockedUntil, zone)}`
        : idle;
  return why === null ? byRule! : { id, keep: true, reason: why };
}

/** A decision as it is shown beside its point; null for a point that was dropped. */
export const whyWords = (decision: Decision | undefined): string | null =>
  decision ? (decision.keep ? decision.reason : `${decision.reason}; it is dropped by the next run`) : null;

/** Points one after the other that have the same reason, newest first. */
export interface KeptTogether {
  readonly why: string;
  readonly points: number;
  readonly newest: Date;
  readonly oldest: Date;
}
export function keptTogether(
  points: readonly Point[],
  decisions: ReadonlyMap<string, Decision>,
): readonly KeptTogether[] {
  const groups: KeptTogether[] = [];
  for (const point of points) {
    const why = whyWords(decisions.get(point.id.toString("hex")));
    if (why === null) continue;
    const last = groups.at(-1);
    if (last?.why === why)
      groups[groups.length - 1] = { ...last, points: last.points + 1, oldest: point.moment };
    else groups.push({ why, points: 1, newest: point.moment, oldest: point.moment });
  }
  return groups;
}
