import { execFileSync, spawn } from "node:child_process";
import { createHash, randomBytes } from "node:crypto";
import {
  chmodSync,
  existsSync,
  linkSync,
  lstatSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { Blake3Hasher } from "@napi-rs/blake-hash";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { backUp, enrolMachine, makeClient, restore, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { describeTree } from "../same-tree";
import { TestConsole, until } from "../test-console";

let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Quillmere Veterinary Group");
  machine = await enrolMachine(console_, client, "quill-lt-04");
  console_.runAgent(machine.state);
});
afterAll(() => console_?.stop());

const inData = (path: string) => join(machine.root, "data", path);
const newestPoint = async () =>
  (
    await console_.ok<{ points: { id: string; files: number }[] }>(
      "GET",
      `/sources/${machine.sourceId}/recovery-points`,
    )
  ).points[0]!;

describe("from an enrolled machine to a restored file", () => {
  it("shows the machine at once with system and volumes", async () => {
    const { connections } = await console_.ok<{
      connections: { name: string; system: { volumes: unknown[]; cores: number } }[];
    }>("GET", `/connections?client=${client.id}`);
    expect(connections[0]).toMatchObject({ name: "quill-lt-04" });
    expect(connections[0]!.system.volumes.length).toBeGreaterThan(0);
  });

  it("keeps files, and a deleted one comes back byte for byte with its times", async () => {
    mkdirSync(inData("Letters/2026"), { recursive: true });
    writeFileSync(inData("Letters/2026/Referral.odt"), randomBytes(40_000));
    writeFileSync(inData("big.bin"), randomBytes(6 * 1024 * 1024));
    const before = describeTree(machine.root);
    const run = await backUp(console_, machine.sourceId);
    expect(run).toMatchObject({ outcome: "clean", code: null });
    expect(run.figures).toMatchObject({ files: 2, filesRead: 2 });
    rmSync(inData("Letters"), { recursive: true });
    const { id } = await newestPoint();
    const back = await restore(console_, {
      items: [{ pointId: id, path: "/data/Letters" }],
      destination: { kind: "original" },
    });
    expect(back).toMatchObject({ outcome: "clean" });
    // the folder above was written to by the restore; everything in it is as it was
    const withoutParent = (lines: string[]) => lines.filter((line) => !line.startsWith('/"data" '));
    expect(withoutParent(describeTree(machine.root))).toEqual(withoutParent(before));
  });

  it("lists what was restored where, with check sums, and does not begin without room", async () => {
    const { id } = await newestPoint();
    const back = await restore(console_, {
      items: [{ pointId: id, path: "/data/Letters" }],
      destination: { kind: "folder", folder: "/data/proof" },
    });
    const { lines } = await console_.ok<{ lines: { path: string | null; message: string }[] }>(
      "GET",
      `/runs/${back.id}/log`,
    );
    const line = lines.find(({ path }) => path === "/data/proof/Letters/2026/Referral.odt")!;
    const sum = new Blake3Hasher()
      .update(readFileSync(inData("proof/Letters/2026/Referral.odt")))
      .digest("hex");
    expect(line.message).toContain(`BLAKE3 ${sum}`);
    rmSync(inData("proof"), { recursive: true });
    const small = await enrolMachine(console_, client, "quill-lt-05");
    const { run } = await console_.ok<{ run: { id: string } }>("POST", "/restores", {
      items: [{ pointId: id, path: "/data" }],
      destination: { kind: "folder", folder: "/data/large", machineId: small.machineId },
    });
    // as if the basket weighed more than any disk has
    await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("update runs set progress = progress || '{\"totalBytes\": 1e18}' where id = $1", [run.id]),
    );
    console_.runAgent(small.state);
    const refused = await console_.runEnds(run.id);
    expect(refused).toMatchObject({ outcome: "failed", code: "restore.no-room" });
    expect(existsSync(join(small.root, "data/large"))).toBe(false);
  });

  it("says what differs between two moments, and where something last existed", async () => {
    const before = await newestPoint();
    const letters = inData("Letters");
    rmSync(letters, { recursive: true });
    writeFileSync(inData("new.txt"), "new");
    await backUp(console_, machine.sourceId);
    const after = await newestPoint();
    const { changes } = await console_.ok<{ changes: { kind: string; path: string }[] }>(
      "GET",
      `/recovery-points/${after.id}/changes?since=${before.id}`,
    );
    expect(changes.map(({ kind, path }) => [kind, path])).toEqual([
      ["removed", "/data/Letters"],
      ["added", "/data/new.txt"],
    ]);
    const { entries } = await console_.ok<{ entries: { path: string; pointId: string }[] }>(
      "GET",
      `/sources/${machine.sourceId}/search?name=referral*`,
    );
    expect(entries).toMatchObject([{ path: "/data/Letters/2026/Referral.odt", pointId: before.id }]);
    // as it was for what follows
    rmSync(inData("new.txt"));
    await restore(console_, {
      items: [{ pointId: before.id, path: "/data/Letters" }],
      destination: { kind: "original" },
    });
    await backUp(console_, machine.sourceId);
  });

  it("does not read unchanged files again and adds only changed chunks", async () => {
    await pause(50);
    await backUp(console_, machine.sourceId);
    const again = await backUp(console_, machine.sourceId);
    expect(again.figures).toMatchObject({ filesRead: 0, filesUnchanged: 2, newChunks: 0, storedBytes: 0 });
    const big = readFileSync(inData("big.bin"));
    big.write("one word", 5_000_000);
    writeFileSync(inData("big.bin"), big);
    const third = await backUp(console_, machine.sourceId);
    expect(third.figures).toMatchObject({ filesRead: 1, changed: 1 });
    expect(third.figures.newBytes).toBeLessThan(5 * 1024 * 1024);
  });

  it("browses, searches and lists versions without a restore", async () => {
    const { id } = await newestPoint();
    const listing = await console_.ok<{ entries: { name: string; items: number | null }[] }>(
      "GET",
      `/recovery-points/${id}/entries?path=/data`,
    );
    expect(listing.entries.map((entry) => entry.name)).toEqual(["Letters", "big.bin"]);
    const found = await console_.ok<{ entries: { path: string }[] }>(
      "GET",
      `/recovery-points/${id}/search?name=referral`,
    );
    expect(found.entries.map((entry) => entry.path)).toEqual(["/data/Letters/2026/Referral.odt"]);
    const { versions } = await console_.ok<{ versions: { size: number }[] }>(
      "GET",
      `/sources/${machine.sourceId}/versions?path=/data/big.bin`,
    );
    expect(versions).toHaveLength(2);
    expect((await console_.call("GET", `/recovery-points/${id}/entries?path=/data/../etc`)).status).toBe(422);
    expect((await console_.call("GET", `/recovery-points/${id}/entries?path=/nowhere`)).status).toBe(404);
  });

  it("carries names of any bytes through list and restore", async () => {
    const odd = Buffer.concat([Buffer.from(`${machine.root}/data/`), Buffer.from([0x66, 0xff, 0x0a])]);
    writeFileSync(odd, "odd");
    await backUp(console_, machine.sourceId);
    const { id } = await newestPoint();
    const { entries } = await console_.ok<{ entries: { name: string; path: string }[] }>(
      "GET",
      `/recovery-points/${id}/entries?path=/data`,
    );
    const entry = entries.find((one) => one.name.startsWith("f\\xff"))!;
    rmSync(odd);
    const run = await restore(console_, {
      items: [{ pointId: id, path: entry.path }],
      destination: { kind: "original" },
    });
    expect(run.outcome).toBe("clean");
    expect(readFileSync(odd, "utf8")).toBe("odd");
    rmSync(odd);
  });

  it("restores to another folder and to another machine of the client", async () => {
    const other = await enrolMachine(console_, client, "quill-lt-07");
    console_.runAgent(other.state);
    const { id } = await newestPoint();
    const items = [{ pointId: id, path: "/data/big.bin" }];
    await restore(console_, {
      items,
      destination: { kind: "folder", folder: "/back", machineId: other.machineId },
    });
    expect(readFileSync(join(other.root, "back/big.bin")).equals(readFileSync(inData("big.bin")))).toBe(true);
    const clash = await restore(console_, { items, destination: { kind: "original" }, clash: "keep-both" });
    expect(clash.figures).toMatchObject({ keptBoth: 1 });
    const kept = readdirSync(inData(".")).find((name) =>
      /^big \(\d{4}-\d{2}-\d{2} \d{2}\.\d{2}\)\.bin$/.test(name),
    )!;
    rmSync(inData(kept));
  });

  it.each(["zip", "tar"] as const)("downloads as %s, streamed, and counts as a restore", async (format) => {
    const { id } = await newestPoint();
    const { url } = await console_.ok<{ url: string }>("POST", "/restores/archives", {
      items: [{ pointId: id, path: "/data" }],
      format,
    });
    const response = await fetch(console_.url + url, {
      headers: { authorization: `Bearer ${console_.token}` },
    });
    const folder = freshFolder("download");
    const file = join(folder, `basket.${format}`);
    writeFileSync(file, Buffer.from(await response.arrayBuffer()));
    if (format === "tar") execFileSync("tar", ["xf", file, "-C", folder]);
    else execFileSync("python3", ["-m", "zipfile", "-e", file, folder]);
    const digest = (path: string) => createHash("sha1").update(readFileSync(path)).digest("hex");
    expect(digest(join(folder, "data/big.bin"))).toBe(digest(inData("big.bin")));
    await until(async () => {
      const { past } = await console_.ok<{ past: { request: { download?: string } }[] }>(
        "GET",
        `/runs?source=${machine.sourceId}&kind=restore`,
      );
      return past.some((run) => run.request.download === format);
    }, "the download does not appear among the runs");
  });

  it.each(["zip", "tar"] as const)(
    "goes on with a download as %s that broke off, byte for byte",
    async (format) => {
      const { id } = await newestPoint();
      const { url } = await console_.ok<{ url: string }>("POST", "/restores/archives", {
        items: [{ pointId: id, path: "/data" }],
        format,
      });
      const ask = (headers: Record<string, string> = {}) =>
        fetch(console_.url + url, { headers: { authorization: `Bearer ${console_.token}`, ...headers } });
      const all = await ask();
      expect(all.headers.get("accept-ranges")).toBe("bytes");
      const etag = all.headers.get("etag")!;
      const whole = Buffer.from(await all.arrayBuffer());
      const cuts = [
        0,
        1,
        511,
        512,
        5000,
        Math.floor(whole.length / 2),
        whole.length - 1500,
        whole.length - 1,
      ];
      for (const from of cuts) {
        const rest = await ask({ range: `bytes=${from}-`, "if-range": etag });
        expect(rest.status).toBe(206);
        expect(rest.headers.get("content-range")).toBe(`bytes ${from}-${whole.length - 1}/${whole.length}`);
        expect(Buffer.from(await rest.arrayBuffer()).equals(whole.subarray(from))).toBe(true);
      }
      const middle = await ask({ range: "bytes=1000-2999" });
      expect(Buffer.from(await middle.arrayBuffer()).equals(whole.subarray(1000, 3000))).toBe(true);
      const end = await ask({ range: "bytes=-700" });
      expect(Buffer.from(await end.arrayBuffer()).equals(whole.subarray(-700))).toBe(true);
      const beyond = await ask({ range: `bytes=${whole.length}-` });
      expect([beyond.status, beyond.headers.get("content-range")]).toEqual([416, `bytes */${whole.length}`]);
      // of another download nothing can be gone on with
      expect((await ask({ range: "bytes=5-", "if-range": '"another"' })).status).toBe(200);
    },
  );

  it("ends with a caution when a file may not be read, and says which", async () => {
    // as root every file may be read; the agent of an ordinary account meets what it may not
    const uid = 65534;
    const poor = await enrolMachine(console_, client, "quill-lt-09");
    mkdirSync(join(poor.root, "data/closed"));
    writeFileSync(join(poor.root, "data/closed/secret"), "x");
    writeFileSync(join(poor.root, "data/open"), "x");
    chmodSync(join(poor.root, "data/closed"), 0o000);
    const asNobody = process.getuid?.() === 0;
    if (asNobody) execFileSync("chown", ["-R", String(uid), join(poor.state, "..")]);
    chmodSync(poor.root, 0o755);
    const agent = spawn(
      process.execPath,
      [join(process.cwd(), "dist/agent.mjs"), "run", "--state", poor.state],
      {
        ...(asNobody ? { uid, gid: uid } : {}),
        stdio: "ignore",
      },
    );
    try {
      const run = await backUp(console_, poor.sourceId);
      expect(run).toMatchObject({ outcome: "caution", code: "file.no-permission" });
      const { lines } = await console_.ok<{ lines: { path: string; code: string }[] }>(
        "GET",
        `/runs/${run.id}/log`,
      );
      expect(lines.some((line) => line.path === "/data/closed" && line.code === "file.no-permission")).toBe(
        true,
      );
    } finally {
      agent.kill("SIGKILL");
    }
  });

  it("fails with code, cause and remedy when nothing that was chosen is there", async () => {
    const empty = await enrolMachine(console_, client, "quill-lt-11");
    rmSync(join(empty.root, "data"), { recursive: true });
    console_.runAgent(empty.state);
    const run = await backUp(console_, empty.sourceId);
    expect(run).toMatchObject({ outcome: "failed", code: "selection.empty" });
    const { explained } = await console_.ok<{ explained: { cause: string; remedy: string } }>(
      "GET",
      `/runs/${run.id}`,
    );
    expect(explained.remedy).toMatch(/Open the policy/);
  });

  it("lets the quota count: a run that would pass it fails and leaves the depot whole", async () => {
    await console_.ok("PUT", `/depots/${client.depotId}/grants/${client.id}`, {
      quotaBytes: 8 * 1024 * 1024,
    });
    writeFileSync(inData("huge.bin"), randomBytes(30 * 1024 * 1024));
    const run = await backUp(console_, machine.sourceId);
    expect(run).toMatchObject({ outcome: "failed", code: "depot.quota" });
    await console_.ok("PUT", `/depots/${client.depotId}/grants/${client.id}`, { quotaBytes: 4 * 1024 ** 3 });
    expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
    rmSync(inData("huge.bin"));
  });

  it("stops when a person says so, and goes on with what was stored", async () => {
    for (let i = 0; i < 40; i += 1) writeFileSync(inData(`part ${i}`), randomBytes(8 * 1024 * 1024));
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${machine.sourceId}/runs`);
    await until(
      async () =>
        (await console_.ok<{ run: { state: string } }>("GET", `/runs/${run.id}`)).run.state === "reading",
      "the run does not begin",
    );
    await console_.ok("POST", `/runs/${run.id}/stop`);
    const stopped = await console_.runEnds(run.id);
    expect(["stopped", "clean"]).toContain(stopped.outcome);
    expect(stopped.outcome).toBe("stopped");
    for (let i = 0; i < 40; i += 1) rmSync(inData(`part ${i}`));
    expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
  });

  it("runs one backup of a source at a time; the second says why it waits", async () => {
    for (let i = 0; i < 30; i += 1) writeFileSync(inData(`part ${i}`), randomBytes(8 * 1024 * 1024));
    const first = await console_.ok<{ run: { id: string } }>("POST", `/sources/${machine.sourceId}/runs`);
    await until(
      async () =>
        (await console_.ok<{ run: { state: string } }>("GET", `/runs/${first.run.id}`)).run.state !== "due",
      "the run does not begin",
    );
    const second = await console_.ok<{ run: { id: string }; waits: string }>(
      "POST",
      `/sources/${machine.sourceId}/runs`,
    );
    expect(second.run.id).not.toBe(first.run.id);
    expect(second.waits).toMatch(/Waiting for the run of the same source/);
    expect((await console_.runEnds(first.run.id)).outcome).toBe("clean");
    expect((await console_.runEnds(second.run.id)).outcome).toBe("clean");
    for (let i = 0; i < 30; i += 1) rmSync(inData(`part ${i}`));
  });

  it("reads everything and says so when the agent has forgotten", async () => {
    for (const name of readdirSync(machine.state))
      if (name.endsWith(".tree")) rmSync(join(machine.state, name));
    const run = await backUp(console_, machine.sourceId);
    expect(run).toMatchObject({ outcome: "caution", code: "change-tracking.reset" });
    expect(run.figures.storedBytes).toBeLessThan(100_000);
  });

  it("runs by the clock", async () => {
    const { policy } = await console_.ok<{
      policy: { name: string; clauses: { when: object }; revision: number };
    }>("GET", `/policies/${client.policyId}`);
    await console_.ok("PUT", `/policies/${client.policyId}`, {
      name: policy.name,
      revision: policy.revision,
      clauses: { ...policy.clauses, when: { schedules: [{ rule: "FREQ=HOURLY" }], targetHours: 24 } },
    });
    // the schedule is due within the next minute; set its time to now as the clock would
    await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("update sources set next_due_at = now() where id = $1", [machine.sourceId]),
    );
    await until(
      async () => {
        const { past } = await console_.ok<{ past: { cause: string; outcome: string }[] }>(
          "GET",
          `/runs?source=${machine.sourceId}`,
        );
        return past.some((run) => run.cause === "schedule" && run.outcome === "clean");
      },
      "no run came by the clock",
      40_000,
    );
    const { source } = await console_.ok<{ source: { nextDueAt: string } }>(
      "GET",
      `/sources/${machine.sourceId}`,
    );
    expect(Date.parse(source.nextDueAt)).toBeGreaterThan(Date.now() + 50 * 60_000);
  });

  it("takes a file out of the depot with the key alone", async () => {
    const key = client.groups.join(" ");
    // other machines of the client keep there too: the newest point of all need not be this one's
    const { id } = await newestPoint();
    const keep = (command: string, ...args: string[]) =>
      execFileSync(
        process.execPath,
        [
          "dist/keep.mjs",
          "open",
          command,
          ...args,
          ...(command === "points" ? [] : ["--point", id]),
          "--depot",
          client.depotPath,
          "--key",
          key,
        ],
        { env: { NODE_ENV: "production", PATH: process.env.PATH }, maxBuffer: 64 * 1024 * 1024 },
      );
    expect(keep("points").toString()).toContain("quill-lt-04 files");
    expect(keep("list", "/data/Letters").toString()).toContain("2026");
    const digest = (bytes: Buffer) => createHash("sha1").update(bytes).digest("hex");
    expect(digest(keep("extract", "--to", "-", "/data/big.bin"))).toBe(
      digest(readFileSync(inData("big.bin"))),
    );
    const target = freshFolder("extract");
    keep("extract", "--to", target, "/data/Letters");
    expect(existsSync(join(target, "Letters/2026/Referral.odt"))).toBe(true);
    expect(() =>
      execFileSync(
        process.execPath,
        [
          "dist/keep.mjs",
          "open",
          "points",
          "--depot",
          client.depotPath,
          "--key",
          key.replace(/^./, (c) => (c === "0" ? "1" : "0")),
        ],
        { stdio: "pipe" },
      ),
    ).toThrow(/group 1 .* has a slip/);
  });

  it("states how the client stands, on screen and as CSV", async () => {
    const { statement } = await console_.ok<{
      statement: {
        sources: { name: string; points: number }[];
        restores: unknown[];
        days: { outcomes: Record<string, number> }[];
        exceptions: { sentence: string }[];
      };
    }>("GET", `/clients/${client.id}/statement`);
    const { rows } = await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query(
        "select count(*)::int as runs from runs where client_id = $1 and kind = 'backup' and state = 'ended'",
        [client.id],
      ),
    );
    const told = statement.days.flatMap((day) => Object.values(day.outcomes)).reduce((a, b) => a + b, 0);
    expect(told).toBe(rows[0].runs);
    expect(statement.restores.length).toBeGreaterThan(3);
    expect(statement.exceptions.map((one) => one.sentence).join()).toMatch(/quota is exceeded/);
    const csv = await console_.call<string>("GET", `/clients/${client.id}/statement?format=csv`);
    expect(csv.headers.get("content-type")).toContain("text/csv");
    expect(csv.body).toContain("quill-lt-04 files,Main site,");
    expect(
      (await console_.call("GET", `/clients/${client.id}/statement?from=2026-13-01`)).body,
    ).toMatchObject({ errors: [{ field: "from" }] });
  });

  it("drops by How long, keeps for the days of grace, brings back, and purges only what nothing needs", async () => {
    const { policy } = await console_.ok<{ policy: { name: string; clauses: object; revision: number } }>(
      "GET",
      `/policies/${client.policyId}`,
    );
    await console_.ok("PUT", `/policies/${client.policyId}`, {
      name: policy.name,
      revision: policy.revision,
      clauses: { ...policy.clauses, howLong: { kind: "last", count: 2 } },
    });
    // points would be kept for a shorter time: a second person agrees
    const second = await console_.addPerson({
      email: "tobin@lanternfold.example",
      name: "Tobin Asher",
      role: "technician",
      clientId: null,
    });
    const { consents } = await console_.ok<{ consents: { id: string }[] }>("GET", "/consents");
    await console_.call("POST", `/consents/${consents[0]!.id}/decision`, { decision: "agreed" }, second);
    await backUp(console_, machine.sourceId);
    const points = async () =>
      (
        await console_.ok<{ points: { id: string; droppedAt: string | null }[] }>(
          "GET",
          `/sources/${machine.sourceId}/recovery-points`,
        )
      ).points;
    await until(
      async () => (await points()).filter((point) => !point.droppedAt).length === 2,
      "nothing was dropped",
    );
    const dropped = (await points()).filter((point) => point.droppedAt);
    expect(dropped.length).toBeGreaterThan(3);
    await console_.ok("POST", `/recovery-points/${dropped[0]!.id}/keep`);
    await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("update points set purge_after = now() - interval '1 minute' where purge_after is not null"),
    );
    // a download that was asked for and not fetched holds its points for two hours
    await console_.services.db.withScope({ role: "system" }, (tx) => tx.query("delete from archives"));
    const { purgeAll } = await import("@/runs/purge");
    expect(await purgeAll(console_.services)).toBeGreaterThan(0);
    const left = await points();
    expect(left).toHaveLength(3);
    for (const point of left) {
      const folder = `/check ${point.id.slice(0, 6)}`;
      expect(
        (
          await restore(console_, {
            items: [{ pointId: point.id, path: "/data" }],
            destination: { kind: "folder", folder, machineId: machine.machineId },
          })
        ).outcome,
      ).toBe("clean");
    }
    const stored = execFileSync("find", [client.depotPath, "-path", "*packs*", "-type", "f"])
      .toString()
      .trim()
      .split("\n").length;
    const { rows } = await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("select count(*)::int as packs from packs"),
    );
    expect(stored).toBe(rows[0].packs);
  });

  it("gives the trail out as JSON lines and CSV, with its chain", async () => {
    const exported = async (query: string) =>
      (await console_.call<string>("GET", `/trail/export?client=${client.id}&${query}`)).body;
    // what JSON lines are is a text of them, and no JSON
    const raw = await fetch(`${console_.url}/api/v1/trail/export?client=${client.id}`, {
      headers: { authorization: `Bearer ${console_.token}` },
    });
    const rows = (await raw.text())
      .trim()
      .split("\n")
      .map((line) => JSON.parse(line) as { id: number; action: string; hash: string; previous: string });
    expect(rows.map((row) => row.action)).toContain("requested a backup");
    expect(rows.every((row, at) => at === 0 || row.id > rows[at - 1]!.id)).toBe(true);
    const chained = rows.filter((row, at) => rows[at - 1]?.id === row.id - 1);
    expect(chained.length).toBeGreaterThan(3);
    for (const row of chained) expect(row.previous).toBe(rows.find((one) => one.id === row.id - 1)!.hash);
    const csv = await exported("format=csv&search=requested%20a%20backup");
    expect(csv.split("\r\n")[0]).toBe("Id,At (UTC),Client,Who,From,Did,To,Details,Hash before,Hash");
    expect(csv.split("\r\n").length).toBeGreaterThan(4);
    expect(await exported("format=csv&from=2020-01-01&to=2020-01-02")).toBe(`${csv.split("\r\n")[0]}\r\n`);
  });

  it("has all of it in the trail, whose chain finds tampering", async () => {
    const { rows } = await console_.ok<{ rows: { action: string; actor: string; address: string }[] }>(
      "GET",
      `/trail?client=${client.id}&limit=500`,
    );
    const deeds = new Set(rows.map((row) => row.action));
    for (const deed of [
      "added a client",
      "created an enrolment code",
      "enrolled a machine",
      "granted a depot",
      "changed a quota",
      "created a policy",
      "changed a policy",
      "created the client's key",
      "confirmed the client's key",
      "assigned a policy",
      "requested a backup",
      "requested a restore",
      "downloaded files",
      "stopped a run",
      "dropped recovery points",
      "purged recovery points",
      "restored a dropped recovery point",
      "downloaded a statement",
    ]) {
      expect(deeds, deed).toContain(deed);
    }
    expect(rows.every((row) => row.actor && row.address)).toBe(true);
    const verify = () =>
      execFileSync(process.execPath, ["dist/keep.mjs", "trail", "verify"], {
        env: { ...process.env, DEEPKEEP_HOME: console_.home },
        stdio: "pipe",
      }).toString();
    expect(verify()).toContain("whole");
    const pg = await import("pg");
    const owner = new pg.default.Client({ connectionString: console_.access.owner });
    await owner.connect();
    await owner.query("update trail set actor = 'Somebody Else' where id = 3");
    await owner.end();
    expect(verify).toThrow(/row 3 does not fit/);
  });
});

describe("files with several names", () => {
  it("restores several names of one file or link as one, also when they are selected one by one", async () => {
    mkdirSync(inData("names"));
    writeFileSync(inData("names/one"), randomBytes(70_000));
    linkSync(inData("names/one"), inData("names/two"));
    symlinkSync("one", inData("names/link"));
    linkSync(inData("names/link"), inData("names/link too"));
    expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
    const { id } = await newestPoint();
    const back = await restore(console_, {
      items: ["one", "two", "link", "link too"].map((name) => ({ pointId: id, path: `/data/names/${name}` })),
      destination: { kind: "folder", folder: "/data/names again" },
    });
    expect(back.outcome).toBe("clean");
    const inode = (name: string) => lstatSync(inData(`names again/${name}`)).ino;
    expect(inode("two")).toBe(inode("one"));
    expect(inode("link too")).toBe(inode("link"));
    for (const folder of ["names", "names again"]) rmSync(inData(folder), { recursive: true });
  });
});
