import { randomUUID } from "node:crypto";
import { z } from "zod";
import { notify } from "@/db/base/notify";
import { clientById } from "@/db/clients/clients";
import { absencesOf, deleteAbsence, insertAbsence } from "@/db/depots/absences";
import { depotById, grantOf, listGrants } from "@/db/depots/depots";
import { holdsOf, liftHold, placeHold } from "@/db/points/holds";
import { pointById } from "@/db/points/points";
import { CHECK_DEPTHS, checksOf, damagesOf } from "@/db/runs/checks";
import { sourceById } from "@/db/sources/sources";
import { requestCheck } from "@/runs/check";
import { requestDrill } from "@/runs/drills";
import { operation } from "@/server/api/operation";
import { invalid, notFound } from "@/server/base/problem";
import * as shape from "../shapes";
import { depotParam, momentText, reason, sourceParam, uuid } from "./ids";

/** What keeps recovery points safe: checks of depots, and holds. */
export const keeping = [
  operation({
    id: "requestCheck",
    method: "POST",
    path: "/depots/{depotId}/grants/{clientId}/checks",
    summary: "Check a client's data in a depot: objects, trees, or every byte.",
    caller: "work",
    status: 202,
    params: z.object({ depotId: uuid, clientId: uuid }),
    body: z.object({ depth: z.enum(CHECK_DEPTHS).default("trees") }),
    answer: z.object({ checkId: z.string() }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const depot = await depotById(tx, params.depotId);
        if (!depot || !(await clientById(tx, params.clientId))) throw notFound();
        if (!(await grantOf(tx, depot.id, params.clientId))) throw notFound();
        const space = { depotId: depot.id, depotName: depot.name, clientId: params.clientId };
        return { checkId: await requestCheck(tx, context.who, space, body.depth) };
      }),
  }),
  operation({
    id: "requestDrill",
    method: "POST",
    path: "/sources/{sourceId}/drills",
    summary: "Run a drill now: a recovery point is restored on the runner and compared with the stored data.",
    caller: "work",
    status: 202,
    params: sourceParam,
    answer: z.object({ run: shape.run }),
    run: (context, { params }) =>
      context.tx(async (tx) => ({ run: await requestDrill(tx, context.who, params.sourceId) })),
  }),
  operation({
    id: "listChecks",
    method: "GET",
    path: "/depots/{depotId}/checks",
    summary: "Checks of a depot, newest first, and the known damage.",
    caller: "look",
    pages: { of: "checks" },
    params: depotParam,
    answer: z.object({
      checks: shape.list(
        z.object({
          id: z.string(),
          clientId: z.string(),
          depotId: z.string(),
          depth: z.enum(["bytes", "objects", "trees"]),
          requestedBy: z.string(),
          requestedAt: shape.moment,
          startedAt: shape.moment.nullable(),
          endedAt: shape.moment.nullable(),
          outcome: z.enum(["clean", "failed", "damage"]).nullable(),
          message: z.string().nullable(),
          figures: z.record(z.string(), z.number()),
          verified: shape.verifiedTo.nullable(),
          clientName: z.string(),
        }),
      ),
      damages: shape.list(
        z.object({
          clientId: z.string(),
          objectId: z.string(),
          object: z.enum(["point", "pack"]),
          foundAt: shape.moment,
          detail: z.string(),
          touches: shape.list(z.object({ pointId: z.string(), path: z.string() })),
        }),
      ),
    }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        if (!(await depotById(tx, params.depotId))) throw notFound();
        const damages = [];
        for (const grant of await listGrants(tx)) {
          if (grant.depotId !== params.depotId) continue;
          for (const damage of await damagesOf(tx, grant.spaceId))
            damages.push({
              ...damage,
              clientId: grant.clientId,
              objectId: damage.objectId.toString("hex"),
            });
        }
        return { checks: await checksOf(tx, params.depotId, null, 5000), damages };
      }),
  }),
  operation({
    id: "planAbsence",
    method: "POST",
    path: "/depots/{depotId}/absences",
    summary: "Plan an absence of a depot. Runs to it wait until it ends.",
    caller: "provider-work",
    status: 201,
    params: depotParam,
    body: z
      .object({
        from: momentText("Enter the start."),
        to: momentText("Enter the end."),
        note: z
          .string()
          .trim()
          .min(1, "Enter a note, such as its location.")
          .max(200, "200 characters at most."),
      })
      .refine(({ from, to }) => new Date(from) < new Date(to), {
        message: "It is back after it left.",
        path: ["to"],
      }),
    answer: z.object({
      absence: z.object({
        id: z.string(),
        depotId: z.string(),
        from: shape.moment,
        to: shape.moment,
        note: z.string(),
        createdBy: z.string(),
      }),
    }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const depot = await depotById(tx, params.depotId);
        if (!depot) throw notFound();
        if (new Date(body.to) <= context.who.at) throw invalid("to", "This is over already.");
        const absence = {
          id: randomUUID(),
          depotId: depot.id,
          from: new Date(body.from),
          to: new Date(body.to),
          note: body.note,
          createdBy: context.who.actor,
        };
        await insertAbsence(tx, absence, context.who.at);
        await context.record(tx, null, "planned an absence", depot.name, body);
        await notify(tx, { kind: "depot", clientId: null, id: depot.id });
        return { absence };
      }),
  }),
  operation({
    id: "endAbsence",
    method: "DELETE",
    path: "/depots/{depotId}/absences/{absenceId}",
    summary: "Cancel a planned absence.",
    caller: "provider-work",
    params: depotParam.extend({ absenceId: uuid }),
    answer: z.object({ takenBack: z.boolean() }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const depot = await depotById(tx, params.depotId);
        const absences = depot ? await absencesOf(tx, depot.id, context.who.at) : [];
        if (!depot || !absences.some((one) => one.id === params.absenceId)) throw notFound();
        await deleteAbsence(tx, params.absenceId);
        await context.record(tx, null, "removed an absence", depot.name);
        await notify(tx, { kind: "depot", clientId: null, id: depot.id });
        return { takenBack: true };
      }),
  }),
  operation({
    id: "placeHold",
    method: "POST",
    path: "/sources/{sourceId}/holds",
    summary:
      "Place a hold on a source or one recovery point: nothing is dropped or purged until it is lifted.",
    caller: "work",
    status: 201,
    params: sourceParam,
    body: z.object({
      reason,
      pointId: z
        .string()
        .regex(/^[0-9a-f]{32}$/)
        .nullable()
        .default(null),
    }),
    answer: z.object({
      hold: z.object({
        pointId: z.string().nullable(),
        id: z.string(),
        clientId: z.string(),
        sourceId: z.string(),
        reason: z.string(),
        placedBy: z.string(),
        placedAt: shape.moment,
        evidence: z.null(),
      }),
    }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const source = await sourceById(tx, params.sourceId);
        if (!source) throw notFound();
        const point = body.pointId ? await pointById(tx, Buffer.from(body.pointId, "hex")) : null;
        if (body.pointId && point?.sourceId !== source.id)
          throw invalid("pointId", "The recovery point does not belong to this source.");
        const hold = {
          id: randomUUID(),
          clientId: source.clientId,
          sourceId: source.id,
          pointId: point?.id ?? null,
          reason: body.reason,
          placedBy: context.who.actor,
          placedAt: context.who.at,
          evidence: null,
        };
        await placeHold(tx, hold);
        await context.record(tx, source.clientId, "placed a hold", source.name, {
          reason: body.reason,
          point: body.pointId,
        });
        await notify(tx, { kind: "source", clientId: source.clientId, id: source.id });
        return { hold: { ...hold, pointId: body.pointId } };
      }),
  }),
  operation({
    id: "liftHold",
    method: "DELETE",
    path: "/sources/{sourceId}/holds/{holdId}",
    summary: "Lift a hold.",
    caller: "work",
    params: sourceParam.extend({ holdId: uuid }),
    answer: z.object({ liftedAt: shape.moment }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const source = await sourceById(tx, params.sourceId);
        if (!source) throw notFound();
        const hold = (await holdsOf(tx, source.id)).find((one) => one.id === params.holdId);
        if (!hold) throw notFound();
        await liftHold(tx, hold.id, context.who.actor, context.who.at);
        await context.record(tx, source.clientId, "lifted a hold", source.name, { reason: hold.reason });
        await notify(tx, { kind: "source", clientId: source.clientId, id: source.id });
        return { liftedAt: context.who.at };
      }),
  }),
];
