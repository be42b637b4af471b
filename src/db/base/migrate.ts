import { readdir, readFile } from "node:fs/promises";
import { join } from "node:path";
import { runMigrations } from "graphile-worker";
import pg from "pg";

/**
 * Brings the database to the newest schema; every migration in a transaction of its own. Makes the application's role on
 * the first start.
 *
 * @param ownerUrl connection as the owner of the tables
 * @param appPassword password of the role `deepkeep_app`
 */
export async function migrate(ownerUrl: string, appPassword: string, folder: string): Promise<string[]> {
  const client = new pg.Client({ connectionString: ownerUrl });
  await client.connect();
  const applied: string[] = [];
  try {
    await client.query("select pg_advisory_lock(7205760)");
    await client.query(`do $$ begin
      if not exists (select from pg_roles where rolname = 'deepkeep_app') then create role deepkeep_app login nosuperuser nobypassrls; end if;
    end $$`);
    await client.query(`alter role deepkeep_app password ${client.escapeLiteral(appPassword)}`);
    await client.query(
      "create table if not exists migrations (name text primary key, applied_at timestamptz not null default now())",
    );
    const done = new Set(
      (await client.query("select name from migrations")).rows.map((row: { name: string }) => row.name),
    );
    const names = (await readdir(folder)).filter((name) => name.endsWith(".sql")).sort();
    for (const name of names) {
      if (done.has(name)) continue;
      await client.query("begin");
      try {
        await client.query(await readFile(join(folder, name), "utf8"));
        await client.query("insert into migrations (name) values ($1)", [name]);
        await client.query("commit");
      } catch (error) {
        await client.query("rollback");
        throw new Error(`migration ${name}: ${(error as Error).message}`, { cause: error });
      }
      applied.push(name);
    }
    await runMigrations({ connectionString: ownerUrl, logger: undefined });
    await client.query(`
      create or replace function enqueue(task text, payload json, job_key text) returns void
      language sql security definer set search_path = public as
      $$ select graphile_worker.add_job(task, payload, job_key := job_key,
        -- a check may take hours: one at a time, beside all else
        queue_name := case when task = 'check' then 'checks' end) $$`);
    await client.query("revoke all on function enqueue(text, json, text) from public");
    await client.query("grant execute on function enqueue(text, json, text) to deepkeep_app");
  } finally {
    await client.end();
  }
  return applied;
}
