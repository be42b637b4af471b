import { one, type Tx } from "./scope";

/**
 * Pages of lists that are ordered by a moment, the newest first. Several rows may share a moment, so the id decides among
 * them; and the moment is kept to the microsecond, as the database orders by it.
 */
export interface Position {
  readonly at: string;
  readonly id: string;
}

const ORDERED = { runs: "due_at", messages: "made_at" } as const;
export type Ordered = keyof typeof ORDERED;

const ID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/;

/** The cursor after a row. Opaque: callers give it back as they got it. */
export const cursorAfter = (id: string): string => Buffer.from(id, "utf8").toString("base64url");

export const keyOfCursor = (cursor: string): string => Buffer.from(cursor, "base64url").toString("utf8");

/** Where a list goes on; null where the cursor is none of ours, or its row is no longer there or not visible to the caller. */
export async function positionOf(tx: Tx, list: Ordered, cursor: string): Promise<Position | null> {
  const id = keyOfCursor(cursor);
  if (!ID.test(id)) return null;
  return one<Position>(tx, `select ${ORDERED[list]}::text as at, id from ${list} where id = $1`, [id]);
}

/** One page of rows: one row more than asked for tells whether another page follows. */
export function pageOf<Row extends { readonly id: string }>(rows: readonly Row[], limit: number) {
  const page = rows.slice(0, limit);
  return { page, next: rows.length > limit ? cursorAfter(page.at(-1)!.id) : null };
}
