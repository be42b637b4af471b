import { z } from "zod";
import { type Ordered, type Position, positionOf } from "@/db/base/cursor";
import type { Tx } from "@/db/base/scope";
import { type Client, clientById } from "@/db/clients/clients";
import { staleCursor } from "@/server/api/paging";
import { invalid, notFound } from "@/server/base/problem";
import { refuseForbidden } from "@/store/places/reach";

export const uuid = z.uuid();
export const clientParam = z.object({ clientId: uuid });
export const sourceParam = z.object({ sourceId: uuid });
export const policyParam = z.object({ policyId: uuid });
export const depotParam = z.object({ depotId: uuid });
export const runParam = z.object({ runId: uuid });
export const pointParam = z.object({ pointId: z.string().regex(/^[0-9a-f]{32}$/) });
export const scopeQuery = z.object({
  client: uuid.optional(),
  site: uuid.optional(),
  source: uuid.optional(),
});

export const filterOf = (query: z.infer<typeof scopeQuery>) => ({
  clientId: query.client,
  siteId: query.site,
  sourceId: query.source,
});
/** Periods and moments lie between these days, both included: what a calendar of this program can hold. */
const FIRST_DAY = "1970-01-01";
const LAST_DAY = "2200-12-31";

/** A day of the calendar, `YYYY-MM-DD`. */
export const day = z.iso
  .date("Enter a day as YYYY-MM-DD.")
  .refine((text) => text >= FIRST_DAY && text <= LAST_DAY, `Enter a day from ${FIRST_DAY} to ${LAST_DAY}.`);

/** A moment with its zone (RFC 3339). */
export const momentText = (words = "Enter a moment such as 2026-11-24T00:00:00Z.") =>
  z.iso.datetime({ offset: true, error: words }).refine((text) => {
    const year = new Date(text).getUTCFullYear();
    return year >= 1970 && year <= 2200;
  }, `Enter a moment from ${FIRST_DAY} to ${LAST_DAY}.`);

/** One line of text: what is put into headers, protocols and file names must not begin another. */
export { hostField as hostName, nameField as name } from "@/core/text/fields";

/** Why something out of the ordinary is done. */
export const reason = z
  .string()
  .trim()
  .min(3, "Enter a reason. It is recorded in the trail.")
  .max(500, "500 characters at most.");

export const email = z.email("Enter an e-mail address.").max(200);
export const password = z.string().min(12, "At least 12 characters; a few words in a row are fine.").max(200);
export const personParam = z.object({ personId: uuid });

const moment = momentText()
  .transform((text) => new Date(text))
  .optional();
/** What is searched for inside recovery points; something of it must be given. */
export const wantedQuery = z
  .object({
    name: z.string().trim().min(1, "Type a part of the name.").max(255).optional(),
    sizeFrom: z.coerce.number().int("A whole number of bytes.").min(0).optional(),
    sizeTo: z.coerce.number().int("A whole number of bytes.").min(0).optional(),
    changedFrom: moment,
    changedTo: moment,
  })
  .refine((wanted) => Object.values(wanted).some((value) => value !== undefined), {
    path: ["name"],
    message: "Enter a part of the name, a size or a time.",
  });

/** Refuses an address that may not be reached, beside its field; a name is weighed whenever it is looked up. */
export function refuseAddress(field: string, host: string): void {
  try {
    refuseForbidden(host);
  } catch (error) {
    throw invalid(field, `${(error as Error).message}.`);
  }
}

/**
 * The position that a cursor stands for; null without one.
 * @throws `request.invalid` where the cursor is none of ours, or its row was deleted since
 */
export async function positionIn(
  tx: Tx,
  list: Ordered,
  cursor: string | undefined,
): Promise<Position | null> {
  if (cursor === undefined) return null;
  const position = await positionOf(tx, list, cursor);
  if (!position) throw staleCursor();
  return position;
}

/** A client that the caller sees. Throws `not-found`. */
export async function theClient(tx: Tx, id: string): Promise<Client> {
  const client = await clientById(tx, id);
  if (!client) throw notFound();
  return client;
}
