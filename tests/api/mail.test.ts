import { execFileSync } from "node:child_process";
import { mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all, one } from "@/db/base/scope";
import { MailServer } from "@/standins/mail/server";
import { type Mailbox, MailTenants, STANDARD_FOLDERS, type Tenant } from "@/standins/mail/tenants";
import { backUp, enrolMachine, makeClient, restore, setClauses, type TestClient } from "../client";
import { freshFolder } from "../depot";
import { TestConsole } from "../test-console";

let console_: TestConsole;
let client: TestClient;
let other: TestClient;
let world: MailTenants;
let server: MailServer;
let address: string;
let tenant: Tenant;
let connectionId: string;
let mailboxes: { id: string; name: string }[];

const mailbox = (id: string): Mailbox => ({
  id,
  address: `${id}@pendlewick.example`,
  folders: [
    ...STANDARD_FOLDERS,
    { id: "repairs", name: "Repairs / 2026", parentId: "inbox", role: null },
    // a far end that is taken over may send anything
    { id: "up", name: "..", parentId: null, role: null },
    { id: "ring", name: "Ring", parentId: "ring", role: null },
  ],
  messages: [],
});
let number = 0;
function deliver(box: Mailbox, subject: string, text: string, folders = ["inbox"]): string {
  number += 1;
  const id = `e${number}`;
  world.deliver(
    tenant,
    box,
    {
      id,
      mailboxIds: Object.fromEntries(folders.map((folder) => [folder, true])),
      keywords: { $seen: true },
      receivedAt: new Date(Date.UTC(2026, 10, 1, 8, number)).toISOString(),
      subject,
    },
    Buffer.from(`Subject: ${subject}\r\n\r\n${text}\r\n`),
  );
  return id;
}
const body = (change: object = {}) => ({
  kind: "mail",
  siteId: client.siteId,
  name: "Trust mail",
  address,
  tenantId: "pendlewick",
  clientId: "deep-keep",
  clientSecret: "right",
  region: "north harbour",
  ...change,
});
const connect = (change: object = {}) =>
  console_.call<{ errors?: { field: string; message: string }[]; connection: { id: string } }>(
    "POST",
    `/clients/${client.id}/connections`,
    body(change),
  );

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Pendlewick Housing Trust", { folder: "/" });
  other = await makeClient(console_, "Vossel & Daughters Bakery");
  world = new MailTenants(freshFolder("mail"));
  tenant = {
    tenantId: "pendlewick",
    applications: [
      { clientId: "deep-keep", secret: "right", expiresAt: new Date(Date.now() + 3_600_000).toISOString() },
    ],
    mailboxes: [mailbox("lettings"), mailbox("repairs")],
  };
  world.add(tenant);
  server = new MailServer(world);
  address = await server.listen();
});
afterAll(async () => {
  await server?.close();
  await console_?.stop();
});

describe("connecting a mail tenant", () => {
  it.each([
    [
      "a port where nothing listens",
      { address: "http://127.0.0.1:2" },
      "address",
      /Find the tenant.*nothing listens/,
    ],
    ["a tenant that the server does not know", { tenantId: "nobody" }, "address", /knows no tenant nobody/],
    ["a wrong secret", { clientSecret: "wrong" }, "clientSecret", /Sign in.*the client secret is not right/],
    ["an unknown application", { clientId: "stranger" }, "clientSecret", /this application is not known/],
    [
      "a site of another client",
      { siteId: "00000000-0000-4000-8000-000000000000" },
      "siteId",
      /a site of this client/,
    ],
    ["no address at all", { address: "mail" }, "address", /such as https/],
  ])("refuses %s at its field, and keeps nothing", async (_what, change, field, message) => {
    const answer = await connect(change);
    expect(answer.status).toBe(422);
    expect(answer.body.errors).toEqual([{ field, message: expect.stringMatching(message) }]);
    const left = await console_.services.db.withScope({ role: "system" }, (tx) =>
      all(tx, "select from connections"),
    );
    expect(left.length).toBe(0);
  });

  it("makes a source of each mailbox, and seals the secret", async () => {
    const answer = await connect();
    expect(answer.status).toBe(201);
    connectionId = answer.body.connection.id;
    expect(JSON.stringify(answer.body)).not.toContain('"secret"');
    const listed = await console_.ok<{ sources: { id: string; name: string; kind: string }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    mailboxes = listed.sources;
    expect(mailboxes.map((source) => source.name)).toEqual([
      "lettings@pendlewick.example",
      "repairs@pendlewick.example",
    ]);
    for (const { id } of mailboxes)
      await console_.ok("PATCH", `/sources/${id}`, { policyId: client.policyId });
    const row = await console_.services.db.withScope({ role: "system" }, (tx) =>
      one<{ secret: Buffer }>(tx, "select secret from connections"),
    );
    expect(row!.secret.includes("right")).toBe(false);
    for (const role of ["client", "machine"] as const) {
      const seen = await console_.services.db.withScope({ role, clientId: client.id }, (tx) =>
        all(tx, "select from connections"),
      );
      expect(seen.length, role).toBe(0);
    }
  });

  it("refuses a second one of the same name", async () => {
    expect((await connect()).body.errors?.[0]?.field).toBe("name");
  });
});

describe("keeping mailboxes", () => {
  it("keeps every message as it was received, and fetches an old one no second time", async () => {
    const [box] = tenant.mailboxes as [Mailbox];
    deliver(box, "Keys for the side door", "with the harbour master");
    deliver(box, "../../etc/passwd\u0000", "a subject that climbs", ["inbox", "repairs"]);
    deliver(box, "", "no subject", ["up"]);
    const first = await backUp(console_, mailboxes[0]!.id);
    expect(first).toMatchObject({ outcome: "clean", figures: { files: 4, filesRead: 4 } });
    deliver(box, "One more", "late in the evening", ["ring"]);
    const second = await backUp(console_, mailboxes[0]!.id);
    expect(second).toMatchObject({
      outcome: "clean",
      figures: { files: 5, filesRead: 1, filesUnchanged: 4 },
    });
  });

  it("notices a keyword that changed, and one message that was deleted", async () => {
    const [box] = tenant.mailboxes as [Mailbox];
    box.messages[0]!.keywords = { $seen: true, $flagged: true };
    box.messages = box.messages.filter((message) => message.subject !== "One more");
    const run = await backUp(console_, mailboxes[0]!.id);
    expect(run.figures).toMatchObject({ files: 4, filesRead: 1, removed: 1 });
    const points = await console_.ok<{ points: unknown[] }>(
      "GET",
      `/sources/${mailboxes[0]!.id}/recovery-points`,
    );
    expect(points.points.length).toBe(3);
  });

  it("goes on without a message that the server does not give out, says so, and has it in the next run", async () => {
    const box = tenant.mailboxes[1]!;
    const good = deliver(box, "Before", "one");
    const bad = deliver(box, "Broken", "two");
    const file = join(world.folder, tenant.tenantId, box.id, `${bad}.eml`);
    const bytes = readFileSync(file);
    rmSync(file);
    const run = await backUp(console_, mailboxes[1]!.id);
    expect(run).toMatchObject({ outcome: "caution", code: "file.unreadable" });
    const { lines } = await console_.ok<{ lines: { code: string; path: string; message: string }[] }>(
      "GET",
      `/runs/${run.id}/log`,
    );
    const noted = lines.filter((line) => line.code === "file.unreadable");
    expect(noted).toMatchObject([{ path: expect.stringContaining("Broken") }]);
    writeFileSync(file, bytes);
    const next = await backUp(console_, mailboxes[1]!.id);
    expect(next).toMatchObject({ outcome: "clean", figures: { filesRead: 1 } });
    box.messages = box.messages.filter(({ id }) => id !== good && id !== bad);
  });

  it("gives messages back as files, on a machine of the client, whatever the far end called them", async () => {
    const machine = await enrolMachine(console_, client, "pend-lt-01");
    console_.runAgent(machine.state);
    const { points } = await console_.ok<{ points: { id: string }[] }>(
      "GET",
      `/sources/${mailboxes[0]!.id}/recovery-points`,
    );
    const run = await restore(console_, {
      items: [{ pointId: points[0]!.id, path: "/" }],
      destination: { kind: "folder", folder: "/back", machineId: machine.machineId },
      clash: "keep-both",
    });
    expect(run.outcome).toBe("clean");
    const inbox = join(machine.root, "back/Inbox");
    const names = readdirSync(inbox).filter((name) => name.endsWith(".eml"));
    expect(names.length).toBe(2);
    const keys = names.find((name) => name.includes("Keys for the side door"))!;
    expect(readFileSync(join(inbox, keys), "utf8")).toBe(
      "Subject: Keys for the side door\r\n\r\nwith the harbour master\r\n",
    );
    expect(readdirSync(join(machine.root, "back")).sort()).toEqual(
      ["Drafts", "Inbox", "Junk", "Ring", "Sent", "untitled"].sort(),
    );
  });

  it("come back in a drill as they were kept, though nobody owns a message", async () => {
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${mailboxes[0]!.id}/drills`);
    const ended = await console_.runEnds(run.id);
    expect(ended).toMatchObject({ outcome: "clean", figures: { differing: 0, whole: true } });
    expect(Number(ended.figures.files)).toBeGreaterThan(1);
  });

  const pointOf = async (sourceId: string) =>
    (await console_.ok<{ points: { id: string }[] }>("GET", `/sources/${sourceId}/recovery-points`))
      .points[0]!.id;

  it("puts messages back where they were: what was deleted comes back, what is there stays", async () => {
    const [box] = tenant.mailboxes as [Mailbox];
    const shown = () =>
      box.messages
        .map(({ subject, receivedAt, mailboxIds, keywords }) => ({
          subject: subject.replaceAll("\u0000", ""),
          receivedAt: Date.parse(receivedAt),
          mailboxIds,
          keywords,
        }))
        .sort((one, other) => one.receivedAt - other.receivedAt);
    const before = shown();
    box.messages = box.messages.slice(1);
    const items = [{ pointId: await pointOf(mailboxes[0]!.id), path: "/" }];
    const run = await restore(console_, { items, destination: { kind: "original" } });
    expect(run).toMatchObject({ outcome: "clean", figures: { files: 1, skipped: 3 } });
    expect(shown()).toEqual(before);
    const { lines } = await console_.ok<{ lines: { path: string | null; message: string }[] }>(
      "GET",
      `/runs/${run.id}/log`,
    );
    expect(
      lines
        .filter((line) => line.path?.endsWith(".eml"))
        .map((line) => line.message)
        .sort(),
    ).toEqual(
      [
        "already in Inbox / Repairs / 2026, unchanged",
        "already in Inbox, unchanged",
        "already in .., unchanged",
        "restored to Inbox",
      ].sort(),
    );
    const again = await restore(console_, { items, destination: { kind: "original" } });
    expect(again).toMatchObject({ outcome: "clean", figures: { files: 0, skipped: 4 } });
    const { rows } = await console_.ok<{ rows: { action: string; details: object }[] }>(
      "GET",
      `/trail?client=${client.id}&search=requested a restore`,
    );
    expect(rows[0]!.details).toMatchObject({ to: "lettings@pendlewick.example" });
  });

  it("puts them into a folder of another mailbox of the client, and of no other client", async () => {
    const items = [{ pointId: await pointOf(mailboxes[0]!.id), path: "/Inbox" }];
    const to = (change: object) => ({
      items,
      destination: { kind: "source", sourceId: mailboxes[1]!.id, ...change },
    });
    const run = await restore(console_, to({ folder: "From lettings / November" }));
    expect(run).toMatchObject({ outcome: "clean" });
    const box = tenant.mailboxes[1]!;
    const november = box.folders.find((one) => one.name === "November")!;
    expect(box.folders.find((one) => one.id === november.parentId)?.name).toBe("From lettings");
    const inbox = box.folders.find((one) => one.name === "Inbox" && one.parentId === november.id)!;
    expect(box.messages.filter((one) => one.mailboxIds[inbox.id]).length).toBe(2);
    const machine = (
      await console_.ok<{ sources: { id: string; kind: string }[] }>("GET", `/sources?client=${client.id}`)
    ).sources.find((one) => one.kind === "files")!;
    const stranger = await enrolMachine(console_, other, "voss-lt-01");
    for (const [sourceId, message] of [
      [machine.id, /cannot receive these items. Select one of the client's mailboxes/],
      [stranger.sourceId, /stays within one client/],
      ["00000000-0000-4000-8000-000000000000", /does not exist, or you do not have access/],
    ] as const) {
      const answer = await console_.call<{ errors: { field: string; message: string }[] }>(
        "POST",
        "/restores",
        to({ sourceId }),
      );
      expect(answer.status).toBe(422);
      expect(answer.body.errors).toMatchObject([
        { field: "destination.sourceId", message: expect.stringMatching(message) },
      ]);
    }
    for (const folder of ["", " / ", "a\u0000b"])
      expect((await console_.call("POST", "/restores", to({ folder }))).status, folder).toBe(422);
  });

  it("shows a mailbox at a moment as mail: folders, pages, search, a message and its attachment", async () => {
    const box = tenant.mailboxes[1]!;
    const kept = box.messages;
    box.messages = [];
    const letter = (subject: string, text: string) => deliver(box, subject, text);
    for (const subject of ["Boiler at number nine", "Keys", "Order for Saturday"]) letter(subject, "plain");
    number += 1;
    world.deliver(
      tenant,
      box,
      {
        id: `e${number}`,
        mailboxIds: { repairs: true },
        keywords: {},
        receivedAt: "2026-11-02T08:00:00Z",
        subject: "Sheet",
      },
      Buffer.from(
        [
          "From: Maren Pell <maren@quillmere.example>",
          "To: repairs@pendlewick.example",
          "Subject: Sheet",
          "Content-Type: multipart/mixed; boundary=b",
          "",
          "--b",
          "Content-Type: text/html",
          "",
          '<p>The <b>harbour</b> gate</p><script>alert(1)</script><img src="https://track.example/1.gif">',
          "--b",
          "Content-Type: text/html; name=page.html",
          "Content-Disposition: attachment; filename=page.html",
          "Content-Transfer-Encoding: base64",
          "",
          Buffer.from("<script>alert(1)</script>").toString("base64"),
          "--b--",
          "",
        ].join("\r\n"),
      ),
    );
    expect((await backUp(console_, mailboxes[1]!.id)).outcome).toBe("clean");
    const at = `/recovery-points/${await pointOf(mailboxes[1]!.id)}`;
    const { folders } = await console_.ok<{ folders: { path: string; name: string; messages: number }[] }>(
      "GET",
      `${at}/mail-folders`,
    );
    const repairs = folders.find((one) => one.name === "Repairs / 2026" && one.path.startsWith("/Inbox/"))!;
    expect(repairs.messages).toBe(1);
    type Page = {
      messages: { path: string; subject: string; attachment: boolean }[];
      total: number;
      next: string | null;
    };
    const page = (path: string, more = "") =>
      console_.ok<Page>("GET", `${at}/messages?path=${encodeURIComponent(path)}${more}`);
    const whole = await page("/Inbox");
    expect(whole.messages.map((one) => one.subject)).toEqual([
      "Order for Saturday",
      "Keys",
      "Boiler at number nine",
    ]);
    const single: string[] = [];
    for (let cursor = ""; ; ) {
      const one = await page("/Inbox", `&limit=1${cursor && `&cursor=${encodeURIComponent(cursor)}`}`);
      expect(one.total).toBe(3);
      single.push(...one.messages.map((message) => message.subject));
      if (!one.next) break;
      cursor = one.next;
    }
    expect(single).toEqual(whole.messages.map((one) => one.subject));
    const [sheet] = (await page(repairs.path)).messages;
    expect(sheet).toMatchObject({ subject: "Sheet", attachment: true });
    const query = `path=${encodeURIComponent(sheet!.path)}`;
    const { message } = await console_.ok<{ message: { html: string; attachments: object[]; from: string } }>(
      "GET",
      `${at}/message?${query}`,
    );
    expect(message).toMatchObject({
      from: "Maren Pell <maren@quillmere.example>",
      attachments: [{ name: "page.html", type: "text/html", size: 25 }],
    });
    expect(message.html).toContain("<b>harbour</b>");
    expect(message.html).not.toMatch(/script|track/);
    const file = await fetch(`${console_.url}/api/v1${at}/message/attachments/0?${query}`, {
      headers: { authorization: `Bearer ${console_.token}` },
    });
    expect(file.headers.get("content-type")).toBe("application/octet-stream");
    expect(file.headers.get("content-disposition")).toContain("attachment");
    expect(await file.text()).toBe("<script>alert(1)</script>");
    expect((await console_.call("GET", `${at}/message/attachments/1?${query}`)).status).toBe(404);
    const found = async (line: string) =>
      (await console_.ok<Page>("GET", `${at}/messages/search?line=${encodeURIComponent(line)}`)).messages.map(
        (one) => one.subject,
      );
    expect(await found("from:maren has:attachment")).toEqual(["Sheet"]);
    expect(await found("harbour")).toEqual(["Sheet"]);
    expect(await found("plain")).toEqual(["Order for Saturday", "Keys", "Boiler at number nine"]);
    expect(await found("before:2026-11-02 subject:keys")).toEqual(["Keys"]);
    const wrong = await console_.call<{ errors: { field: string }[] }>(
      "GET",
      `${at}/messages/search?line=${encodeURIComponent("before:soon")}`,
    );
    expect(wrong.status).toBe(422);
    expect(wrong.body.errors).toMatchObject([{ field: "line" }]);
    for (const path of ["/Nowhere", "/Inbox", "/Inbox/none.eml"])
      expect((await console_.call("GET", `${at}/message?path=${encodeURIComponent(path)}`)).status).toBe(404);
    const { rows } = await console_.ok<{ rows: { action: string }[] }>("GET", `/trail?client=${client.id}`);
    const actions = new Set(rows.map((row) => row.action));
    expect([...actions]).toEqual(expect.arrayContaining(["viewed a message", "searched messages"]));
    box.messages = kept;
  });

  it("is downloaded as EML in a ZIP and as mbox, which Python opens; no file of a machine goes into an mbox", async () => {
    const items = [{ pointId: await pointOf(mailboxes[0]!.id), path: "/" }];
    const fetched = async (format: string, range?: string) => {
      const { url } = await console_.ok<{ url: string }>("POST", "/restores/archives", { items, format });
      const answer = await fetch(`${console_.url}${url}`, {
        headers: { authorization: `Bearer ${console_.token}`, ...(range ? { range } : {}) },
      });
      return {
        type: answer.headers.get("content-type"),
        status: answer.status,
        bytes: Buffer.from(await answer.arrayBuffer()),
      };
    };
    const python = (script: string, bytes: Buffer): string[] => {
      const path = join(freshFolder("download"), "file");
      writeFileSync(path, bytes);
      return JSON.parse(
        execFileSync("python3", ["-c", `import sys, json\n${script}`, path], { encoding: "utf8" }),
      );
    };
    const zip = await fetched("zip");
    const subjects = python(
      "import zipfile, email\nz = zipfile.ZipFile(sys.argv[1])\nprint(json.dumps(sorted(email.message_from_bytes(z.read(n))['subject'] for n in z.namelist() if n.endswith('.eml'))))",
      zip.bytes,
    );
    expect(subjects.length).toBe(4);
    expect(subjects).toContain("Keys for the side door");
    const mbox = await fetched("mbox");
    expect(mbox.type).toBe("application/mbox");
    expect(
      python(
        "import mailbox\nprint(json.dumps(sorted(m['subject'] for m in mailbox.mbox(sys.argv[1]))))",
        mbox.bytes,
      ),
    ).toEqual(subjects);
    const rest = await fetched("mbox", "bytes=50-");
    expect(rest.status).toBe(206);
    expect(rest.bytes.equals(mbox.bytes.subarray(50))).toBe(true);
    const files = await console_.ok<{ sources: { id: string; kind: string }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    const machine = files.sources.find((one) => one.kind === "files")!.id;
    await backUp(console_, machine);
    const mixed = [...items, { pointId: await pointOf(machine), path: "/" }];
    const refused = await console_.call<{ errors: { field: string }[] }>("POST", "/restores/archives", {
      items: mixed,
      format: "mbox",
    });
    expect(refused).toMatchObject({ status: 422, body: { errors: [{ field: "format" }] } });
  });

  it("lets its owner read and restore what is shared, and nothing else", async () => {
    const [box] = tenant.mailboxes as [Mailbox];
    const token = await console_.addPerson({
      email: "lettings@pendlewick.example",
      name: "Corin Ashby",
      role: "person",
      clientId: client.id,
    });
    const mine = <T>(method: string, path: string, body?: unknown) =>
      console_.call<T>(method, path, body, token);
    const { body: me } = await mine<{ person: { id: string } }>("GET", "/me");
    const share = async (path: string, askFirst: boolean) =>
      (
        await console_.ok<{ gift: { id: string } }>("POST", `/clients/${client.id}/gifts`, {
          personId: me.person.id,
          sourceId: mailboxes[0]!.id,
          path,
          askFirst,
        })
      ).gift.id;
    const giftId = await share("/Inbox", false);
    const pointId = await pointOf(mailboxes[0]!.id);
    const at = `/given/${giftId}/recovery-points/${pointId}`;
    const { body: listed } = await mine<{ folders: { path: string }[] }>("GET", `${at}/mail-folders`);
    expect(listed.folders.length).toBeGreaterThan(0);
    for (const folder of listed.folders) expect(folder.path).toMatch(/^\/Inbox(\/|$)/);
    type Listed = { messages: { path: string; subject: string }[] };
    const { body: inbox } = await mine<Listed>("GET", `${at}/messages?path=/Inbox`);
    expect(inbox.messages.length).toBe(2);
    const keys = inbox.messages.find((one) => one.subject === "Keys for the side door")!;
    const query = `path=${encodeURIComponent(keys.path)}`;
    expect(
      (await mine<{ message: { text: string } }>("GET", `${at}/message?${query}`)).body.message.text,
    ).toContain("with the harbour master");
    expect((await mine("GET", `${at}/message/source?${query}`)).status).toBe(200);
    // another folder, another share's point, and the console's own door
    const outside = await console_.ok<Listed>("GET", `/recovery-points/${pointId}/messages?path=/untitled`);
    expect(outside.messages.length).toBe(1);
    expect((await mine("GET", `${at}/messages?path=/untitled`)).status).toBe(404);
    const other = encodeURIComponent(outside.messages[0]!.path);
    expect((await mine("GET", `${at}/message?path=${other}`)).status).toBe(404);
    const { body: found } = await mine<{ of: number }>("GET", `${at}/messages/search?line=after:2000-01-01`);
    expect(found.of).toBe(3);
    expect((await mine("GET", `/recovery-points/${pointId}/message?${query}`)).status).toBe(404);

    const before = box.messages.length;
    box.messages = box.messages.filter((one) => one.subject !== "Keys for the side door");
    const items = [{ giftId, pointId, path: "/Inbox" }];
    const restored = async (folder: string | null) => {
      const { body } = await mine<{ runId: string }>("POST", "/given/restores", { items, folder });
      return console_.runEnds(body.runId);
    };
    expect(await restored(null)).toMatchObject({ outcome: "clean", figures: { files: 1, skipped: 2 } });
    expect(box.messages.length).toBe(before);
    expect(await restored("Back/November")).toMatchObject({
      outcome: "clean",
      figures: { files: 3, folders: 4 },
    });
    const { body: given } = await mine<{ restores: { kind: string }[]; gifts: { reachable: boolean }[] }>(
      "GET",
      "/given",
    );
    expect(given.restores[0]).toMatchObject({ kind: "mail" });
    expect(given.gifts[0]).toMatchObject({ reachable: true });

    const asked = await share("/", true);
    const door = `/given/${asked}/recovery-points/${pointId}/message`;
    expect((await mine("GET", `${door}?${query}`)).status).toBe(200);
    for (const path of ["source", "attachments/0"])
      expect((await mine("GET", `${door}/${path}?${query}`)).status).toBe(403);
  });

  it("takes up new mailboxes, and marks one that is there no more while its points remain", async () => {
    tenant.mailboxes.push(mailbox("accounts"));
    const gone = tenant.mailboxes.shift()!;
    await console_.ok("POST", `/connections/${connectionId}/discoveries`);
    const { sources } = await console_.ok<{ sources: { name: string; gone: boolean; points: number }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    expect(sources.find((source) => source.name.startsWith("accounts"))).toMatchObject({ gone: false });
    expect(sources.find((source) => source.name === gone.address)).toMatchObject({ gone: true, points: 3 });
    tenant.mailboxes.unshift(gone);
    await console_.ok("POST", `/connections/${connectionId}/discoveries`);
    const again = await console_.ok<{ sources: { name: string; gone: boolean }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    expect(again.sources.find((source) => source.name === gone.address)).toMatchObject({ gone: false });
  });
});

describe("a secret whose time is over", () => {
  it("fails the runs with its code, is one line in Watch, and is mended by a new one", async () => {
    tenant.applications[0]!.expiresAt = "2026-11-20T00:00:00.000Z";
    for (const { id } of mailboxes) {
      const run = await backUp(console_, id);
      expect(run).toMatchObject({ outcome: "failed", code: "source.signin-refused" });
      expect(run.message).toContain("the client secret expired on 2026-11-20");
    }
    const { causes } = await console_.ok<{ causes: { kind: string; sourceIds: string[]; title: string }[] }>(
      "GET",
      `/watch?client=${client.id}`,
    );
    const cause = causes.filter((one) => one.kind === "connection-failed");
    expect(cause).toMatchObject([
      { title: expect.stringMatching(/^Trust mail: sign-in at the source was refused/) },
    ]);
    expect(cause[0]!.sourceIds.length).toBe(2);
    const refused = await console_.call("PUT", `/connections/${connectionId}/secret`, {
      clientSecret: "guess",
    });
    expect(refused.status).toBe(422);
    tenant.applications.push({
      clientId: "deep-keep-2",
      secret: "x",
      expiresAt: new Date(Date.now() + 3_600_000).toISOString(),
    });
    Object.assign(tenant.applications[0]!, {
      secret: "fresh",
      expiresAt: new Date(Date.now() + 3_600_000).toISOString(),
    });
    await console_.ok("PUT", `/connections/${connectionId}/secret`, { clientSecret: "fresh" });
    for (const { id } of mailboxes) expect((await backUp(console_, id)).outcome).toBe("clean");
  });

  it("belongs to its client: another's run never reads through it", async () => {
    const rows = await console_.services.db.withScope({ role: "machine", clientId: other.id }, (tx) =>
      all(tx, "select from sources where connection_id is not null"),
    );
    expect(rows.length).toBe(0);
  });
});

describe("what a policy protects of a mailbox", () => {
  const inside = async (run: { figures: { point?: string } }) => {
    const { entries } = await console_.ok<{ entries: { path: string; type: string }[] }>(
      "GET",
      `/recovery-points/${run.figures.point}/search?name=.eml`,
    );
    return entries.map(({ path }) => path).sort();
  };

  it("is the folders it names, without roles, patterns and what was received before a day", async () => {
    const box = mailbox("harbour");
    tenant.mailboxes.push(box);
    mkdirSync(join(world.folder, tenant.tenantId, box.id));
    for (const folder of ["drafts", "junk", "sent"]) deliver(box, `In ${folder}`, "x", [folder]);
    deliver(box, "Old", "x");
    deliver(box, "New", "x");
    deliver(box, "Roof", "x", ["repairs"]);
    box.messages[3] = { ...box.messages[3]!, receivedAt: "2025-12-31T23:59:59.000Z" };
    await console_.ok("POST", `/connections/${connectionId}/discoveries`);
    const { sources } = await console_.ok<{
      sources: { id: string; name: string; policyId: string | null }[];
    }>("GET", `/sources?client=${client.id}`);
    const { id } = sources.find(({ name }) => name.startsWith("harbour"))!;
    await console_.ok("PATCH", `/sources/${id}`, { policyId: client.policyId });
    const messages = async (mail: object) => {
      await setClauses(console_, client, { what: { files: { folders: ["/"] }, mail } });
      const run = await backUp(console_, id);
      return [
        run.code,
        (await inside(run))
          .filter((path) => path.endsWith(".eml"))
          .map((path) => path.replace(/ e\d+\.eml$/, "").replace(/[\d-]{10} /, ""))
          .sort(),
      ];
    };
    expect(await messages({})).toEqual([
      null,
      [
        "/Drafts/In drafts",
        "/Inbox/New",
        "/Inbox/Old",
        "/Inbox/Repairs   2026/Roof",
        "/Junk/In junk",
        "/Sent/In sent",
      ],
    ]);
    expect(await messages({ excludeRoles: ["drafts", "junk"], receivedSince: "2026-01-01" })).toEqual([
      null,
      ["/Inbox/New", "/Inbox/Repairs   2026/Roof", "/Sent/In sent"],
    ]);
    expect(await messages({ exclude: ["/Inbox/Rep*"] })).toEqual([
      null,
      ["/Drafts/In drafts", "/Inbox/New", "/Inbox/Old", "/Junk/In junk", "/Sent/In sent"],
    ]);
    expect(await messages({ folders: ["/Inbox"] })).toEqual([
      null,
      ["/Inbox/New", "/Inbox/Old", "/Inbox/Repairs   2026/Roof"],
    ]);
    expect(await messages({ folders: ["/Sent", "/Gone"] })).toEqual(["folder.missing", ["/Sent/In sent"]]);
    await setClauses(console_, client, { what: { files: { folders: ["/"] }, mail: {} } });
  });

  it("is nothing under a policy for files alone, which no rule gives a mailbox", async () => {
    const { policy } = await console_.ok<{ policy: { clauses: object } }>(
      "GET",
      `/policies/${client.policyId}`,
    );
    const clauses = { ...policy.clauses, what: { files: { folders: ["/"] } } };
    await console_.ok("POST", "/policies", {
      clientId: client.id,
      name: "All newcomers",
      clauses,
      rule: { name: "*" },
    });
    tenant.mailboxes.push(mailbox("late"));
    await console_.ok("POST", `/connections/${connectionId}/discoveries`);
    const late = async () =>
      (
        await console_.ok<{
          sources: { id: string; name: string; policyId: string | null; rules: object | null }[];
        }>("GET", `/sources?client=${client.id}`)
      ).sources.find(({ name }) => name.startsWith("late"))!;
    const { id, policyId } = await late();
    expect(policyId).toBeNull();
    await setClauses(console_, client, { what: { files: { folders: ["/"] } } });
    await console_.ok("PATCH", `/sources/${id}`, { policyId: client.policyId });
    expect((await late()).rules).toBeNull();
    expect((await console_.call("POST", `/sources/${id}/runs`)).status).toBe(409);
    await setClauses(console_, client, { what: { mail: {} } });
    expect((await backUp(console_, id)).outcome).toBe("clean");
  });
});

describe("a runner that dies", () => {
  it("leaves its run to the next one", async () => {
    const [box] = tenant.mailboxes as [Mailbox];
    deliver(box, "After the fall", "kept all the same");
    await console_.killRunner();
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${mailboxes[0]!.id}/runs`);
    // as if it had died in the middle: claimed, and its lease over
    await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query(
        "update runs set state = 'reading', attempt = 1, started_at = now(), lease_until = now() - interval '1 minute' where id = $1",
        [run.id],
      ),
    );
    console_.startRunner();
    const ended = await console_.runEnds(run.id);
    expect(ended).toMatchObject({ outcome: "clean", attempt: 2, figures: { filesRead: 1 } });
  });
});
