import type pg from "pg";
import { z } from "zod";
import { databaseAccess, readAccess } from "./access";

/** What a recovery point of a database knows of it without its rows: `catalog.json`. */
export const catalogSchema = z.object({
  server: z.string(),
  database: z.string(),
  encoding: z.string(),
  collate: z.string(),
  ctype: z.string(),
  bytes: z.number(),
  access: databaseAccess,
  extensions: z.array(z.string()),
  tables: z.array(
    z.object({
      schema: z.string(),
      name: z.string(),
      rows: z.number(),
      /** The number of rows is the server's estimate. */
      estimated: z.boolean(),
      bytes: z.number(),
    }),
  ),
});
export type Catalog = z.infer<typeof catalogSchema>;

/** Rows of tables up to this size are counted; larger ones take the server's estimate. */
const COUNTED_BYTES = 32 * 1024 * 1024;

const quoted = (name: string): string => `"${name.replaceAll('"', '""')}"`;

/** Reads the catalog within the transaction that the dump is of. */
export async function readCatalog(session: pg.Client): Promise<Catalog> {
  const {
    rows: [database],
  } = await session.query<{
    server: string;
    database: string;
    encoding: string;
    collate: string;
    ctype: string;
    bytes: string;
  }>(
    `select current_setting('server_version') as server, datname as database, pg_encoding_to_char(encoding) as encoding,
       datcollate as collate, datctype as ctype, pg_database_size(oid) as bytes from pg_database where datname = current_database()`,
  );
  const { rows: extensions } = await session.query<{ extname: string }>(
    "select extname from pg_extension order by extname",
  );
  const { rows: tables } = await session.query<{
    schema: string;
    name: string;
    rows: number;
    bytes: string;
    readable: boolean;
  }>(
    `select n.nspname as schema, c.relname as name, c.reltuples::float8 as rows, pg_table_size(c.oid) as bytes,
       has_table_privilege(c.oid, 'select') as readable
     from pg_class c join pg_namespace n on n.oid = c.relnamespace
     where c.relkind in ('r', 'm') and n.nspname not in ('pg_catalog', 'information_schema') and n.nspname not like 'pg_toast%'
     order by n.nspname, c.relname`,
  );
  const listed: Catalog["tables"] = [];
  for (const { schema, name, rows, bytes, readable } of tables) {
    const size = Number(bytes);
    const count = readable && size <= COUNTED_BYTES;
    const exact = count
      ? Number(
          (await session.query<{ count: string }>(`select count(*) from ${quoted(schema)}.${quoted(name)}`))
            .rows[0]!.count,
        )
      : null;
    listed.push({
      schema,
      name,
      rows: exact ?? Math.max(0, Math.round(rows)),
      estimated: exact === null,
      bytes: size,
    });
  }
  return {
    ...database!,
    bytes: Number(database!.bytes),
    access: await readAccess(session, database!.database),
    extensions: extensions.map(({ extname }) => extname),
    tables: listed,
  };
}
