import { randomBytes } from "node:crypto";
import { existsSync, mkdirSync, readdirSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it, vi } from "vitest";
import { all } from "@/db/base/scope";
import type { Depot } from "@/db/depots/depots";
import { carry } from "@/runs/carry";
import { runCheck } from "@/runs/check";
import { purgeAll } from "@/runs/purge";
import { applyRetention } from "@/runs/retention";
import type { Services } from "@/server/base/services";
import type { Places } from "@/server/depots/places";
import type { Place } from "@/store/places/place";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { TestConsole } from "../test-console";
import { expectWholeSpace } from "../whole-space";

// each tries every step of one beside the whole of the other: a minute and a half alone, several beside other tests
vi.setConfig({ testTimeout: 900_000 });

/**
 * Writers of one space beside each other: at every call that one makes of the depot, the other does all its work. Nothing
 * listed may be harmed, nothing reported that is not so, and nothing left behind.
 */
let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let farId: string;
const system = <T extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));
const data = () => join(machine.root, "data");

/** Purges every space; what hinders one is thrown. */
const purge = (services: Services) =>
  purgeAll(services, (error) => {
    throw error;
  });

/** Services whose clock is ahead, so that what was used a moment ago counts as used long ago. */
const ahead = (minutes: number): Services => ({
  ...console_.services,
  now: () => new Date(Date.now() + minutes * 60_000),
});

/** Services whose depots call `between` before and after the n-th call; of parts that are read only with `reads`. */
function stepping(services: Services, at: number, reads: boolean, between: () => Promise<void>) {
  let calls = 0;
  const step = async <T>(work: () => Promise<T>, counts = true): Promise<T> => {
    if (counts) calls += 1;
    const mine = counts && calls === at;
    if (mine) await between();
    const result = await work();
    if (mine) await between();
    return result;
  };
  const places = {
    of: (depot: Depot): Place => {
      const inner = console_.services.places.of(depot);
      return {
        put: (name, content, until_) => step(() => inner.put(name, content, until_)),
        remove: (name) => step(() => inner.remove(name)),
        size: (name) => step(() => inner.size(name)),
        read: (name, offset, length) => step(() => inner.read(name, offset, length), reads),
        list: (prefix) => stepped(inner.list(prefix)),
        listUnfinished: (prefix) => inner.listUnfinished!(prefix),
      };
    },
  } as unknown as Places;
  async function* stepped(names: AsyncIterable<string>): AsyncGenerator<string> {
    const listed = await step(async () => {
      const found: string[] = [];
      for await (const name of names) found.push(name);
      return found;
    });
    yield* listed;
  }
  return { services: { ...services, places } as Services, calls: () => calls };
}

beforeAll(async () => {
  console_ = await TestConsole.start({ runner: false });
  client = await makeClient(console_, "Quillmere", { clauses: { howLong: { kind: "last", count: 1 } } });
  machine = await enrolMachine(console_, client, "quill-srv");
  console_.runAgent(machine.state);
  const { depot } = await console_.ok<{ depot: { id: string } }>("POST", "/depots", {
    name: "Far",
    path: freshFolder("far"),
    region: "north harbour",
  });
  farId = depot.id;
  await console_.ok("PUT", `/depots/${farId}/grants/${client.id}`, { quotaBytes: 1e9 });
  const { policy } = await console_.ok<{ policy: { revision: number; clauses: object } }>(
    "GET",
    `/policies/${client.policyId}`,
  );
  await console_.ok("PUT", `/policies/${client.policyId}`, {
    name: "Everything",
    revision: policy.revision,
    clauses: { ...policy.clauses, where: { depotId: client.depotId, carryTo: [farId] } },
  });
});
afterAll(() => console_?.stop());

/** A point to come, one to leave, packs of which little stays, and packs of which nothing does. */
async function keepAndRemoveCrates(): Promise<void> {
  for (let i = 0; i < 12; i += 1) writeFileSync(join(data(), `crate ${i}`), randomBytes(30_000));
  expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
  for (let i = 2; i < 12; i += 1) rmSync(join(data(), `crate ${i}`));
  writeFileSync(join(data(), "log"), randomBytes(100));
  expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
}
async function letGo(): Promise<void> {
  await applyRetention(console_.services, machine.sourceId);
  await system(
    "update points set purge_after = now() - interval '1 minute' where purge_after is not null and purged_at is null",
  );
}
const route = () => ({ clientId: client.id, fromDepot: client.depotId, toDepot: farId });

/** All that is to do is done, and both depots hold what they should, and nothing else. */
async function allIsWell(round: string): Promise<void> {
  await carry(console_.services, route());
  await letGo();
  for (let i = 0; i < 2; i += 1) await purge(ahead(10));
  for (const depotId of [client.depotId, farId]) {
    const points = await expectWholeSpace(console_.services, client.id, depotId, round);
    expect(points.length, round).toBe(1);
  }
  expect(await system("select from writers"), round).toEqual([]);
  expect(await system("select from pending_objects"), round).toEqual([]);
}

/** Repeats work with `between` at its first call, its second, until there are no more. */
async function atEveryStep(
  name: string,
  services: () => Services,
  work: (services: Services) => Promise<unknown>,
  between: () => Promise<unknown>,
): Promise<void> {
  for (let at = 1; ; at += 1) {
    await keepAndRemoveCrates();
    if (name.startsWith("purge")) await letGo();
    const { services: stepped, calls } = stepping(services(), at, name !== "check", async () => {
      await between();
    });
    await work(stepped);
    if (calls() < at) return expect(at).toBeGreaterThan(4);
    await allIsWell(`${name} ${at}`);
  }
}

describe("writers of one space, interleaved at every call of the depot", () => {
  it("a carry, with a purge of both depots", async () => {
    await atEveryStep(
      "carry",
      () => console_.services,
      (services) => carry(services, route()),
      async () => {
        await letGo();
        await purge(ahead(10));
      },
    );
  });

  it("a purge, with a carry", async () => {
    await atEveryStep(
      "purge",
      () => ahead(10),
      (services) => purge(services),
      // what the purge is removing at this very moment is carried by the next try
      () =>
        carry(console_.services, route()).catch((error) =>
          expect(error).toMatchObject({ code: "request.conflict" }),
        ),
    );
  });

  it("a purge, with a run that ends", async () => {
    await atEveryStep(
      "purge of what a run",
      () => ahead(10),
      (services) => purge(services),
      async () => {
        writeFileSync(join(data(), "ledger"), String(Math.random()));
        expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
      },
    );
  });

  it("a check of every byte, with a purge: it reports nothing, for nothing is damaged", async () => {
    const checks: string[] = [];
    await atEveryStep(
      "check",
      () => console_.services,
      async (services) => {
        await carry(console_.services, route());
        const id = crypto.randomUUID();
        await system(
          `insert into checks (id, depot_id, client_id, depth, requested_by, requested_at) values ($1, $2, $3, 'bytes', 'test', now())`,
          [id, client.depotId, client.id],
        );
        await runCheck(services, id);
        const [check] = await system<{ outcome: string; message: string | null }>(
          "select outcome, message from checks where id = $1",
          [id],
        );
        checks.push(check!.outcome);
        expect(check, `check ${checks.length}`).toEqual({ outcome: "clean", message: null });
        expect(await system("select from points where damaged_at is not null and purged_at is null")).toEqual(
          [],
        );
      },
      async () => {
        await letGo();
        await purge(ahead(10));
      },
    );
  });
});

describe("what a killed writer leaves", () => {
  it("is removed by the next purge: an object without its index, an unfinished one, and a registration", async () => {
    await keepAndRemoveCrates();
    await allIsWell("before");
    const [space] = readdirSync(join(client.depotPath, "spaces"));
    const id = randomBytes(16).toString("hex");
    const shelf = join(client.depotPath, "spaces", space!, "packs", id.slice(0, 2));
    mkdirSync(shelf, { recursive: true });
    writeFileSync(join(shelf, id), randomBytes(5000));
    writeFileSync(
      join(shelf, `${id.slice(0, 2)}${randomBytes(15).toString("hex")}.4711-abc9.part`),
      randomBytes(7000),
    );
    await system(
      "insert into writers (id, client_id, space_id, kind, started_at) values (gen_random_uuid(), $1, $2, 'purge', now())",
      [client.id, space],
    );
    await system(
      `insert into pending_objects (space_id, object, id, client_id, state, writer_id, since)
       values ($1, 'pack', $2, $3, 'writing', gen_random_uuid(), now())`,
      [space, Buffer.from(id, "hex"), client.id],
    );
    await purge(console_.services);
    await allIsWell("after");
    expect(
      readdirSync(client.depotPath, { recursive: true }).filter((name) => `${name}`.endsWith(".part")),
    ).toEqual([]);
  });

  it("stays while its run goes on: a pack that is being written, and its unfinished file", async () => {
    await keepAndRemoveCrates();
    await allIsWell("before");
    const [space] = readdirSync(join(client.depotPath, "spaces"));
    const shelf = join(client.depotPath, "spaces", space!, "packs", "00");
    const id = `00${randomBytes(15).toString("hex")}`;
    const runId = crypto.randomUUID();
    await system(
      `insert into runs (id, client_id, source_id, machine_id, kind, cause, due_at, state, started_at)
       select $1, client_id, source_id, machine_id, 'restore', 'person', now(), 'reading', now() from runs limit 1`,
      [runId],
    );
    await system(
      `insert into pending_objects (space_id, object, id, client_id, state, run_id, since) values ($1, 'pack', $2, $3, 'writing', $4, now())`,
      [space, Buffer.from(id, "hex"), client.id, runId],
    );
    mkdirSync(shelf, { recursive: true });
    writeFileSync(join(shelf, id), "whole");
    writeFileSync(join(shelf, `${id}.17-x.part`), "half");
    await system("update grants set purge_due = true");
    await purge(ahead(10));
    expect([existsSync(join(shelf, id)), existsSync(join(shelf, `${id}.17-x.part`))]).toEqual([true, true]);
    await system("update runs set state = 'ended', outcome = 'failed', ended_at = now() where id = $1", [
      runId,
    ]);
    await purge(ahead(10));
    await allIsWell("after");
    expect(existsSync(join(shelf, `${id}.17-x.part`))).toBe(false);
  });
});
