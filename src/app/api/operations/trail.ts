import { DateTime } from "luxon";
import { z } from "zod";
import { csvLine } from "@/core/units/csv";
import { type ChainedRow, readTrail, trailAfter } from "@/db/access/trail";
import { cursorAfter, keyOfCursor } from "@/db/base/cursor";
import { clientById } from "@/db/clients/clients";
import { type Context, operation } from "@/server/api/operation";
import { cursorText, staleCursor } from "@/server/api/paging";
import { notFound } from "@/server/base/problem";
import * as shape from "../shapes";
import { day, scopeQuery } from "./ids";

/** Days by UTC, the last one included. */
const daysOf = ({ from, to }: { readonly from?: string | undefined; readonly to?: string | undefined }) => ({
  from: from ? DateTime.fromISO(from, { zone: "UTC" }).toJSDate() : null,
  to: to ? DateTime.fromISO(to, { zone: "UTC" }).plus({ days: 1 }).toJSDate() : null,
});

const trailQuery = scopeQuery.pick({ client: true }).extend({
  search: z.string().max(200).optional(),
  from: day.optional(),
  to: day.optional(),
});

const EXPORT_PAGE = 1000;
const HEADINGS = ["Id", "At (UTC)", "Client", "Who", "From", "Did", "To", "Details", "Hash before", "Hash"];

const asLine = (row: ChainedRow): string =>
  `${JSON.stringify({ ...row, previous: row.previous.toString("hex"), hash: row.hash.toString("hex") })}\n`;
const asCsv = (row: ChainedRow): string =>
  csvLine([
    row.id,
    row.at.toISOString(),
    row.clientName,
    row.actor,
    row.address,
    row.action,
    row.subject,
    JSON.stringify(row.details),
    row.previous.toString("hex"),
    row.hash.toString("hex"),
  ]);

/** All rows that fit, the oldest first; a page is read at a time, so that a trail of years needs no more memory. */
async function* rowsOf(
  context: Context,
  filter: Parameters<typeof trailAfter>[1],
  format: "jsonl" | "csv",
): AsyncGenerator<Uint8Array> {
  const bytes = new TextEncoder();
  if (format === "csv") yield bytes.encode(csvLine(HEADINGS));
  for (let after = 0; ; ) {
    const rows = await context.tx((tx) => trailAfter(tx, filter, after, EXPORT_PAGE));
    if (rows.length) yield bytes.encode(rows.map(format === "csv" ? asCsv : asLine).join(""));
    if (rows.length < EXPORT_PAGE) return;
    after = rows.at(-1)!.id;
  }
}

export const trail = [
  operation({
    id: "readTrail",
    method: "GET",
    path: "/trail",
    summary: "Who did what, newest first.",
    caller: "look",
    query: trailQuery.extend({
      cursor: cursorText,
      limit: z.coerce.number().int().min(1).max(500).default(100),
    }),
    answer: z.object({ rows: shape.list(shape.trailRow), next: z.string().nullable() }),
    run: (context, { query }) =>
      context.tx(async (tx) => {
        const key = query.cursor === undefined ? null : keyOfCursor(query.cursor);
        if (key !== null && !/^\d{1,15}$/.test(key)) throw staleCursor();
        const before = key === null ? null : Number(key);
        const rows = await readTrail(tx, {
          clientId: query.client,
          search: query.search,
          ...daysOf(query),
          before,
          limit: query.limit + 1,
        });
        const page = rows.slice(0, query.limit);
        return { rows: page, next: rows.length > query.limit ? cursorAfter(String(page.at(-1)!.id)) : null };
      }),
  }),
  operation({
    id: "exportTrail",
    method: "GET",
    path: "/trail/export",
    summary: "The trail as JSON lines or CSV, oldest first, with the hashes of its chain.",
    caller: "look",
    query: trailQuery.extend({
      format: z.enum(["jsonl", "csv"]).default("jsonl"),
    }),
    media: ["application/jsonl", "text/csv"],
    run: async (context, { query }) => {
      const { client } = query;
      // a client that the caller does not see is not there, and nothing is written about it
      if (client && !(await context.tx((tx) => clientById(tx, client)))) throw notFound();
      const filter = { clientId: query.client ?? null, search: query.search ?? null, ...daysOf(query) };
      // a reader's own transactions write nothing, and the trail has it all the same
      await context.services.db.withScope({ role: "system" }, (tx) =>
        context.record(tx, query.client ?? null, "exported the trail", query.format, {
          search: query.search ?? null,
          from: query.from ?? null,
          to: query.to ?? null,
        }),
      );
      const rows = rowsOf(context, filter, query.format);
      const stream = new ReadableStream<Uint8Array>({
        pull: async (controller) => {
          const { value, done } = await rows.next();
          if (done) controller.close();
          else controller.enqueue(value);
        },
        cancel: async () => {
          await rows.return(undefined);
        },
      });
      return new Response(stream, {
        headers: {
          "content-type":
            query.format === "csv" ? "text/csv; charset=utf-8" : "application/jsonl; charset=utf-8",
          "content-disposition": `attachment; filename="trail-${context.who.at.toISOString().slice(0, 10)}.${query.format}"`,
        },
      });
    },
  }),
];
