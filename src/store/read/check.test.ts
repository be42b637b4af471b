import { randomBytes } from "node:crypto";
import { readFileSync, renameSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { beforeEach, describe, expect, it } from "vitest";
import { freshFolder, snap, TestDepot } from "../../../tests/depot";
import { packName } from "../packs/layout";
import { LocalFolder } from "../places/local-folder";
import type { Place } from "../places/place";
import { type CheckOptions, checkSpace, VerifiedPacks } from "./check";

let folder: string;
let depot: TestDepot;
let options: CheckOptions;
const fileOf = (pack: string) => join(folder, packName("s", pack));
const paths = (touched: readonly { path: string }[]) => touched.map(({ path }) => path).sort();

beforeEach(async () => {
  const root = freshFolder("checked");
  for (let i = 0; i < 9; i += 1) writeFileSync(join(root, `crate ${i}`), randomBytes(4 * 1024 * 1024));
  folder = freshFolder("depot");
  const place = new LocalFolder(folder);
  depot = new TestDepot(place);
  const { root: tree } = await snap(depot, root);
  const id = "ab".repeat(16);
  await place.put(`spaces/s/points/${id}`, [Buffer.alloc(10)]);
  options = {
    keys: depot.keys,
    place,
    spaceId: "s",
    depth: "objects",
    packs: await Promise.all(
      depot.packs.map(async (pack) => ({ id: pack, size: await place.size(packName("s", pack)) })),
    ),
    points: [{ id, root: tree, size: 10 }],
  };
});

describe("a check of a space", () => {
  it("that all is there looks into no tree; when something is missing it names the files that lack it", async () => {
    const whole = await checkSpace(options);
    expect(whole).toMatchObject({
      findings: [],
      touched: [],
      figures: { packs: depot.packs.length, files: 0 },
    });
    const lost = depot.packs[0]!;
    renameSync(fileOf(lost), `${fileOf(lost)}.away`);
    const { findings, touched } = await checkSpace(options);
    expect(findings).toMatchObject([{ object: "pack", id: lost, chunks: null }]);
    expect(touched.length).toBeGreaterThan(0);
    expect(touched.length).toBeLessThan(9);
    expect(new Set(touched.flatMap(({ packs }) => packs))).toEqual(new Set([lost]));
  });

  it("of every byte goes on where one was broken off, and still finds what that one had found", async () => {
    const sorted = [...options.packs].sort((a, b) => (a.id < b.id ? -1 : 1));
    expect(sorted.length).toBeGreaterThan(2);
    const [first] = sorted;
    const bytes = readFileSync(fileOf(first!.id));
    bytes.writeUInt8(bytes.readUInt8(5000) ^ 1, 5000);
    writeFileSync(fileOf(first!.id), bytes);
    const deep = { ...options, depth: "bytes" as const };
    const inOne = await checkSpace(deep);
    // the point itself is none that opens
    expect(inOne.findings).toMatchObject([{ object: "pack", id: first!.id }, { object: "point" }]);
    // broken off after two packs
    const begun = new VerifiedPacks(null);
    let packs = 0;
    await expect(
      checkSpace({
        ...deep,
        verified: begun,
        progress: () => {
          packs += 1;
          if (packs === 2) throw new Error("killed");
        },
      }),
    ).rejects.toThrow("killed");
    const state = begun.state()!;
    expect(state).toMatchObject({ to: sorted[1]!.id, suspect: [first!.id] });
    const read = new Map<string, number>();
    const counting: Place = Object.assign(Object.create(options.place) as Place, {
      read: async (name: string, offset: number, length: number) => {
        const found = await options.place.read(name, offset, length);
        read.set(name, (read.get(name) ?? 0) + found.length);
        return found;
      },
    });
    const rest = await checkSpace({ ...deep, place: counting, verified: new VerifiedPacks(state) });
    expect({ ...rest, figures: null }).toEqual({ ...inOne, figures: null });
    expect(rest.figures.bytes).toBe(inOne.figures.bytes);
    const readOf = (at: number) => read.get(packName("s", sorted[at]!.id))! / sorted[at]!.size;
    expect(readOf(0)).toBeGreaterThan(0.9);
    expect(readOf(1)).toBeLessThan(0.5);
    expect(readOf(2)).toBeGreaterThan(0.9);
    // and looking again reads the damaged one alone
    read.clear();
    const verified = new VerifiedPacks(null);
    await checkSpace({ ...deep, verified });
    const again = await checkSpace({ ...deep, place: counting, verified });
    expect(paths(again.touched)).toEqual(paths(inOne.touched));
    expect(readOf(0)).toBeGreaterThan(0.9);
    expect(readOf(2)).toBeLessThan(0.5);
  });
});
