import pg from "pg";
import { Chance } from "./chance";

/**
 * The clients' databases: real ones, on a PostgreSQL server of the demo's own. Each belongs to a role of its client, which
 * sees no other.
 */
export const DATABASES = ["sensor_readings", "rents"] as const;
export type DemoDatabase = (typeof DATABASES)[number];

const TABLES: Readonly<Record<DemoDatabase, string>> = {
  sensor_readings: `
    create table pens (id int primary key, name text not null, depth_m numeric(4, 1) not null);
    create table readings (id bigint generated always as identity primary key, pen_id int not null references pens,
      at timestamptz not null, water_c numeric(4, 1) not null, oxygen_mg_l numeric(4, 1) not null);
    create index readings_by_time on readings (pen_id, at);
    insert into pens select n, 'Pen ' || n, 8 + n from generate_series(1, 6) n;
    create view daily as select pen_id, at::date as day, avg(water_c) as water_c, min(oxygen_mg_l) as oxygen_mg_l
      from readings group by 1, 2;`,
  rents: `
    create table homes (id int primary key, address text not null);
    create table tenancies (id int primary key, home_id int not null references homes, tenant text not null,
      rent_cents int not null check (rent_cents > 0));
    create table payments (id bigint generated always as identity primary key, tenancy_id int not null references tenancies,
      paid_on date not null, cents int not null);
    create index payments_of_tenancies on payments (tenancy_id, paid_on);
    insert into homes select n, (array['Tern House', 'Sorrel Row', 'Quay Court'])[1 + n % 3] || ' ' || n from generate_series(1, 24) n;
    insert into tenancies select n, n, 'Tenant ' || n, 41000 + 700 * n from generate_series(1, 24) n;`,
};

export class DatabaseLife {
  private readonly chance = new Chance(4711);

  /** `owner`: the server, as its owner reaches it. */
  constructor(private readonly owner: string) {}

  readonly address = (): string => `postgresql://127.0.0.1:${new URL(this.owner).port}`;

  /** Makes a database and the role that it belongs to, which has its name. */
  async begin(database: DemoDatabase, password: string): Promise<void> {
    await this.within("postgres", async (session) => {
      await session.query(
        `create role ${database} login createdb password '${password.replaceAll("'", "''")}'`,
      );
      await session.query(`create database ${database} owner ${database}`);
      await session.query(`revoke connect on database ${database}, postgres from public`);
    });
    await this.within(database, async (session) => {
      await session.query(`set role ${database}; ${TABLES[database]}`);
    });
  }

  /** A day in a database, up to `noon`. */
  day = (database: DemoDatabase, noon: Date): Promise<void> =>
    this.within(database, async (session) => {
      if (database === "sensor_readings")
        await session.query(
          `insert into readings (pen_id, at, water_c, oxygen_mg_l)
           select p, $1::timestamptz - h * interval '1 hour', 9 + (p + h) % 4 * 0.3, 7 + (p * h) % 5 * 0.2
           from generate_series(1, 6) p, generate_series(1, 24) h order by 2 desc`,
          [noon],
        );
      else
        for (let left = 2 + this.chance.below(5); left > 0; left -= 1)
          await session.query(
            "insert into payments (tenancy_id, paid_on, cents) select id, $2, rent_cents from tenancies where id = $1",
            [1 + this.chance.below(24), noon],
          );
    });

  /** Somebody changes every row, where one was meant. */
  spoilRents = (): Promise<void> =>
    this.within("rents", async (session) => {
      await session.query("update tenancies set rent_cents = 41700");
    });

  /** What a restore in place left beside the restored database. */
  dropReplaced = (): Promise<void> =>
    this.within("postgres", async (session) => {
      const { rows } = await session.query<{ name: string }>(
        "select quote_ident(datname) as name from pg_database where datname like '% until %'",
      );
      for (const { name } of rows) await session.query(`drop database ${name}`);
    });

  private async within(database: string, work: (session: pg.Client) => Promise<void>): Promise<void> {
    const url = new URL(this.owner);
    url.pathname = `/${database}`;
    const session = new pg.Client({ connectionString: url.href });
    await session.connect();
    try {
      await work(session);
    } finally {
      await session.end();
    }
  }
}
