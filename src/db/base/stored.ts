import type pg from "pg";
import { z } from "zod";
import { groupRule, LEVELS } from "@/core/policy/cascade";
import { clausesSchema } from "@/core/policy/clauses";
import { bandwidthHours } from "@/core/policy/conduct";
import { ARCHIVE_FORMATS } from "@/core/units/download-formats";
import { anySettings } from "@/kinds/settings";

/**
 * What is stored as jsonb is parsed when it is read. What an earlier version
 * stored gets the defaults of this one; fields that a later version added are kept.
 */

const anything = z.record(z.string(), z.unknown());
const limits = z.object({ atOnce: z.number().nullable(), bandwidth: z.array(bandwidthHours) });
const origin = z.looseObject({
  layerId: z.string(),
  level: z.enum(LEVELS),
  name: z.string(),
  pinned: z.boolean(),
});
const count = z.number();

/** The schema of each jsonb column; a test holds it against the catalogue. */
export const STORED: Readonly<Record<string, z.ZodType>> = {
  "archives.request": z.looseObject({
    items: z.array(z.looseObject({})),
    format: z.enum(ARCHIVE_FORMATS),
  }),
  "asks.request": z.looseObject({ stored: z.looseObject({ items: z.array(z.looseObject({})) }) }),
  "certificates.body": anything,
  "checks.figures": z.record(z.string(), count),
  "checks.verified": z.looseObject({ to: z.string(), suspect: z.array(z.unknown()) }),
  "client_keys.wrapping": z.looseObject({ salt: z.string(), memory: count, passes: count, lanes: count }),
  "clients.limits": limits,
  "connections.settings": anySettings,
  "consents.request": anything,
  "damages.touches": z.array(z.looseObject({ pointId: z.string(), path: z.string() })),
  "depots.settings": z.union([
    z.looseObject({
      endpoint: z.string(),
      region: z.string(),
      bucket: z.string(),
      prefix: z.string(),
      pathStyle: z.boolean(),
      storageClass: z.string().nullable(),
      accessKeyId: z.string(),
    }),
    z.strictObject({}),
  ]),
  "holds.evidence": z.looseObject({
    changedShare: count,
    denserShare: count,
    folder: z.string(),
    before: z.string().nullable().default(null),
    beforeMoment: z.string().nullable().default(null),
    runId: z.string().optional(),
  }),
  "machines.system": z.looseObject({
    hostname: z.string().optional(),
    system: z.string().optional(),
    kernel: z.string().optional(),
    cores: count.optional(),
    memory: count.optional(),
    agent: z.string().optional(),
    volumes: z.array(z.looseObject({ path: z.string(), size: count, free: count })).optional(),
  }),
  "messages.attachments": z.array(z.object({ name: z.string(), type: z.string(), content: z.string() })),
  "policies.clauses": clausesSchema.partial(),
  "policies.rule": groupRule,
  "policy_revisions.clauses": clausesSchema.partial(),
  "policy_revisions.rule": groupRule,
  "runs.figures": anything,
  "runs.progress": z.looseObject({
    items: count.optional(),
    bytes: count.optional(),
    totalItems: count.optional(),
    totalBytes: count.optional(),
    rate: count.optional(),
    stored: count.optional(),
    rates: z.looseObject({ every: count, values: z.array(count) }).optional(),
  }),
  "runs.request": anything,
  "sites.limits": limits,
  "sources.origins": z.partialRecord(clausesSchema.keyof(), origin),
  "sources.rules": clausesSchema,
  "trail.details": anything,
};

const JSONB = 3802;

/** Columns in which many rows have the same text, which is parsed once. So many texts are remembered. */
const ALIKE: ReadonlySet<string> = new Set([
  "clients.limits",
  "policies.clauses",
  "sites.limits",
  "sources.origins",
  "sources.rules",
]);
const REMEMBERED = 1000;
const remembered = new Map<string, unknown>();

function parsed(column: string, text: string): unknown {
  const key = ALIKE.has(column) ? `${column} ${text}` : null;
  if (key !== null && remembered.has(key)) return remembered.get(key);
  const result = STORED[column]!.safeParse(JSON.parse(text));
  if (!result.success)
    throw new Error(`What is stored in ${column} is not what it should be: ${z.prettifyError(result.error)}`);
  if (key === null) return result.data;
  if (remembered.size >= REMEMBERED) remembered.clear();
  // one value for all rows that have it
  remembered.set(key, frozen(result.data));
  return result.data;
}

function frozen<T>(value: T): T {
  if (typeof value === "object" && value !== null && !Object.isFrozen(value)) {
    Object.freeze(value);
    for (const part of Object.values(value)) frozen(part);
  }
  return value;
}

/** Which column of the schema a field of an answer is, by the numbers that the server gives. */
const columns = new WeakMap<pg.ClientBase, Map<string, string>>();
async function columnsOf(tx: pg.ClientBase): Promise<Map<string, string>> {
  const known = columns.get(tx);
  if (known) return known;
  const { rows } = await tx.query<{ id: string; name: string }>(
    `select a.attrelid || ' ' || a.attnum as id, c.relname || '.' || a.attname as name from pg_attribute a join pg_class c on c.oid = a.attrelid
     where a.atttypid = ${JSONB} and c.relnamespace = 'public'::regnamespace and not a.attisdropped`,
  );
  const found = new Map(rows.map(({ id, name }) => [id, name]));
  columns.set(tx, found);
  return found;
}

/** Asks, and parses what is stored as jsonb; what a statement computes as jsonb is as it computed it. */
export async function queryStored(
  tx: pg.ClientBase,
  query: { readonly text: string; readonly values: readonly unknown[]; readonly name?: string },
  types: pg.CustomTypesConfig,
): Promise<pg.QueryResult> {
  const result = await tx.query({ ...query, values: query.values as unknown[], types });
  const fields = result.fields.filter((field) => field.dataTypeID === JSONB);
  if (fields.length === 0 || result.rows.length === 0) return result;
  const names = await columnsOf(tx);
  for (const { name, tableID, columnID } of fields) {
    const column = names.get(`${tableID} ${columnID}`) ?? "";
    const parse =
      column in STORED ? (text: string) => parsed(column, text) : (text: string) => JSON.parse(text);
    for (const row of result.rows) if (row[name] !== null) row[name] = parse(row[name]);
  }
  return result;
}

/** The driver's parsers, except that jsonb stays text. */
export const typesWith = (types: pg.CustomTypesConfig): pg.CustomTypesConfig => ({
  getTypeParser: ((id: number, format?: string) =>
    id === JSONB ? (text: string) => text : types.getTypeParser(id, format as never)) as never,
});
