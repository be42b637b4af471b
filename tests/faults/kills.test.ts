import { createHash, randomBytes } from "node:crypto";
import { mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import pg from "pg";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { enqueue, type JobName, type JobPayload } from "@/db/base/queue";
import { all } from "@/db/base/scope";
import { purgeAll } from "@/runs/purge";
import { enrolMachine, makeClient, setClauses, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { keyOfSheet, readDepot } from "../second-reader";
import { type EndedRun, kill, TestConsole, until } from "../test-console";
import { expectWholeSpace } from "../whole-space";

/**
 * Runs, carries, purges and checks beside one another while programs are killed at random: for a short time here, for
 * twenty minutes by `bin/bench kills`. Afterwards every listed point in every depot equals what its machine had.
 */
const SECONDS = Number(process.env.DEEPKEEP_KILLS_SECONDS ?? 40);
/** From so many seconds on nothing is aged by hand while programs are at work. */
const LONG = 300;

let console_: TestConsole;
let client: TestClient;
let further: { readonly id: string; readonly path: string };
const machines: (TestMachine & { agent: ReturnType<TestConsole["runAgent"]>; round: number })[] = [];
const system = <T extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));

beforeAll(async () => {
  console_ = await TestConsole.start();
  console_.startViewer();
  client = await makeClient(console_, "Saltrow Ferries");
  const path = freshFolder("further");
  const { depot } = await console_.ok<{ depot: { id: string } }>("POST", "/depots", {
    name: "Lower quay",
    path,
    region: "north harbour",
  });
  further = { id: depot.id, path };
  await console_.ok("PUT", `/depots/${depot.id}/grants/${client.id}`, { quotaBytes: 4 * 1024 ** 3 });
  await setClauses(
    console_,
    client,
    { howLong: { kind: "last", count: 3 }, where: { depotId: client.depotId, carryTo: [depot.id] } },
    { reason: "they want three" },
  );
  // a shorter time waits for a second person
  const second = await console_.addPerson({
    email: "tobias@lanternfold.example",
    name: "Tobias Renn",
    role: "technician",
    clientId: null,
  });
  const { consents } = await console_.ok<{ consents: { id: string }[] }>("GET", "/consents");
  for (const { id } of consents)
    expect(
      (await console_.call("POST", `/consents/${id}/decision`, { decision: "agreed" }, second)).status,
    ).toBe(200);
  for (const name of ["salt-ship-01", "salt-ship-02"]) {
    const machine = await enrolMachine(console_, client, name);
    machines.push({ ...machine, agent: console_.runAgent(machine.state), round: 0 });
  }
});
afterAll(() => console_?.stop());

async function asOwner(sql: string): Promise<unknown[]> {
  const owner = new pg.Client(console_.access.owner);
  await owner.connect();
  try {
    return (await owner.query(sql)).rows;
  } finally {
    await owner.end();
  }
}

/** What a machine has in its folder, as the point's manifest says it: each file and what is in it. */
const digest = (content: Uint8Array) => createHash("sha1").update(content).digest("hex");
function manifestOf(machine: TestMachine): string {
  const data = join(machine.root, "data");
  const files = readdirSync(data, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => {
      const path = join(entry.parentPath, entry.name);
      return `${path.slice(machine.root.length)} ${digest(readFileSync(path))}`;
    });
  return files.sort().join("\n");
}

/** Changes a machine: what both have in common, what comes and goes, and what grows. */
function change(machine: TestMachine, round: number): void {
  const data = join(machine.root, "data");
  mkdirSync(join(data, `voyage ${round % 4}`), { recursive: true });
  for (let i = 0; i < 3; i += 1)
    writeFileSync(join(data, `voyage ${round % 4}`, `manifest ${i}`), randomBytes(900_000));
  writeFileSync(join(data, "tide table"), Buffer.alloc(700_000, round % 5));
  for (let i = 0; i < 40; i += 1)
    writeFileSync(join(data, `ticket ${(round * 7 + i) % 90}`), `${machine.machineId} ${round} ${i}`);
  if (round % 3 === 0) rmSync(join(data, `voyage ${(round + 2) % 4}`), { recursive: true, force: true });
}

/** Does it again until the console answers; what creates something says so with a key, so that it is done once. */
async function patiently<T>(work: () => Promise<T>): Promise<T> {
  for (const deadline = performance.now() + 120_000; ; await pause(200)) {
    try {
      return await work();
    } catch (error) {
      if (performance.now() > deadline) throw error;
    }
  }
}
async function backedUp(machine: TestMachine & { round: number }): Promise<EndedRun> {
  const begun = new Date();
  const key = { "idempotency-key": `${machine.machineId} ${machine.round}` };
  const { run } = await patiently(async () => {
    const answer = await console_.call<{ run: { id: string } }>(
      "POST",
      `/sources/${machine.sourceId}/runs`,
      {},
      undefined,
      key,
    );
    // 409: it was carried out, and the web was killed before it could say so
    if (answer.status === 409) {
      const { open, past } = await console_.ok<Record<"open" | "past", { id: string; dueAt: string }[]>>(
        "GET",
        `/runs?source=${machine.sourceId}&kind=backup`,
      );
      const made = [...open, ...past].find((one) => new Date(one.dueAt) >= begun);
      // carried out and broken off before the answer: the run is there, or it was not made and is asked for anew
      if (!made) key["idempotency-key"] += " again";
      if (!made) throw new Error("asked for, and not made");
      return { run: made };
    }
    if (answer.status !== 202) throw new Error(JSON.stringify(answer.body));
    return answer.body;
  });
  let ended: EndedRun | undefined;
  await until(
    async () => {
      ended = (await console_.call<{ run: EndedRun }>("GET", `/runs/${run.id}`)).body.run;
      return ended?.state === "ended";
    },
    "",
    // three attempts, each given up when its lease has lapsed and somebody has looked
    400_000,
  ).catch(async () => {
    const log = await system("select at, message from run_log where run_id = $1 order by at", [run.id]);
    throw new Error(`the run does not end: ${JSON.stringify({ ended, log })}`);
  });
  return ended!;
}

const killed: Record<string, number> = {};
const victims: Record<string, () => Promise<void>> = {
  agent: async () => {
    const machine = machines[Math.floor(Math.random() * machines.length)]!;
    await kill(machine.agent);
    machine.agent = console_.runAgent(machine.state);
  },
  web: async () => {
    await console_.killWeb();
    await pause(300);
    console_.startWeb();
  },
  runner: async () => {
    await console_.killRunner();
    console_.startRunner();
  },
  viewer: async () => {
    await console_.killViewer();
    console_.startViewer();
  },
  database: async () => {
    await console_.killDatabase();
    await console_.startDatabase();
  },
};

describe(`killed again and again for ${SECONDS} seconds`, () => {
  it(
    "nothing is lost, nothing is called damaged that is not, and nothing is left over",
    async () => {
      const manifests = new Map<string, string>();
      const outcomes: Record<string, number> = {};
      const deadline = performance.now() + SECONDS * 1000;
      const goOn = () => performance.now() < deadline;
      /** One run; what was there is noted for the point that it made. */
      const round = async (machine: (typeof machines)[number]) => {
        machine.round += 1;
        change(machine, machine.round);
        const manifest = manifestOf(machine);
        const { outcome, code, figures } = await backedUp(machine);
        // one whose programs were killed in each of its three attempts is given up
        const name = outcome === "failed" ? `failed, ${code}` : outcome;
        outcomes[name] = (outcomes[name] ?? 0) + 1;
        if (figures.point) {
          expect(manifests.has(figures.point), `${machine.round}: a point of an earlier round`).toBe(false);
          manifests.set(figures.point, manifest);
        }
        return outcome;
      };
      /** Rounds that go on now; none begins while somebody wants to be alone. */
      let going = 0;
      let alone = false;
      const keeping = async (machine: (typeof machines)[number]) => {
        while (goOn()) {
          while (alone) await pause(50);
          going += 1;
          await round(machine).finally(() => {
            going -= 1;
          });
        }
      };
      /**
       * As if an hour had passed since any pack was used, where there is no time to wait for the minute that a purge spares.
       * No run may be at work: what it asked for would not count as used. In a long run the minutes pass by themselves.
       */
      const hourPasses = async () => {
        if (SECONDS >= LONG) return;
        alone = true;
        try {
          while (going > 0) await pause(50);
          await patiently(() => system("update packs set used_at = used_at - interval '1 hour'"));
        } finally {
          alone = false;
        }
      };
      const asking = async () => {
        const ask = <Name extends JobName>(name: Name, payload: JobPayload<Name>, key: string) =>
          console_.services.db.withScope({ role: "system" }, (tx) => enqueue(tx, name, payload, key));
        for (let turn = 0; goOn(); turn += 1) {
          await hourPasses();
          await patiently(async () => {
            await system(
              "update points set purge_after = now() - interval '1 minute' where purge_after is not null and purged_at is null",
            );
            await ask("purge", {}, "purge");
            await ask("carries", {}, "carries");
            if (turn % 3 === 0) await ask("checks", { depth: turn % 2 ? "trees" : "bytes" }, "checks");
          });
          await pause(2000);
        }
      };
      const killing = async () => {
        const names = Object.keys(victims);
        while (goOn()) {
          await pause(400 + Math.random() * 2500);
          const name = names[Math.floor(Math.random() * names.length)]!;
          await victims[name]!();
          killed[name] = (killed[name] ?? 0) + 1;
        }
      };
      await Promise.all([...machines.map(keeping), asking(), killing()]);
      // The queue's library ends the runner where the database goes away between the end of a job and its note of it. As
      // `bin/start` does, it is started again.
      if (console_.ended().includes("runner")) {
        console.log("the runner ended by itself, and is started again");
        console_.startRunner();
      }

      // calm again: each machine once more, then what waits is done
      await patiently(() => console_.healthy());
      for (const machine of machines) expect(await round(machine)).toBe("clean");
      /** For whoever has to find out what holds it up. */
      const waiting = async () => ({
        runs: await system("select kind, state, attempt, lease_until from runs where state <> 'ended'"),
        checks: await system(
          "select depth, started_at, figures, verified from checks where ended_at is null",
        ),
        writers: await system("select kind, started_at from writers"),
        pending: await system("select object, run_id, writer_id from pending_objects"),
        jobs: await asOwner(
          "select task_identifier, key, attempts, locked_by, locked_at, run_at, last_error from graphile_worker.jobs where run_at < now() + interval '1 hour'",
        ),
        queues: await asOwner(
          "select queue_name, locked_by, locked_at from graphile_worker._private_job_queues",
        ),
        now: await system("select now(), (select string_agg(workers::text, ' ') from runners) as workers"),
      });
      const idle = async () =>
        (await console_.ok<{ open: unknown[] }>("GET", "/runs")).open.length === 0 &&
        (
          await system(
            `select from points p where purged_at is null and dropped_at is null
             and not exists (select from copies c where c.point_id = p.id and c.depot_id = $1 and c.purged_at is null)`,
            [further.id],
          )
        ).length === 0 &&
        (await system("select from checks where ended_at is null")).length === 0;
      await until(idle, "", 240_000).catch(async () => {
        throw new Error(`what waits is not done: ${JSON.stringify(await waiting())}`);
      });
      console.log(
        `killed: ${JSON.stringify(killed)}; runs: ${JSON.stringify(outcomes)}; manifests: ${manifests.size}`,
      );
      // nothing was called damaged on the way
      expect(await system("select message from checks where outcome = 'damage'")).toEqual([]);
      expect(outcomes.clean).toBeGreaterThan(2);
      expect(
        Object.keys(outcomes).filter(
          (name) => /^(failed|missed)/.test(name) && !name.endsWith("run.given-up"),
        ),
      ).toEqual([]);

      // left over: by the next purge
      const purged = async () => {
        await system(
          "update points set purge_after = now() - interval '1 minute' where purge_after is not null and purged_at is null",
        );
        await system("update packs set used_at = used_at - interval '1 hour'");
        await system("update grants set purge_due = true");
        await purgeAll(console_.services);
      };
      await purged();
      await purged();
      for (const { id, path } of [{ id: client.depotId, path: client.depotPath }, further]) {
        const points = await expectWholeSpace(console_.services, client.id, id, path);
        const read = await Promise.all(
          readDepot(path, keyOfSheet(client.groups)).map(async (point) => ({
            id: point.id,
            files: (await point.entries())
              .filter((entry) => entry.content !== null)
              .map((entry) => `${entry.path} ${digest(entry.content!)}`)
              .sort()
              .join("\n"),
          })),
        );
        expect(read.map((point) => point.id).sort()).toEqual(points.map((point) => point.id).sort());
        const known = read.filter((point) => manifests.has(point.id));
        expect(known.length).toBeGreaterThanOrEqual(machines.length);
        for (const point of known) expect(point.files).toBe(manifests.get(point.id));
      }
    },
    (SECONDS + 900) * 1000,
  );
});
