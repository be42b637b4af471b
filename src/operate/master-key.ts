import { randomBytes } from "node:crypto";
import { existsSync, readFileSync, renameSync, unlinkSync } from "node:fs";
import { open } from "node:fs/promises";
import { join } from "node:path";
import pg from "pg";
import { authorisationContext } from "@/runs/connecting";
import { secretContext } from "@/runs/connections";
import { seedContext } from "@/server/access/second-factor";
import { record } from "@/server/access/who";
import { answerContext } from "@/server/api/idempotency";
import { masterKeyElsewhere, readSettings } from "@/server/base/settings";
import { depotSecretContext } from "@/server/depots/places";
import { keyContext } from "@/server/inside/space-readers";
import { linkContext } from "@/server/notices/message-link";
import { MAIL_CONTEXT, webhookContext } from "@/server/notices/sending";
import { type Secrets, secretsWith } from "@/store/seal/secrets";
import { answers, readAccess, startCluster, stopCluster } from "./cluster";

const UUID_LENGTH = 36;
/** Every secret that the master key seals: where it lies, and what it says that it is. */
export const SEALED: readonly {
  readonly table: string;
  readonly id: string;
  readonly column: string;
  readonly where?: string;
  readonly context: (id: string) => string;
}[] = [
  {
    table: "client_keys",
    id: "client_id",
    column: "sealed",
    where: "holding = 'escrow'",
    context: keyContext,
  },
  { table: "connections", id: "id", column: "secret", context: secretContext },
  { table: "authorisations", id: "id", column: "sealed", context: authorisationContext },
  { table: "messages", id: "id", column: "sealed_link", context: linkContext },
  {
    table: "idempotency_keys",
    id: "(person_id || ' ' || key)",
    column: "sealed",
    context: (id) => answerContext(id.slice(0, UUID_LENGTH), id.slice(UUID_LENGTH + 1)),
  },
  { table: "depots", id: "id", column: "secret", context: depotSecretContext },
  { table: "webhooks", id: "id", column: "secret", context: webhookContext },
  { table: "people", id: "id", column: "factor_seed", context: seedContext },
  { table: "mail_settings", id: "one", column: "password", context: () => MAIL_CONTEXT },
];

/** Seals anew all of it, in the transaction of the client. Returns how many secrets there are. */
async function sealAnew(client: pg.Client, old: Secrets, fresh: Secrets): Promise<number> {
  let count = 0;
  for (const { table, id, column, where, context } of SEALED) {
    const { rows } = await client.query<{ id: string; sealed: Buffer }>(
      `select ${id}::text as id, ${column} as sealed from ${table} where ${column} is not null ${where ? `and ${where}` : ""} for update`,
    );
    for (const row of rows) {
      const plain = old.unseal(row.sealed, context(row.id));
      await client.query(`update ${table} set ${column} = $2 where ${id}::text = $1`, [
        row.id,
        fresh.seal(plain, context(row.id)),
      ]);
      count += 1;
    }
  }
  return count;
}

/** Whether a key opens what the database holds; true where it holds nothing. */
async function opens(client: pg.Client, key: string): Promise<boolean> {
  const secrets = secretsWith(Buffer.from(key, "hex"));
  for (const { table, id, column, where, context } of SEALED) {
    const { rows } = await client.query<{ id: string; sealed: Buffer }>(
      `select ${id}::text as id, ${column} as sealed from ${table} where ${column} is not null ${where ? `and ${where}` : ""} limit 1`,
    );
    const [row] = rows;
    if (!row) continue;
    try {
      secrets.unseal(row.sealed, context(row.id));
      return true;
    } catch {
      return false;
    }
  }
  return true;
}

async function writeKey(file: string, key: string): Promise<void> {
  const handle = await open(file, "w", 0o600);
  try {
    await handle.writeFile(`${key}\n`);
    await handle.sync();
  } finally {
    await handle.close();
  }
}

/**
 * Changes the master key: every secret of the database is sealed with a new one, all or none, and the file follows. The
 * console must not be running: its programs hold the old key. Returns how many secrets were sealed anew.
 *
 * The new key lies in `master.key.new` before the database is changed, so that a break between the two loses none: the
 * next call, or the next start, puts the one that opens in place (`settleMasterKey`).
 */
export async function changeMasterKey(home: string, env: NodeJS.ProcessEnv = process.env): Promise<number> {
  const elsewhere = masterKeyElsewhere(env);
  if (elsewhere && !/^[0-9a-f]{64}$/.test(env.DEEPKEEP_NEW_MASTER_KEY ?? ""))
    throw new Error(
      "The master key is not kept in the data folder. Give the new one in DEEPKEEP_NEW_MASTER_KEY, 64 hex digits, and put it where the old one is kept afterwards.",
    );
  const there = readAccess(home);
  const runs = there !== null && (await answers(there));
  const access = await startCluster(home);
  const client = new pg.Client({ connectionString: access.owner });
  await client.connect();
  try {
    const { rows } = await client.query<{ others: number }>(
      "select count(*)::int as others from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid() and backend_type = 'client backend'",
    );
    if (rows[0]!.others > 0)
      throw new Error(
        "The console is running, and its programs hold the old key. End it first, then change the key.",
      );
    if (!elsewhere) await settle(client, home);
    const settings = readSettings({ ...env, DEEPKEEP_HOME: home });
    const key = elsewhere ? env.DEEPKEEP_NEW_MASTER_KEY! : randomBytes(32).toString("hex");
    if (!elsewhere) await writeKey(join(home, "master.key.new"), key);
    await client.query("begin");
    await client.query("select set_config('deepkeep.role', 'system', true)");
    const [old, fresh] = [settings.masterKey, key].map((one) => secretsWith(Buffer.from(one, "hex")));
    const count = await sealAnew(client, old!, fresh!);
    const who = { actor: "bin/keep", address: "this machine", at: new Date() };
    await record(client as unknown as pg.PoolClient, who, null, "changed the master key", "secrets", {
      sealedAnew: count,
    });
    await client.query("commit");
    if (!elsewhere) renameSync(join(home, "master.key.new"), join(home, "master.key"));
    return count;
  } finally {
    await client.end();
    // what somebody else started goes on
    if (!runs) await stopCluster(access);
  }
}

/** Where a change was broken off: keeps the key that opens what the database holds. */
async function settle(client: pg.Client, home: string): Promise<void> {
  const fresh = join(home, "master.key.new");
  if (!existsSync(fresh)) return;
  const key = readFileSync(fresh, "utf8").trim();
  if (
    /^[0-9a-f]{64}$/.test(key) &&
    !(await opens(client, readFileSync(join(home, "master.key"), "utf8").trim()))
  ) {
    if (!(await opens(client, key)))
      throw new Error("Neither master.key nor master.key.new opens what the database holds.");
    renameSync(fresh, join(home, "master.key"));
  } else unlinkSync(fresh);
}

/** The same for a start, over the cluster that it began. */
export async function settleMasterKey(home: string, ownerUrl: string): Promise<void> {
  if (masterKeyElsewhere(process.env) || !existsSync(join(home, "master.key.new"))) return;
  const client = new pg.Client({ connectionString: ownerUrl });
  await client.connect();
  try {
    await settle(client, home);
  } finally {
    await client.end();
  }
}
