import { randomUUID } from "node:crypto";
import { z } from "zod";
import { isClientRole } from "@/core/rights/rights";
import { personById } from "@/db/access/people";
import { notify } from "@/db/base/notify";
import { clientById } from "@/db/clients/clients";
import { endGift, giftById, giftsOfClient, insertGift } from "@/db/portal/gifts";
import { sourceById } from "@/db/sources/sources";
import { kindOf } from "@/kinds";
import { operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import { pathFromText } from "@/server/inside/path-text";
import { shownGift } from "@/server/portal/given";
import { showBytes } from "@/store/tree/tree";
import * as shape from "../shapes";
import { clientParam, momentText, uuid } from "./ids";

/** What technicians give to a client's people. */
export const gifts = [
  operation({
    id: "listGifts",
    method: "GET",
    path: "/clients/{clientId}/gifts",
    summary: "Sources and folders shared with the client's people.",
    caller: "client-people",
    pages: { of: "gifts" },
    params: clientParam,
    answer: z.object({
      gifts: shape.list(shape.gift),
    }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        if (!(await clientById(tx, params.clientId))) throw notFound();
        return { gifts: (await giftsOfClient(tx, params.clientId)).map(shownGift) };
      }),
  }),
  operation({
    id: "give",
    method: "POST",
    path: "/clients/{clientId}/gifts",
    summary:
      "Share a source, or a folder of it, with one of the client's people, who can then browse and restore it.",
    caller: "client-people",
    status: 201,
    params: clientParam,
    body: z.object({
      personId: uuid,
      sourceId: uuid,
      path: z.string().trim().min(1, "Enter a folder, or “/” for all of it.").max(4096).default("/"),
      askFirst: z.boolean().default(false),
      until: momentText().nullable().default(null),
    }),
    answer: z.object({
      gift: shape.gift,
    }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const person = await personById(tx, body.personId);
        const source = await sourceById(tx, body.sourceId);
        if (!person || person.clientId !== params.clientId || !isClientRole(person.role))
          throw invalid("personId", "This is none of the client's people.");
        if (!source || source.clientId !== params.clientId)
          throw invalid("sourceId", "The source does not belong to this client.");
        const kind = kindOf(source.kind);
        if (!kind?.shared)
          throw invalid("sourceId", `Recovery points of ${kind?.sources ?? "this kind"} cannot be shared.`);
        const until = body.until ? new Date(body.until) : null;
        if (until && until <= context.who.at) throw invalid("until", "This moment is over already.");
        const path = pathFromText(body.path);
        const gift = {
          id: randomUUID(),
          clientId: params.clientId,
          personId: person.id,
          sourceId: source.id,
          path,
          askFirst: body.askFirst,
          givenBy: context.who.actor,
          givenAt: context.who.at,
          until,
        };
        if ((await insertGift(tx, gift)) === 0)
          throw new Problem("request.conflict", `${person.name} has this already.`);
        await context.record(tx, params.clientId, "shared files with a person", person.name, {
          source: source.name,
          path: showBytes(path),
          askFirst: body.askFirst,
          until,
        });
        await notify(tx, { kind: "source", clientId: params.clientId, id: source.id });
        return { gift: shownGift({ ...gift, personName: person.name, sourceName: source.name }) };
      }),
  }),
  operation({
    id: "revokeGift",
    method: "DELETE",
    path: "/gifts/{giftId}",
    summary: "Revoke a share. The person no longer sees it.",
    caller: "client-people",
    params: z.object({ giftId: uuid }),
    answer: z.object({ ended: z.boolean() }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const gift = await giftById(tx, params.giftId);
        if (!gift || (await endGift(tx, params.giftId, context.who.at)) === 0) throw notFound();
        const person = await personById(tx, gift.personId);
        await context.record(tx, gift.clientId, "revoked shared files", person?.name ?? "somebody", {
          source: (await sourceById(tx, gift.sourceId))!.name,
        });
        await notify(tx, { kind: "source", clientId: gift.clientId, id: gift.sourceId });
        return { ended: true };
      }),
  }),
];
