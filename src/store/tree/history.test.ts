import { mkdirSync, rmSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { freshFolder, snap, TestDepot } from "../../../tests/depot";
import { type Change, changesBetween, countDeleted, lastSeen, type Tree } from "./history";

/** Files of one moment: path to content. */
type Files = Readonly<Record<string, string>>;

const moment: fc.Arbitrary<Files> = fc.dictionary(
  fc
    .array(fc.constantFrom("a", "b", "c"), { minLength: 1, maxLength: 3 })
    // a name is a file or a folder, never both
    .map((names) => `/${[...names.slice(0, -1).map((name) => name.toUpperCase()), names.at(-1)].join("/")}`),
  fc.constantFrom("one", "two", "three"),
  { maxKeys: 8 },
);

async function treesOf(moments: readonly Files[]): Promise<Tree<number>[]> {
  const depot = new TestDepot();
  const trees: Tree<number>[] = [];
  for (const [point, files] of moments.entries()) {
    const root = freshFolder("history");
    for (const [path, content] of Object.entries(files)) {
      mkdirSync(dirname(join(root, path)), { recursive: true });
      writeFileSync(join(root, path), content);
    }
    const { root: node } = await snap(depot, root);
    rmSync(root, { recursive: true });
    trees.push({ point, reader: depot.reader(), root: node });
  }
  return trees;
}

describe("where something last existed", () => {
  it("is found for every file that ever was, as a plain look through all moments finds it", async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(moment, { minLength: 1, maxLength: 4 }), async (moments) => {
        const found = new Map<string, number>();
        for await (const { path, entry, point } of lastSeen(await treesOf(moments), () => true))
          if (entry.type === "file") found.set(path, point);
        const plain = new Map<string, number>();
        for (const [point, files] of moments.entries())
          for (const path of Object.keys(files)) if (!plain.has(path)) plain.set(path, point);
        expect([...found].sort()).toEqual([...plain].sort());
      }),
      { numRuns: 40 },
    );
  });
});

describe("what differs between two moments", () => {
  const filesBelow = (files: Files, folder: string) =>
    Object.keys(files).filter((path) => path === folder || path.startsWith(`${folder}/`));

  it("is every file that came, went or changed, and nothing else", async () => {
    await fc.assert(
      fc.asyncProperty(moment, moment, async (before, after) => {
        const [old, now] = await treesOf([before, after]);
        const told: Record<Change["kind"], string[]> = { added: [], removed: [], changed: [] };
        for await (const { kind, path } of changesBetween(old!, now!))
          told[kind].push(
            ...(kind === "changed" ? [path] : filesBelow(kind === "added" ? after : before, path)),
          );
        const names = (keep: (path: string) => boolean, files: Files) =>
          Object.keys(files).filter(keep).sort();
        expect(told.added.sort()).toEqual(names((path) => !(path in before), after));
        expect(told.removed.sort()).toEqual(names((path) => !(path in after), before));
        expect(told.changed.sort()).toEqual(
          names((path) => path in before && before[path] !== after[path], after),
        );
      }),
      { numRuns: 60 },
    );
  });
});

describe("files that were deleted between two moments", () => {
  it("are those whose name is gone and whose content came to no new name", async () => {
    await fc.assert(
      fc.asyncProperty(moment, moment, async (before, after) => {
        const [old, now] = await treesOf([before, after]);
        const came = new Set(
          Object.keys(after)
            .filter((path) => !(path in before))
            .map((path) => after[path]),
        );
        const gone = Object.keys(before).filter((path) => !(path in after) && !came.has(before[path]));
        expect(await countDeleted(old!, now!)).toBe(gone.length);
      }),
      { numRuns: 40 },
    );
  });
  it("are counted below a folder that went whole, and not where the folder was only renamed", async () => {
    const [before, renamed, without] = await treesOf([
      { "/A/a": "one", "/A/B/b": "two", "/c": "three" },
      { "/Z/a": "one", "/Z/B/b": "two", "/c": "three" },
      { "/c": "three" },
    ]);
    expect(await countDeleted(before!, renamed!)).toBe(0);
    expect(await countDeleted(before!, without!)).toBe(2);
  });
});
