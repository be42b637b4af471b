import { execFileSync } from "node:child_process";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { backUp, makeClient, restore, type TestClient } from "../client";
import { Dovecot, whyNoDovecot } from "../dovecot";
import { cardOf, eventOf, Radicale, whyNoRadicale } from "../radicale";
import { TestConsole } from "../test-console";

/** A mailbox whose messages are on one server and whose calendars and contacts are on another; nobody here wrote either. */
const why = whyNoDovecot() ?? whyNoRadicale();
if (why) console.warn(`Skipped: calendars and contacts through the console. ${why}`);

describe.skipIf(why !== null)("calendars and contacts of a mailbox", () => {
  let console_: TestConsole;
  let client: TestClient;
  let dovecot: Dovecot;
  let radicale: Radicale;
  let sourceId: string;
  let pointId: string;
  const connect = (change: object = {}) =>
    console_.call<{
      errors: { field: string; message: string }[];
      sources: number;
      steps: { step: string; message: string }[];
    }>("POST", `/clients/${client.id}/connections`, {
      kind: "mail",
      siteId: client.siteId,
      name: "Trust mail",
      protocol: "imap",
      address: dovecot.address(),
      auth: "password",
      clientId: "lettings",
      clientSecret: "sesame",
      region: "north harbour",
      dav: radicale.address(),
      ...change,
    });
  const inside = <T>(what: string) => console_.ok<T>("GET", `/recovery-points/${pointId}/${what}`);
  interface Item {
    path: string;
    subject: string;
    holds: string;
    received: string;
  }

  beforeAll(async () => {
    console_ = await TestConsole.start();
    client = await makeClient(console_, "Pendlewick Housing Trust", { folder: "/" });
    dovecot = await Dovecot.start({ lettings: "sesame", plain: "sesame" }, { user: "keep", password: "key" });
    radicale = await Radicale.start({ lettings: "sesame" });
    const imap = await dovecot.imap("lettings", "sesame");
    await imap.append({
      folder: "INBOX",
      bytes: Buffer.from("Subject: Keys\r\nMessage-ID: <k@pendlewick.example>\r\n\r\nx\r\n"),
      received: "01-Nov-2026 08:00:00 +0000",
    });
    await imap.end();
    await radicale.make("lettings", "calendar", "work", "Lettings &amp; Repairs");
    await radicale.make("lettings", "addressbook", "people", "Tenants");
    await radicale.put(
      "lettings",
      "work/roof.ics",
      eventOf("roof", "Roof inspection", "20261203T080000Z", [
        "LOCATION:Tern House",
        "RRULE:FREQ=WEEKLY;COUNT=3",
      ]),
    );
    await radicale.put("lettings", "work/fete.ics", eventOf("fete", "Harbour fete", "20261205T100000Z"));
    await radicale.put(
      "lettings",
      "people/orrin.vcf",
      cardOf("orrin", "Till Orrin", ["EMAIL;TYPE=WORK:till@orrin.example", "NOTE:Has the second key"]),
    );
  });
  afterAll(async () => {
    await radicale?.stop();
    await dovecot?.stop();
    await console_?.stop();
  });

  it("are refused at their field where nothing listens, or no such server does", async () => {
    for (const dav of ["http://127.0.0.1:2", dovecot.address(), "calendar", "{mailbox}"]) {
      const answer = await connect({ dav });
      expect([dav, answer.status, answer.body.errors[0]!.field]).toEqual([dav, 422, "dav"]);
    }
    const application = await connect({
      protocol: "jmap",
      auth: "application",
      tenantId: "t",
      address: "https://mail.example",
    });
    const proxy = await connect({ auth: "proxy", mailboxes: ["lettings"] });
    expect(proxy.body.errors[0]).toMatchObject({ field: "dav" });
    expect(application.body.errors[0]).toMatchObject({
      field: "dav",
      message: expect.stringContaining("{mailbox}"),
    });
  });

  it("are tested with the mail, and stored beside it", async () => {
    const answer = await connect();
    expect(answer.body.steps.at(-1)).toMatchObject({
      step: "List calendars and contacts",
      message: "lettings: 1 calendar, 1 address book",
    });
    const { sources } = await console_.ok<{ sources: { id: string; kind: string }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    sourceId = sources.find((one) => one.kind === "mail")!.id;
    await console_.ok("PATCH", `/sources/${sourceId}`, { policyId: client.policyId });
    const run = await backUp(console_, sourceId);
    expect(run).toMatchObject({ outcome: "clean", figures: { files: 4, filesRead: 4 } });
    expect((await backUp(console_, sourceId)).figures).toMatchObject({ filesRead: 0, filesUnchanged: 4 });
    pointId = run.figures.point!;
  });

  it("are shown as what they are: in their order, each with its fields, and found by their words", async () => {
    const { folders } = await inside<{ folders: { path: string; role: string; messages: number }[] }>(
      "mail-folders",
    );
    expect(folders.slice(0, 5).map(({ path, role, messages }) => [path, role, messages])).toEqual([
      ["/Calendars", "calendars", 0],
      ["/Calendars/Lettings & Repairs", "calendar", 2],
      ["/Contacts", "contacts", 0],
      ["/Contacts/Tenants", "addressbook", 1],
      ["/INBOX", "inbox", 1],
    ]);
    const list = async (path: string, more = "") =>
      inside<{ messages: Item[]; next: string | null }>(`messages?path=${encodeURIComponent(path)}${more}`);
    const { messages: entries } = await list(folders[1]!.path);
    expect(entries.map(({ subject, holds, received }) => [subject, holds, received])).toEqual([
      ["Harbour fete", "calendar", "2026-12-05T10:00:00.000Z"],
      ["Roof inspection", "calendar", "2026-12-03T08:00:00.000Z"],
    ]);
    const first = await list(folders[1]!.path, "&limit=1");
    const second = await list(folders[1]!.path, `&limit=1&cursor=${encodeURIComponent(first.next!)}`);
    expect([first.messages[0]!.subject, second.messages[0]!.subject, second.next]).toEqual([
      "Harbour fete",
      "Roof inspection",
      null,
    ]);
    const read = (path: string) =>
      inside<{ message: { subject: string; text: string; fields: { label: string; value: string }[] } }>(
        `message?path=${encodeURIComponent(path)}`,
      );
    const { message } = await read(entries[1]!.path);
    expect(message.subject).toBe("Roof inspection");
    expect(message.fields).toEqual([
      { label: "Begins", value: "Thu 3 December 2026, 08:00" },
      { label: "Duration", value: "1 hour" },
      { label: "Repeats", value: "every week, 3 times" },
      { label: "Location", value: "Tern House" },
    ]);
    const [card] = (await list("/Contacts/Tenants")).messages;
    expect(card).toMatchObject({ subject: "Till Orrin", holds: "addressbook" });
    const contact = (await read(card!.path)).message;
    expect(contact).toMatchObject({ subject: "Till Orrin", text: "Has the second key" });
    expect(contact.fields).toContainEqual({ label: "Email", value: "till@orrin.example (work)" });
    const found = await inside<{ messages: Item[] }>("messages/search?line=second%20key");
    expect(found.messages.map(({ subject }) => subject)).toEqual(["Till Orrin"]);
    const source = await console_.call<string>(
      "GET",
      `/recovery-points/${pointId}/message/source?path=${encodeURIComponent(card!.path)}`,
    );
    expect(source.headers.get("content-type")).toBe("text/vcard");
    expect(source.headers.get("content-disposition")).toContain("contact.vcf");
  });

  it("are downloaded as one ICS and one VCF file, which Python reads", async () => {
    const download = async (format: string) => {
      const { url } = await console_.ok<{ url: string }>("POST", "/restores/archives", {
        items: [{ pointId, path: "/" }],
        format,
      });
      return (await console_.call<string>("GET", url.replace("/api/v1", ""))).body;
    };
    const python = (program: string, input: string) =>
      execFileSync(
        "/usr/bin/python3",
        ["-c", `import sys,vobject\nt=sys.stdin.buffer.read().decode()\n${program}`],
        {
          input,
        },
      )
        .toString()
        .trim();
    expect(
      python(
        "print(sorted(e.summary.value for c in vobject.readComponents(t) for e in c.vevent_list))",
        await download("ics"),
      ),
    ).toBe("['Harbour fete', 'Roof inspection']");
    expect(python("print([c.fn.value for c in vobject.readComponents(t)])", await download("vcf"))).toBe(
      "['Till Orrin']",
    );
    expect(await download("mbox")).toMatch(/^From .*\nSubject: Keys/);
    expect(await download("mbox")).not.toContain("VCALENDAR");
  });

  it("come back where they were removed, once; a mailbox without a place for them says so", async () => {
    expect((await radicale.ask("lettings", "DELETE", "/lettings/work/")).status).toBeLessThan(300);
    await radicale.ask("lettings", "DELETE", "/lettings/people/orrin.vcf");
    const request = { items: [{ pointId, path: "/" }], destination: { kind: "original" } };
    const back = await restore(console_, request);
    expect(back).toMatchObject({ outcome: "clean", figures: { files: 3, folders: 1, skipped: 1 } });
    const again = await restore(console_, request);
    expect(again).toMatchObject({ outcome: "clean", figures: { files: 0, folders: 0, skipped: 4 } });
    const next = await backUp(console_, sourceId);
    expect(next.figures).toMatchObject({ files: 4 });
    await connect({ name: "Plain mail", clientId: "plain", dav: "" });
    const { sources } = await console_.ok<{ sources: { id: string; name: string }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    const plain = sources.find((one) => one.name === "plain")!;
    const elsewhere = await restore(console_, {
      items: [{ pointId, path: "/" }],
      destination: { kind: "source", sourceId: plain.id },
    });
    expect(elsewhere).toMatchObject({ outcome: "caution", figures: { files: 1, cautions: 3 } });
  });
});
