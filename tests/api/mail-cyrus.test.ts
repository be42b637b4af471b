import { mkdirSync, readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { backUp, enrolMachine, makeClient, restore, type TestClient } from "../client";
import { Cyrus, whyNoCyrus } from "../cyrus";
import { TestConsole } from "../test-console";

const why = whyNoCyrus();
if (why) console.warn(`Skipped: mail against Cyrus. ${why}`);

const message = (n: number, text = `line of letter ${n}`): Buffer =>
  Buffer.from(
    `From: repairs@pendlewick.example\r\nTo: lettings@pendlewick.example\r\nSubject: Letter ${n}\r\nMessage-ID: <${n}@pendlewick.example>\r\n\r\n${text}\r\n`,
    "utf8",
  );
const received = (minute: number) =>
  `01-Nov-2026 ${String(8 + Math.floor(minute / 60)).padStart(2, "0")}:${String(minute % 60).padStart(2, "0")}:00 +0000`;

describe.skipIf(why !== null)("a mailbox on a server that nobody here wrote", () => {
  let console_: TestConsole;
  let client: TestClient;
  let cyrus: Cyrus;
  let sourceId: string;
  const body = (change: object = {}) => ({
    kind: "mail",
    siteId: client.siteId,
    name: "Trust mail",
    address: cyrus.address(),
    auth: "password",
    clientId: "lettings",
    clientSecret: "sesame",
    region: "north harbour",
    ...change,
  });
  const connect = (change: object = {}) =>
    console_.call<{ errors?: { field: string }[]; sources: number }>(
      "POST",
      `/clients/${client.id}/connections`,
      body(change),
    );

  beforeAll(async () => {
    console_ = await TestConsole.start();
    client = await makeClient(console_, "Pendlewick Housing Trust", { folder: "/" });
    cyrus = await Cyrus.start({ lettings: "sesame" });
    const imap = await cyrus.imap("lettings", "sesame");
    await imap.do('CREATE "Repairs 2026"');
    for (let n = 0; n < 40; n += 1)
      await imap.append({
        folder: n % 4 ? "INBOX" : "Repairs 2026",
        bytes: message(n),
        received: received(n),
        flags: n % 2 ? "\\Seen" : "",
      });
    await imap.append({ folder: "INBOX", bytes: message(99, "x".repeat(3_000_000)), received: received(50) });
    await imap.end();
  });
  afterAll(async () => {
    await cyrus?.stop();
    await console_?.stop();
  });

  it("refuses a wrong password at its field", async () => {
    const answer = await connect({ clientSecret: "wrong" });
    expect(answer.status).toBe(422);
    expect(answer.body.errors).toMatchObject([{ field: "clientSecret" }]);
  });

  it("is connected over its redirect and its relative addresses, stored, and restored to the byte", async () => {
    const answer = await connect();
    expect(answer.body).toMatchObject({ sources: 1 });
    const { sources } = await console_.ok<{ sources: { id: string; kind: string }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    sourceId = sources.find((one) => one.kind === "mail")!.id;
    await console_.ok("PATCH", `/sources/${sourceId}`, { policyId: client.policyId });
    const run = await backUp(console_, sourceId);
    expect(run).toMatchObject({ outcome: "clean", figures: { files: 41 } });
    const machine = await enrolMachine(console_, client, "pend-srv-01");
    console_.runAgent(machine.state);
    const back = await restore(console_, {
      items: [{ pointId: run.figures.point!, path: "/" }],
      destination: { kind: "folder", machineId: machine.machineId, folder: "/back" },
      clash: "keep-both",
    });
    expect(back.outcome).toBe("clean");
    mkdirSync(join(machine.root, "back"), { recursive: true });
    const found = readdirSync(join(machine.root, "back"), { recursive: true, withFileTypes: true }).filter(
      (one) => one.name.endsWith(".eml"),
    );
    const bytes = found.map((one) => readFileSync(join(one.parentPath, one.name)).toString("latin1")).sort();
    const sent = [...Array.from({ length: 40 }, (_, n) => message(n)), message(99, "x".repeat(3_000_000))];
    expect(bytes).toEqual(sent.map((one) => one.toString("latin1")).sort());
    expect(found.filter((one) => one.parentPath.endsWith("Repairs 2026")).length).toBe(10);
  });

  it("is read again without fetching what is there; what came, changed and went is noticed", async () => {
    const imap = await cyrus.imap("lettings", "sesame");
    await imap.do('SELECT "INBOX"');
    await imap.do("STORE 1 +FLAGS (\\Flagged)");
    await imap.do("STORE 2 +FLAGS (\\Deleted)");
    await imap.do("EXPUNGE");
    await imap.append({ folder: "INBOX", bytes: message(41), received: received(2) });
    await imap.end();
    const run = await backUp(console_, sourceId);
    expect(run).toMatchObject({ outcome: "clean", figures: { files: 41, removed: 1 } });
    expect(run.figures.filesRead).toBeLessThanOrEqual(2);
  });

  /** What is in a mailbox, as IMAP shows it: of each message its folder, flags, time and content. */
  async function shownBy(server: Cyrus, user: string): Promise<string[]> {
    const imap = await server.imap(user, "sesame");
    const folders = [...(await imap.do('LIST "" "*"')).matchAll(/^\* LIST \([^)]*\) "." "?([^"\r\n]+)"?/gm)];
    const shown = [];
    for (const [, folder] of folders) {
      const [, count] = /\* (\d+) EXISTS/.exec(await imap.do(`EXAMINE "${folder}"`))!;
      if (count === "0") continue;
      const text = await imap.do("FETCH 1:* (FLAGS INTERNALDATE BODY.PEEK[])");
      for (const part of text.split(/^\* \d+ FETCH /m).slice(1)) {
        const flags = /FLAGS \(([^)]*)\)/.exec(part)![1]!.replace("\\Recent", "").trim();
        const date = /INTERNALDATE "([^"]+)"/.exec(part)![1]!;
        const [mark, size] = /\{(\d+)\}\r\n/.exec(part)!;
        const from = part.indexOf(mark) + mark.length;
        shown.push(`${folder} [${flags}] ${date} ${part.slice(from, from + Number(size))}`);
      }
    }
    await imap.end();
    return shown.sort();
  }

  it("is emptied and comes back with every flag, folder and date, also to another tenant", async () => {
    const before = await shownBy(cyrus, "lettings");
    expect(before.length).toBe(41);
    const { points } = await console_.ok<{ points: { id: string }[] }>(
      "GET",
      `/sources/${sourceId}/recovery-points`,
    );
    const items = [{ pointId: points[0]!.id, path: "/" }];
    const imap = await cyrus.imap("lettings", "sesame");
    await imap.do('SELECT "INBOX"');
    await imap.do("STORE 1:* +FLAGS (\\Deleted)");
    await imap.do("EXPUNGE");
    await imap.do("CLOSE");
    await imap.do('DELETE "Repairs 2026"');
    await imap.end();
    expect(await shownBy(cyrus, "lettings")).toEqual([]);
    const run = await restore(console_, { items, destination: { kind: "original" } }, 120_000);
    expect(run).toMatchObject({ outcome: "clean", figures: { files: 41, folders: 1, skipped: 0 } });
    expect(await shownBy(cyrus, "lettings")).toEqual(before);
    const again = await restore(console_, { items, destination: { kind: "original" } }, 120_000);
    expect(again).toMatchObject({ outcome: "clean", figures: { files: 0, folders: 0, skipped: 41 } });
    expect(await shownBy(cyrus, "lettings")).toEqual(before);

    const second = await Cyrus.start({ archive: "sesame" });
    try {
      await connect({ name: "Archive of the Trust", address: second.address(), clientId: "archive" });
      const { sources } = await console_.ok<{ sources: { id: string; name: string }[] }>(
        "GET",
        `/sources?client=${client.id}`,
      );
      const target = sources.find((one) => one.name.startsWith("archive"))!;
      const moved = await restore(
        console_,
        { items, destination: { kind: "source", sourceId: target.id } },
        120_000,
      );
      expect(moved).toMatchObject({ outcome: "clean", figures: { files: 41 } });
      expect(await shownBy(second, "archive")).toEqual(before);
    } finally {
      await second.stop();
    }
  });

  it("that is full is named as the reason, and takes the rest once it has room", async () => {
    const { points } = await console_.ok<{ points: { id: string }[] }>(
      "GET",
      `/sources/${sourceId}/recovery-points`,
    );
    const request = { items: [{ pointId: points[0]!.id, path: "/" }], destination: { kind: "original" } };
    const before = await shownBy(cyrus, "lettings");
    const imap = await cyrus.imap("lettings", "sesame");
    await imap.do('SELECT "INBOX"');
    await imap.do("STORE 1:* +FLAGS (\\Deleted)");
    await imap.do("EXPUNGE");
    await imap.end();
    // kilobytes: less than the large letter
    await cyrus.setQuota("lettings", 100);
    const full = await restore(console_, request, 120_000);
    expect(full).toMatchObject({ outcome: "failed", code: "restore.mailbox-full" });
    await cyrus.setQuota("lettings", 1_000_000);
    expect(await restore(console_, request, 120_000)).toMatchObject({ outcome: "clean" });
    expect(await shownBy(cyrus, "lettings")).toEqual(before);
  });
});
