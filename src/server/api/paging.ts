import { z } from "zod";
import { cursorAfter, keyOfCursor } from "@/db/base/cursor";
import { invalid } from "../base/problem";
import type { AnyOperation, PagedList } from "./operation";

/** Lists page alike: `limit` and an opaque `cursor` in the request, `next` in the answer, null at the end. */

/** Where a list goes on: `next` of the page before. */
export const cursorText = z.string().max(1000).optional();
export const staleCursor = () =>
  invalid("cursor", "This cursor is no longer valid. Read the list again from the first page.");

/** What a page holds at most, and without a limit: such lists are short, and whoever reads one wants all of it. */
const MOST = 5000;
const pageQuery = {
  cursor: cursorText,
  limit: z.coerce.number().int().min(1).max(MOST).default(MOST),
};

/** An operation whose list is read as a whole, given in pages. */
export function inPages(one: AnyOperation): AnyOperation {
  const { pages } = one;
  if (!pages) return one;
  return {
    ...one,
    summary: `${one.summary} In pages: \`next\` is the cursor of the next page.`,
    query: (one.query ?? z.object({})).extend(pageQuery),
    answer: one.answer.extend({ next: z.string().nullable() }),
    run: async (context, input) => {
      const { cursor, limit, ...query } = input.query as { cursor?: string; limit: number };
      const answer = (await one.run(context, { ...input, query })) as Record<string, unknown>;
      const rows = answer[pages.of] as readonly Record<string, unknown>[];
      return { ...answer, ...pageOfWhole(rows, pages, limit, cursor) };
    },
  };
}

function pageOfWhole(
  rows: readonly Record<string, unknown>[],
  { of, key = "id" }: PagedList,
  limit: number,
  cursor: string | undefined,
): Record<string, unknown> {
  let from = 0;
  if (cursor !== undefined) {
    const wanted = keyOfCursor(cursor);
    from = rows.findIndex((row) => String(row[key]) === wanted) + 1;
    if (from === 0) throw staleCursor();
  }
  const page = rows.slice(from, from + limit);
  const more = rows.length > from + limit;
  return { [of]: page, next: more ? cursorAfter(String(page.at(-1)![key])) : null };
}
