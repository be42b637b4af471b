import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { backUp, makeClient, restore, type TestClient } from "../client";
import { Dovecot, whyNoDovecot } from "../dovecot";
import { TestConsole } from "../test-console";

const why = whyNoDovecot();
if (why) console.warn(`Skipped: mail over IMAP through the console. ${why}`);

describe.skipIf(why !== null)("a mail tenant over IMAP", () => {
  let console_: TestConsole;
  let client: TestClient;
  let dovecot: Dovecot;
  const body = (change: object = {}) => ({
    kind: "mail",
    siteId: client.siteId,
    name: "Trust mail",
    protocol: "imap",
    address: dovecot.address(),
    auth: "master",
    clientId: "keep",
    clientSecret: "master-key",
    mailboxes: ["lettings", "accounts"],
    region: "north harbour",
    ...change,
  });
  const connect = (change: object = {}) =>
    console_.call<{ errors?: { field: string }[]; sources: number }>(
      "POST",
      `/clients/${client.id}/connections`,
      body(change),
    );
  const sourceOf = async (name: string) =>
    (
      await console_.ok<{ sources: { id: string; name: string }[] }>("GET", `/sources?client=${client.id}`)
    ).sources.find((one) => one.name === name)!.id;

  beforeAll(async () => {
    console_ = await TestConsole.start();
    client = await makeClient(console_, "Pendlewick Housing Trust", { folder: "/" });
    dovecot = await Dovecot.start(
      { lettings: "sesame", accounts: "sesame" },
      { user: "keep", password: "master-key" },
    );
    const imap = await dovecot.imap("lettings", "sesame");
    for (let n = 0; n < 12; n += 1)
      await imap.append({
        folder: n % 3 ? "INBOX" : "Sent",
        bytes: Buffer.from(
          `Subject: Letter ${n}\r\nMessage-ID: <${n}@pendlewick.example>\r\n\r\nletter ${n}\r\n`,
        ),
        received: `01-Nov-2026 08:${String(n).padStart(2, "0")}:00 +0000`,
        flags: "\\Seen",
      });
    await imap.end();
  });
  afterAll(async () => {
    await dovecot?.stop();
    await console_?.stop();
  });

  it.each([
    ["a wrong password", { clientSecret: "wrong" }, "clientSecret"],
    ["no mailboxes", { mailboxes: [] }, "mailboxes"],
    ["no user", { clientId: "" }, "clientId"],
    ["the address of a web server", { address: "https://mail.example" }, "address"],
    ["a way to sign in that the protocol does not have", { auth: "application" }, "auth"],
    ["a port where nothing listens", { address: "imap://127.0.0.1:2" }, "address"],
    ["a mailbox that is not there", { mailboxes: ["nobody"] }, "mailboxes"],
  ])("refuses %s at its field", async (_what, change, field) => {
    const answer = await connect(change);
    expect(answer.status).toBe(422);
    expect(answer.body.errors).toMatchObject([{ field }]);
  });

  it("is connected by a master user, stored, and restored from one mailbox into another", async () => {
    expect((await connect()).body).toMatchObject({ sources: 2 });
    const [from, to] = [await sourceOf("lettings"), await sourceOf("accounts")];
    for (const id of [from, to]) await console_.ok("PATCH", `/sources/${id}`, { policyId: client.policyId });
    const run = await backUp(console_, from);
    expect(run).toMatchObject({ outcome: "clean", figures: { files: 12, filesRead: 12 } });
    expect(await backUp(console_, from)).toMatchObject({ figures: { files: 12, filesRead: 0 } });
    const request = {
      items: [{ pointId: run.figures.point!, path: "/" }],
      destination: { kind: "source", sourceId: to },
    };
    expect(await restore(console_, request)).toMatchObject({ outcome: "clean", figures: { files: 12 } });
    expect(await restore(console_, request)).toMatchObject({ figures: { files: 0, skipped: 12 } });
    const imap = await dovecot.imap("accounts", "sesame");
    expect(await imap.do('STATUS "INBOX" (MESSAGES UNSEEN)')).toContain("MESSAGES 8 UNSEEN 0");
    expect(await imap.do('STATUS "Sent" (MESSAGES)')).toContain("MESSAGES 4");
    await imap.end();
    expect(await backUp(console_, to)).toMatchObject({ outcome: "clean", figures: { files: 12 } });
  });
});
