import { randomBytes } from "node:crypto";
import {
  chmodSync,
  existsSync,
  linkSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  statSync,
  symlinkSync,
  truncateSync,
  writeFileSync,
} from "node:fs";
import { join } from "node:path";
import { blake3 } from "@napi-rs/blake-hash";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Cause } from "@/core/protection/causes";
import type { Statement } from "@/core/statement/statement";
import { all } from "@/db/base/scope";
import { requestDueDrills } from "@/runs/drills";
import { noteTodaysUsage } from "@/server/statements/usage";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { type Answer, TestConsole } from "../test-console";

/** Drills: the runner restores a point on purpose, reads it again, and leaves evidence. And what clients used, for invoices. */
let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let pointId = "";

const asked = async (sourceId: string) => {
  const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${sourceId}/drills`);
  return console_.runEnds(run.id);
};
const logOf = async (runId: string) =>
  (
    await console_.ok<{
      lines: { level: string; code: string | null; path: string | null; message: string }[];
    }>("GET", `/runs/${runId}/log`)
  ).lines;
const system = <T>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));
const statement = async () =>
  (await console_.ok<{ statement: Statement }>("GET", `/clients/${client.id}/statement`)).statement;
const scratch = () => {
  const folder = join(console_.home, "drills");
  return existsSync(folder) ? readdirSync(folder) : [];
};

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Thornquay Maritime Museum");
  machine = await enrolMachine(console_, client, "thorn-srv-01");
  const data = join(machine.root, "data");
  mkdirSync(join(data, "Logbücher"), { recursive: true });
  writeFileSync(join(data, "Logbücher/1871.txt"), "wind from the west\n");
  writeFileSync(join(data, "scan.raw"), randomBytes(5_000_000));
  writeFileSync(join(data, "empty"), "");
  writeFileSync(join(data, "secret"), "for the keeper alone", { mode: 0o400 });
  chmodSync(join(data, "Logbücher"), 0o750);
  symlinkSync("scan.raw", join(data, "newest scan"));
  linkSync(join(data, "scan.raw"), join(data, "scan again.raw"));
  // a file that is mostly holes
  writeFileSync(join(data, "holes"), "x");
  truncateSync(join(data, "holes"), 40_000_000);
  console_.runAgent(machine.state);
  pointId = (await backUp(console_, machine.sourceId)).figures.point!;
});
afterAll(() => console_?.stop());

describe("a drill", () => {
  it("restores the newest point, finds every byte as it was, and leaves nothing but its evidence", async () => {
    const run = await asked(machine.sourceId);
    expect(run).toMatchObject({ kind: "drill", outcome: "clean", code: null });
    expect(run.figures).toMatchObject({ pointId, differing: 0, files: 6, ofFiles: 6 });
    const log = await logOf(run.id);
    const scan = readFileSync(join(machine.root, "data/scan.raw"));
    expect(log.find((line) => line.path === "/data/scan.raw")?.message).toContain(
      blake3(scan).toString("hex"),
    );
    // what the figures say is the check sum of the list can be computed from the files by anybody
    const names = ["Logbücher/1871.txt", "empty", "holes", "scan again.raw", "scan.raw", "secret"];
    const list = names
      .map(
        (name) =>
          `${blake3(readFileSync(join(machine.root, "data", name))).toString("hex")}  /data/${name}\n`,
      )
      .join("");
    expect(run.figures.evidence).toBe(blake3(Buffer.from(list)).toString("hex"));
    expect(scratch()).toEqual([]);
    const told = await statement();
    expect(told.drilled).toBe("1 drill: 1 of 1 source was restored on purpose and came back as it was.");
    expect(told.drills).toMatchObject([{ outcome: "clean", evidence: run.figures.evidence }]);
    const csv = await console_.call<string>("GET", `/clients/${client.id}/statement?format=csv`);
    expect(csv.body).toContain(String(run.figures.evidence));
    const trail = await system<{ action: string }>(
      "select action from trail where action like '%drill%' order by id",
    );
    expect(trail.map((row) => row.action)).toEqual(["requested a drill", "ended a drill"]);
  });

  it("takes an older point the next time, and the purge leaves that alone meanwhile", async () => {
    writeFileSync(join(machine.root, "data/Logbücher/1872.txt"), "calm\n");
    await backUp(console_, machine.sourceId);
    const run = await asked(machine.sourceId);
    expect(run).toMatchObject({ outcome: "clean", figures: { pointId } });
    const [{ request }] = (await system<{ request: { items: object[] } }>(
      "select request from runs where id = $1",
      [run.id],
    )) as [{ request: { items: object[] } }];
    expect(request.items).toEqual([{ pointId, path: "/" }]);
  });

  it("is asked for once, however often one asks, and not of a source without a point", async () => {
    await console_.killRunner();
    const ask = () => console_.ok<{ run: { id: string } }>("POST", `/sources/${machine.sourceId}/drills`);
    const [first, second] = [await ask(), await ask()];
    expect(second.run.id).toBe(first.run.id);
    console_.startRunner();
    expect((await console_.runEnds(first.run.id)).outcome).toBe("clean");
    const bare = await enrolMachine(console_, client, "thorn-lt-09");
    const refused = await console_.call<{ detail: string }>("POST", `/sources/${bare.sourceId}/drills`);
    expect(refused.status).toBe(409);
    expect(refused.body.detail).toContain("no recovery point yet");
  });

  it("is asked for by itself when Conduct says so, and not before", async () => {
    const due = () => requestDueDrills(console_.services);
    expect(await due()).toBe(0);
    await system("update runs set due_at = due_at - interval '31 days' where kind = 'drill'");
    await system("update points set moment = moment - interval '2 days'");
    expect(await due()).toBe(1);
    const [{ id }] = (await system<{ id: string }>(
      "select id from runs where kind = 'drill' and cause = 'schedule'",
    )) as [{ id: string }];
    expect((await console_.runEnds(id)).outcome).toBe("clean");
    await system("update runs set due_at = due_at - interval '31 days' where kind = 'drill'");
    const { policy } = await console_.ok<{ policy: { name: string; clauses: object; revision: number } }>(
      "GET",
      `/policies/${client.policyId}`,
    );
    await console_.ok("PUT", `/policies/${client.policyId}`, {
      name: policy.name,
      revision: policy.revision,
      clauses: { ...policy.clauses, conduct: { drillDays: null } },
      reason: "No drills here",
    });
    expect(await due()).toBe(0);
  });

  it("that finds something altered fails with its code, names the file, and stands in Watch and in the statement", async () => {
    const packs = readdirSync(client.depotPath, { recursive: true, encoding: "utf8" })
      .filter((path) => /\/packs\/.+\//.test(path))
      .map((path) => join(client.depotPath, path))
      .sort((a, b) => statSync(b).size - statSync(a).size);
    const whole = readFileSync(packs[0]!);
    const broken = Buffer.from(whole);
    broken[1_000_000]! ^= 1;
    writeFileSync(packs[0]!, broken);
    // what was read before is kept in memory for a while
    await console_.killRunner();
    console_.startRunner();
    const run = await asked(machine.sourceId);
    expect(run).toMatchObject({ outcome: "failed", code: "drill.differs" });
    const lines = (await logOf(run.id)).filter((line) => line.level === "error");
    expect(lines.map((line) => line.path)).toContain("/data/scan.raw");
    expect(scratch()).toEqual([]);
    const causesNow = async () => (await console_.ok<{ causes: Cause[] }>("GET", "/watch")).causes;
    expect((await causesNow()).find((cause) => cause.kind === "drill-failed")).toMatchObject({
      state: "exposed",
      sourceIds: [machine.sourceId],
      code: "drill.differs",
    });
    expect((await statement()).drilled).toContain("1 drill failed");
    // one that ends well takes the cause away
    writeFileSync(packs[0]!, whole);
    await console_.killRunner();
    console_.startRunner();
    expect((await asked(machine.sourceId)).outcome).toBe("clean");
    expect((await causesNow()).some((cause) => cause.kind === "drill-failed")).toBe(false);
  });

  it("that was cut off is done again, and what it left lying is taken away", async () => {
    const left = join(console_.home, "drills", "00000000-0000-4000-8000-000000000000");
    await console_.killRunner();
    mkdirSync(left, { recursive: true });
    writeFileSync(join(left, "in the clear"), "somebody's letter");
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${machine.sourceId}/drills`);
    await system(
      "update runs set state = 'reading', attempt = 1, lease_until = now() - interval '1 second' where id = $1",
      [run.id],
    );
    console_.startRunner();
    expect(await console_.runEnds(run.id)).toMatchObject({ outcome: "clean", attempt: 2 });
    expect(scratch()).toEqual([]);
  });
});

describe("usage for invoices", () => {
  it("is written down by client, kind and depot, and is what the depot says", async () => {
    await noteTodaysUsage(console_.services);
    // again on the same day: the last word counts
    await noteTodaysUsage(console_.services);
    const { usage } = await console_.ok<{ usage: { daysCounted: number; lines: Record<string, unknown>[] } }>(
      "GET",
      "/usage",
    );
    const [grant] = await system<{ used: number }>(
      "select used_bytes as used from grants where client_id = $1",
      [client.id],
    );
    const { sources } = await console_.ok<{ sources: { id: string; bytes: number }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    expect(usage.daysCounted).toBe(1);
    expect(usage.lines).toMatchObject([
      {
        clientName: "Thornquay Maritime Museum",
        kind: "files",
        depotName: "Thornquay Maritime Museum depot",
        days: 1,
        mostSources: 1,
        meanStored: grant!.used,
        mostStored: grant!.used,
        meanProtected: sources.find((source) => source.id === machine.sourceId)!.bytes,
      },
    ]);
    const csv: Answer<string> = await console_.call("GET", "/usage?format=csv");
    expect(csv.body.split("\r\n")[1]).toContain(`Thornquay Maritime Museum,files,`);
    const wrong = await console_.call<{ errors: { field: string }[] }>("GET", "/usage?from=2026-02-31");
    expect(wrong.status).toBe(422);
  });

  it("of a client by itself is that client's alone", async () => {
    const other = await makeClient(console_, "Brackenfold Dental");
    const { usage } = await console_.ok<{ usage: { lines: unknown[] } }>(
      "GET",
      `/usage?clientId=${other.id}`,
    );
    expect(usage.lines).toEqual([]);
  });

  it("has the same figures for a client alone and together with others", async () => {
    // days on which others used something, and this client nothing
    await system(
      `insert into usage_days (day, client_id, depot_id, kind, sources, protected_bytes, stored_bytes)
       select day - n, client_id, depot_id, kind, sources, protected_bytes, stored_bytes
       from usage_days, generate_series(1, 3) n where client_id = $1`,
      [client.id],
    );
    await system("insert into usage_noted select distinct day from usage_days on conflict do nothing");
    const other = await makeClient(console_, "Ambergate Ceramics");
    await system(
      `insert into usage_days (day, client_id, depot_id, kind, sources, protected_bytes, stored_bytes)
       select max(day), $1, $2, 'files', 1, 1000, 400 from usage_days`,
      [other.id, other.depotId],
    );
    interface Figures {
      readonly usage: {
        daysCounted: number;
        lines: { clientId: string; meanStored: number }[];
        contracts: { clientId: string }[];
      };
    }
    const [first] = await system<{ day: string }>(
      "select to_char(min(day), 'YYYY-MM-DD') as day from usage_days",
    );
    const together = await console_.ok<Figures>("GET", `/usage?from=${first!.day}`);
    for (const id of [client.id, other.id]) {
      const alone = await console_.ok<Figures>("GET", `/usage?clientId=${id}&from=${first!.day}`);
      expect(alone.usage.lines).toHaveLength(1);
      expect(alone.usage).toEqual({
        ...together.usage,
        lines: together.usage.lines.filter((line) => line.clientId === id),
        contracts: together.usage.contracts.filter((line) => line.clientId === id),
      });
    }
  });
});
