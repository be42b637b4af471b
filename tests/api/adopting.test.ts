import { randomBytes } from "node:crypto";
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { describeTree } from "../same-tree";
import { TestConsole } from "../test-console";

/** docs/operations.md, *Rebuilding a console from a depot*, in its order; and a depot of which something is damaged. */
describe("a depot outlives its console", () => {
  let first: TestConsole;
  let client: TestClient;
  let machine: TestMachine;
  let other: TestMachine;
  let keyFile: string;

  beforeAll(async () => {
    first = await TestConsole.start();
    client = await makeClient(first, "Thornquay Maritime Museum");
    machine = await enrolMachine(first, client, "thorn-srv-01");
    other = await enrolMachine(first, client, "thorn-lt-02");
    for (const one of [machine, other]) first.runAgent(one.state);
    writeFileSync(join(machine.root, "data/catalogue"), randomBytes(400_000));
    await backUp(first, machine.sourceId);
    for (let i = 0; i < 3; i += 1) {
      writeFileSync(join(machine.root, "data/log"), `${i}`);
      await backUp(first, machine.sourceId);
    }
    // the newest point of all is another source's
    writeFileSync(join(other.root, "data/notes"), "nothing of the catalogue");
    await backUp(first, other.sourceId);
    keyFile = join(freshFolder("key"), "sheet.txt");
    writeFileSync(keyFile, client.groups.join("-"));
  });
  afterAll(() => first?.stop());

  const keep = (...args: string[]) =>
    first.keep([...args, "--depot", client.depotPath, "--key-file", keyFile]);

  it("gives a file back with the key alone, of the newest point that has it, whatever other sources hold", async () => {
    const to = freshFolder("out");
    const { code, output } = await keep("open", "extract", "--to", to, "/data/catalogue");
    expect([code, output]).toEqual([0, expect.stringContaining("from thorn-srv-01 files")]);
    expect(
      readFileSync(join(to, "catalogue")).equals(readFileSync(join(machine.root, "data/catalogue"))),
    ).toBe(true);
    const wrong = await keep("open", "extract", "--to", to, "--source", "thorn-lt", "/data/catalogue");
    expect(wrong.code).toBe(1);
    expect(wrong.output).toContain("is in none of 1 recovery points");
    expect((await keep("open", "list", "--source", "thorn-lt-02", "/data")).output).toContain("notes");
  });

  it("is taken over by an empty console, whose owner is made then, as the page says", async () => {
    const fresh = await TestConsole.start({ empty: true });
    try {
      const adopted = await fresh.keep(["adopt", "--depot", client.depotPath, "--key-file", keyFile]);
      expect([adopted.code, adopted.output]).toEqual([
        0,
        expect.stringContaining("2 sources, 5 recovery points"),
      ]);
      const setup = await fresh.call(
        "POST",
        "/setup",
        {
          provider: "Lanternfold",
          zone: "Europe/London",
          name: "Ines Marlow",
          email: "ines@lanternfold.example",
          password: "eleven boats on a grey harbour",
          requireFactor: false,
        },
        null,
      );
      expect(setup.status).toBe(201);
      const cookie = setup.headers.get("set-cookie")!.split(";")[0]!;
      const clients = await fresh.call<{ clients: { name: string }[] }>("GET", "/clients", undefined, null, {
        cookie,
      });
      expect(clients.body.clients.map((one) => one.name)).toEqual(["Thornquay Maritime Museum"]);
    } finally {
      await fresh.stop();
    }
  });

  it("is this client's although its first point is damaged: the others open, and the exit code says so", async () => {
    const spaces = join(client.depotPath, "spaces");
    const points = readdirSync(spaces).flatMap((space) =>
      readdirSync(join(spaces, space, "points")).map((name) => join(spaces, space, "points", name)),
    );
    const whole = new Map(points.map((path) => [path, readFileSync(path)]));
    for (const path of points) {
      const bytes = Buffer.from(whole.get(path)!);
      bytes[60]! ^= 4;
      writeFileSync(path, bytes);
      const { code, output } = await keep("open", "points");
      expect(code).toBe(3);
      expect(output.split("\n").filter((line) => line.includes("files  "))).toHaveLength(4);
      expect(output).toMatch(/is damaged/);
      writeFileSync(path, whole.get(path)!);
    }
    expect((await keep("open", "points")).code).toBe(0);
    const fresh = await TestConsole.start({ empty: true });
    try {
      const bytes = Buffer.from(whole.get(points[0]!)!);
      bytes[60]! ^= 4;
      writeFileSync(points[0]!, bytes);
      const adopted = await fresh.keep(["adopt", "--depot", client.depotPath, "--key-file", keyFile]);
      expect([adopted.code, adopted.output]).toEqual([3, expect.stringContaining("4 recovery points")]);
    } finally {
      writeFileSync(points[0]!, whole.get(points[0]!)!);
      await fresh.stop();
    }
  });

  it("says by its exit code that a file could not be restored", async () => {
    const spaces = join(client.depotPath, "spaces");
    const packs = readdirSync(spaces, { recursive: true, withFileTypes: true })
      .filter((one) => one.isFile() && one.parentPath.includes("/packs/"))
      .map((one) => join(one.parentPath, one.name));
    const largest = packs.sort((a, b) => readFileSync(b).length - readFileSync(a).length)[0]!;
    const whole = readFileSync(largest);
    const bytes = Buffer.from(whole);
    bytes[200_000]! ^= 1;
    writeFileSync(largest, bytes);
    const to = freshFolder("out");
    const { code } = await keep("open", "extract", "--to", to, "--source", "thorn-srv-01", "/data");
    expect(code).toBe(3);
    writeFileSync(largest, whole);
    mkdirSync(join(to, "again"));
    expect(
      (await keep("open", "extract", "--to", join(to, "again"), "--source", "thorn-srv-01", "/data")).code,
    ).toBe(0);
    expect(describeTree(join(to, "again/data"))).toEqual(describeTree(join(machine.root, "data")));
  });
});
