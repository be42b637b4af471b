import { DateTime } from "luxon";
import type { Code } from "../codes";
import type { ClientId, ConnectionId, DepotId, SourceId } from "../ids";
import type { Notices } from "../policy/notices";
import type { Outcome } from "../protection/state";
import { localMoment } from "../schedule/local-time";
import { openSpan } from "../schedule/windows";

/** Events of one cause that come within this time become one message. */
export const GATHER_MS = 10_000;

/** When what happens now is told: at once, at the digest's time, or when the quiet hours are over. */
export function noticeDue(notices: Pick<Notices, "digestAt" | "quiet">, zone: string, now: Date): Date {
  if (notices.digestAt) {
    const today = DateTime.fromJSDate(now, { zone }).startOf("day");
    const at = localMoment(today, notices.digestAt).toJSDate();
    return at > now ? at : localMoment(today.plus({ days: 1 }).startOf("day"), notices.digestAt).toJSDate();
  }
  const quiet = notices.quiet && openSpan([{ days: [], ...notices.quiet }], zone, now);
  return quiet?.closes ?? new Date(now.getTime() + GATHER_MS);
}

/** What an event is told by: forty runs that failed for one depot have one cause. */
export function causeOf(event: {
  readonly clientId: ClientId;
  readonly sourceId: SourceId;
  readonly outcome: Outcome;
  readonly code: Code | null;
  readonly depotId: DepotId | null;
  readonly connectionId: ConnectionId | null;
}): string {
  const { outcome, code } = event;
  if (outcome === "clean") return `clean ${event.clientId}`;
  if (code?.startsWith("depot.") || code?.startsWith("place.")) return `${outcome} ${code} ${event.depotId}`;
  if (event.connectionId && code?.startsWith("source.")) return `${outcome} ${code} ${event.connectionId}`;
  if (code?.startsWith("key.")) return `${outcome} ${code} ${event.clientId}`;
  return `${outcome} ${code ?? ""} ${event.sourceId}`;
}
