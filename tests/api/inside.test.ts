import { randomBytes } from "node:crypto";
import { mkdirSync, symlinkSync, utimesSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { createClient, type FileStat, type WebDAVClient } from "webdav";
import { all } from "@/db/base/scope";
import { purgeAll } from "@/runs/purge";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole, until } from "../test-console";

/**
 * Looking into recovery points: text, pictures, what differs between versions, searching by size and time; and a point as a
 * WebDAV address, mounted by a client that knows nothing of us, through the web.
 */
let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let pointId = "";
let greta = "";
const photo = randomBytes(3_000_000);

interface Opened {
  readonly viewing: { readonly id: string; readonly url: string; readonly expiresAt: string };
  readonly keys: readonly { readonly userName: string; readonly password: string }[];
}
const open = (body: object) =>
  console_.ok<Opened>("POST", `/recovery-points/${pointId}/viewings`, { people: [greta], hours: 2, ...body });
const mount = ({ viewing, keys: [key] }: Opened): WebDAVClient =>
  createClient(viewing.url, { username: key!.userName, password: key!.password });
const ask = (
  opened: Opened,
  method: string,
  path = "",
  headers: Record<string, string> = {},
  body?: string,
) => {
  const [key] = opened.keys;
  const basic = Buffer.from(`${key!.userName}:${key!.password}`).toString("base64");
  return fetch(`${opened.viewing.url}${path}`, {
    method,
    headers: { authorization: `Basic ${basic}`, ...headers },
    ...(body === undefined ? {} : { body }),
  });
};
const trailOf = (action: string) =>
  console_.services.db.withScope({ role: "system" }, (tx) =>
    all<{ actor: string; details: { path: string } }>(
      tx,
      "select actor, details from trail where action = $1 order by id",
      [action],
    ),
  );

beforeAll(async () => {
  console_ = await TestConsole.start();
  console_.startViewer();
  client = await makeClient(console_, "Vossel & Daughters Bakery");
  machine = await enrolMachine(console_, client, "voss-lt-01");
  const data = join(machine.root, "data");
  mkdirSync(join(data, "Rezepte für Brot"), { recursive: true });
  writeFileSync(join(data, "Rezepte für Brot/rye & salt <1>.txt"), "rye, water, salt\n");
  writeFileSync(Buffer.concat([Buffer.from(`${data}/`), Buffer.from([0x66, 0xff, 0x67])]), "odd");
  writeFileSync(join(data, "photo.raw"), photo);
  writeFileSync(join(data, "page.html"), "<script>alert(1)</script>");
  symlinkSync("/etc/passwd", join(data, "link"));
  console_.runAgent(machine.state);
  pointId = (await backUp(console_, machine.sourceId)).figures.point!;
  const { person } = await console_.ok<{ person: { id: string } }>("POST", `/clients/${client.id}/people`, {
    name: "Gréta Vossel",
    email: "greta@vossel.example",
    role: "person",
  });
  greta = person.id;
});
afterAll(() => console_?.stop());

describe("looking inside", () => {
  const at = (path: string, more = "") =>
    `/recovery-points/${pointId}/${more || "look"}?path=${encodeURIComponent(path)}`;
  const RECIPE = "/data/Rezepte für Brot/rye & salt <1>.txt";
  // the smallest picture there is: one dot
  const dot = Buffer.from(
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==",
    "base64",
  );
  let before = "";
  beforeAll(async () => {
    before = pointId;
    const data = join(machine.root, "data");
    writeFileSync(join(data, "Rezepte für Brot/rye & salt <1>.txt"), "rye, water, more salt\nbake\n");
    writeFileSync(join(data, "dot.png"), dot);
    writeFileSync(join(data, "Möwe.txt"), Buffer.from([0x4d, 0xf6, 0x77, 0x65]));
    writeFileSync(join(data, "long.log"), "a line of many\n".repeat(20_000));
    const old = join(data, "old.txt");
    writeFileSync(old, "old");
    utimesSync(old, new Date("2020-05-01T12:00:00Z"), new Date("2020-05-01T12:00:00Z"));
    pointId = (await backUp(console_, machine.sourceId)).figures.point!;
  });

  it("shows text in the letters that it is written in, and of a long one the beginning", async () => {
    const { look } = await console_.ok<{ look: object }>("GET", at(RECIPE));
    expect(look).toMatchObject({
      kind: "text",
      text: "rye, water, more salt\nbake\n",
      encoding: "utf-8",
      cut: false,
    });
    expect((await console_.ok<{ look: object }>("GET", at("/data/Möwe.txt"))).look).toMatchObject({
      text: "Möwe",
      encoding: "windows-1252",
    });
    const long = await console_.ok<{ look: { text: string } }>("GET", at("/data/long.log"));
    expect(long.look).toMatchObject({ kind: "text", cut: true, size: 300_000 });
    expect(long.look.text.length).toBe(256 * 1024);
  });
  it("shows pictures as they are, and of anything else says what it is", async () => {
    expect((await console_.ok<{ look: object }>("GET", at("/data/dot.png"))).look).toEqual({
      kind: "image",
      type: "image/png",
      size: dot.length,
    });
    const answer = await fetch(`${console_.url}/api/v1${at("/data/dot.png", "image")}`, {
      headers: { authorization: `Bearer ${console_.token}` },
    });
    expect([answer.status, answer.headers.get("content-type")]).toEqual([200, "image/png"]);
    expect(Buffer.from(await answer.arrayBuffer()).equals(dot)).toBe(true);
    expect((await console_.ok<{ look: object }>("GET", at("/data/photo.raw"))).look).toEqual({
      kind: "other",
      size: photo.length,
    });
    // a page with script in it is text, and never a picture
    expect((await console_.call("GET", at("/data/page.html", "image"))).status).toBe(409);
    for (const path of ["/data", "/data/link", "/data/none"])
      expect((await console_.call("GET", at(path))).status).toBe(404);
  });
  it("compares two versions line by line, and says why where it cannot", async () => {
    const compared = async (path: string) =>
      (
        await console_.ok<{
          comparison: { kind: string; places?: { kind: string; text: string }[][]; why?: string };
        }>("GET", `${at(path, "comparison")}&since=${before}`)
      ).comparison;
    expect((await compared(RECIPE)).places!.flat().map((line) => [line.kind, line.text])).toEqual([
      ["removed", "rye, water, salt"],
      ["added", "rye, water, more salt"],
      ["added", "bake"],
    ]);
    expect((await compared("/data/page.html")).places).toEqual([]);
    expect((await compared("/data/photo.raw")).why).toContain("larger");
    // it was not there before
    expect((await console_.call("GET", `${at("/data/dot.png", "comparison")}&since=${before}`)).status).toBe(
      404,
    );
  });
  it("finds by size and by when it was changed, with a name or without", async () => {
    const found = async (query: string) =>
      (
        await console_.ok<{ entries: { name: string }[] }>(
          "GET",
          `/recovery-points/${pointId}/search?${query}`,
        )
      ).entries.map(({ name }) => name);
    expect(await found("sizeFrom=250000")).toEqual(["long.log", "photo.raw"]);
    expect(await found("sizeFrom=250000&name=photo")).toEqual(["photo.raw"]);
    expect(await found("sizeTo=3&changedTo=2021-01-01T00:00:00Z")).toEqual(["old.txt"]);
    expect(await found("changedFrom=2020-05-01T00:00:00Z&changedTo=2020-05-02T00:00:00Z")).toEqual([
      "old.txt",
    ]);
    for (const query of ["", "sizeFrom=x", "sizeFrom=-1", "changedFrom=yesterday"])
      expect([
        query,
        (await console_.call("GET", `/recovery-points/${pointId}/search?${query}`)).status,
      ]).toEqual([query, 422]);
  });
  it("stands in the trail, and is for a person within what was given alone", async () => {
    expect((await trailOf("viewed a file")).map(({ details }) => details.path)).toContain(RECIPE);
    const token = await console_.addPerson({
      email: "till@vossel.example",
      name: "Emmet Till",
      role: "person",
      clientId: client.id,
    });
    const { people } = await console_.ok<{ people: { id: string; name: string }[] }>(
      "GET",
      `/clients/${client.id}/people`,
    );
    const { gift } = await console_.ok<{ gift: { id: string } }>("POST", `/clients/${client.id}/gifts`, {
      personId: people.find(({ name }) => name === "Emmet Till")!.id,
      sourceId: machine.sourceId,
      path: "/data/Rezepte für Brot",
    });
    const given = (what: string, path: string) =>
      console_.call(
        "GET",
        `/given/${gift.id}/recovery-points/${pointId}/${what}?path=${encodeURIComponent(path)}${what === "comparison" ? `&since=${before}` : ""}`,
        undefined,
        token,
      );
    for (const what of ["look", "comparison"]) {
      expect([what, (await given(what, RECIPE)).status]).toEqual([what, 200]);
      expect([what, (await given(what, "/data/page.html")).status]).toEqual([what, 404]);
      expect([what, (await given(what, "/data/Rezepte für Brot/../page.html")).status]).toEqual([what, 422]);
    }
    expect((await given("image", "/data/dot.png")).status).toBe(404);
    expect((await trailOf("viewed a file")).map(({ actor }) => actor)).toContain("Emmet Till");
    pointId = before;
  });
});

describe("a viewing", () => {
  let opened: Opened;
  it("is mounted by a WebDAV client, which walks and reads it to the byte", async () => {
    opened = await open({});
    expect(opened.keys[0]!.userName).toMatch(/^greta-\d{4}$/);
    const dav = mount(opened);
    const top = (await dav.getDirectoryContents("/")) as FileStat[];
    expect(top.map((one) => [one.basename, one.type])).toEqual([["data", "directory"]]);
    const inside = (await dav.getDirectoryContents("/data")) as FileStat[];
    // the symbolic link is left out
    expect(inside).toHaveLength(4);
    const recipe = await dav.getFileContents("/data/Rezepte für Brot/rye & salt <1>.txt", { format: "text" });
    expect(recipe).toBe("rye, water, salt\n");
    const read = (await dav.getFileContents("/data/photo.raw")) as Buffer;
    expect(Buffer.from(read).equals(photo)).toBe(true);
    expect((await dav.stat("/data/photo.raw")) as FileStat).toMatchObject({ size: photo.length });
  });
  it("gives a part of a file, and says when nothing changed", async () => {
    const part = await ask(opened, "GET", "data/photo.raw", { range: "bytes=1500000-1500099" });
    expect(part.status).toBe(206);
    expect(part.headers.get("content-range")).toBe(`bytes 1500000-1500099/${photo.length}`);
    expect(Buffer.from(await part.arrayBuffer())).toEqual(photo.subarray(1_500_000, 1_500_100));
    const tag = part.headers.get("etag")!;
    expect((await ask(opened, "GET", "data/photo.raw", { "if-none-match": tag })).status).toBe(304);
    const other = await ask(opened, "GET", "data/photo.raw", { range: "bytes=0-9", "if-range": '"other"' });
    expect([other.status, (await other.arrayBuffer()).byteLength]).toEqual([200, photo.length]);
    expect((await ask(opened, "GET", "data/photo.raw", { range: "bytes=9000000-" })).status).toBe(416);
    const head = await ask(opened, "HEAD", "data/photo.raw");
    expect([head.status, head.headers.get("content-length")]).toEqual([200, String(photo.length)]);
  });
  it("comes as the viewer gives it: packed by nobody on the way, and telling nothing of where the viewer is", async () => {
    for (const [method, path] of [
      ["PROPFIND", ""],
      ["GET", "data/photo.raw"],
    ] as const) {
      const answer = await ask(opened, method, path, { depth: "1", "accept-encoding": "gzip, br" });
      expect(answer.headers.get("content-encoding")).toBeNull();
      expect(answer.headers.get("x-content-type-options")).toBe("nosniff");
      expect(JSON.stringify([...answer.headers])).not.toContain("127.0.0.1");
      await answer.arrayBuffer();
    }
  });
  it("carries names that are no UTF-8 as their bytes", async () => {
    const answer = await ask(opened, "GET", "data/f%FFg");
    expect(await answer.text()).toBe("odd");
    // programs that take every address for UTF-8 get it by the name that is shown
    expect(await (await ask(opened, "GET", "data/f%5Cxffg")).text()).toBe("odd");
  });
  it("changes nothing, whatever method is tried", async () => {
    for (const method of ["PUT", "DELETE", "MKCOL", "MOVE", "COPY", "PROPPATCH", "LOCK", "POST"]) {
      const answer = await ask(
        opened,
        method,
        "data/photo.raw",
        { destination: "/x" },
        method === "PUT" ? "x" : undefined,
      );
      expect([method, answer.status]).toEqual([method, 405]);
    }
    await expect(mount(opened).putFileContents("/data/new.txt", "x")).rejects.toMatchObject({ status: 405 });
    const options = await ask(opened, "OPTIONS");
    expect([options.headers.get("dav"), options.headers.get("allow")]).toEqual([
      "1",
      "OPTIONS, GET, HEAD, PROPFIND",
    ]);
  });
  it("never walks down by itself without end, and says what is wrong with a body", async () => {
    const endless = await ask(opened, "PROPFIND", "", { depth: "infinity" });
    expect([endless.status, await endless.text()]).toEqual([
      403,
      expect.stringContaining("propfind-finite-depth"),
    ]);
    const bad = await ask(opened, "PROPFIND", "", { depth: "1" }, "<no");
    expect([bad.status, await bad.text()]).toEqual([400, expect.stringContaining("no PROPFIND")]);
    expect((await ask(opened, "PROPFIND", "", { depth: "1" }, "x".repeat(70_000))).status).toBe(413);
  });
  it("lets no browser run what is in it, and shows folders as a page", async () => {
    const page = await ask(opened, "GET", "data/page.html");
    expect(page.headers.get("content-type")).toBe("application/octet-stream");
    expect(page.headers.get("content-disposition")).toMatch(/^attachment/);
    expect(page.headers.get("content-security-policy")).toContain("sandbox");
    const folder = await (await ask(opened, "GET", "data/")).text();
    expect(folder).toContain('href="/viewings/');
    expect((await ask(opened, "GET", "data/%2e%2e%2f%2e%2e/etc/passwd")).status).toBe(404);
    expect((await ask(opened, "GET", "data/link")).status).toBe(404);
  });
  it("puts who came and what they read into the trail, each file once", async () => {
    expect((await trailOf("connected to a viewing")).map(({ actor }) => actor)).toEqual(["Gréta Vossel"]);
    const read = await trailOf("read a file in a viewing");
    expect(read.map(({ details }) => details.path)).toEqual([
      "/data/Rezepte für Brot/rye & salt <1>.txt",
      "/data/photo.raw",
      "/data/f\\xffg",
      "/data/page.html",
    ]);
    const { viewings } = await console_.ok<{
      viewings: { people: { filesRead: number; bytesRead: number }[] }[];
    }>("GET", `/viewings?client=${client.id}`);
    expect(viewings[0]!.people[0]!.filesRead).toBe(4);
    expect(viewings[0]!.people[0]!.bytesRead).toBeGreaterThan(2 * photo.length);
  });
  it("opens for its own name and password alone", async () => {
    const second = await open({ path: "/data/Rezepte für Brot" });
    const crossed = { viewing: opened.viewing, keys: second.keys };
    expect((await ask(crossed, "GET")).status).toBe(401);
    expect((await ask({ ...opened, keys: [{ ...opened.keys[0]!, password: "x" }] }, "GET")).status).toBe(401);
    const none = await fetch(opened.viewing.url);
    expect([none.status, none.headers.get("www-authenticate")]).toEqual([
      401,
      expect.stringMatching(/^Basic realm=/),
    ]);
    // a folder of it is all there is
    const names = (await mount(second).getDirectoryContents("/")) as FileStat[];
    expect(names.map((one) => one.basename)).toEqual(["rye & salt <1>.txt"]);
    expect((await ask(second, "GET", "data/photo.raw")).status).toBe(404);
  });
  it("keeps its point from being purged while it is open, and no longer", async () => {
    const system = (sql: string, values: unknown[] = []) =>
      console_.services.db.withScope({ role: "system" }, (tx) => all<{ n: number }>(tx, sql, values));
    await backUp(console_, machine.sourceId);
    await system(
      "update points set dropped_at = now() - interval '9 days', drop_reason = 'x', purge_after = now() - interval '1 day' where id = decode($1, 'hex')",
      [pointId],
    );
    const left = async () => {
      await purgeAll(console_.services, (error) => {
        throw error;
      });
      const [row] = await system(
        "select count(*)::int as n from points where id = decode($1, 'hex') and purged_at is null",
        [pointId],
      );
      return row!.n;
    };
    expect(await left()).toBe(1);
    expect((await ask(opened, "GET", "data/f%FFg")).status).toBe(200);
    const { viewings } = await console_.ok<{ viewings: { id: string }[] }>("GET", "/viewings");
    expect(viewings).toHaveLength(2);
    for (const { id } of viewings) await console_.ok("DELETE", `/viewings/${id}`);
    expect((await ask(opened, "GET", "data/f%FFg")).status).toBe(401);
    expect((await console_.call("DELETE", `/viewings/${opened.viewing.id}`)).status).toBe(404);
    await until(async () => (await left()) === 0, "the point is not purged");
  });
});

describe("opening a viewing", () => {
  it("closes by itself, and with the account of whom it was opened for", async () => {
    pointId = (await backUp(console_, machine.sourceId)).figures.point!;
    const short = await open({ hours: 1 });
    expect((await ask(short, "GET")).status).toBe(200);
    await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("update people set closed_at = now() where id = $1", [greta]),
    );
    expect((await ask(short, "GET")).status).toBe(401);
    await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("update people set closed_at = null where id = $1", [greta]),
    );
    expect((await ask(short, "GET")).status).toBe(200);
    expect(new Date(short.viewing.expiresAt).getTime() - Date.now()).toBeLessThan(3_600_000);
  });
  it("says at the field what is wrong", async () => {
    const other = await makeClient(console_, "Brackenfold Dental");
    const { person } = await console_.ok<{ person: { id: string } }>("POST", `/clients/${other.id}/people`, {
      name: "Ada Bracken",
      email: "ada@bracken.example",
      role: "person",
    });
    for (const [body, field] of [
      [{ people: [] }, "people"],
      [{ people: [person.id] }, "people.0"],
      [{ hours: 0 }, "hours"],
      [{ hours: 200 }, "hours"],
      [{ path: "/nowhere" }, "path"],
      [{ path: "/data/../etc" }, "path"],
    ] as const) {
      const answer = await console_.call<{ errors: { field: string }[] }>(
        "POST",
        `/recovery-points/${pointId}/viewings`,
        { people: [greta], hours: 1, ...body },
      );
      expect([body, answer.status]).toEqual([body, 422]);
      expect(answer.body.errors[0]!.field).toBe(field);
    }
  });
});
