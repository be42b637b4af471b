import { randomUUID } from "node:crypto";
import { z } from "zod";
import { notify } from "@/db/base/notify";
import { insertHandover, newestHandover, resumeCause, setAside, setAsides } from "@/db/sources/watch-notes";
import { type Context, operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import { computeStanding } from "@/server/statements/standing";
import * as shape from "../shapes";
import { momentText, reason } from "./ids";

/** The longest that a cause can be set aside: what is out of sight for longer is forgotten. */
const MOST_DAYS = 31;

/** A cause that concerns further clients is not for somebody who is limited to some: it would be out of sight for all. */
async function refuseSharedCause(context: Context, key: string): Promise<void> {
  const own = context.person!.clientIds;
  if (!own) return;
  const { causes, sources } = await context.services.db.withScope({ role: "system" }, (tx) =>
    computeStanding(tx, {}, context.who.at),
  );
  const touched = new Set(causes.find((one) => one.key === key)?.sourceIds ?? []);
  if (sources.some((one) => touched.has(one.id) && !own.includes(one.clientId)))
    throw new Problem("auth.not-allowed", "This cause also concerns clients that you are not assigned to.");
}

export const watching = [
  operation({
    id: "setAside",
    method: "PUT",
    path: "/watch/set-asides",
    summary: "Postpone a cause until a time, with a reason.",
    caller: "work",
    body: z.object({
      key: z.string().min(1).max(300),
      until: momentText(),
      note: reason,
    }),
    answer: z.object({ until: shape.moment }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        const until = new Date(body.until);
        if (until <= context.who.at) throw invalid("until", "Select a time in the future.");
        if (until.getTime() > context.who.at.getTime() + MOST_DAYS * 86_400_000)
          throw invalid("until", `At most ${MOST_DAYS} days.`);
        const standing = await computeStanding(tx, {}, context.who.at);
        const cause = standing.causes.find((one) => one.key === body.key);
        if (!cause) throw notFound();
        const clientIds = new Set(
          standing.sources.filter((one) => cause.sourceIds.includes(one.id)).map((one) => one.clientId),
        );
        const clientId = clientIds.size === 1 ? [...clientIds][0]! : null;
        await refuseSharedCause(context, cause.key);
        await setAside(tx, {
          key: cause.key,
          clientId,
          title: cause.title,
          until,
          note: body.note,
          setBy: context.who.actor,
          setAt: context.who.at,
        });
        await context.record(tx, clientId, "postponed a cause", cause.title, { until, note: body.note });
        await notify(tx, { kind: "source", clientId, id: cause.sourceIds[0] ?? cause.key });
        return { until };
      }),
  }),
  operation({
    id: "resumeCause",
    method: "POST",
    path: "/watch/set-asides/taken-up",
    summary: "Resume a postponed cause.",
    caller: "work",
    body: z.object({ key: z.string().min(1).max(300) }),
    answer: z.object({ takenUp: z.boolean() }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        const there = (await setAsides(tx, context.who.at)).find((one) => one.key === body.key);
        if (!there) throw notFound();
        await refuseSharedCause(context, body.key);
        if ((await resumeCause(tx, body.key)) === 0) throw notFound();
        await context.record(tx, there.clientId, "resumed a cause", there.title);
        await notify(tx, { kind: "source", clientId: there.clientId, id: there.key });
        return { takenUp: true };
      }),
  }),
  operation({
    id: "readHandover",
    method: "GET",
    path: "/watch/handover",
    summary: "The newest hand-over note.",
    caller: "look",
    answer: z.object({ handover: shape.handover.nullable() }),
    run: (context) => context.tx(async (tx) => ({ handover: await newestHandover(tx) })),
  }),
  operation({
    id: "writeHandover",
    method: "POST",
    path: "/watch/handover",
    summary: "Write a hand-over note.",
    caller: "provider-work",
    status: 201,
    body: z.object({
      text: z.string().trim().min(1, "Enter a note.").max(4000, "4,000 characters at most."),
    }),
    answer: z.object({
      handover: z.object({
        id: z.string(),
        writtenAt: shape.moment,
        writtenBy: z.string(),
        text: z.string(),
      }),
    }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        const handover = {
          id: randomUUID(),
          writtenAt: context.who.at,
          writtenBy: context.who.actor,
          text: body.text,
        };
        await insertHandover(tx, handover);
        await context.record(tx, null, "wrote a hand-over note", "Watch");
        await notify(tx, { kind: "client", clientId: null, id: handover.id });
        return { handover };
      }),
  }),
];
