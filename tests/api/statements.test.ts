import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { getDocument, OPS } from "pdfjs-dist/legacy/build/pdf.mjs";
import pg from "pg";
import { PNG } from "pngjs";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Statement } from "@/core/statement/statement";
import { formatBytes } from "@/core/units/bytes";
import { all } from "@/db/base/scope";
import { sendNotices } from "@/runs/notices";
import { sendDueStatements } from "@/runs/statements";
import type { Services } from "@/server/base/services";
import { noteTodaysUsage } from "@/server/statements/usage";
import { MailDrop, readDrop } from "@/standins/inbox/mail-drop";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole } from "../test-console";

/** The statement and its ways to the client: PDF read by another program, mail over SMTP, links without an account. */
let console_: TestConsole;
let client: TestClient;
let other: TestClient;
let machine: TestMachine;
let services: Services;
let managerToken: string;
let readerToken: string;
let ahead = 0;
const now = () => new Date(Date.now() + ahead);
const folder = mkdtempSync(join(tmpdir(), "deep-keep-statements-"));
const inbox = new MailDrop(folder);

beforeAll(async () => {
  console_ = await TestConsole.start();
  await console_.killRunner();
  services = { ...console_.services, now };
  client = await makeClient(console_, "Vossel & Daughters Bakery");
  other = await makeClient(console_, "Brackenfold Dental");
  machine = await enrolMachine(console_, client, "voss-lt-01");
  writeFileSync(join(machine.root, "data/recipe.txt"), "rye, water, salt\n");
  console_.runAgent(machine.state);
  await backUp(console_, machine.sourceId);
  const person = { clientId: client.id, email: "hanne@vossel.example", name: "Hanne Vossel" };
  managerToken = await console_.addPerson({ ...person, role: "manager" });
  readerToken = await console_.addPerson({
    clientId: null,
    email: "sela@lanternfold.example",
    name: "Sela Wynn",
    role: "reader",
  });
});
afterAll(async () => {
  await console_?.stop();
  await inbox.close();
  rmSync(folder, { recursive: true });
});

const base = () => `/clients/${client.id}/statement`;
const read = async () => (await console_.ok<{ statement: Statement }>("GET", base())).statement;
const fetched = async (path: string, token: string | null) =>
  fetch(`${console_.url}/api/v1${path}`, token ? { headers: { authorization: `Bearer ${token}` } } : {});
const trailOf = async (action: string) =>
  services.db.withScope({ role: "system" }, (tx) =>
    all<{ actor: string; details: Record<string, unknown> }>(
      tx,
      "select actor, details from trail where action = $1 order by id",
      [action],
    ),
  );

/** What another program reads in a PDF. */
async function pdfOf(bytes: ArrayBuffer | Uint8Array) {
  const document = await getDocument({ data: new Uint8Array(bytes), verbosity: 0 }).promise;
  let text = "";
  for (let page = 1; page <= document.numPages; page += 1) {
    const content = await (await document.getPage(page)).getTextContent();
    text += content.items.map((item) => ("str" in item ? item.str : "")).join(" ");
  }
  const first = await document.getPage(1);
  return {
    text: text.replace(/\s+/g, " "),
    view: first.view,
    bookmarks: (await document.getOutline()).map((item) => item.title),
    tree: JSON.stringify(await first.getStructTree()),
    tagged: (await document.getMarkInfo())?.Marked,
    images: (await first.getOperatorList()).fnArray.filter((one) => one === OPS.paintImageXObject).length,
    title: ((await document.getMetadata()).info as { Title: string }).Title,
  };
}

describe("the statement as PDF", () => {
  it("tells the same as on screen, tagged, with bookmarks and fonts of its own", async () => {
    const answer = await fetched(`${base()}?format=pdf`, console_.token);
    expect(answer.headers.get("content-type")).toBe("application/pdf");
    const pdf = await pdfOf(await answer.arrayBuffer());
    const statement = await read();
    expect(pdf.text).toContain(statement.headline);
    expect(pdf.text).toContain("voss-lt-01 files");
    expect(pdf.title).toBe(
      `Statement for Vossel & Daughters Bakery, ${statement.firstDay} to ${statement.lastDay}`,
    );
    expect(pdf.bookmarks).toContain("Protected sources");
    expect(pdf.tagged).toBe(true);
    for (const role of ["H1", "H2", "Table", "TH", "TD", "Figure"]) expect(pdf.tree).toContain(`"${role}"`);
    expect(pdf.tree).toContain("1 day kept");
    expect(pdf.view.slice(2).map(Math.round)).toEqual([595, 842]);
  });
  it("is made for Letter too, and its taking is in the trail, a reader's as well", async () => {
    const answer = await fetched(`${base()}?format=pdf&paper=letter`, readerToken);
    expect((await pdfOf(await answer.arrayBuffer())).view).toEqual([0, 0, 612, 792]);
    expect((await trailOf("downloaded a statement")).at(-1)).toMatchObject({ actor: "Sela Wynn" });
  });
  it("refuses a period and a paper that are none, at their field", async () => {
    for (const [query, field] of [
      ["from=2026-13-01", "from"],
      ["from=2026-02-02&to=2026-02-01", "from"],
      ["paper=a3", "paper"],
    ] as const) {
      const answer = await console_.call<{ errors: { field: string }[] }>("GET", `${base()}?${query}`);
      expect(answer.status).toBe(422);
      expect(answer.body.errors[0]!.field).toBe(field);
    }
  });
});

describe("words to an exception", () => {
  it("stand in the statement of both sides, and are taken back by their own side alone", async () => {
    await services.db.withScope({ role: "system" }, (tx) =>
      tx.query("update depots set path = path || '-gone' where id = $1", [client.depotId]),
    );
    expect((await backUp(console_, machine.sourceId)).outcome).toBe("failed");
    await services.db.withScope({ role: "system" }, (tx) =>
      tx.query("update depots set path = replace(path, '-gone', '') where id = $1", [client.depotId]),
    );
    const [exception] = (await read()).exceptions;
    const body = { about: exception!.key, day: exception!.firstDay, text: "The cable was loose." };
    const { word } = await console_.ok<{ word: { id: string } }>("POST", `${base()}/words`, body);
    const theirs = await console_.call(
      "POST",
      `${base()}/words`,
      { ...body, text: "We had the cleaners in." },
      managerToken,
    );
    expect(theirs.status).toBe(201);
    expect((await read()).exceptions[0]!.words.map(({ side, by, text }) => [side, by, text])).toEqual([
      ["provider", "Ines Marlow", "The cable was loose."],
      ["client", "Hanne Vossel", "We had the cleaners in."],
    ]);
    const removed = (token: string) =>
      console_.call("DELETE", `${base()}/words/${word.id}`, undefined, token).then((answer) => answer.status);
    expect(await removed(managerToken)).toBe(404);
    expect(await removed(console_.token)).toBe(200);
    expect((await read()).exceptions[0]!.words).toHaveLength(1);
    expect(await trailOf("removed a note from the statement")).toHaveLength(1);
  });
  it("are written to what is there, and not by a reader", async () => {
    const body = { about: "failed Nothing of the kind", day: "2026-01-01", text: "It was repaired." };
    expect((await console_.call("POST", `${base()}/words`, body)).status).toBe(422);
    expect((await console_.call("POST", `${base()}/words`, body, readerToken)).status).toBe(403);
  });
});

describe("a statement by mail", () => {
  const sending = { every: "week", onDay: 1, at: "07:30", recipients: ["hanne@vossel.example"] };
  it("is refused while no mail server is set up, and saved by nobody", async () => {
    const refused = await console_.call<{ detail: string }>("PUT", `${base()}/sending`, sending);
    expect(refused.status).toBe(409);
    expect(refused.body.detail).toContain("No mail server is set up");
    await console_.ok("PUT", "/mail-server", {
      host: "127.0.0.1",
      port: await inbox.listen(0),
      security: "none",
      sender: "deep-keep@lanternfold.example",
    });
  });
  it("goes out on its day, once, with the week before as PDF", async () => {
    const saved = await console_.ok<{ sending: { nextAt: string } }>("PUT", `${base()}/sending`, sending);
    const raise = (error: unknown) => {
      throw error;
    };
    expect(await sendDueStatements(services, raise)).toBe(0);
    // three weeks in which nothing ran: made up for once
    ahead = new Date(saved.sending.nextAt).getTime() - Date.now() + 21 * 86_400_000;
    expect(
      await Promise.all([sendDueStatements(services, raise), sendDueStatements(services, raise)]),
    ).toContain(1);
    expect(await sendDueStatements(services, raise)).toBe(0);
    await sendNotices(services);
    const mails = (await readDrop(folder)).filter((one) => one.subject?.includes("statement"));
    expect(mails).toHaveLength(1);
    const [mail] = mails;
    expect(mail!.to![0]!.address).toBe("hanne@vossel.example");
    const pdf = await pdfOf(mail!.attachments[0]!.content as ArrayBuffer);
    const [days] = /\d{4}-\d\d-\d\d to \d{4}-\d\d-\d\d/.exec(mail!.subject!)!;
    expect(pdf.text).toContain(days);
    const [first, last] = days.split(" to ").map((day) => new Date(day).getTime()) as [number, number];
    expect((last - first) / 86_400_000).toBe(6);
    expect((await trailOf("sent a statement")).map(({ actor }) => actor)).toEqual(["Deep Keep"]);
    ahead = 0;
  });
  it("goes out at once when asked, and no more by itself once that is ended", async () => {
    const to = ["desk@vossel.example", "hanne@vossel.example"];
    await console_.ok("POST", `${base()}/send`, { recipients: to, paper: "letter" });
    await sendNotices(services);
    const mails = (await readDrop(folder)).slice(-2);
    expect(mails.map((mail) => mail.to![0]!.address).sort()).toEqual(to);
    expect(mails[0]!.text).toContain("We had the cleaners in.");
    // what the client reads is what the database holds
    const [held] = await services.db.withScope({ role: "system" }, (tx) =>
      all<{ points: number; bytes: number; used: number; quota: number; clean: number; failed: number }>(
        tx,
        `select (select count(*)::int from points where client_id = $1) as points,
           (select bytes from points where client_id = $1 order by moment desc limit 1) as bytes,
           (select used_bytes from grants where client_id = $1) as used, (select quota_bytes from grants where client_id = $1) as quota,
           (select count(*)::int from runs where client_id = $1 and outcome = 'clean') as clean,
           (select count(*)::int from runs where client_id = $1 and outcome = 'failed') as failed`,
        [client.id],
      ),
    );
    const pdf = await pdfOf(mails[0]!.attachments[0]!.content as ArrayBuffer);
    const { points, bytes, used, quota, clean, failed } = held!;
    expect(pdf.text).toContain(` ${points} ${formatBytes(bytes)}`);
    expect(pdf.text).toContain(`${formatBytes(used)} used of ${formatBytes(quota)} granted`);
    expect(pdf.text).toContain(`${clean} clean, ${failed} failed`);
    await console_.ok("DELETE", `${base()}/sending`);
    expect((await console_.ok<{ sending: null }>("GET", `${base()}/ways`)).sending).toBeNull();
  });
  it("says at the field what is wrong with day, time and address", async () => {
    for (const [field, value] of [
      ["onDay", 8],
      ["at", "7.30"],
      ["recipients", []],
      ["recipients", ["hanne"]],
    ] as const) {
      const answer = await console_.call<{ errors: { field: string }[] }>("PUT", `${base()}/sending`, {
        ...sending,
        [field]: value,
      });
      expect(answer.status).toBe(422);
      expect(answer.body.errors[0]!.field.split(".")[0]).toBe(field);
    }
  });
});

describe("a link to a statement", () => {
  it("opens that statement without an account, and nothing else, until it is revoked", async () => {
    const { link, url } = await console_.ok<{ link: { id: string }; url: string }>(
      "POST",
      `${base()}/links`,
      {
        days: 10,
      },
    );
    const secret = new URL(url).pathname.split("/").at(-1)!;
    const page = await fetch(`${console_.url}/statement/${secret}`);
    expect(page.status).toBe(200);
    expect(await page.text()).toContain("voss-lt-01");
    const answer = await fetched(`/statement-links/${secret}`, null);
    const { statement } = (await answer.json()) as { statement: Statement };
    expect(statement.headline).toBe((await read()).headline);
    const pdf = await pdfOf(
      await (await fetched(`/statement-links/${secret}?format=pdf`, null)).arrayBuffer(),
    );
    expect(pdf.text).toContain("We had the cleaners in.");
    const { links } = await console_.ok<{ links: { id: string; opened: number }[] }>("GET", `${base()}/ways`);
    expect(links).toMatchObject([{ id: link.id, opened: 3 }]);
    expect(await trailOf("opened a statement by its link")).toHaveLength(3);
    // not by another client's
    expect((await console_.call("DELETE", `/clients/${other.id}/statement/links/${link.id}`)).status).toBe(
      404,
    );
    await console_.ok("DELETE", `${base()}/links/${link.id}`);
    expect((await fetched(`/statement-links/${secret}`, null)).status).toBe(404);
    expect(await (await fetch(`${console_.url}/statement/${secret}`)).text()).toContain(
      "This link was revoked",
    );
  });
  it("is over after its days, and a guess is none", async () => {
    const { url } = await console_.ok<{ url: string }>("POST", `${base()}/links`, { days: 1 });
    const path = `/statement-links/${new URL(url).pathname.split("/").at(-1)}`;
    expect((await fetched(path, null)).status).toBe(200);
    const admin = new pg.Client(console_.access.owner);
    await admin.connect();
    await admin.query("update statement_links set expires_at = now() - interval '1 second'");
    await admin.end();
    expect((await fetched(path, null)).status).toBe(404);
    expect((await fetched("/statement-links/AAAAAAAAAAAAAAAAAAAAAAAAAAAA", null)).status).toBe(404);
  });
});

/** A PNG of one colour. */
function pngOf(width: number, height: number): Buffer {
  const png = new PNG({ width, height });
  png.data.fill(200);
  return PNG.sync.write(png);
}

describe("colour and logo of a client", () => {
  const logo = pngOf(300, 60).toString("base64");
  const look = () => `/clients/${client.id}/look`;

  it("are in the statement on paper, on screen and by its link, and in the portal", async () => {
    const plain = await pdfOf(await (await fetched(`${base()}?format=pdf`, managerToken)).arrayBuffer());
    expect(plain.images).toBe(0);
    expect(await console_.ok("PUT", look(), { colour: "#7a2e2e", logo })).toEqual({
      colour: "#7a2e2e",
      hasLogo: true,
    });
    const pdf = await pdfOf(await (await fetched(`${base()}?format=pdf`, managerToken)).arrayBuffer());
    expect(pdf.images).toBe(1);
    expect(pdf.tree).toContain("Logo of Vossel & Daughters Bakery");
    const { url } = await console_.ok<{ url: string }>("POST", `${base()}/links`, { days: 1 });
    const page = await (
      await fetch(`${console_.url}/statement/${new URL(url).pathname.split("/").at(-1)}`)
    ).text();
    expect(page).toContain("data:image/png;base64,");
    expect(page).toContain("#7a2e2e");
    const image = await fetched(`/clients/${client.id}/logo`, managerToken);
    expect(image.headers.get("content-type")).toBe("image/png");
    expect(PNG.sync.read(Buffer.from(await image.arrayBuffer()))).toMatchObject({ width: 300, height: 60 });
  });

  it("are of nobody else, and taken away again", async () => {
    const stranger = await console_.addPerson({
      clientId: other.id,
      email: "iris@brackenfold.example",
      name: "Iris Brack",
      role: "manager",
    });
    expect((await fetched(`/clients/${client.id}/logo`, stranger)).status).toBe(404);
    expect((await fetched(`/clients/${client.id}/logo`, null)).status).toBe(401);
    expect((await console_.call("PUT", look(), { colour: null }, managerToken)).status).toBe(404);
    expect((await console_.call("PUT", look(), { colour: null }, readerToken)).status).toBe(403);
    expect(await console_.ok("PUT", look(), { logo: null })).toEqual({ colour: "#7a2e2e", hasLogo: false });
    expect((await fetched(`/clients/${client.id}/logo`, managerToken)).status).toBe(404);
    expect(await console_.ok("PUT", look(), { colour: null })).toEqual({ colour: null, hasLogo: false });
  });

  it("are refused at their field: a colour that is hard to read, a file that is no image", async () => {
    const refused = async (body: object) =>
      (await console_.call<{ errors: { field: string; message: string }[] }>("PUT", look(), body)).body
        .errors;
    expect(await refused({ colour: "#ffd900" })).toEqual([
      { field: "colour", message: "Text in this colour is hard to read on white. Choose a darker colour." },
    ]);
    expect(await refused({ colour: "red" })).toMatchObject([{ field: "colour" }]);
    const svg = Buffer.from("<svg xmlns='http://www.w3.org/2000/svg' onload='alert(1)'/>").toString("base64");
    expect(await refused({ logo: svg })).toEqual([
      { field: "logo", message: "The file is neither a PNG nor a JPEG image." },
    ]);
    expect(await refused({ logo: "not base64!" })).toMatchObject([{ field: "logo" }]);
    expect(await console_.ok("GET", look())).toEqual({ colour: null, hasLogo: false });
  });
});

describe("what a client has bought", () => {
  interface Told {
    readonly usage: { readonly contracts: readonly object[] };
  }
  const causes = async () =>
    (await console_.ok<{ causes: { key: string; title: string }[] }>("GET", "/watch")).causes.filter(
      ({ key }) => key.startsWith("contract-exceeded:"),
    );

  it("stands beside what is protected, in Usage; Watch says when more is protected than was bought", async () => {
    await console_.ok("PUT", `/clients/${client.id}/contract`, { files: 1, mail: 5 });
    await noteTodaysUsage(services);
    const read = () => console_.ok<Told>("GET", `/usage?clientId=${client.id}`);
    const line = { clientId: client.id, clientName: "Vossel & Daughters Bakery" };
    expect((await read()).usage.contracts).toEqual([
      { ...line, kind: "files", contracted: 1, most: 1, daysOver: 0 },
      { ...line, kind: "mail", contracted: 5, most: 0, daysOver: 0 },
    ]);
    expect(await causes()).toEqual([]);
    const second = await enrolMachine(console_, client, "voss-lt-02");
    expect(await causes()).toMatchObject([
      {
        key: `contract-exceeded:${client.id}:files`,
        title: "Vossel & Daughters Bakery: 2 machines protected, 1 contracted",
      },
    ]);
    await noteTodaysUsage(services);
    expect((await read()).usage.contracts[0]).toMatchObject({ most: 2, daysOver: 1 });
    // one that was removed only keeps its points; the day's most stays
    await console_.ok("DELETE", `/connections/${second.machineId}`);
    expect(await causes()).toEqual([]);
    await noteTodaysUsage(services);
    expect((await read()).usage.contracts[0]).toMatchObject({ most: 2, daysOver: 1 });
  });

  it("is given with a new client, has no limit where it is left out, and is refused at its field", async () => {
    const { client: made } = await console_.ok<{ client: { id: string } }>("POST", "/clients", {
      name: "Orrin Glassworks",
      zone: "Europe/Lisbon",
      region: "harbour",
      contactName: "Ada Orrin",
      contactEmail: "ada@orrin.example",
      sites: ["Kiln lane"],
      contract: { files: 3 },
    });
    const path = `/clients/${made.id}/contract`;
    expect(await console_.ok("GET", path)).toEqual({ contract: { files: 3 } });
    expect(await console_.ok("PUT", path, {})).toEqual({ contract: {} });
    expect(await console_.ok("GET", path)).toEqual({ contract: {} });
    const refused = await console_.call<{ errors: { field: string }[] }>("PUT", path, { files: -1 });
    expect(refused.body.errors).toEqual([{ field: "files", message: "Zero, or more." }]);
    expect((await console_.call("PUT", path, { boats: 1 })).status).toBe(422);
  });
});
