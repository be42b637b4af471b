import { randomBytes } from "node:crypto";
import {
  appendFileSync,
  ftruncateSync,
  linkSync,
  mkdirSync,
  openSync,
  readFileSync,
  symlinkSync,
  truncateSync,
  utimesSync,
  writeFileSync,
  writeSync,
} from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { keyOfSheet, type ReadEntry, readDepot } from "../second-reader";
import { TestConsole } from "../test-console";

let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let entries: ReadEntry[];
const at = (path: string) => entries.find((entry) => entry.path === path)!;

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Thornquay Maritime Museum");
  machine = await enrolMachine(console_, client, "thorn-arch-01");
  const data = join(machine.root, "data");
  mkdirSync(join(data, "logs/1911"), { recursive: true });
  mkdirSync(join(data, "many"));
  mkdirSync(join(data, "empty"));
  writeFileSync(join(data, "letter"), "To the harbour master\n".repeat(400));
  writeFileSync(join(data, "photo"), randomBytes(9_000_000));
  writeFileSync(join(data, "nothing"), "");
  linkSync(join(data, "letter"), join(data, "logs/same letter"));
  symlinkSync("../letter", join(data, "logs/pointer"));
  writeFileSync(Buffer.concat([Buffer.from(`${data}/`), Buffer.from([0x66, 0xff, 0x0a])]), "a name of bytes");
  const holes = openSync(join(data, "holes"), "w");
  writeSync(holes, Buffer.from("begin"), 0, 5, 0);
  writeSync(holes, Buffer.from("end"), 0, 3, 3_000_000);
  ftruncateSync(holes, 5_000_000);
  for (let i = 0; i < 2600; i += 1) writeFileSync(join(data, "many", `sheet ${i}`), `number ${i}`);
  utimesSync(join(data, "photo"), 1_000_000_000.5, 1_000_000_000.5);
  console_.runAgent(machine.state);
  expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
  appendFileSync(join(data, "letter"), "and one line more\n");
  truncateSync(join(data, "many/sheet 7"), 3);
  expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
  entries = await readDepot(client.depotPath, keyOfSheet(client.groups))[0]!.entries();
});
afterAll(() => console_?.stop());

describe("a reader that was written from the page on the format", () => {
  it("finds the points with the sheet's key alone, with what they tell", () => {
    const points = readDepot(client.depotPath, keyOfSheet(client.groups));
    expect(points.length).toBe(2);
    expect(points[0]).toMatchObject({
      sourceName: "thorn-arch-01 files",
      kind: "files",
      counts: { files: 2606, links: 1 },
    });
    expect(JSON.parse(points[0]!.policy)).toMatchObject({ what: { files: { folders: ["/data"] } } });
  });

  it("reads every file to the last byte, as it is on the machine", () => {
    const files = entries.filter((entry) => entry.type === "file");
    expect(files.length).toBe(2606);
    for (const { path, content } of files) {
      const real = readFileSync(Buffer.concat([Buffer.from(machine.root), Buffer.from(path, "latin1")]));
      expect(content!.equals(real), path).toBe(true);
    }
  });

  it("reads the earlier point as it was", async () => {
    const before = await readDepot(client.depotPath, keyOfSheet(client.groups))[1]!.entries();
    expect(before.find((entry) => entry.path === "/data/letter")!.content!.toString()).toBe(
      "To the harbour master\n".repeat(400),
    );
    expect(before.find((entry) => entry.path === "/data/many/sheet 7")!.content!.toString()).toBe("number 7");
  });

  it("reads links, times, modes, and names of any bytes", () => {
    expect(at("/data/logs/pointer")).toMatchObject({ type: "link", target: "../letter" });
    expect(at("/data/letter").sameFile).not.toBeNull();
    expect(at("/data/logs/same letter").sameFile).toBe(at("/data/letter").sameFile);
    expect(at("/data/photo")).toMatchObject({ mode: 0o644, changed: [1_000_000_000, 500_000_000] });
    expect(at("/data/f\xff\n").content!.toString()).toBe("a name of bytes");
    expect(at("/data/empty").type).toBe("folder");
  });

  it("opens nothing with another key", () => {
    expect(readDepot(client.depotPath, randomBytes(32))).toEqual([]);
    const slip = [...client.groups];
    slip[3] = `${slip[3]!.slice(0, 4)}${slip[3]![4] === "0" ? "1" : "0"}`;
    expect(() => keyOfSheet(slip)).toThrow("group 4 has a slip");
  });
});
