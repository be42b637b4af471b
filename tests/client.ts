import { mkdirSync } from "node:fs";
import { join } from "node:path";
import { freshFolder } from "./depot";
import type { TestConsole } from "./test-console";

/** A client with everything that a run needs: site, depot, key, policy, and a machine of its own. */
export interface TestClient {
  readonly id: string;
  readonly slug: string;
  readonly siteId: string;
  readonly depotId: string;
  readonly depotPath: string;
  readonly policyId: string;
  readonly groups: readonly string[];
}

export interface TestMachine {
  readonly machineId: string;
  readonly sourceId: string;
  readonly root: string;
  readonly state: string;
}

export async function makeClient(
  console: TestConsole,
  name: string,
  options: { quotaBytes?: number; clauses?: object; folder?: string } = {},
): Promise<TestClient> {
  const { client, sites } = await console.ok<{
    client: { id: string; slug: string };
    sites: { id: string }[];
  }>("POST", "/clients", {
    name,
    zone: "Europe/London",
    region: "north harbour",
    contactName: "Maren Pell",
    contactEmail: "maren@client.example",
    sites: ["Main site"],
  });
  const depotPath = freshFolder("depot");
  const { depot } = await console.ok<{ depot: { id: string } }>("POST", "/depots", {
    name: `${name} depot`,
    path: depotPath,
    region: "north harbour",
  });
  await console.ok("PUT", `/depots/${depot.id}/grants/${client.id}`, {
    quotaBytes: options.quotaBytes ?? 4 * 1024 ** 3,
  });
  const { groups, askedGroup } = await console.ok<{ groups: string[]; askedGroup: number }>(
    "POST",
    `/clients/${client.id}/key`,
  );
  await console.ok("POST", `/clients/${client.id}/key/confirm`, { group: groups[askedGroup] });
  const { policy } = await console.ok<{ policy: { id: string } }>("POST", "/policies", {
    clientId: client.id,
    name: "Everything",
    clauses: {
      what: { files: { folders: [options.folder ?? "/data"], include: [], exclude: [] }, mail: {} },
      when: { schedules: [], targetHours: 24 },
      howLong: { kind: "for-ever" },
      where: { depotId: depot.id },
      ...options.clauses,
    },
  });
  return {
    id: client.id,
    slug: client.slug,
    siteId: sites[0]!.id,
    depotId: depot.id,
    depotPath,
    policyId: policy.id,
    groups,
  };
}

/** Enrols a folder as a machine with the real program; does not start its agent. */
export async function enrolMachine(
  console: TestConsole,
  client: TestClient,
  name: string,
): Promise<TestMachine> {
  const root = freshFolder("machine");
  mkdirSync(join(root, "data"), { recursive: true });
  const state = freshFolder("agent");
  const { code } = await console.ok<{ code: string }>("POST", `/clients/${client.id}/enrolment-codes`, {
    siteId: client.siteId,
  });
  const result = await console.agent([
    "enrol",
    "--console",
    console.url,
    "--code",
    code,
    "--name",
    name,
    "--root",
    root,
    "--state",
    join(state, "s"),
  ]);
  if (result.code !== 0) throw new Error(result.output);
  const { sources } = await console.ok<{ sources: { id: string; machineId: string; machineName: string }[] }>(
    "GET",
    `/sources?client=${client.id}`,
  );
  const source = sources.find((one) => one.machineName === name)!;
  await console.ok("PATCH", `/sources/${source.id}`, { policyId: client.policyId });
  return { machineId: source.machineId, sourceId: source.id, root, state: join(state, "s") };
}

/** Changes clauses of a client's policy. */
export async function setClauses(
  console: TestConsole,
  client: TestClient,
  clauses: object,
  more: object = {},
): Promise<void> {
  const { policy } = await console.ok<{ policy: { revision: number; clauses: object } }>(
    "GET",
    `/policies/${client.policyId}`,
  );
  await console.ok("PUT", `/policies/${client.policyId}`, {
    name: "Everything",
    revision: policy.revision,
    clauses: { ...policy.clauses, ...clauses },
    ...more,
  });
}

/** The bucket of the stand-in as a depot that a client is granted. Returns its id. */
export async function addBucket(
  console: TestConsole,
  client: TestClient,
  endpoint: string,
  more: { readonly name: string; readonly prefix?: string },
  grant: object = {},
): Promise<string> {
  const { depot } = await console.ok<{ depot: { id: string } }>("POST", "/depots", {
    kind: "s3",
    region: "north harbour",
    endpoint,
    bucketRegion: "north-harbour",
    bucket: "keep",
    accessKeyId: "deep-keep",
    secretAccessKey: "harbour",
    ...more,
  });
  await console.ok("PUT", `/depots/${depot.id}/grants/${client.id}`, { quotaBytes: 1e9, ...grant });
  return depot.id;
}

/** Backs a source up and waits for the end. */
export async function backUp(console: TestConsole, sourceId: string, ms?: number) {
  const { run } = await console.ok<{ run: { id: string } }>("POST", `/sources/${sourceId}/runs`);
  return console.runEnds(run.id, ms);
}

export async function restore(console: TestConsole, request: object, ms?: number) {
  const { run } = await console.ok<{ run: { id: string } }>("POST", "/restores", request);
  return console.runEnds(run.id, ms);
}
