import { randomInt, randomUUID } from "node:crypto";
import { z } from "zod";
import { mayDo } from "@/core/rights/rights";
import { personById } from "@/db/access/people";
import { notify } from "@/db/base/notify";
import { zoneFor } from "@/db/clients/clients";
import { pointById } from "@/db/points/points";
import {
  closeViewing,
  insertViewing,
  insertViewingKey,
  keysOfViewings,
  openViewings,
  type Viewing,
} from "@/db/portal/viewings";
import { sourceById } from "@/db/sources/sources";
import { originOf } from "@/server/access/invitations";
import { operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import { pathFromText, pathToText } from "@/server/inside/path-text";
import { findFolder } from "@/store/read/browse";
import { hashSecret } from "@/store/seal/secrets";
import { showBytes } from "@/store/tree/tree";
import * as shape from "../shapes";
import { pointParam, scopeQuery, uuid } from "./ids";

const HOUR_MS = 3_600_000;

const shown = ({ path, pointId, ...viewing }: Viewing, origin: string) => ({
  ...viewing,
  pointId: pointId.toString("hex"),
  path: pathToText(path),
  pathName: showBytes(path),
  url: `${origin}/viewings/${viewing.id}/`,
});

/** Who somebody is in a viewing: their first name in letters that every keyboard has, and four digits. */
const userNameOf = (name: string): string => {
  const first = name
    .normalize("NFKD")
    .split(/\s/)[0]!
    .replace(/[^A-Za-z]/g, "")
    .toLowerCase();
  return `${first || "guest"}-${randomInt(1000, 10_000)}`;
};

/** Without letters and digits that are taken for one another. */
const LETTERS = "abcdefghjkmnpqrstuvwxyz23456789";
/** A password that somebody types from paper: four groups of six, 118 bits of chance. */
const typedPassword = (): string =>
  Array.from({ length: 4 }, () =>
    Array.from({ length: 6 }, () => LETTERS[randomInt(LETTERS.length)]).join(""),
  ).join("-");

/** Viewings: a recovery point as an address that any file manager opens, read only and for a while. */
export const viewings = [
  operation({
    id: "openViewing",
    shownOnce: ["keys.password"],
    method: "POST",
    path: "/recovery-points/{pointId}/viewings",
    summary:
      "Open a viewing: a recovery point, or a folder of it, as a read-only WebDAV address for selected people. Each gets a name and a password, shown once. It closes automatically.",
    caller: "open",
    status: 201,
    params: pointParam,
    body: z.object({
      path: z.string().min(1).max(8192).default("/"),
      people: z.array(uuid).min(1, "Choose who may look.").max(20, "Twenty people at most."),
      hours: z.int("A whole number.").min(1, "One hour at least.").max(168, "A week at most: 168 hours."),
    }),
    answer: z.object({
      viewing: shape.viewing,
      keys: shape.list(z.object({ person: z.string(), userName: z.string(), password: z.string() })),
    }),
    run: async (context, { params, body }) => {
      const path = pathFromText(body.path);
      const { services, who } = context;
      const found = await context.tx(async (tx) => {
        const point = await pointById(tx, Buffer.from(params.pointId, "hex"));
        if (!point) throw notFound();
        const people = [];
        for (const [i, id] of [...new Set(body.people)].entries()) {
          const person = await personById(tx, id);
          // the client's people and the provider's, nobody else's
          if (!person || (person.clientId !== null && person.clientId !== point.clientId))
            throw invalid(`people.${i}`, "This is none of the client's people, and none of the provider's.");
          if (!person.clientId && !mayDo(person.role, "open"))
            throw invalid(`people.${i}`, `${person.name} may not open recovery points.`);
          if (person.clientIds && !person.clientIds.includes(point.clientId))
            throw invalid(`people.${i}`, `${person.name} has no access to this client.`);
          people.push(person);
        }
        return { point, people, source: (await sourceById(tx, point.sourceId))! };
      });
      const { point, people, source } = found;
      const reader = await services.spaces.at(point, path);
      if (!(await findFolder(reader, point.root, path)))
        throw invalid("path", "There is no such folder in this recovery point.");
      const viewing = {
        id: randomUUID(),
        clientId: point.clientId,
        sourceId: source.id,
        sourceName: source.name,
        pointId: point.id,
        moment: point.moment,
        zone: await context.tx((tx) => zoneFor(tx, point.clientId)),
        path,
        madeBy: who.actor,
        madeAt: who.at,
        expiresAt: new Date(who.at.getTime() + body.hours * HOUR_MS),
      };
      const keys = await context.tx(async (tx) => {
        await insertViewing(tx, viewing);
        const made = [];
        for (const person of people) {
          const userName = userNameOf(person.name);
          const password = typedPassword();
          await insertViewingKey(tx, {
            viewingId: viewing.id,
            clientId: point.clientId,
            userName,
            personId: person.id,
            secretHash: hashSecret(password),
          });
          made.push({ person: person.name, userName, password });
        }
        await context.record(tx, point.clientId, "opened a viewing", source.name, {
          moment: point.moment,
          path: showBytes(path),
          people: people.map((person) => person.name),
          until: viewing.expiresAt,
        });
        await notify(tx, { kind: "source", clientId: point.clientId, id: source.id });
        return made;
      });
      return { viewing: shown(viewing, originOf(context.request)), keys };
    },
  }),
  operation({
    id: "listViewings",
    method: "GET",
    path: "/viewings",
    summary: "Open viewings, with the amount read by each person.",
    caller: "open",
    pages: { of: "viewings" },
    query: scopeQuery.pick({ client: true }),
    answer: z.object({
      viewings: shape.list(
        shape.viewing.extend({
          people: shape.list(
            z.object({
              userName: z.string(),
              personId: z.string(),
              personName: z.string(),
              seenAt: shape.moment.nullable(),
              filesRead: z.number(),
              bytesRead: z.number(),
            }),
          ),
        }),
      ),
    }),
    run: (context, { query }) =>
      context.tx(async (tx) => {
        const open = await openViewings(tx, query.client ?? null, context.who.at);
        const keys = await keysOfViewings(
          tx,
          open.map((viewing) => viewing.id),
        );
        const origin = originOf(context.request);
        return {
          viewings: open.map((viewing) => ({
            ...shown(viewing, origin),
            people: keys.filter((key) => key.viewingId === viewing.id).map(({ viewingId: _, ...key }) => key),
          })),
        };
      }),
  }),
  operation({
    id: "closeViewing",
    method: "DELETE",
    path: "/viewings/{viewingId}",
    summary: "Close a viewing.",
    caller: "open",
    params: z.object({ viewingId: uuid }),
    answer: z.object({}),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const closed = await closeViewing(tx, params.viewingId, context.who.actor, context.who.at);
        if (!closed) throw new Problem("not-found", "There is no such viewing, or it is closed already.");
        await context.record(tx, closed.clientId, "closed a viewing", closed.sourceName, {
          moment: closed.moment,
          path: showBytes(closed.path),
        });
        await notify(tx, { kind: "source", clientId: closed.clientId, id: closed.sourceId });
        return {};
      }),
  }),
];
