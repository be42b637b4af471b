import { createHash, randomBytes } from "node:crypto";
import { readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all } from "@/db/base/scope";
import type { Depot } from "@/db/depots/depots";
import { carry } from "@/runs/carry";
import { purgeAll } from "@/runs/purge";
import { applyRetention } from "@/runs/retention";
import { tickSchedules } from "@/runs/tick";
import type { Services } from "@/server/base/services";
import type { Places } from "@/server/depots/places";
import { backUp, enrolMachine, makeClient, restore, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { FAILURES, FailingPlace, type Failure } from "../failing-place";
import { describeTree } from "../same-tree";
import { keyOfSheet, type ReadPoint, readDepot } from "../second-reader";
import { TestConsole, until } from "../test-console";

let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let farId: string;
let farPath: string;
const system = <T extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));
const data = () => join(machine.root, "data");

async function setWhere(carryTo: string[]): Promise<void> {
  const { policy } = await console_.ok<{ policy: { revision: number; clauses: object } }>(
    "GET",
    `/policies/${client.policyId}`,
  );
  await console_.ok("PUT", `/policies/${client.policyId}`, {
    name: "Everything",
    revision: policy.revision,
    clauses: { ...policy.clauses, where: { depotId: client.depotId, carryTo } },
  });
}
const copies = async () =>
  (await system<{ n: number }>("select count(*)::int as n from copies where purged_at is null"))[0]!.n;
const points = async () =>
  (
    await console_.ok<{ points: { id: string; damagedAt: string | null }[] }>(
      "GET",
      `/sources/${machine.sourceId}/recovery-points`,
    )
  ).points;
const packsBelow = (depot: string): string[] =>
  readdirSync(depot, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile() && entry.parentPath.includes("/packs/"))
    .map((entry) => join(entry.parentPath, entry.name));

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Ostrel Land Surveyors", {
    clauses: { howLong: { kind: "last", count: 2 } },
  });
  machine = await enrolMachine(console_, client, "ostr-ws-01");
  console_.runAgent(machine.state);
  farPath = freshFolder("far");
  const { depot } = await console_.ok<{ depot: { id: string } }>("POST", "/depots", {
    name: "Far depot",
    path: farPath,
    region: "north harbour",
  });
  farId = depot.id;
});
afterAll(() => console_?.stop());

describe("near first, then carried", () => {
  it("wants a second depot that is granted, and not the first one again", async () => {
    const { policy } = await console_.ok<{ policy: { revision: number; clauses: object } }>(
      "GET",
      `/policies/${client.policyId}`,
    );
    const save = (carryTo: string[]) =>
      console_.call<{ errors: { field: string }[] }>("PUT", `/policies/${client.policyId}`, {
        name: "Everything",
        revision: policy.revision,
        clauses: { ...policy.clauses, where: { depotId: client.depotId, carryTo } },
      });
    expect((await save([farId])).body.errors[0]!.field).toBe("clauses.where.carryTo.0");
    expect((await save([client.depotId])).body.errors[0]!.field).toBe("clauses.where.carryTo");
    await console_.ok("PUT", `/depots/${farId}/grants/${client.id}`, { quotaBytes: 1e9 });
    expect((await save([farId])).status).toBe(200);
  });

  it("carries each point after its run, sealed as it is; the far depot opens with the key alone", async () => {
    writeFileSync(join(data(), "drawing"), randomBytes(3_000_000));
    writeFileSync(join(data(), "letter"), "one");
    await backUp(console_, machine.sourceId);
    writeFileSync(join(data(), "letter"), "two");
    await backUp(console_, machine.sourceId);
    await until(async () => (await copies()) === 2, "the points are not carried");
    const key = keyOfSheet(client.groups);
    const near = readDepot(client.depotPath, key);
    const far = readDepot(farPath, key);
    expect(far.map((point) => point.id)).toEqual(near.map((point) => point.id));
    const told = async (point: ReadPoint) =>
      (await point.entries()).map(({ content, ...entry }) => ({
        ...entry,
        content: content && createHash("sha256").update(content).digest("hex"),
      }));
    expect(await told(far[0]!)).toEqual(await told(near[0]!));
    const [grant] = await system<{ used: number }>(
      "select used_bytes as used from grants where depot_id = $1",
      [farId],
    );
    const onDisk = readdirSync(join(farPath, "spaces"), { recursive: true, withFileTypes: true })
      .filter((entry) => entry.isFile())
      .reduce((sum, entry) => sum + readFileSync(join(entry.parentPath, entry.name)).length, 0);
    expect(grant!.used).toBe(onDisk);
  });

  it("restores from the far depot what the near one has lost in the middle of a file", async () => {
    const [largest] = packsBelow(client.depotPath).sort(
      (a, b) => readFileSync(b).length - readFileSync(a).length,
    );
    const whole = readFileSync(largest!);
    const harmed = Buffer.from(whole);
    harmed[whole.length >> 1]! ^= 1;
    rmSync(largest!);
    writeFileSync(largest!, harmed);
    const run = await restore(console_, {
      items: [{ pointId: (await points())[0]!.id, path: "/data" }],
      destination: { kind: "folder", folder: "/back" },
      clash: "keep-both",
    });
    expect(run).toMatchObject({ outcome: "clean" });
    expect(describeTree(join(machine.root, "back/data"))).toEqual(describeTree(data()));
  });

  it("restores when the near depot is away altogether", async () => {
    renameSync(client.depotPath, `${client.depotPath}.away`);
    const run = await restore(console_, {
      items: [{ pointId: (await points())[0]!.id, path: "/data" }],
      destination: { kind: "folder", folder: "/back-2" },
      clash: "keep-both",
    });
    renameSync(`${client.depotPath}.away`, client.depotPath);
    expect(run).toMatchObject({ outcome: "clean" });
    expect(describeTree(join(machine.root, "back-2/data"))).toEqual(describeTree(data()));
  });

  it("mends the near depot from the far one when a check finds the damage", async () => {
    const [smallest] = packsBelow(client.depotPath).sort(
      (a, b) => readFileSync(a).length - readFileSync(b).length,
    );
    rmSync(smallest!);
    const { checkId } = await console_.ok<{ checkId: string }>(
      "POST",
      `/depots/${client.depotId}/grants/${client.id}/checks`,
      { depth: "bytes" },
    );
    let found: { outcome: string | null; message: string; figures: { mended: number } } | undefined;
    await until(async () => {
      const { checks } = await console_.ok<{ checks: ({ id: string } & NonNullable<typeof found>)[] }>(
        "GET",
        `/depots/${client.depotId}/checks`,
      );
      found = checks.find((one) => one.id === checkId);
      return found?.outcome != null;
    }, "the check does not end");
    // the pack that is missing, and the one that the test before harmed
    expect(found).toMatchObject({
      outcome: "clean",
      figures: { mended: 2 },
      message: expect.stringContaining("mended from another depot"),
    });
    const key = keyOfSheet(client.groups);
    expect((await readDepot(client.depotPath, key)[0]!.entries()).length).toBeGreaterThan(2);
    expect((await points()).every((point) => point.damagedAt === null)).toBe(true);
  });

  it("purges in both depots what neither needs", async () => {
    writeFileSync(join(data(), "letter"), "three");
    rmSync(join(data(), "drawing"));
    await backUp(console_, machine.sourceId);
    writeFileSync(join(data(), "letter"), "four");
    await backUp(console_, machine.sourceId);
    await until(async () => (await copies()) === 4, "the points are not carried");
    await applyRetention(console_.services, machine.sourceId);
    await system("update points set purge_after = now() - interval '1 minute' where purge_after is not null");
    await system("update packs set used_at = used_at - interval '1 hour'");
    expect(await purgeAll(console_.services)).toBeGreaterThan(6_000_000);
    expect(await copies()).toBe(2);
    for (const depot of [client.depotPath, farPath]) {
      const left = readDepot(depot, keyOfSheet(client.groups));
      expect(left.length).toBe(2);
      expect(
        (await left[0]!.entries()).find((entry) => entry.path === "/data/letter")!.content!.toString(),
      ).toBe("four");
      expect(packsBelow(depot).every((path) => readFileSync(path).length < 1_000_000)).toBe(true);
    }
  });

  it("ends with its code when the far depot has no room, and goes on when there is", async () => {
    await system("update grants set quota_bytes = used_bytes + 100 where depot_id = $1", [farId]);
    writeFileSync(join(data(), "chart"), randomBytes(500_000));
    expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
    const route = { clientId: client.id, fromDepot: client.depotId, toDepot: farId };
    await expect(carry(console_.services, route)).rejects.toMatchObject({ code: "depot.quota" });
    await system("update grants set quota_bytes = 1000000000 where depot_id = $1", [farId]);
    await carry(console_.services, route);
    await until(async () => (await copies()) === 3, "the points are not carried");
  });

  it.each(FAILURES)("carries all, whatever change of the far depot fails: %s", async (how: Failure) => {
    await setWhere([]);
    for (let n = 1, last = Number.POSITIVE_INFINITY; n <= last; n += 1) {
      writeFileSync(join(data(), "chart"), randomBytes(200_000));
      await backUp(console_, machine.sourceId);
      const failing: FailingPlace[] = [];
      const places = {
        of: (depot: Depot) => {
          const place = console_.services.places.of(depot);
          if (depot.id !== farId) return place;
          failing.push(new FailingPlace(place, n, how));
          return failing.at(-1)!;
        },
      } as unknown as Places;
      const services: Services = { ...console_.services, places };
      const route = { clientId: client.id, fromDepot: client.depotId, toDepot: farId };
      await system(
        "update sources set rules = jsonb_set(rules, '{where,carryTo}', to_jsonb(array[$1::text]))",
        [farId],
      );
      await carry(services, route).catch((error) => expect(error.code).toMatch(/^depot\./));
      if (failing[0]!.changes < n) last = n - 1;
      await carry(console_.services, route);
      await system("update sources set rules = jsonb_set(rules, '{where,carryTo}', '[]')");
      const [newest] = readDepot(farPath, keyOfSheet(client.groups));
      expect(newest!.id).toBe((await points())[0]!.id);
      const chart = (await newest!.entries()).find((entry) => entry.path === "/data/chart")!;
      expect(chart.content!.equals(readFileSync(join(data(), "chart")))).toBe(true);
    }
  });
});

describe("a depot that is away by plan", () => {
  it("lets runs wait and says so, marks none as missed, and they begin when it is back", async () => {
    const plan = (from: number, to: number) =>
      console_.call<{ absence: { id: string }; errors: { field: string }[] }>(
        "POST",
        `/depots/${client.depotId}/absences`,
        {
          from: new Date(Date.now() + from).toISOString(),
          to: new Date(Date.now() + to).toISOString(),
          note: "in the drawer",
        },
      );
    expect((await plan(1000, -1000)).body.errors[0]!.field).toBe("to");
    expect((await plan(-9000, -5000)).body.errors[0]!.field).toBe("to");
    const { absence } = (await plan(-1000, 3_600_000)).body;
    const { run, waits } = await console_.ok<{ run: { id: string }; waits: string }>(
      "POST",
      `/sources/${machine.sourceId}/runs`,
    );
    expect(waits).toMatch(/Waiting for the depot Ostrel Land Surveyors depot, absent until .* in the drawer/);
    const check = await console_.call("POST", `/depots/${client.depotId}/grants/${client.id}/checks`, {});
    expect(check.status).toBe(409);
    expect(
      await carry(console_.services, { clientId: client.id, fromDepot: client.depotId, toDepot: farId }),
    ).toBe(0);
    // its time comes again while it waits
    await system("update sources set next_due_at = now() - interval '1 second' where id = $1", [
      machine.sourceId,
    ]);
    await tickSchedules(console_.services);
    const { run: still } = await console_.ok<{ run: { state: string } }>("GET", `/runs/${run.id}`);
    expect(still.state).toBe("due");
    await console_.ok("DELETE", `/depots/${client.depotId}/absences/${absence.id}`);
    expect(await console_.runEnds(run.id)).toMatchObject({ outcome: "clean" });
  });
});
