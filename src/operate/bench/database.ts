import { spawn } from "node:child_process";
import { mkdirSync, rmSync } from "node:fs";
import { join } from "node:path";
import pg from "pg";
import { DATABASE_ACCESS } from "@/kinds/database/connect";
import { databaseWhat } from "@/kinds/database/what";
import { type PreviousTree, storeSource } from "@/sources/store-source";
import { idKey } from "@/store/tree/tree";
import { StoreWriter } from "@/store/write/writer";
import { serverPrograms, startCluster, stopCluster } from "../cluster";
import { sideBySide } from "./beside";
import { BenchmarkDepot, type Figure, figure, inFolder, say } from "./ground";

/** So much data the database has, MiB, as a dump. */
const MEBIBYTES = Number(process.env.DEEPKEEP_BENCH_DATABASE_MIB ?? 2048);
const ROW_BYTES = 1024;

/** A dump into the store beside pg_dump piped through zstd and openssl; and what one changed row costs. */
export const benchDatabase = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const home = join(folder, "server");
    mkdirSync(home, { mode: 0o711 });
    const access = await startCluster(home, { fsync: "off", max_wal_size: "8GB" });
    try {
      const owner = new URL(access.owner);
      await fill(access.owner);
      const [user, password] = [owner.username, decodeURIComponent(owner.password)];
      const connection = {
        address: `postgresql://127.0.0.1:${owner.port}`,
        settings: { user, maintenance: "postgres", tls: "off" as const, region: "bench" },
        secret: password,
      };
      const run = async (depot: BenchmarkDepot, previous: PreviousTree | null) => {
        const started = performance.now();
        const { reader, folders } = await DATABASE_ACCESS.open(connection, "bench", databaseWhat.parse({}), {
          sourceId: "00000000-0000-4000-8000-000000000000",
          previous: null,
        });
        const writer = new StoreWriter(depot.keys, depot);
        const nodes = new Map<string, Uint8Array>();
        const { root, counts } = await storeSource({
          reader,
          writer,
          keys: depot.keys,
          folders,
          selector: { takesFolder: () => true, takesFile: () => true },
          previous,
          keepNode: (id, bytes) => bytes && nodes.set(idKey(id), bytes),
          note: () => {},
          progress: { items: 0, bytes: 0 },
          signal: new AbortController().signal,
        });
        const stored = await writer.close();
        reader.end?.();
        const seconds = (performance.now() - started) / 1000;
        const tree = { root, bytes: (id: Uint8Array) => nodes.get(idKey(id)) ?? previous!.bytes(id) };
        return { seconds, tree, stored, bytes: counts.bytes };
      };
      let number = 0;
      const beside = await sideBySide(
        "a database",
        async () => {
          number += 1;
          const at = join(folder, `depot-${number}`);
          const { seconds } = await run(new BenchmarkDepot(at), null);
          rmSync(at, { recursive: true });
          return seconds;
        },
        () => pipeline(folder, owner.port, user, password),
      );
      const depot = new BenchmarkDepot(join(folder, "depot"));
      const first = await run(depot, null);
      await within(access.owner, "bench", (session) =>
        session.query("update filler set text = 'changed' where id = 1000"),
      );
      const second = await run(depot, first.tree);
      const cost = second.stored.newBytes / 1024 / 1024;
      say(
        `  ${(first.bytes / 1024 ** 3).toFixed(2)} GiB dumped; one changed row: ${cost.toFixed(1)} MiB new content, ${second.seconds.toFixed(1)} s`,
      );
      const whole = first.bytes / 1024 / 1024;
      return [
        figure("a database, first run", "s", beside.ours, "pg_dump | zstd -1 | openssl", beside.theirs, 1.1),
        figure("new content after one changed row", "MiB", cost, "the dump", whole, 0.01),
      ];
    } finally {
      await stopCluster(access, "immediate");
      // it may lie beside the folder of the measurement
      rmSync(access.folder, { recursive: true, force: true });
    }
  });

async function within(
  owner: string,
  database: string,
  work: (session: pg.Client) => Promise<unknown>,
): Promise<void> {
  const url = new URL(owner);
  url.pathname = `/${database}`;
  const session = new pg.Client({ connectionString: url.href });
  await session.connect();
  try {
    await work(session);
  } finally {
    await session.end();
  }
}

/** Rows as applications have them: half of each compresses well, half does not. */
async function fill(owner: string): Promise<void> {
  await within(owner, "postgres", (session) => session.query("create database bench"));
  await within(owner, "bench", async (session) => {
    await session.query("create table filler (id bigint primary key, text text not null)");
    const rows = Math.floor((MEBIBYTES * 1024 * 1024) / ROW_BYTES);
    const AT_ONCE = 100_000;
    for (let from = 0; from < rows; from += AT_ONCE)
      await session.query(
        `insert into filler select n, (select string_agg(md5(n::text || i), '') from generate_series(1, 16) i) || repeat('order of the day ', 29)
         from generate_series($1::bigint, $2::bigint) n`,
        [from, Math.min(rows, from + AT_ONCE) - 1],
      );
    await session.query("checkpoint");
  });
}

/** Seconds that the pipeline takes. */
function pipeline(folder: string, port: string, user: string, password: string): Promise<number> {
  const started = performance.now();
  const target = join(folder, "dump.enc");
  const line = `pg_dump -Fc -Z0 -d bench | zstd -1 -q | openssl enc -aes-256-ctr -pbkdf2 -pass pass:bench > '${target}'`;
  const child = spawn("bash", ["-o", "pipefail", "-c", line], {
    env: {
      ...process.env,
      PATH: `${serverPrograms()}:${process.env.PATH}`,
      PGHOST: "127.0.0.1",
      PGPORT: port,
      PGUSER: user,
      PGPASSWORD: password,
    },
    stdio: ["ignore", "ignore", "inherit"],
  });
  return new Promise((resolve, reject) =>
    child.once("close", (code) => {
      rmSync(target, { force: true });
      if (code === 0) resolve((performance.now() - started) / 1000);
      else reject(new Error(`the pipeline ended with ${code}`));
    }),
  );
}
