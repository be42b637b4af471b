import { execFile } from "node:child_process";
import { existsSync, readdirSync } from "node:fs";
import { join } from "node:path";
import { promisify } from "node:util";
import { CodedError } from "@/core/codes";

/** Where PostgreSQL's client programs are: Debian keeps a folder for each version, others one on the path. */
const VERSIONS = "/usr/lib/postgresql";

export interface Programs {
  readonly folder: string;
  /** Major version. */
  readonly version: number;
}

async function foundPrograms(): Promise<Programs[]> {
  const versions = existsSync(VERSIONS)
    ? readdirSync(VERSIONS).map((name) => join(VERSIONS, name, "bin"))
    : [];
  const onPath = (process.env.PATH ?? "").split(":").filter(Boolean);
  const found: Programs[] = [];
  for (const folder of [...versions, ...onPath]) {
    if (!existsSync(join(folder, "pg_dump"))) continue;
    const said = await promisify(execFile)(join(folder, "pg_dump"), ["--version"], { timeout: 10_000 }).catch(
      () => null,
    );
    const version = /\(PostgreSQL\) (\d+)/.exec(said?.stdout ?? "")?.[1];
    if (version) found.push({ folder, version: Number(version) });
  }
  return found.sort((a, b) => a.version - b.version);
}

/**
 * The programs for a server of a major version: the oldest that are not older than it, for a dump program does not read a
 * newer server. Throws `source.program-missing`.
 */
export async function programsFor(server: number, found?: readonly Programs[]): Promise<Programs> {
  const all = found ?? (await foundPrograms());
  const fitting = all.find(({ version }) => version >= server);
  if (fitting) return fitting;
  const newest = all.at(-1);
  throw new CodedError(
    "source.program-missing",
    newest
      ? `the server is PostgreSQL ${server}, and the newest pg_dump here is ${newest.version}; install postgresql-client-${server}`
      : `no pg_dump is installed on the console's machine; install postgresql-client-${server}`,
  );
}

/** The newest programs here: they read every dump that these or older ones made. */
export async function newestPrograms(): Promise<Programs> {
  const newest = (await foundPrograms()).at(-1);
  if (!newest)
    throw new CodedError(
      "source.program-missing",
      "no pg_restore is installed on the console's machine; install postgresql-client",
    );
  return newest;
}
