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
    console_.call<{ errors?: { field: string }[]; mailboxes: number }>(
      "POST",
      `/clients/${client.id}/mail-tenants`,
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
    expect(answer.body).toMatchObject({ mailboxes: 1 });
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
});
