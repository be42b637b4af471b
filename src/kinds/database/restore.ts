import { randomBytes } from "node:crypto";
import { setTimeout as sleep } from "node:timers/promises";
import type pg from "pg";
import { CodedError } from "@/core/codes";
import { fileBytes, findEntry } from "@/store/read/browse";
import { showBytes } from "@/store/tree/tree";
import type { RestoreResult, RestoreWork } from "../network";
import { applyAccess, readAccess } from "./access";
import { databaseCatalog } from "./browse";
import type { Catalog } from "./catalog";
import { CATALOG, DUMP } from "./names";
import { programsFor } from "./programs";
import { connectionText, majorOf } from "./reader";
import { type DatabaseServer, lastWords } from "./server";

const quoted = (name: string): string => `"${name.replaceAll('"', '""')}"`;
const literal = (text: string): string => `'${text.replaceAll("'", "''")}'`;
/** Names of databases that are restored beside the one that they will replace: no sources. */
export const BESIDE = " restored [0-9a-f]{8}$";
/** PostgreSQL cuts longer names. */
export const NAME_BYTES = 63;

/**
 * Restores a database: into a new one of the name that is given, or in place of the original. In place, it is first restored
 * beside it; the database that was there is renamed and kept, so that nothing is lost and a failure changes nothing. What
 * the server says while it restores (a role that it does not know, say) is a caution each.
 */
export async function restoreDatabase(
  server: DatabaseServer,
  original: string,
  work: RestoreWork,
  now: () => Date = () => new Date(),
): Promise<RestoreResult> {
  const { store, root, path } = oneDatabase(work);
  const dump = await findEntry(store, root, `/${DUMP}`);
  const catalog = await databaseCatalog(store, root);
  if (!dump || !catalog)
    throw new CodedError(
      "not-found",
      `the recovery point has no ${DUMP} and ${CATALOG}; it is not one of a database`,
    );
  const table = work.table ?? null;
  if (table && !catalog.tables.some((one) => one.schema === table.schema && one.name === table.name))
    throw new CodedError("not-found", `the recovery point has no table ${table.schema}.${table.name}`);
  const size = dump.size ?? 0;
  work.expect(1, size);
  const inPlace = work.folder === null;
  if (inPlace && table)
    throw new CodedError(
      "restore.cannot-write",
      "a single table does not replace a database; give a new name",
    );
  const name = work.folder ?? original;
  if (Buffer.byteLength(name) > NAME_BYTES)
    throw new CodedError("restore.cannot-write", `a database name has at most ${NAME_BYTES} bytes`);
  const { target, stands, programs, rejected } = await server.with(undefined, async (session) => {
    const there = await exists(session, name);
    if (there && !inPlace)
      throw new CodedError("restore.exists", `${server.host} has a database ${name} already`);
    if (there) await refuseUsed(session, name);
    const beside = there ? `${cut(name, 40)} restored ${randomBytes(4).toString("hex")}` : name;
    const found = await programsFor(await majorOf(session));
    await create(session, beside, catalog);
    // what is replaced keeps its access as it is now; a new database has that of the moment
    const access = there ? await readAccess(session, name) : catalog.access;
    try {
      return {
        target: beside,
        stands: there,
        programs: found,
        rejected: await applyAccess(session, beside, access),
      };
    } catch (error) {
      await session.query(`drop database if exists ${quoted(beside)}`).catch(() => {});
      throw new CodedError("restore.cannot-write", (error as Error).message);
    }
  });
  const way = await server.way();
  const abort = () => way.end();
  work.signal.addEventListener("abort", abort, { once: true });
  try {
    work.signal.throwIfAborted();
    if (table && table.schema !== "public")
      await server.with(target, (inside) => inside.query(`create schema ${quoted(table.schema)}`));
    const { stdin, stdout, done } = way.run(programs, "pg_restore", [
      "--no-password",
      ...(table ? [`--schema=${table.schema}`, `--table=${table.name}`] : []),
      `--dbname=${connectionText(target)}`,
    ]);
    stdout.resume();
    for await (const part of fileBytes(store, dump, 0, size)) {
      if (stdin.destroyed || stdin.closed) break;
      if (!stdin.write(part)) await drained(stdin, done);
      work.progress.bytes += part.length;
    }
    stdin.end();
    const { ok, said, how } = await done;
    work.signal.throwIfAborted();
    const cautions = [...rejected, ...cautionsOf(said)];
    // it goes on after statements that failed, and counts them at its end
    if (!ok && !/errors ignored on restore: \d+/.test(said))
      throw new CodedError("restore.cannot-write", lastWords(said) || `pg_restore ended with ${how}`);
    for (const line of cautions) work.log("caution", "restore.statement-failed", path, line);
    if (stands) {
      const aside = `${cut(name, 30)} until ${now().toISOString().slice(0, 23).replace("T", " ")}`;
      await replace(server, name, target, aside);
      work.log(
        "info",
        null,
        path,
        `the database that was there is now “${aside}”; delete it when it is no longer needed`,
      );
    }
    work.log("info", null, path, `restored as ${name}`);
    work.progress.items += 1;
    return { files: 1, bytes: size, folders: 0, present: 0, cautions: cautions.length };
  } catch (error) {
    way.end();
    await server
      .with(undefined, (session) => session.query(`drop database if exists ${quoted(target)}`))
      .catch(() => {});
    throw error;
  } finally {
    work.signal.removeEventListener("abort", abort);
    way.end();
  }
}

function oneDatabase({ items }: RestoreWork): RestoreWork["items"][number] {
  const [first, ...others] = items;
  if (!first || others.length > 0)
    throw new CodedError("restore.cannot-write", "choose one database at one moment");
  if (first.path !== "/" && first.path !== `/${DUMP}`)
    throw new CodedError(
      "restore.cannot-write",
      `${showBytes(first.path)} is not a database; choose the whole database, or download the file`,
    );
  return first;
}

const cut = (name: string, bytes: number): string => {
  let text = name;
  while (Buffer.byteLength(text) > bytes) text = [...text].slice(0, -1).join("");
  return text;
};

const exists = async (session: pg.Client, name: string): Promise<boolean> =>
  ((await session.query("select from pg_database where datname = $1", [name])).rowCount ?? 0) > 0;

async function refuseUsed(session: pg.Client, name: string): Promise<void> {
  const { rows } = await session.query<{ count: number; who: string | null }>(
    `select count(*)::int as count, string_agg(distinct coalesce(nullif(application_name, ''), usename, 'unknown'), ', ') as who
     from pg_stat_activity where datname = $1 and pid <> pg_backend_pid()`,
    [name],
  );
  const { count, who } = rows[0]!;
  if (count > 0)
    throw new CodedError(
      "restore.in-use",
      `${name} has ${count} ${count === 1 ? "session" : "sessions"} (${who}); end them, or restore under another name`,
    );
}

async function create(
  session: pg.Client,
  name: string,
  { encoding, collate, ctype }: Catalog,
): Promise<void> {
  const as = (more: string) =>
    `create database ${quoted(name)} template template0 encoding ${literal(encoding)}${more}`;
  try {
    await session.query(as(` lc_collate ${literal(collate)} lc_ctype ${literal(ctype)}`));
  } catch (error) {
    const { code, message } = error as { code?: string; message: string };
    if (code === "42501")
      throw new CodedError("restore.cannot-write", `${message}: the user may not create databases`);
    // a collation that this server does not have
    if (code !== "22023" && code !== "42809") throw new CodedError("restore.cannot-write", message);
    await session.query(as("")).catch((again: Error) => {
      throw new CodedError("restore.cannot-write", again.message);
    });
  }
}

/**
 * Both names change, or none. Each change is made from the other database, since nobody can rename the one that is open; the
 * original may be the one that is opened otherwise.
 */
async function replace(server: DatabaseServer, name: string, restored: string, aside: string): Promise<void> {
  const rename = (from: string, to: string) => `alter database ${quoted(from)} rename to ${quoted(to)}`;
  await server.with(restored, async (session) => {
    await refuseUsed(session, name);
    await session.query(rename(name, aside)).catch((error: Error) => {
      throw new CodedError("restore.in-use", error.message);
    });
  });
  await server.with(aside, async (session) => {
    // a session with the restored one may take a moment to end
    for (let tries = 1; ; tries += 1)
      try {
        await session.query(rename(restored, name));
        return;
      } catch (error) {
        if (tries < RENAMES) {
          await sleep(RENAME_PAUSE_MS * tries);
          continue;
        }
        await server.with(restored, (other) => other.query(rename(aside, name)));
        throw new CodedError("restore.cannot-write", (error as Error).message);
      }
  });
}
const RENAMES = 6;
const RENAME_PAUSE_MS = 100;

/** Statements that failed, one line each, from what pg_restore said. */
const cautionsOf = (said: string): string[] =>
  said
    .split("\n")
    .map((line) => lastWords(line))
    .filter((line) => /^(could not execute query: )?ERROR:/.test(line))
    .slice(0, 100);

const drained = (stdin: NodeJS.WritableStream, done: Promise<unknown>): Promise<unknown> =>
  Promise.race([new Promise((resolve) => stdin.once("drain", resolve)), done.catch(() => {})]);
