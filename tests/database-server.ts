import { mkdirSync, rmSync } from "node:fs";
import { join } from "node:path";
import pg from "pg";
import { type DatabaseAccess, ensureMasterKey, startCluster, stopCluster } from "@/operate/cluster";
import { freshFolder } from "./depot";

/** A PostgreSQL server of a client: a real one, on loopback. */
export class ClientDatabases {
  private constructor(
    private readonly access: DatabaseAccess,
    private readonly folder: string,
    readonly port: number,
    readonly user: string,
    readonly password: string,
  ) {}

  static async start(): Promise<ClientDatabases> {
    const folder = freshFolder("client-databases");
    mkdirSync(join(folder, "log"));
    ensureMasterKey(folder);
    const access = await startCluster(folder, { fsync: "off" });
    const { port, username, password } = new URL(access.owner);
    return new ClientDatabases(access, folder, Number(port), username, decodeURIComponent(password));
  }

  readonly address = (): string => `postgresql://127.0.0.1:${this.port}`;

  /** Works in a session as the owner of everything. */
  async in<T>(database: string, work: (session: pg.Client) => Promise<T>): Promise<T> {
    const session = new pg.Client({
      host: "127.0.0.1",
      port: this.port,
      user: this.user,
      password: this.password,
      database,
    });
    session.on("error", () => {});
    await session.connect();
    try {
      return await work(session);
    } finally {
      await session.end().catch(() => {});
    }
  }

  query = <Row extends pg.QueryResultRow>(
    database: string,
    sql: string,
    values: unknown[] = [],
  ): Promise<Row[]> => this.in(database, async (session) => (await session.query<Row>(sql, values)).rows);

  /** Everything in the tables of a database, as text: a line a row. */
  async content(database: string): Promise<string[]> {
    return this.in(database, async (session) => {
      const { rows: tables } = await session.query<{ name: string }>(
        `select quote_ident(schemaname) || '.' || quote_ident(tablename) as name from pg_tables
         where schemaname not in ('pg_catalog', 'information_schema') order by 1`,
      );
      const lines: string[] = [];
      for (const { name } of tables) {
        const { rows } = await session.query<{ line: string }>(
          `select t::text as line from ${name} t order by 1`,
        );
        lines.push(...rows.map(({ line }) => `${name} ${line}`));
      }
      return lines;
    });
  }

  async stop(): Promise<void> {
    await stopCluster(this.access, "immediate");
    rmSync(this.folder, { recursive: true, force: true });
  }
}
