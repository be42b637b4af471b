import { mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { LibraryServer } from "@/standins/library/server";
import { backUp, enrolMachine, makeClient, setClauses, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { TestConsole, until } from "../test-console";

/** A library in the console: authorised by one person, restored to a machine, and by its own person. */
let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let library: LibraryServer;
let folder: string;
let origin: string;
let siteId: string;
const file = (path: string) => join(folder, "files", path);
/** What is whole: the stand-in writes beside a name that begins with a dot. */
const namesIn = (path: string): string[] =>
  readdirSync(file(path))
    .filter((name) => !name.startsWith("."))
    .sort();
const REDIRECT_PATH = "/authorised";

interface Problem {
  readonly code?: string;
  readonly errors?: { field: string; message: string }[];
}
const body = () => ({
  kind: "library",
  siteId,
  name: "Museum library",
  address: `${origin}/dav`,
  auth: "grant",
  user: "deep-keep",
  issuer: origin,
  teams: "/teams/",
  people: "people",
  region: "north harbour",
});
const begin = () => console_.ok<{ url: string }>("POST", `/clients/${client.id}/authorisations`, body());

/** The person agrees at the library's page; what the browser returns with. */
async function agree(url: string): Promise<URLSearchParams> {
  const form = new URL(url).searchParams;
  for (const [name, value] of Object.entries({ name: "ursel", password: "sesame", decision: "allow" }))
    form.set(name, value);
  const answer = await fetch(`${origin}/authorise`, { method: "POST", body: form, redirect: "manual" });
  const location = new URL(answer.headers.get("location")!);
  expect(location.pathname).toBe(REDIRECT_PATH);
  return location.searchParams;
}
const complete = (returned: URLSearchParams, token?: string) =>
  console_.call<Problem>(
    "POST",
    `/authorisations/${returned.get("state")}/completion`,
    { returned: String(returned) },
    token,
  );
const sources = async () =>
  (
    await console_.ok<{ sources: { id: string; name: string; kind: string }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    )
  ).sources;
const pointOf = async (sourceId: string) =>
  (await console_.ok<{ points: { id: string }[] }>("GET", `/sources/${sourceId}/recovery-points`)).points[0]!
    .id;

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Thornquay Maritime Museum");
  await setClauses(console_, client, { what: { library: {}, files: { folders: ["/data"] } } });
  machine = await enrolMachine(console_, client, "thorn-arch-01");
  console_.runAgent(machine.state);
  siteId = client.siteId;
  folder = freshFolder("library");
  for (const path of ["teams/Catalogue/Ships", "people/Ursel Grewe/Letters"])
    mkdirSync(file(path), { recursive: true });
  writeFileSync(file("teams/Catalogue/Ships/list.csv"), "1871,Möwe\n");
  writeFileSync(file("people/Ursel Grewe/Letters/one.txt"), "a letter");
  writeFileSync(
    join(folder, "accounts.json"),
    JSON.stringify({
      people: [{ name: "ursel", password: "sesame" }],
      clients: [{ id: "deep-keep", secret: null, redirects: [`${console_.url}${REDIRECT_PATH}`] }],
    }),
  );
  library = new LibraryServer({ folder });
  origin = await library.listen(0);
});
afterAll(async () => {
  await library?.close();
  await console_?.stop();
});

describe("a library that is authorised", () => {
  it("is connected by who began it alone, once, and its tokens are shown nowhere", async () => {
    const other = await console_.addPerson({
      email: "tobias@lanternfold.example",
      // names are not what tells people apart
      name: "Ines Marlow",
      role: "technician",
      clientId: null,
    });
    const returned = await agree((await begin()).url);
    const foreign = await complete(returned, other);
    expect(foreign.status).toBe(404);
    const done = await complete(returned);
    expect(done.status).toBe(200);
    const answer = done.body as { connection: object; sources: number; client: { slug: string } };
    expect(answer).toMatchObject({ sources: 2, client: { slug: client.slug } });
    expect(answer.connection).not.toHaveProperty("secret");
    expect((await complete(returned)).status).toBe(404);
    expect((await sources()).filter(({ kind }) => kind === "library").map(({ name }) => name)).toEqual([
      "Catalogue (team)",
      "Ursel Grewe (personal)",
    ]);
    // the same library is not connected twice
    const twice = await console_.call("POST", `/clients/${client.id}/authorisations`, {
      ...body(),
      name: "Another",
    });
    expect((twice.body as Problem).errors).toMatchObject([{ field: "address" }]);
  });

  it("is neither connected nor renewed with a secret in the place of a grant", async () => {
    const direct = await console_.call("POST", `/clients/${client.id}/connections`, {
      ...body(),
      name: "Another",
      user: "else",
    });
    expect((direct.body as Problem).errors).toMatchObject([{ field: "auth" }]);
    const { connections } = await console_.ok<{ connections: { id: string; kind: string }[] }>(
      "GET",
      `/connections?client=${client.id}`,
    );
    const { id } = connections.find((one) => one.kind === "library")!;
    const renewed = await console_.call("PUT", `/connections/${id}/secret`, { clientSecret: "x" });
    expect((renewed.body as Problem).errors).toMatchObject([{ field: "clientSecret" }]);
    const machineOnly = await console_.call("POST", `/connections/${machine.machineId}/authorisations`);
    expect(machineOnly.status).toBe(404);
  });

  it("is stored, and restored to a machine of the client", async () => {
    const { id } = (await sources()).find(({ name }) => name === "Catalogue (team)")!;
    await console_.ok("PATCH", `/sources/${id}`, { policyId: client.policyId });
    expect((await backUp(console_, id)).outcome).toBe("clean");
    const { run } = await console_.ok<{ run: { id: string } }>("POST", "/restores", {
      items: [{ pointId: await pointOf(id), path: "/Ships" }],
      destination: { kind: "folder", folder: "/restored", machineId: machine.machineId },
    });
    expect((await console_.runEnds(run.id)).outcome).toBe("clean");
    expect(readFileSync(join(machine.root, "restored/Ships/list.csv"), "utf8")).toBe("1871,Möwe\n");
  });

  it("is restored by its own person, who replaces nothing, and stays in what was shared", async () => {
    const { id } = (await sources()).find(({ name }) => name === "Ursel Grewe (personal)")!;
    await console_.ok("PATCH", `/sources/${id}`, { policyId: client.policyId });
    expect((await backUp(console_, id)).outcome).toBe("clean");
    const token = await console_.addPerson({
      email: "ursel@thornquay.example",
      name: "Ursel Grewe",
      role: "person",
      clientId: client.id,
    });
    const { people } = await console_.ok<{ people: { id: string; email: string }[] }>(
      "GET",
      `/clients/${client.id}/people`,
    );
    const { gift } = await console_.ok<{ gift: { id: string } }>("POST", `/clients/${client.id}/gifts`, {
      personId: people.find(({ email }) => email === "ursel@thornquay.example")!.id,
      sourceId: id,
      path: "/Letters",
    });
    writeFileSync(file("people/Ursel Grewe/Letters/one.txt"), "overwritten");
    const items = [{ giftId: gift.id, pointId: await pointOf(id), path: "/Letters/one.txt" }];
    expect((await console_.call("POST", "/given/restores", { items, folder: null }, token)).status).toBe(202);
    const letters = () => namesIn("people/Ursel Grewe/Letters");
    await until(async () => letters().length === 2, "the letter is not restored beside the other", 30_000);
    expect(readFileSync(file("people/Ursel Grewe/Letters/one.txt"), "utf8")).toBe("overwritten");
    expect(letters()[0]).toMatch(/^one \(\d{4}-\d\d-\d\d \d\d\.\d\d\)\.txt$/);
    expect((await console_.call("POST", "/given/restores", { items, folder: "Back" }, token)).status).toBe(
      202,
    );
    await until(async () => letters().includes("Back"), "the folder is not there", 30_000);
    await until(async () => namesIn("people/Ursel Grewe/Letters/Back").length === 1, "it is empty", 30_000);
    expect(readFileSync(file("people/Ursel Grewe/Letters/Back/one.txt"), "utf8")).toBe("a letter");
  });
});
