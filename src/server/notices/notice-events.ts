import { causeOf, noticeDue } from "@/core/notices/due";
import { NO_NOTICES, type NoticeOutcome } from "@/core/policy/notices";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import { insertNoticeEvents, type NoticeEvent } from "@/db/notices/notices";
import type { Run, RunEnd } from "@/db/runs/runs";
import { sourceById } from "@/db/sources/sources";

/** Notes for each recipient of a source's Notices that a backup ended; the runner tells it at its time. */
export async function noteForNotices(tx: Tx, run: Run, end: RunEnd, now: Date): Promise<void> {
  const source = await sourceById(tx, run.sourceId);
  const rules = source?.rules;
  const notices = rules?.notices ?? NO_NOTICES;
  if (!source || !rules || !notices.on.includes(end.outcome as NoticeOutcome)) return;
  if (end.outcome === "missed" && rules.when.missed === "note") return;
  const recipients = [
    ...notices.mail.map((address) => `mail:${address}`),
    ...notices.webhooks.map((id) => `webhook:${id}`),
  ];
  const client = await clientById(tx, run.clientId);
  if (!client || recipients.length === 0) return;
  const event: Omit<NoticeEvent, "recipient"> = {
    clientId: run.clientId,
    sourceId: run.sourceId,
    runId: run.id,
    cause: causeOf({
      ...source,
      clientId: run.clientId,
      sourceId: run.sourceId,
      outcome: end.outcome,
      code: end.code,
      depotId: rules.where.depotId,
    }),
    outcome: end.outcome,
    code: end.code,
    at: now,
    dueAt: noticeDue(notices, client.zone, now),
    digest: notices.digestAt !== null,
  };
  await insertNoticeEvents(
    tx,
    recipients.map((recipient) => ({ ...event, recipient })),
  );
}
