import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all } from "@/db/base/scope";
import { sendNotices } from "@/runs/notices";
import type { Services } from "@/server/base/services";
import { computeStanding } from "@/server/statements/standing";
import { MailDrop, readDrop } from "@/standins/inbox/mail-drop";
import { Receiver } from "@/standins/inbox/receiver";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole } from "../test-console";

/** Who hears of what: real mail over SMTP and real webhooks over HTTP, under a clock that the test sets. */
let console_: TestConsole;
let client: TestClient;
const machines: TestMachine[] = [];
let ahead = 0;
let services: Services;
const folder = mkdtempSync(join(tmpdir(), "deep-keep-inbox-"));
const inbox = new MailDrop(join(folder, "mail"));
let secret = "";
const now = () => new Date(Date.now() + ahead);
const receiver = new Receiver(join(folder, "hooks"), () => secret, inbox.folder, now);
let webhookId = "";
let port = 0;

beforeAll(async () => {
  console_ = await TestConsole.start();
  // the test tells by itself, at its own clock
  await console_.killRunner();
  services = { ...console_.services, now };
  client = await makeClient(console_, "Vossel & Daughters Bakery");
  for (const name of ["voss-lt-01", "voss-lt-02", "voss-lt-03"]) {
    const machine = await enrolMachine(console_, client, name);
    writeFileSync(join(machine.root, "data/recipe.txt"), "rye, water, salt\n");
    console_.runAgent(machine.state);
    machines.push(machine);
  }
  port = await inbox.listen(0);
  await console_.ok("PUT", "/mail-server", {
    host: "127.0.0.1",
    port,
    security: "none",
    sender: "deep-keep@lanternfold.example",
  });
  const made = await console_.ok<{ webhook: { id: string }; secret: string }>("POST", "/webhooks", {
    name: "Tickets",
    url: `${await receiver.listen(0)}/hook`,
  });
  webhookId = made.webhook.id;
  secret = made.secret;
});
afterAll(async () => {
  await console_?.stop();
  await inbox.close();
  await receiver.close();
  rmSync(folder, { recursive: true });
});

const system = <Row = Record<string, unknown>>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<Row>(tx, sql, values));

async function setNotices(notices: object, folders = ["/data"]) {
  const { policy } = await console_.ok<{ policy: { name: string; revision: number; clauses: object } }>(
    "GET",
    `/policies/${client.policyId}`,
  );
  await console_.ok("PUT", `/policies/${client.policyId}`, {
    name: policy.name,
    revision: policy.revision,
    clauses: {
      ...policy.clauses,
      what: { files: { folders } },
      conduct: { retries: 0 },
      notices: { on: ["failed"], mail: ["desk@lanternfold.example"], webhooks: [webhookId], ...notices },
    },
  });
}
/** Lets minutes pass and tells what is to be told by then. */
async function later(minutes: number) {
  ahead += minutes * 60_000;
  return sendNotices(services);
}
const mails = () => readDrop(inbox.folder);
/** What was noted and told becomes older by so many days, and so do the runs. */
async function daysPass(days: number) {
  const older = (column: string) => `${column} = ${column} - make_interval(days => ${days})`;
  await system(`update notice_events set ${older("at")}`);
  await system(`update messages set ${older("made_at")}`);
  await system(`update runs set ${older("ended_at")}`);
}
/** The hour and minute at the client, so many minutes from now. */
const clock = (minutes: number) =>
  new Intl.DateTimeFormat("en-GB", {
    timeZone: "Europe/London",
    hour: "2-digit",
    minute: "2-digit",
  }).format(new Date(Date.now() + minutes * 60_000));

describe("notices", () => {
  it("tell one cause once, with all the sources that it touched, by mail and by a signed webhook", async () => {
    await setNotices({}, ["/nowhere"]);
    // the depot is not there: one cause for all three
    await setNotices({});
    await system("update depots set path = path || '-gone' where id = $1", [client.depotId]);
    for (const machine of machines)
      expect(await backUp(console_, machine.sourceId)).toMatchObject({
        outcome: "failed",
        code: "depot.not-reached",
      });
    expect((await later(0)).made).toBe(0);
    expect(await later(1)).toEqual({ made: 2, sent: 2 });
    const [mail, ...more] = await mails();
    expect(more).toEqual([]);
    expect(mail!.subject).toBe("Vossel & Daughters Bakery: The depot could not be reached (3 sources)");
    expect(mail!.to![0]!.address).toBe("desk@lanternfold.example");
    for (const name of ["voss-lt-01", "voss-lt-02", "voss-lt-03"])
      expect(mail!.text).toContain(`${name} files`);
    expect(mail!.text).toContain("What now:");
    const [hook] = receiver.received;
    expect(hook!.body).toMatchObject({
      type: "runs.ended",
      data: {
        client: { name: "Vossel & Daughters Bakery" },
        causes: [{ outcome: "failed", code: "depot.not-reached" }],
      },
    });
  });

  it("do not tell it again while it lasts, but do when it was well in between", async () => {
    await backUp(console_, machines[0]!.sourceId);
    expect((await later(1)).made).toBe(0);
    await system("update depots set path = replace(path, '-gone', '') where id = $1", [client.depotId]);
    expect((await backUp(console_, machines[0]!.sourceId)).outcome).toBe("clean");
    await system("update depots set path = path || '-gone' where id = $1", [client.depotId]);
    await backUp(console_, machines[0]!.sourceId);
    expect((await later(1)).made).toBe(2);
    await system("update depots set path = replace(path, '-gone', '') where id = $1", [client.depotId]);
  });

  it("are tried again when they are not taken, and given up after eight times; a person may send them again", async () => {
    await setNotices({ webhooks: [] }, ["/nowhere"]);
    inbox.refusals.push(452, 452);
    await backUp(console_, machines[1]!.sourceId);
    const before = (await mails()).length;
    expect(await later(1)).toEqual({ made: 1, sent: 0 });
    const [first] = await system<{ attempts: number; error: string }>(
      "select attempts, error from messages where sent_at is null",
    );
    expect(first).toMatchObject({ attempts: 1 });
    expect(first!.error).toContain("452");
    await later(1);
    await later(2);
    expect((await mails()).length).toBe(before + 1);
    // and one that is never taken
    inbox.refusals.push(...Array.from({ length: 8 }, () => 550));
    await backUp(console_, machines[2]!.sourceId);
    for (let minutes = 1; minutes <= 128; minutes *= 2) await later(minutes);
    const { messages } = await console_.ok<{
      messages: { id: string; givenUpAt: string | null; attempts: number }[];
    }>("GET", `/messages?client=${client.id}`);
    const givenUp = messages.find((message) => message.givenUpAt)!;
    expect(givenUp.attempts).toBe(8);
    // nobody heard of it: so it is told where people look every morning
    const told = await console_.services.db.withScope({ role: "provider" }, (tx) =>
      computeStanding(tx, {}, now()),
    );
    const cause = told.causes.find(({ kind }) => kind === "messages-unsent")!;
    expect(cause.title).toBe("1 message could not be delivered");
    expect(cause.detail).toContain("to desk@lanternfold.example · ");
    await console_.ok("POST", `/messages/${givenUp.id}/send`);
    await later(1);
    expect((await mails()).length).toBe(before + 2);
  });

  it("come in one message at the digest's time, and not in quiet hours", async () => {
    const before = (await mails()).length;
    await setNotices({ on: ["failed", "clean"], webhooks: [], digestAt: clock(30) }, ["/nowhere"]);
    await backUp(console_, machines[0]!.sourceId);
    await setNotices({ on: ["failed", "clean"], webhooks: [], digestAt: clock(30) });
    await backUp(console_, machines[1]!.sourceId);
    ahead = 0;
    expect((await later(20)).made).toBe(0);
    expect((await later(12)).made).toBe(1);
    const digest = (await mails()).at(-1)!;
    expect(digest.subject).toBe("Vossel & Daughters Bakery: 1 cause since yesterday");
    expect(digest.text!.indexOf("The selection is empty")).toBeLessThan(
      digest.text!.indexOf("Runs ended clean"),
    );
    expect((await mails()).length).toBe(before + 1);
    // of clean runs one hears once a day
    await daysPass(2);
    await setNotices({ on: ["clean"], webhooks: [], quiet: { from: clock(-60), to: clock(60) } });
    ahead = 0;
    await backUp(console_, machines[2]!.sourceId);
    expect((await later(50)).made).toBe(0);
    expect((await later(15)).made).toBe(1);
  });

  it("of what lasts do not go out by themselves each morning, but say so in the next, and after a week", async () => {
    await daysPass(30);
    const digestAt = clock(30);
    const folders = { broken: ["/nowhere"], whole: ["/data"] };
    const morning = async () => {
      ahead = 0;
      const { made } = await later(32);
      return made;
    };
    const rules = { on: ["failed", "caution"], webhooks: [webhookId], digestAt };
    await setNotices(rules, folders.broken);
    await backUp(console_, machines[0]!.sourceId);
    expect(await morning()).toBe(2);
    // it fails again the next day: nothing that is new
    await daysPass(1);
    await backUp(console_, machines[0]!.sourceId);
    expect(await morning()).toBe(0);
    // the day after, another machine fails for the first time
    await daysPass(1);
    await backUp(console_, machines[0]!.sourceId);
    await backUp(console_, machines[1]!.sourceId);
    const heard = receiver.received.length;
    expect(await morning()).toBe(2);
    const second = (await mails()).at(-1)!;
    expect(second.subject).toBe("Vossel & Daughters Bakery: The selection is empty (voss-lt-02 files)");
    expect(second.text).toContain("Reported before, still open:");
    expect(second.text).toMatch(/- The selection is empty: voss-lt-01 files \(reported on \d+ \w+ \d{4}\)/);
    expect(receiver.received[heard]!.body).toMatchObject({
      data: {
        causes: [{ runs: [{ source: "voss-lt-02 files" }] }],
        lasting: [{ outcome: "failed", sources: ["voss-lt-01 files"] }],
      },
    });
    // after a week it is called to mind
    await daysPass(6);
    await backUp(console_, machines[0]!.sourceId);
    expect(await morning()).toBe(2);
    expect((await mails()).at(-1)!.subject).toContain("(voss-lt-01 files)");
    // and when it was well in between it is new the very next day
    await daysPass(1);
    await setNotices(rules, folders.whole);
    expect((await backUp(console_, machines[0]!.sourceId)).outcome).toBe("clean");
    await setNotices(rules, folders.broken);
    await backUp(console_, machines[0]!.sourceId);
    expect(await morning()).toBe(2);
  });

  it("show what became of a test message, and refuse a webhook with another secret", async () => {
    await console_.ok("POST", "/messages/test", { mail: "ines@lanternfold.example" });
    expect((await mails()).at(-1)!.subject).toBe("A test message of Deep Keep");
    ahead = 0;
    await console_.ok("POST", "/messages/test", { webhookId });
    secret = `whsec_${Buffer.alloc(32).toString("base64")}`;
    const refused = await console_.call("POST", "/messages/test", { webhookId });
    expect(refused.body).toMatchObject({
      code: "notice.not-sent",
      detail: expect.stringContaining("answers 401"),
    });
    const { webhooks } = await console_.ok<{ webhooks: object[] }>("GET", "/webhooks");
    expect(JSON.stringify(webhooks)).not.toContain("whsec");
  });
});
