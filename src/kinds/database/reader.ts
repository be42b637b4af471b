import { Readable } from "node:stream";
import type pg from "pg";
import { CodedError } from "@/core/codes";
import {
  type Listed,
  type Listing,
  NOBODY_SAID,
  nowNanoseconds,
  type OpenFile,
  type SourceReader,
} from "@/sources/reader";
import { streamFile } from "@/sources/stream-file";
import type { ByteString } from "@/store/tree/tree";
import { readCatalog } from "./catalog";
import { CATALOG, DUMP, GLOBALS, SCHEMA } from "./names";
import { type Programs, programsFor } from "./programs";
import type { DatabaseServer, Ran, Way } from "./server";
import type { DatabaseWhat } from "./what";

/** A dump waits for a lock no longer than this. */
const LOCK_MS = 60_000;

/** The major version of a server, from `server_version_num`. */
export async function majorOf(session: pg.Client): Promise<number> {
  const { rows } = await session.query<{ number: string }>(
    "select current_setting('server_version_num') as number",
  );
  return Math.floor(Number(rows[0]!.number) / 10_000);
}

/**
 * A database at one moment: a dump in PostgreSQL's custom format, not compressed, so that what did not change is found
 * again; the definitions as text; the roles of the server; and a catalog. All of it is of one snapshot (but for the roles,
 * which have none). Content comes from the programs as they write it, without a file on the way.
 */
export class DatabaseReader implements SourceReader {
  private readonly at = nowNanoseconds();

  private constructor(
    private readonly session: pg.Client,
    private readonly way: Way,
    private readonly programs: Programs,
    private readonly database: string,
    private readonly maintenance: string,
    private readonly what: DatabaseWhat,
    private readonly snapshot: string,
    private readonly catalog: Buffer,
  ) {}

  static async open(server: DatabaseServer, database: string, what: DatabaseWhat): Promise<DatabaseReader> {
    const session = await server.session(database);
    let way: Way | null = null;
    try {
      const programs = await programsFor(await majorOf(session));
      way = await server.way();
      await session.query("begin isolation level repeatable read read only");
      const { rows } = await session.query<{ id: string }>("select pg_export_snapshot() as id");
      const catalog = Buffer.from(JSON.stringify(await readCatalog(session)));
      return new DatabaseReader(
        session,
        way,
        programs,
        database,
        server.maintenance,
        what,
        rows[0]!.id,
        catalog,
      );
    } catch (error) {
      way?.end();
      await session.end().catch(() => {});
      if (error instanceof CodedError) throw error;
      const { code, message } = error as { code?: string; message: string };
      throw new CodedError(code === "42501" ? "source.not-allowed" : "source.dump-failed", message);
    }
  }

  look(path: ByteString): Listed {
    if (path === "/") return this.entry("", "folder");
    throw new CodedError("folder.missing", path);
  }

  list(): Listing {
    return { at: this.at, items: [CATALOG, DUMP, GLOBALS, SCHEMA].map((name) => this.entry(name, "file")) };
  }

  async open(path: ByteString): Promise<OpenFile> {
    switch (path) {
      case `/${CATALOG}`:
        return streamFile(Readable.from([this.catalog], { objectMode: false }), Promise.resolve());
      case `/${DUMP}`:
        return ofProgram(
          this.dump(
            "--format=custom",
            "--compress=0",
            ...this.what.excludeData.map((one) => `--exclude-table-data=${one}`),
          ),
        );
      case `/${SCHEMA}`:
        return ofProgram(this.dump("--schema-only"));
      case `/${GLOBALS}`:
        return this.globals();
      default:
        throw new CodedError("file.vanished", path);
    }
  }

  private dump(...args: string[]): Ran {
    return this.way.run(this.programs, "pg_dump", [
      ...args,
      `--snapshot=${this.snapshot}`,
      `--lock-wait-timeout=${LOCK_MS}`,
      "--no-password",
      `--dbname=${connectionText(this.database)}`,
    ]);
  }

  /** Roles and tablespaces. Passwords can be read by a superuser only; without them the rest is kept. */
  private async globals(): Promise<OpenFile> {
    const dumped = async (...more: string[]): Promise<Buffer> => {
      const { stdout, ended } = this.way.run(this.programs, "pg_dumpall", [
        "--globals-only",
        "--no-password",
        `--database=${this.maintenance}`,
        ...more,
      ]);
      const parts: Buffer[] = [];
      for await (const part of stdout) parts.push(part as Buffer);
      await ended;
      return Buffer.concat(parts);
    };
    const bytes = await dumped().catch((error: Error) => {
      if (!/permission denied/.test(error.message)) throw error;
      return dumped("--no-role-passwords");
    });
    return streamFile(Readable.from([bytes], { objectMode: false }), Promise.resolve());
  }

  target(path: ByteString): ByteString {
    throw new CodedError("file.unreadable", path);
  }

  xattrs(): [ByteString, Uint8Array][] {
    return [];
  }

  passesOver(): boolean {
    return false;
  }

  end(): void {
    this.way.end();
    this.session.end().catch(() => {});
  }

  private entry(name: ByteString, type: "file" | "folder"): Listed {
    return {
      name,
      type,
      mode: type === "folder" ? 0o700 : 0o600,
      uid: NOBODY_SAID,
      gid: NOBODY_SAID,
      mtime: this.at,
      ctime: this.at,
      // what it contains is known when it was read
      inode: this.at % 2n ** 48n,
      size: 0,
      roughSize: true,
      allocated: 0,
    };
  }
}

function ofProgram({ stdout, ended, child }: Ran): OpenFile {
  const file = streamFile(stdout, ended);
  return {
    ...file,
    close: () => {
      file.close();
      child.kill("SIGTERM");
    },
  };
}

/** A database's name as a connection string, so that no name is taken for one (libpq, section 34.1.1). */
export const connectionText = (database: string): string =>
  `dbname='${database.replaceAll(/[\\']/g, "\\$&")}'`;
