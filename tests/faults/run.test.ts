import { randomBytes } from "node:crypto";
import { rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { AgentState } from "@/agent/state";
import { doJob } from "@/agent/work";
import { all } from "@/db/base/scope";
import type { Depot } from "@/db/depots/depots";
import { restoreFiles } from "@/kinds/files/writer";
import { currentMachine } from "@/runs/agent-desk";
import { carry } from "@/runs/carry";
import { inProcessLink } from "@/runs/in-process-link";
import { purgeAll } from "@/runs/purge";
import type { Services } from "@/server/base/services";
import type { Places } from "@/server/depots/places";
import { S3Server } from "@/standins/s3/server";
import type { Place } from "@/store/places/place";
import { enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { FAILURES, FailingPlace, type Failure } from "../failing-place";
import { describeTree } from "../same-tree";
import { TestConsole } from "../test-console";
import { expectWholeSpace } from "../whole-space";

/**
 * A run over a folder and a bucket at once, one of which fails at its n-th change, for every n: the run takes no harm, what
 * lacks is caught up, and in the end each of both holds everything by itself.
 */
let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let bucket: S3Server;
let bucketId: string;

const system = <T extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));
const data = (name: string) => join(machine.root, "data", name);

beforeAll(async () => {
  console_ = await TestConsole.start();
  // what it would do by itself is done here, at its time
  await console_.killRunner();
  bucket = new S3Server();
  const address = await bucket.listen();
  client = await makeClient(console_, "Ostrel Land Surveyors");
  const { depot } = await console_.ok<{ depot: { id: string } }>("POST", "/depots", {
    name: "Bucket",
    region: "north harbour",
    kind: "s3",
    endpoint: address,
    bucketRegion: "north-harbour",
    bucket: "keep",
    accessKeyId: "deep-keep",
    secretAccessKey: "harbour",
  });
  bucketId = depot.id;
  await console_.ok("PUT", `/depots/${bucketId}/grants/${client.id}`, { quotaBytes: 1e9 });
  const { policy } = await console_.ok<{ policy: { revision: number; clauses: object } }>(
    "GET",
    `/policies/${client.policyId}`,
  );
  await console_.ok("PUT", `/policies/${client.policyId}`, {
    name: "Everything",
    revision: policy.revision,
    clauses: { ...policy.clauses, where: { depotId: client.depotId, beside: [bucketId] } },
  });
  machine = await enrolMachine(console_, client, "ostr-ws-01");
  writeFileSync(data("plan"), randomBytes(200_000));
});
afterAll(async () => {
  await console_?.stop();
  await bucket?.close();
});

/** The same services, with one depot that fails once. */
function failing(depotId: string, at: number, how: Failure): { services: Services; changes: () => number } {
  let broken: FailingPlace | null = null;
  const places = {
    of: (depot: Depot): Place => {
      const place = console_.services.places.of(depot);
      if (depot.id !== depotId) return place;
      broken ??= new FailingPlace(place, at, how);
      return broken;
    },
  } as unknown as Places;
  return { services: { ...console_.services, places }, changes: () => broken?.changes ?? 0 };
}

/** One run of the machine, by the agent's own code, in this process. */
async function run(services: Services): Promise<{ outcome: string; code: string | null }> {
  const { run: asked } = await console_.ok<{ run: { id: string } }>(
    "POST",
    `/sources/${machine.sourceId}/runs`,
  );
  const executor = (await currentMachine(services, machine.machineId))!;
  const state = new AgentState(machine.state);
  const link = inProcessLink(services, executor);
  const job = await link.work(["backup"], new AbortController().signal);
  await doJob(link, job!, state.readIdentity()!, state);
  return (await console_.ok<{ run: { outcome: string; code: string | null } }>("GET", `/runs/${asked.id}`))
    .run;
}

/** What the runner does between runs. */
async function caughtUp(): Promise<void> {
  const ways = [
    [client.depotId, bucketId],
    [bucketId, client.depotId],
  ] as const;
  for (const [fromDepot, toDepot] of ways)
    await carry(console_.services, { clientId: client.id, fromDepot, toDepot });
  await system("update packs set used_at = used_at - interval '1 hour'");
  await system("update grants set purge_due = true");
  await purgeAll(console_.services);
}

/** Each depot by itself holds what is listed, whole, and nothing else; and the newest point restores from it alone. */
async function eachIsWhole(round: string): Promise<void> {
  for (const depotId of [client.depotId, bucketId]) {
    const points = await expectWholeSpace(console_.services, client.id, depotId, round);
    const [listed] = await system<{ count: number }>(
      "select count(*)::int as count from points where purged_at is null",
    );
    expect(points.length, `${round}: points in each depot`).toBe(listed!.count);
    const target = freshFolder("target");
    console_.services.spaces.forget(client.id, depotId);
    await restoreFiles([{ root: points[0]!.root, momentLabel: "then", path: "/data" }], {
      store: await console_.services.spaces.reader(client.id, depotId),
      machineRoot: target,
      folder: null,
      clash: "keep-both",
      note: (code, path) => expect.fail(`${round}: ${code} ${path}`),
      progress: { items: 0, bytes: 0 },
      signal: new AbortController().signal,
    });
    expect(describeTree(join(target, "data")), round).toEqual(describeTree(join(machine.root, "data")));
    rmSync(target, { recursive: true });
  }
}

describe.each(["folder", "bucket"] as const)("a run whose %s fails at its n-th change", (kind) => {
  it.each(FAILURES)("%s: both depots are whole in the end", async (how) => {
    const depotId = kind === "folder" ? client.depotId : bucketId;
    let last = Number.POSITIVE_INFINITY;
    const outcomes = new Set<string>();
    for (let n = 1; n <= last; n += 1) {
      const round = `${kind} ${how} ${n}`;
      writeFileSync(data(`sheet ${n % 3}`), randomBytes(60_000));
      const { services, changes } = failing(depotId, n, how);
      const first = await run(services);
      outcomes.add(first.outcome);
      if (changes() < n) {
        last = n - 1;
        expect(first.outcome, round).toBe("clean");
      }
      // the other depot has it: there is a point all the same, or the next run makes it
      if (first.outcome === "failed")
        expect((await run(console_.services)).outcome, round).toMatch(/clean|caution/);
      await caughtUp();
      await eachIsWhole(round);
    }
    expect(last).toBeGreaterThanOrEqual(2);
    // the failures were met, and told
    expect(outcomes.size).toBeGreaterThan(1);
  });
});
