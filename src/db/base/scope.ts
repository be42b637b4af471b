import { createHash } from "node:crypto";
import pg from "pg";
import type { ClientId, PersonId } from "@/core/ids";
import { noteCommitted } from "./committed";
import { queryStored, typesWith } from "./stored";

/** What a transaction may see. The database enforces it: migrations/0002-tenancy.sql. */
export type Scope =
  /** The program itself: signing in, the runner. */
  | { readonly role: "system" }
  /** The provider's people: all clients, or the given ones. With `readOnly`, the database refuses every change. */
  | { readonly role: "provider"; readonly clientIds?: readonly string[]; readonly readOnly?: boolean }
  /** A client's manager: reads one client. */
  | { readonly role: "client"; readonly clientId: ClientId; readonly personId?: PersonId }
  /** One of a client's people: what was given to them. */
  | { readonly role: "person"; readonly clientId: ClientId; readonly personId: PersonId }
  /** An enrolled machine: one client. */
  | { readonly role: "machine"; readonly clientId: ClientId };

export type Tx = pg.PoolClient;

// bigint columns hold bytes and counts, far below 2^53
pg.types.setTypeParser(pg.types.builtins.INT8, Number);
pg.types.setTypeParser(pg.types.builtins.NUMERIC, Number);
const TYPES = typesWith(pg.types as unknown as pg.CustomTypesConfig);

export interface Database {
  readonly pool: pg.Pool;
  /** Runs `work` in one transaction that sees what the scope sees. */
  withScope<T>(scope: Scope, work: (tx: Tx) => Promise<T>): Promise<T>;
  end(): Promise<void>;
}

/** Opens a pool as the application's role. */
export function openDatabase(connectionString: string, max = 12): Database {
  const pool = new pg.Pool({ connectionString, max });
  // a connection that breaks, idle or in use, says so by an event too: the query that waits reports it, and the pool makes
  // another
  pool.on("error", () => {});
  pool.on("connect", (client) => client.on("error", () => {}));
  return {
    pool,
    async withScope(scope, work) {
      const tx = await pool.connect();
      let broken: Error | undefined;
      try {
        // one way there and back: nothing in it comes from outside, and what is no id is refused
        await tx.query(beginOf(scope));
        const result = await work(tx);
        await noteCommitted(tx);
        await tx.query("commit");
        return result;
      } catch (error) {
        await tx.query("rollback").catch((lost: Error) => {
          broken = lost;
        });
        throw error;
      } finally {
        tx.release(broken);
      }
    },
    end: () => pool.end(),
  };
}

const ID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/;
const idOf = (value: string | undefined): string => {
  if (value === undefined || value === "") return "";
  if (!ID.test(value)) throw new RangeError("a scope names what is no id");
  return value;
};

/** Begins a transaction and says who asks, as text: the driver sends several statements at once only without values. */
function beginOf(scope: Scope): string {
  const readOnly = "readOnly" in scope && scope.readOnly ? " read only" : "";
  const client = idOf("clientId" in scope ? scope.clientId : undefined);
  const person = idOf("personId" in scope ? scope.personId : undefined);
  const clients =
    "clientIds" in scope && scope.clientIds ? `{${scope.clientIds.map((id) => idOf(id)).join(",")}}` : "";
  return `begin${readOnly}; select set_config('deepkeep.role', '${scope.role}', true), set_config('deepkeep.client', '${client}', true),
    set_config('deepkeep.person', '${person}', true), set_config('deepkeep.clients', '${clients}', true)`;
}

/** A filter that may be left out: its plan depends on whether it is, so PostgreSQL plans it for the values at hand. */
const OPTIONAL = /\$\d+(::[a-z]+(\[\])?)? is (not )?null\b/;
/** Statements whose plan connections keep; beyond this number (texts made of their values) they are planned each time. */
const MOST_NAMES = 1000;
const names = new Map<string, string>();

/**
 * The name under which a connection keeps a statement's plan: with row-level security, planning takes longer than most
 * answers. PostgreSQL still plans for the values at hand where it expects that to be cheaper (plan_cache_mode = auto).
 */
export function planName(sql: string): string | undefined {
  const known = names.get(sql);
  if (known !== undefined || names.size >= MOST_NAMES || OPTIONAL.test(sql)) return known;
  const name = createHash("sha256").update(sql).digest("base64url").slice(0, 24);
  names.set(sql, name);
  return name;
}

/** All rows of a statement, typed by the caller who wrote its columns. */
export async function all<Row>(tx: Tx, sql: string, values: readonly unknown[] = []): Promise<Row[]> {
  const name = planName(sql);
  return (await queryStored(tx, { ...(name && { name }), text: sql, values }, TYPES)).rows as Row[];
}

/** The only row, or null. */
export async function one<Row>(tx: Tx, sql: string, values: readonly unknown[] = []): Promise<Row | null> {
  return (await all<Row>(tx, sql, values))[0] ?? null;
}

/**
 * The same of a statement that a connection plans once and for all: for questions that are asked all day, whose plan takes
 * as long as their answer. Their plan must be good for whatever values come.
 */
export async function allPlanned<Row>(
  tx: Tx,
  name: string,
  sql: string,
  values: readonly unknown[] = [],
): Promise<Row[]> {
  return (await queryStored(tx, { name, text: sql, values }, TYPES)).rows as Row[];
}

/**
 * The same, also where PostgreSQL believes that a plan for these very values is worth making anew: of a long statement the
 * making takes longer than it wins.
 */
export async function allPlannedOnce<Row>(
  tx: Tx,
  name: string,
  sql: string,
  values: readonly unknown[] = [],
): Promise<Row[]> {
  await tx.query("set local plan_cache_mode = force_generic_plan");
  const rows = await allPlanned<Row>(tx, name, sql, values);
  await tx.query("set local plan_cache_mode = auto");
  return rows;
}

/** The only row of such a statement, or null. */
export const onePlanned = async <Row>(
  tx: Tx,
  name: string,
  sql: string,
  values: readonly unknown[] = [],
): Promise<Row | null> => (await allPlanned<Row>(tx, name, sql, values))[0] ?? null;

/** Asks for each of several things, one after another: a transaction answers one question at a time. */
export async function inTurn<From, To>(
  many: readonly From[],
  ask: (one: From) => Promise<To>,
): Promise<To[]> {
  const answers: To[] = [];
  for (const one of many) answers.push(await ask(one));
  return answers;
}

/** Number of rows changed. */
export async function change(tx: Tx, sql: string, values: readonly unknown[] = []): Promise<number> {
  const name = planName(sql);
  return (await tx.query({ ...(name && { name }), text: sql, values: values as unknown[] })).rowCount ?? 0;
}

/** Whether the database answers; rejects where it does not. */
export const answers = (tx: Tx) => one(tx, "select 1");

/** A place in a transaction to which it can be rolled back, by a name of the program's own. */
export const savepoint = (tx: Tx, name: "claim") => tx.query(`savepoint ${name}`);
export const rollbackTo = (tx: Tx, name: "claim") => tx.query(`rollback to savepoint ${name}`);
