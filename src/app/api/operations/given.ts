import { randomUUID } from "node:crypto";
import { z } from "zod";
import { within } from "@/core/rights/within";
import { ARCHIVE_FORMATS } from "@/core/units/download-formats";
import { isSuspect, lastGoodMoment } from "@/db/points/holds";
import { pointsOf } from "@/db/points/points";
import { decideAsk, insertAsk, lockAsk, openAsks } from "@/db/portal/asks";
import { giftsOfPerson } from "@/db/portal/gifts";
import { restoresOfPerson, runById } from "@/db/runs/runs";
import { type GivenRestore, plannedRestore, startGivenRestore } from "@/runs/given-restore";
import { stopRun } from "@/runs/request";
import { type Context, operation } from "@/server/api/operation";
import { cursorText } from "@/server/api/paging";
import { ARCHIVE_TYPES } from "@/server/archive/archive";
import { prepareArchive, preparedBasket, sendArchive } from "@/server/archive/archive-delivery";
import { notFound, Problem } from "@/server/base/problem";
import { listFolder, searchPoint, searchPoints, versionsOf, weigh } from "@/server/inside/inside-point";
import { compareInside, describeLook, imageInside, lookInside } from "@/server/inside/look-inside";
import { pathFromText } from "@/server/inside/path-text";
import { allGiven, shownAsk } from "@/server/portal/all-given";
import { foundItems, foundWithin, type GivenItem, giftThere, shownGift } from "@/server/portal/given";
import * as shape from "../shapes";
import { runParam, uuid, wantedQuery } from "./ids";

/** The portal: what a technician has given to one of a client's people, and nothing else. */

const giftParam = z.object({ giftId: uuid });
const pointId = z
  .string()
  .regex(/^[0-9a-f]{32}$/, "Enter the id of a recovery point: 32 hexadecimal digits.");
const givenPoint = z.object({ giftId: uuid, pointId });
const items = z
  .array(z.object({ giftId: uuid, pointId, path: z.string().min(1).max(8192) }))
  .min(1, "Choose something first.")
  .max(500, "At most 500 items. Select folders instead.");

/** So long a restore waits for the manager's word. */
const ASK_DAYS = 7;

const personOf = (context: Context) => {
  const { id, name, clientId } = context.person!;
  return { id, name, clientId: clientId! };
};

const onePath = z.object({ path: z.string().min(1).max(8192) });

/** A file of what was given that is looked into, which stands in the trail. */
const describedLook = (context: Context, params: { giftId: string; pointId: string }, text: string) =>
  context.tx(async (tx) => {
    const gift = await giftThere(tx, context.person!.id, params.giftId, context.who.at);
    const found = await foundWithin(tx, gift, params.pointId, text);
    await describeLook(context, tx, found.point, found.path);
    return found;
  });

export const given = [
  operation({
    id: "listGiven",
    method: "GET",
    path: "/given",
    summary:
      "What is shared with you, your restores of the last 30 days, and restores that wait for your manager's approval.",
    caller: "given",
    answer: z.object({
      client: z.object({ id: z.string(), name: z.string(), zone: z.string() }),
      passphraseNeeded: z.boolean(),
      gifts: shape.list(
        shape.gift.extend({
          kind: shape.sourceKind,
          reachable: z.boolean(),
          machine: z.object({ name: z.string(), seenAt: shape.moment.nullable() }).nullable(),
          points: z.number(),
          newest: shape.moment.nullable(),
        }),
      ),
      restores: shape.list(
        z.object({
          download: z.unknown(),
          folder: z.unknown(),
          id: z.string(),
          sourceId: z.string(),
          sourceName: z.string(),
          kind: z.string(),
          state: shape.runState,
          outcome: shape.outcome.nullable(),
          code: shape.codeName.nullable(),
          dueAt: shape.moment,
          endedAt: shape.moment.nullable(),
          progress: shape.runProgress,
          figures: z.record(z.string(), z.unknown()),
        }),
      ),
      asks: shape.list(shape.ask),
    }),
    run: (context) => context.tx((tx) => allGiven(tx, personOf(context), context.who.at)),
  }),
  operation({
    id: "listGivenPoints",
    method: "GET",
    path: "/given/{giftId}/recovery-points",
    summary: "The recovery points of a share, newest first.",
    caller: "given",
    pages: { of: "points" },
    params: giftParam,
    answer: z.object({
      alarm: z.object({ alarm: shape.moment, before: shape.moment.nullable() }).nullable(),
      points: shape.list(z.object({ id: z.string(), moment: shape.moment, suspect: z.boolean() })),
    }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const gift = await giftThere(tx, context.person!.id, params.giftId, context.who.at);
        const points = await pointsOf(tx, gift.sourceId);
        // holds are the provider's; that an alarm stands concerns whoever gets something back
        const alarm = await context.services.db.withScope({ role: "system" }, (all) =>
          lastGoodMoment(all, gift.sourceId),
        );
        return {
          alarm,
          points: points
            .filter((point) => !point.droppedAt && !point.damagedAt)
            .map((point) => ({
              id: point.id.toString("hex"),
              moment: point.moment,
              suspect: isSuspect(alarm, point.moment),
            })),
        };
      }),
  }),
  operation({
    id: "listGivenEntries",
    method: "GET",
    path: "/given/{giftId}/recovery-points/{pointId}/entries",
    summary: "A folder of a share in one recovery point, in pages.",
    caller: "given",
    params: givenPoint,
    query: z.object({
      path: z.string().optional(),
      cursor: cursorText,
      limit: z.coerce.number().int().min(1).max(2000).default(500),
    }),
    answer: z.union([
      z.object({ entries: shape.list(shape.shownEntry), total: z.number(), next: z.string() }),
      z.object({ entries: shape.list(shape.shownEntry), total: z.number(), next: z.null() }),
    ]),
    run: async (context, { params, query }) => {
      const { point, path } = await context.tx(async (tx) => {
        const gift = await giftThere(tx, context.person!.id, params.giftId, context.who.at);
        return foundWithin(tx, gift, params.pointId, query.path ?? shownGift(gift).path);
      });
      return listFolder(context.services, point, path, query.cursor, query.limit);
    },
  }),
  operation({
    id: "searchGiven",
    method: "GET",
    path: "/given/{giftId}/recovery-points/{pointId}/search",
    summary: "Find files and folders of a share by a part of their name.",
    caller: "given",
    params: givenPoint,
    query: wantedQuery,
    answer: z.object({ entries: shape.list(shape.shownEntry), looked: z.number(), more: z.boolean() }),
    run: async (context, { params, query }) => {
      const { gift, point } = await context.tx(async (tx) => {
        const found = await giftThere(tx, context.person!.id, params.giftId, context.who.at);
        return foundWithin(tx, found, params.pointId, shownGift(found).path);
      });
      return searchPoint(context.services, point, query, gift.path);
    },
  }),
  operation({
    id: "searchGivenMoments",
    method: "GET",
    path: "/given/{giftId}/search",
    summary: "Find files and folders of a share over all recovery points: the last version of each.",
    caller: "given",
    params: giftParam,
    query: wantedQuery,
    answer: z.object({ entries: shape.list(shape.lastEntry), looked: z.number(), more: z.boolean() }),
    run: async (context, { params, query }) => {
      const { gift, points } = await context.tx(async (tx) => {
        const found = await giftThere(tx, context.person!.id, params.giftId, context.who.at);
        const all = await pointsOf(tx, found.sourceId);
        return { gift: found, points: all.filter((point) => !point.droppedAt && !point.damagedAt) };
      });
      return searchPoints(context.services, points, query, gift.path);
    },
  }),
  operation({
    id: "lookInsideGiven",
    method: "GET",
    path: "/given/{giftId}/recovery-points/{pointId}/look",
    summary: "The content of a file of a share: its text, or its type.",
    caller: "given",
    params: givenPoint,
    query: onePath,
    answer: z.object({ look: shape.look }),
    run: async (context, { params, query }) => {
      const { point, path } = await describedLook(context, params, query.path);
      return { look: await lookInside(context.services, point, path) };
    },
  }),
  operation({
    id: "readGivenImage",
    method: "GET",
    path: "/given/{giftId}/recovery-points/{pointId}/image",
    summary: "An image of a share.",
    caller: "given",
    params: givenPoint,
    query: onePath,
    media: ["image/*"],
    run: async (context, { params, query }) => {
      const { point, path } = await describedLook(context, params, query.path);
      return imageInside(context.services, point, path);
    },
  }),
  operation({
    id: "compareGiven",
    method: "GET",
    path: "/given/{giftId}/recovery-points/{pointId}/comparison",
    summary: "Changes in a text file of a share since an earlier recovery point, line by line.",
    caller: "given",
    params: givenPoint,
    query: onePath.extend({ since: pointId }),
    answer: z.object({ comparison: shape.comparison }),
    run: async (context, { params, query }) => {
      const { gift, point, path } = await describedLook(context, params, query.path);
      const before = await context.tx((tx) => foundWithin(tx, gift, query.since, query.path));
      return { comparison: await compareInside(context.services, before.point, point, path) };
    },
  }),
  operation({
    id: "listGivenVersions",
    method: "GET",
    path: "/given/{giftId}/versions",
    summary: "The versions of a path of a share.",
    caller: "given",
    pages: { of: "versions", key: "pointId" },
    params: giftParam,
    query: z.object({ path: z.string().min(1) }),
    answer: z.object({ versions: shape.list(shape.version) }),
    run: async (context, { params, query }) => {
      const path = pathFromText(query.path);
      const points = await context.tx(async (tx) => {
        const gift = await giftThere(tx, context.person!.id, params.giftId, context.who.at);
        if (!within(gift.path, path)) throw notFound();
        return (await pointsOf(tx, gift.sourceId)).filter((point) => !point.droppedAt && !point.damagedAt);
      });
      return { versions: await versionsOf(context.services, points, path) };
    },
  }),
  operation({
    id: "measureGiven",
    method: "POST",
    path: "/given/weight",
    summary: "How many files and bytes a basket holds.",
    caller: "given",
    body: z.object({ items }),
    answer: z.object({ files: z.number(), bytes: z.number() }),
    run: async (context, { body }) =>
      weigh(
        context.services,
        await context.tx((tx) => foundItems(tx, context.person!.id, body.items, context.who.at)),
      ),
  }),
  operation({
    id: "restoreGiven",
    method: "POST",
    path: "/given/restores",
    summary:
      "Restore items of a share to their machine or mailbox, in place or into a folder. Existing files are kept: a restored file gets its date and time in its name. Existing messages are kept, and a message that is there is not restored again. If the share requires it, the restore waits for approval by the client's manager.",
    caller: "given",
    status: 202,
    body: z.object({
      items,
      /** A folder below what was given; none for where things were. */
      folder: z.string().trim().max(500).nullable().default(null),
    }),
    answer: z.union([
      z.object({ runId: z.string(), askId: z.null() }),
      z.object({ runId: z.null(), askId: z.string() }),
    ]),
    run: async (context, { body }) => {
      const person = personOf(context);
      const found = await context.tx((tx) => foundItems(tx, person.id, body.items, context.who.at));
      const weight = await weigh(context.services, found);
      return context.tx(async (tx) => {
        const { to, ...restore } = await plannedRestore(tx, found, body.folder);
        if (!found.some(({ gift }) => gift.askFirst))
          return { runId: await startGivenRestore(tx, context.who, person, restore, weight), askId: null };
        const id = randomUUID();
        await insertAsk(tx, {
          id,
          clientId: person.clientId,
          personId: person.id,
          sourceId: restore.sourceId,
          request: { ...restore },
          ...weight,
          askedAt: context.who.at,
          expiresAt: new Date(context.who.at.getTime() + ASK_DAYS * 86_400_000),
        });
        await context.record(tx, person.clientId, "requested approval of a restore", to, {
          ask: id,
          ...weight,
        });
        return { runId: null, askId: id };
      });
    },
  }),
  operation({
    id: "stopGivenRestore",
    method: "POST",
    path: "/given/restores/{runId}/stop",
    summary: "Stop one of your restores.",
    caller: "given",
    params: runParam,
    answer: z.object({}),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const run = await runById(tx, params.runId);
        const own = await restoresOfPerson(tx, context.person!.id, new Date(0));
        if (!run || !own.some(({ id }) => id === run.id)) throw notFound();
        await stopRun(tx, context.who, run.id);
        return {};
      }),
  }),
  operation({
    id: "prepareGivenDownload",
    method: "POST",
    path: "/given/archives",
    summary:
      "Prepare a download as ZIP or TAR, or of mailboxes as mbox, ICS or VCF. The answer has its address.",
    caller: "given",
    status: 201,
    body: z.object({ items, format: z.enum(ARCHIVE_FORMATS) }),
    answer: z.object({ files: z.number(), bytes: z.number(), id: z.string(), url: z.string() }),
    run: async (context, { body }) => {
      const person = personOf(context);
      const found = await context.tx((tx) => foundItems(tx, person.id, body.items, context.who.at));
      if (found.some(({ gift }) => gift.askFirst))
        throw new Problem(
          "auth.not-allowed",
          "Your manager must approve restores from here. Restore to the machine instead of downloading.",
        );
      const weight = await weigh(context.services, found);
      const id = await context.tx((tx) => prepareArchive(context, tx, person.clientId, found, body));
      return { id, url: `/api/v1/given/archives/${id}`, ...weight };
    },
  }),
  operation({
    id: "downloadGiven",
    method: "GET",
    path: "/given/archives/{archiveId}",
    summary: "Fetch a prepared download. `Range` continues an interrupted one.",
    caller: "given",
    params: z.object({ archiveId: uuid }),
    media: Object.values(ARCHIVE_TYPES),
    run: async (context, { params }) => {
      const { found, basket } = await context.tx(async (tx) => {
        const basket = await preparedBasket<GivenItem>(context, tx, params.archiveId);
        // what was taken back since is not sent
        return {
          found: await foundItems(tx, context.person!.id, basket.items, context.who.at),
          basket,
        };
      });
      return sendArchive(context, found, basket);
    },
  }),
  operation({
    id: "listAsks",
    method: "GET",
    path: "/asks",
    summary: "Restores of your people that wait for your approval.",
    caller: "agree",
    pages: { of: "asks" },
    answer: z.object({
      asks: shape.list(shape.ask),
    }),
    run: (context) =>
      context.tx(async (tx) => ({
        asks: (await openAsks(tx, context.person!.clientId!, context.who.at)).map(shownAsk),
      })),
  }),
  operation({
    id: "decideAsk",
    method: "POST",
    path: "/asks/{askId}/decision",
    summary: "Approve or decline a restore.",
    caller: "agree",
    params: z.object({ askId: uuid }),
    body: z.object({ decision: z.enum(["agreed", "declined"]) }),
    answer: z.object({ decision: z.enum(["agreed", "declined"]), runId: z.string().nullable() }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const ask = await lockAsk(tx, params.askId);
        if (!ask) throw notFound();
        if (ask.decision) throw new Problem("request.conflict", `${ask.decidedBy} has decided this already.`);
        if (ask.expiresAt <= context.who.at)
          throw new Problem("request.conflict", "The request has expired. Make a new one.");
        const { clientId, personId, personName } = ask;
        const restore = ask.request as unknown as GivenRestore;
        const gifts = await giftsOfPerson(tx, personId, context.who.at);
        const stillGiven = restore.stored.items.every(({ path }) =>
          gifts.some((gift) => gift.sourceId === restore.sourceId && within(gift.path, path)),
        );
        if (body.decision === "agreed" && !stillGiven)
          throw new Problem(
            "request.conflict",
            `The files are no longer shared with ${personName}. Contact your provider, or decline.`,
          );
        const runId =
          body.decision === "agreed"
            ? await startGivenRestore(
                tx,
                context.who,
                { id: personId, name: personName, clientId },
                restore,
                { files: ask.files, bytes: ask.bytes },
                { agreedBy: context.who.actor },
              )
            : null;
        await decideAsk(tx, ask.id, body.decision, context.who.actor, context.who.at, runId);
        await context.record(tx, clientId, `${body.decision} to a restore`, personName, { ask: ask.id });
        return { decision: body.decision, runId };
      }),
  }),
];
