import { openSpan } from "../schedule/windows";
import type { BandwidthHours } from "./conduct";

/** The lowest limit that holds at a moment, in bytes a second; null where none does. */
export function capAt(limits: readonly BandwidthHours[], zone: string, at: Date): number | null {
  const holding = limits.filter(({ hours }) => {
    if (!hours) return true;
    return openSpan([hours], zone, at) !== null;
  });
  return holding.length ? Math.min(...holding.map((limit) => limit.kibPerSecond)) * 1024 : null;
}
