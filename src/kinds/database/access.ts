import type pg from "pg";
import { z } from "zod";

/** Who may do what with a database as a whole, and its settings: what a dump restores only with the database's own name. */
export const databaseAccess = z.object({
  owner: z.string(),
  /** Null: the server's defaults, by which everybody may connect. A grant without a role is one to everybody. */
  grants: z.array(z.object({ role: z.string().nullable(), privilege: z.string() })).nullable(),
  /** `name=value`, as PostgreSQL stores them. */
  settings: z.array(z.string()),
});
export type DatabaseAccess = z.infer<typeof databaseAccess>;

const quoted = (name: string): string => `"${name.replaceAll('"', '""')}"`;
const literal = (text: string): string => `'${text.replaceAll("'", "''")}'`;

/** Reads the access of a database of this server. */
export async function readAccess(session: pg.Client, database: string): Promise<DatabaseAccess> {
  const { rows } = await session.query<{ oid: string; owner: string; standard: boolean }>(
    "select oid::text, pg_get_userbyid(datdba) as owner, datacl is null as standard from pg_database where datname = $1",
    [database],
  );
  const { oid, owner, standard } = rows[0]!;
  const { rows: grants } = await session.query<{ role: string | null; privilege: string }>(
    `select case grantee when 0 then null else pg_get_userbyid(grantee) end as role, privilege_type as privilege
     from pg_database, aclexplode(datacl) where oid = $1::oid`,
    [oid],
  );
  const { rows: settings } = await session.query<{ one: string }>(
    "select unnest(setconfig) as one from pg_db_role_setting where setdatabase = $1::oid and setrole = 0",
    [oid],
  );
  return { owner, grants: standard ? null : grants, settings: settings.map(({ one }) => one) };
}

const PRIVILEGES: ReadonlySet<string> = new Set(["CONNECT", "CREATE", "TEMPORARY"]);
/** Settings whose stored value is a list that is quoted already. */
const LISTS: ReadonlySet<string> = new Set([
  "search_path",
  "local_preload_libraries",
  "session_preload_libraries",
  "temp_tablespaces",
]);

/**
 * Gives a database the access that another has or had. It is closed to everybody first, so that at no time more may be done
 * with it than with that one. Returns what the server rejected, a line each: roles that it does not have, say.
 */
export async function applyAccess(
  session: pg.Client,
  database: string,
  { owner, grants, settings }: DatabaseAccess,
): Promise<string[]> {
  const name = quoted(database);
  const rejected: string[] = [];
  const attempt = (sql: string) =>
    session.query(sql).catch((error: Error) => void rejected.push(`${error.message} (${sql})`));
  if (grants) await session.query(`revoke all on database ${name} from public`);
  for (const { role, privilege } of grants ?? [])
    if (PRIVILEGES.has(privilege) && role !== owner)
      await attempt(`grant ${privilege} on database ${name} to ${role === null ? "public" : quoted(role)}`);
  for (const setting of settings) {
    const cut = setting.indexOf("=");
    const [key, value] = [setting.slice(0, cut), setting.slice(cut + 1)];
    await attempt(`alter database ${name} set ${quoted(key)} to ${LISTS.has(key) ? value : literal(value)}`);
  }
  const { rows } = await session.query<{ same: boolean }>("select current_user = $1 as same", [owner]);
  // last: afterwards only the owner may change the rest
  if (!rows[0]!.same) await attempt(`alter database ${name} owner to ${quoted(owner)}`);
  return rejected;
}
