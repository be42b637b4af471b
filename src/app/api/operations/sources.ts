import { z } from "zod";
import { CODES, type Code } from "@/core/codes";
import { OUTCOMES } from "@/core/protection/state";
import { pageOf } from "@/db/base/cursor";
import type { Tx } from "@/db/base/scope";
import { pointsOf } from "@/db/points/points";
import { depotsOfRun } from "@/db/runs/run-depots";
import { countLog, openRuns, pastRuns, readLog, runRow } from "@/db/runs/runs";
import { rulesInForce, type StandingFilter, sourceById, sourceStandings } from "@/db/sources/sources";
import { setAsides } from "@/db/sources/watch-notes";
import { fileWhat } from "@/kinds/files/what";
import { requestBackup, stopRun, whyWaiting } from "@/runs/request";
import { operation } from "@/server/api/operation";
import { cursorText } from "@/server/api/paging";
import { notFound, Problem } from "@/server/base/problem";
import { findPlaces } from "@/server/depots/place";
import { testSelection } from "@/server/inside/inside-point";
import { whyKept } from "@/server/inside/kept";
import { computeStanding } from "@/server/statements/standing";
import * as shape from "../shapes";
import { filterOf, momentText, positionIn, runParam, scopeQuery, sourceParam } from "./ids";

const explain = (code: Code | null) => (code ? CODES[code] : null);

/** Sources with their state and the rules in force for each. */
async function sourcesWithRules(tx: Tx, filter: StandingFilter, now: Date) {
  const rules = await rulesInForce(tx, filter);
  return (await sourceStandings(tx, filter, now)).map((source) => ({ ...source, ...rules.get(source.id) }));
}

export const sources = [
  operation({
    id: "findPlaces",
    method: "GET",
    path: "/places",
    summary: "Clients, sites and sources whose name contains a text, with their addresses.",
    caller: "look",
    query: z.object({ q: z.string().max(100).default("") }),
    answer: z.object({ places: shape.list(shape.foundPlace) }),
    run: (context, { query }) => context.tx(async (tx) => ({ places: await findPlaces(tx, query.q.trim()) })),
  }),
  operation({
    id: "watch",
    method: "GET",
    path: "/watch",
    summary: "Counts by state; causes with their sources and until when they are postponed; the nights.",
    caller: "look",
    query: scopeQuery,
    answer: z.object({
      causes: shape.list(
        z.object({
          setAside: shape.setAside.nullable(),
          key: z.string(),
          kind: shape.causeKind,
          state: shape.state,
          title: z.string(),
          detail: z.string(),
          sourceIds: shape.list(z.string()),
          clientNames: shape.list(z.string()),
          since: shape.moment.nullable(),
          code: shape.codeName.nullable(),
          depotId: z.string().nullable(),
          runId: z.string().optional(),
        }),
      ),
      at: shape.moment,
      total: z.number(),
      counts: shape.states,
      sources: shape.list(shape.sourceFacts),
      nights: shape.list(z.string()),
      rows: shape.list(shape.nightRow),
      lastNight: z.object({ runs: z.number(), clean: z.number() }),
    }),
    run: (context, { query }) =>
      context.tx(async (tx) => {
        const standing = await computeStanding(tx, filterOf(query), context.who.at);
        const asides = new Map((await setAsides(tx, context.who.at)).map((one) => [one.key, one]));
        return {
          ...standing,
          causes: standing.causes.map((cause) => ({ ...cause, setAside: asides.get(cause.key) ?? null })),
        };
      }),
  }),
  operation({
    id: "listSources",
    method: "GET",
    path: "/sources",
    summary: "Sources with their state.",
    caller: "look",
    pages: { of: "sources" },
    query: scopeQuery,
    answer: z.object({
      sources: shape.list(shape.sourceRow),
    }),
    run: (context, { query }) =>
      context.tx(async (tx) => ({ sources: await sourcesWithRules(tx, filterOf(query), context.who.at) })),
  }),
  operation({
    id: "readSource",
    method: "GET",
    path: "/sources/{sourceId}",
    summary: "One source with its state.",
    caller: "look",
    params: sourceParam,
    answer: z.object({
      source: shape.sourceRow,
    }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const [source] = await sourcesWithRules(tx, { sourceId: params.sourceId }, context.who.at);
        if (!source) throw notFound();
        return { source };
      }),
  }),
  operation({
    id: "listRecoveryPoints",
    method: "GET",
    path: "/sources/{sourceId}/recovery-points",
    summary: "Recovery points of a source, newest first, with the reason why each is kept.",
    caller: "look",
    pages: { of: "points" },
    params: sourceParam,
    answer: z.object({
      points: shape.list(
        shape.point.extend({ decision: z.object({ keep: z.boolean(), reason: z.string().nullable() }) }),
      ),
    }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const source = await sourceById(tx, params.sourceId);
        if (!source) throw notFound();
        const points = await pointsOf(tx, source.id);
        const why = await whyKept(tx, source, context.who.at, points);
        return {
          points: points.map((point) => {
            const id = point.id.toString("hex");
            const { keep, reason } = why.get(id) ?? { keep: false, reason: point.dropReason };
            return { ...point, id, root: undefined, decision: { keep, reason } };
          }),
        };
      }),
  }),
  operation({
    id: "testSelection",
    method: "POST",
    path: "/sources/{sourceId}/selection",
    summary: "Test a selection on the newest recovery point: items included and excluded, with sizes.",
    caller: "open",
    params: sourceParam,
    body: z.object({ files: fileWhat }),
    answer: z.object({
      moment: z.string(),
      taken: z.object({ files: z.number(), bytes: z.number() }),
      left: z.object({ files: z.number(), bytes: z.number() }),
      largestLeft: shape.list(z.object({ path: z.string(), size: z.number() })),
      missing: shape.list(z.string()),
    }),
    run: async (context, { params, body }) => {
      const newest = await context.tx(async (tx) => {
        if (!(await sourceById(tx, params.sourceId))) throw notFound();
        return (await pointsOf(tx, params.sourceId)).find((point) => !point.droppedAt) ?? null;
      });
      if (!newest)
        throw new Problem(
          "request.conflict",
          "This source has no recovery point yet, so nothing is known of its files.",
        );
      return testSelection(context.services, newest, body.files, context.who.at);
    },
  }),
  operation({
    id: "backUpNow",
    method: "POST",
    path: "/sources/{sourceId}/runs",
    summary: "Back up now: changes only, or with a full pass everything.",
    caller: "work",
    status: 202,
    params: sourceParam,
    body: z
      .object({ pass: z.enum(["incremental", "full"]).default("incremental") })
      .default({ pass: "incremental" }),
    answer: z.object({ run: shape.run, waits: z.string().nullable() }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const run = await requestBackup(tx, context.who, params.sourceId, body.pass);
        return { run, waits: await whyWaiting(tx, run, context.who.at) };
      }),
  }),
  operation({
    id: "listRuns",
    method: "GET",
    path: "/runs",
    summary: "Active runs, and past runs newest first, in pages: `next` is the cursor of the next page.",
    caller: "look",
    query: scopeQuery.extend({
      outcome: z.enum(OUTCOMES).optional(),
      kind: z.enum(["backup", "restore", "drill"]).optional(),
      before: momentText().optional(),
      cursor: cursorText,
      limit: z.coerce.number().int().min(1).max(500).default(100),
    }),
    answer: z.object({
      open: shape.list(shape.runRow),
      past: shape.list(shape.runRow),
      next: z.string().nullable(),
    }),
    run: (context, { query }) =>
      context.tx(async (tx) => {
        const rows = await pastRuns(tx, {
          ...filterOf(query),
          outcome: query.outcome,
          kind: query.kind,
          to: query.before ? new Date(query.before) : null,
          after: await positionIn(tx, "runs", query.cursor),
          limit: query.limit + 1,
        });
        const { page, next } = pageOf(rows, query.limit);
        return { open: await openRuns(tx, filterOf(query)), past: page, next };
      }),
  }),
  operation({
    id: "readRun",
    method: "GET",
    path: "/runs/{runId}",
    summary: "One run, with the meaning of its code.",
    caller: "look",
    params: runParam,
    answer: z.object({
      run: shape.runRow,
      explained: shape.codeText.nullable(),
      waits: z.string().nullable(),
      cautions: z.number(),
      depots: shape.list(shape.runDepot),
    }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const run = await runRow(tx, params.runId);
        if (!run) throw notFound();
        return {
          run,
          explained: explain(run.code),
          waits: await whyWaiting(tx, run, context.who.at),
          cautions: await countLog(tx, run.id),
          depots: await depotsOfRun(tx, run.id),
        };
      }),
  }),
  operation({
    id: "readRunLog",
    method: "GET",
    path: "/runs/{runId}/log",
    summary: "The log of a run, by item.",
    caller: "look",
    params: runParam,
    query: z.object({
      after: z.coerce.number().int().min(0).default(0),
      limit: z.coerce.number().int().min(1).max(1000).default(500),
    }),
    answer: z.object({
      lines: shape.list(
        z.object({
          explained: shape.codeText.nullable(),
          at: shape.moment,
          level: z.enum(["error", "caution", "info"]),
          code: shape.codeName.nullable(),
          path: z.string().nullable(),
          message: z.string(),
          id: z.number(),
        }),
      ),
      next: z.number().nullable(),
    }),
    run: (context, { params, query }) =>
      context.tx(async (tx) => {
        if (!(await runRow(tx, params.runId))) throw notFound();
        const lines = await readLog(tx, params.runId, query.after, query.limit);
        return {
          lines: lines.map((line) => ({ ...line, explained: explain(line.code) })),
          next: lines.length === query.limit ? lines.at(-1)!.id : null,
        };
      }),
  }),
  operation({
    id: "stopRun",
    method: "POST",
    path: "/runs/{runId}/stop",
    summary: "Stop a run.",
    caller: "work",
    params: runParam,
    answer: z.object({ run: shape.run }),
    run: (context, { params }) =>
      context.tx(async (tx) => ({ run: await stopRun(tx, context.who, params.runId) })),
  }),
];
