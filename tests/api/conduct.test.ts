import { randomBytes } from "node:crypto";
import { existsSync, mkdirSync, readFileSync, statfsSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all } from "@/db/base/scope";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole, until } from "../test-console";

/** The clauses When and Conduct as an agent and the runner carry them out, with real programs. */
let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let other: TestMachine;

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Saltrow Ferries");
  machine = await enrolMachine(console_, client, "salt-ship-01");
  other = await enrolMachine(console_, client, "salt-ship-02");
  for (const one of [machine, other]) {
    writeFileSync(join(one.root, "data/log.txt"), "fair wind\n");
    console_.runAgent(one.state);
  }
});
afterAll(() => console_?.stop());

const system = <Row = Record<string, unknown>>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<Row>(tx, sql, values));
const conduct = (more: object) => ({
  compression: "fast",
  bandwidth: [],
  before: null,
  after: null,
  retries: 0,
  retryMinutes: 1,
  ...more,
});

/** Changes clauses of the client's policy; those that are not named stay. */
async function change(clauses: object) {
  const { policy } = await console_.ok<{ policy: { name: string; revision: number; clauses: object } }>(
    "GET",
    `/policies/${client.policyId}`,
  );
  return console_.call<{ errors: { field: string; message: string }[] }>(
    "PUT",
    `/policies/${client.policyId}`,
    {
      name: policy.name,
      revision: policy.revision,
      clauses: { ...policy.clauses, ...clauses },
    },
  );
}
const logOf = async (runId: string) =>
  (await console_.ok<{ lines: { message: string; code: string | null }[] }>("GET", `/runs/${runId}/log`))
    .lines;

describe("the clause What", () => {
  it("is tried out on the newest point, and takes just that in the next run", async () => {
    mkdirSync(join(other.root, "data/.cache"));
    writeFileSync(join(other.root, "data/.cache/page"), "x".repeat(5000));
    writeFileSync(join(other.root, "data/chart.bin"), randomBytes(200_000));
    const { policy } = await console_.ok<{ policy: { clauses: object; name: string; revision: number } }>(
      "GET",
      `/policies/${client.policyId}`,
    );
    const setWhat = (what: object, revision: number) =>
      console_.ok("PUT", `/policies/${client.policyId}`, {
        name: policy.name,
        revision,
        clauses: { ...policy.clauses, what: { files: what } },
      });
    await setWhat({ folders: ["/data"], rubbish: false }, policy.revision);
    expect((await backUp(console_, other.sourceId)).figures).toMatchObject({ files: 3 });
    const what = { folders: ["/data", "/srv"], largestBytes: 100_000 };
    const tried = await console_.ok<{
      taken: object;
      left: object;
      largestLeft: object[];
      missing: string[];
    }>("POST", `/sources/${other.sourceId}/selection`, { files: what });
    expect(tried.taken).toEqual({ files: 1, bytes: 10 });
    expect(tried.left).toEqual({ files: 2, bytes: 205_000 });
    expect(tried.largestLeft[0]).toEqual({ path: "/data/chart.bin", size: 200_000 });
    expect(tried.missing).toEqual(["/srv"]);
    await setWhat({ ...what, folders: ["/data"] }, policy.revision + 1);
    expect((await backUp(console_, other.sourceId)).figures).toMatchObject({ files: 1, bytes: 10 });
    await setWhat({ folders: ["/data"] }, policy.revision + 2);
  });

  it("finds places that every machine has elsewhere, at each run anew", async () => {
    const home = (path: string) => join(other.root, "home", path);
    mkdirSync(home("ada/.config"), { recursive: true });
    mkdirSync(home("ada/Papiere"));
    mkdirSync(home("till/Documents"), { recursive: true });
    writeFileSync(home("ada/.config/user-dirs.dirs"), 'XDG_DOCUMENTS_DIR="$HOME/Papiere"\n');
    writeFileSync(home("ada/Papiere/log.odt"), "ada");
    writeFileSync(home("ada/Documents.odt"), "not this one");
    writeFileSync(home("till/Documents/log.odt"), "till");
    expect((await change({ what: { files: { folders: ["@documents"] } } })).status).toBe(200);
    const run = await backUp(console_, other.sourceId);
    expect([run.outcome, run.figures.files]).toEqual(["clean", 2]);
    const { entries } = await console_.ok<{ entries: { path: string }[] }>(
      "GET",
      `/recovery-points/${run.figures.point}/search?name=log`,
    );
    expect(entries.map(({ path }) => path).sort()).toEqual([
      "/home/ada/Papiere/log.odt",
      "/home/till/Documents/log.odt",
    ]);
    mkdirSync(home("kit/Documents"), { recursive: true });
    writeFileSync(home("kit/Documents/new.odt"), "kit");
    expect((await backUp(console_, other.sourceId)).figures.files).toBe(3);
    // nobody has a desktop: nothing is there to be kept, and it is said
    await change({ what: { files: { folders: ["@desktop"] } } });
    expect(await backUp(console_, other.sourceId)).toMatchObject({
      outcome: "failed",
      code: "selection.empty",
    });
    const wrong = await change({ what: { files: { folders: ["@nowhere"] } } });
    expect([wrong.status, wrong.body.errors[0]!.field]).toEqual([422, "clauses.what.files.folders.0"]);
    await change({ what: { files: { folders: ["/data"] } } });
  });
});

describe("commands around a run", () => {
  it("run on the machine, before it reads and after it stored, with their output in the log", async () => {
    const mark = join(machine.root, "mark");
    await change({
      conduct: conduct({
        before: {
          line: `echo "flushed for $DEEPKEEP_SOURCE"; echo before > ${mark}; echo new > ${machine.root}/data/fresh.txt`,
          seconds: 20,
          failing: "fail",
        },
        after: { line: `cat ${mark}; echo after > ${mark}`, seconds: 20, failing: "fail" },
      }),
    });
    const run = await backUp(console_, machine.sourceId);
    expect(run.outcome).toBe("clean");
    expect(readFileSync(mark, "utf8")).toBe("after\n");
    expect(run.figures).toMatchObject({ files: 2 });
    const lines = (await logOf(run.id)).map((line) => line.message);
    expect(lines).toContain("$ flushed for salt-ship-01 files");
    expect(lines).toContain("$ before");
  });

  it("fail the run, make it a caution, or are only noted, as the clause says", async () => {
    const failing = async (meaning: string) => {
      await change({
        conduct: conduct({ before: { line: "echo no; exit 3", seconds: 20, failing: meaning } }),
      });
      return backUp(console_, machine.sourceId);
    };
    expect(await failing("fail")).toMatchObject({ outcome: "failed", code: "command.failed" });
    expect(await failing("caution")).toMatchObject({ outcome: "caution", code: "command.failed" });
    expect(await failing("nothing")).toMatchObject({ outcome: "clean" });
  });

  it("are ended with all that they started when their time is over", async () => {
    const mark = join(machine.root, "late");
    await change({
      conduct: conduct({
        before: { line: `(sleep 4; touch ${mark}) & sleep 30`, seconds: 1, failing: "caution" },
      }),
    });
    const run = await backUp(console_, machine.sourceId);
    expect(run.outcome).toBe("caution");
    expect((await logOf(run.id)).find((line) => line.code === "command.failed")?.message).toMatch(
      /within 1 second/,
    );
    await pause(4500);
    expect(existsSync(mark)).toBe(false);
  });
});

describe("bandwidth", () => {
  it("is not passed; how near it comes is measured by the bench", async () => {
    const kib = 512;
    await change({
      conduct: conduct({ compression: "none", bandwidth: [{ hours: null, kibPerSecond: kib }] }),
    });
    writeFileSync(join(machine.root, "data/cargo.bin"), randomBytes(6 * 1024 * 1024));
    const started = performance.now();
    const run = await backUp(console_, machine.sourceId, 90_000);
    expect(run.outcome).toBe("clean");
    const stored = Number(run.figures.storedBytes);
    const rate = stored / ((performance.now() - started) / 1000) / 1024;
    expect(rate).toBeLessThan(kib * 1.1);
  });

  it("of a site is shared by the runs that use it", async () => {
    await change({ conduct: conduct({ compression: "none" }) });
    await console_.ok("PUT", `/sites/${client.siteId}/limits`, {
      atOnce: null,
      bandwidth: [{ hours: null, kibPerSecond: 1024 }],
    });
    for (const one of [machine, other])
      writeFileSync(join(one.root, "data/cargo.bin"), randomBytes(5 * 1024 * 1024));
    const started = performance.now();
    const runs = await Promise.all([machine, other].map((one) => backUp(console_, one.sourceId, 90_000)));
    const seconds = (performance.now() - started) / 1000;
    const stored = runs.reduce((sum, run) => sum + Number(run.figures.storedBytes), 0);
    expect(stored / seconds / 1024).toBeLessThan(1024 * 1.15);
    await console_.ok("PUT", `/sites/${client.siteId}/limits`, { atOnce: null, bandwidth: [] });
  });
});

describe("limits", () => {
  it("let one run after another go where only one may; the second says why it waits", async () => {
    await change({
      conduct: conduct({ compression: "none", before: { line: "sleep 3", seconds: 20, failing: "fail" } }),
    });
    await console_.ok("PUT", `/clients/${client.id}/limits`, { atOnce: 1, bandwidth: [] });
    const ask = (sourceId: string) =>
      console_.ok<{ run: { id: string } }>("POST", `/sources/${sourceId}/runs`);
    const asked = await Promise.all([ask(machine.sourceId), ask(other.sourceId)]);
    const ids = asked.map(({ run }) => run.id);
    await until(
      async () =>
        (await system("select from runs where id = any($1) and state in ('claimed', 'reading')", [ids]))
          .length === 1,
      "none begins",
    );
    const [waiting] = await system<{ id: string }>(
      "select id from runs where id = any($1) and state = 'due'",
      [ids],
    );
    const { waits } = await console_.ok<{ waits: string }>("GET", `/runs/${waiting!.id}`);
    expect(waits).toMatch(/limit of simultaneous runs of its client/);
    for (const id of ids) expect((await console_.runEnds(id)).outcome).toBe("clean");
    const [overlap] = await system<{ count: number }>(
      "select count(*)::int as count from runs a, runs b where a.id = $1 and b.id = $2 and tstzrange(a.started_at, a.ended_at) && tstzrange(b.started_at, b.ended_at)",
      ids,
    );
    expect(overlap!.count).toBe(0);
    await console_.ok("PUT", `/clients/${client.id}/limits`, { atOnce: null, bandwidth: [] });
  });
});

describe("the clause When", () => {
  it("stops a run when its time is over, and the next one goes on with what was stored", async () => {
    await change({
      when: { schedules: [], targetHours: 24, stopAfterHours: 0.1 },
      conduct: conduct({ compression: "none", bandwidth: [{ hours: null, kibPerSecond: 400 }] }),
    });
    writeFileSync(join(machine.root, "data/hold.bin"), randomBytes(40 * 1024 * 1024));
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${machine.sourceId}/runs`);
    await until(
      async () =>
        (await system("select from runs where id = $1 and state = 'reading'", [run.id])).length === 1,
      "it does not begin",
    );
    // six minutes pass at once
    await system("update runs set stop_at = now() where id = $1", [run.id]);
    expect(await console_.runEnds(run.id)).toMatchObject({ outcome: "stopped", code: "run.window-over" });
    await change({ when: { schedules: [], targetHours: 24 }, conduct: conduct({}) });
    expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
  });

  it("reads everything anew in a full pass, and only what changed otherwise", async () => {
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${machine.sourceId}/runs`, {
      pass: "full",
    });
    const full = await console_.runEnds(run.id);
    expect(full.figures).toMatchObject({ filesUnchanged: 0, changed: 0, newChunks: 0 });
    const next = await backUp(console_, machine.sourceId);
    expect(next.figures).toMatchObject({ filesRead: 0 });
  });

  it("lets volumes stand still first where they can, says where they cannot, and fails where they must", async () => {
    const onBtrfs = statfsSync(machine.root).type === 0x9123683e;
    await change({ conduct: conduct({ snapshot: "possible" }) });
    const as = await backUp(console_, machine.sourceId);
    expect(as.outcome).toBe("clean");
    const told = (await logOf(as.id)).map((line) => line.message);
    expect(told.some((line) => /is read as it is: .+|: reading from a snapshot/.test(line))).toBe(true);
    await change({ conduct: conduct({ snapshot: "required" }) });
    const must = await backUp(console_, machine.sourceId);
    expect(must).toMatchObject(
      onBtrfs ? { outcome: "clean" } : { outcome: "failed", code: "snapshot.not-possible" },
    );
    await change({ conduct: conduct({ snapshot: "none" }) });
    const none = await backUp(console_, machine.sourceId);
    expect((await logOf(none.id)).some((line) => /as it is|reading from a snapshot/.test(line.message))).toBe(
      false,
    );
  });

  it("tries a failed run again by itself, as often as Conduct says", async () => {
    await change({ conduct: conduct({ retries: 1, retryMinutes: 30 }) });
    const [made] = await system<{ id: string }>(
      `insert into runs (id, client_id, source_id, machine_id, kind, cause, due_at, state, attempt, started_at, lease_until, request)
       select gen_random_uuid(), client_id, id, machine_id, 'backup', 'schedule', now() - interval '1 hour', 'reading', 3, now() - interval '1 hour', now() - interval '1 minute', '{}'
       from sources where id = $1 returning id`,
      [machine.sourceId],
    );
    expect(await console_.runEnds(made!.id)).toMatchObject({ outcome: "failed", code: "run.given-up" });
    const [again] = await system<{ cause: string; minutes: number; request: object }>(
      "select cause, extract(epoch from due_at - now()) / 60 as minutes, request from runs where source_id = $1 and state = 'due'",
      [machine.sourceId],
    );
    expect(again).toMatchObject({ cause: "retry", request: { tries: 1 } });
    expect(again!.minutes).toBeGreaterThan(28);
    // who asks does not want to wait for that
    expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
  });

  it("lets a policy follow another one's runs", async () => {
    const { policy } = await console_.ok<{
      policy: { id: string; clauses: { what: object; howLong: object; where: object } };
    }>("GET", `/policies/${client.policyId}`);
    const { what, howLong, where } = policy.clauses;
    const made = await console_.ok<{ policy: { id: string } }>("POST", "/policies", {
      clientId: client.id,
      name: "After the bridge",
      clauses: { what, howLong, where, when: { schedules: [], targetHours: 24, after: client.policyId } },
    });
    await console_.ok("PATCH", `/sources/${other.sourceId}`, { policyId: made.policy.id });
    // it follows once, whatever ran before it followed
    const followsOnce = async (leadId: string) => {
      const since = () =>
        system<{ outcome: string | null }>(
          "select outcome from runs where source_id = $1 and cause = 'after' and due_at > (select ended_at from runs where id = $2)",
          [other.sourceId, leadId],
        );
      await until(
        async () => (await since()).some(({ outcome }) => outcome === "clean"),
        "the other policy does not follow",
      );
      await pause(3000);
      expect(await since()).toHaveLength(1);
    };
    const lead = await backUp(console_, machine.sourceId);
    await followsOnce(lead.id);
    // an end told by a clock that is ahead of the runner's is followed once too
    const followed = () =>
      system("select from runs where source_id = $1 and cause = 'after'", [other.sourceId]);
    const before = (await followed()).length;
    await system("update runs set ended_at = now() + interval '5 seconds' where id = $1", [lead.id]);
    await pause(9000);
    expect(await followed()).toHaveLength(before + 1);
    const circle = await change({ when: { schedules: [], targetHours: 24, after: made.policy.id } });
    expect(circle.status).toBe(422);
    expect(circle.body.errors[0]).toMatchObject({ field: "clauses.when.after" });
    expect(circle.body.errors[0]!.message).toMatch(/wait for each other: .*→.*→/);
  });

  it("notes a time that passed by, where it is not made up for", async () => {
    const away = await enrolMachine(console_, client, "salt-ship-03");
    await change({
      when: { schedules: [{ rule: "FREQ=DAILY;BYHOUR=3;BYMINUTE=0" }], targetHours: 24, missed: "next" },
    });
    await system("update machines set seen_at = now() - interval '9 days' where id = $1", [away.machineId]);
    await system("update sources set next_due_at = now() - interval '2 hours' where id = $1", [
      away.sourceId,
    ]);
    await until(
      async () =>
        (await system("select from runs where source_id = $1 and outcome = 'missed'", [away.sourceId]))
          .length === 1,
      "it is not noted",
    );
  });

  it("refuses a schedule that never comes into its windows, beside its field", async () => {
    const answer = await change({
      when: {
        schedules: [{ rule: "FREQ=MINUTELY;INTERVAL=5;BYHOUR=12" }],
        windows: [{ days: [], from: "20:00", to: "22:00" }],
        targetHours: 24,
      },
    });
    expect(answer.status).toBe(422);
    expect(answer.body.errors[0]).toMatchObject({ field: "clauses.when.schedules.0.rule" });
  });
});
