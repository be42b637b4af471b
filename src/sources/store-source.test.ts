import { randomBytes } from "node:crypto";
import {
  appendFileSync,
  linkSync,
  mkdirSync,
  renameSync,
  rmSync,
  symlinkSync,
  unlinkSync,
  utimesSync,
  writeFileSync,
} from "node:fs";
import { join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { AheadReader, type AskLister } from "@/kinds/files/listing-ahead";
import { Walks } from "@/kinds/files/listing-batch";
import { freshFolder, type Snapped, snap, TestDepot } from "../../tests/depot";

/** What was touched just now is not taken as known the next time: until the clock has gone on. */
const settle = () => new Promise((resolve) => setTimeout(resolve, 40));

/** Lists ahead as the thread does, in this one. */
const listingHere = (): AskLister => {
  const walks = new Walks();
  return { ask: async (job) => walks.answer(job) };
};

/** Something that happens to one of the names of a small tree. */
type Change = readonly [what: number, folder: number, name: number];
const changes: fc.Arbitrary<Change> = fc.tuple(fc.nat(8), fc.nat(3), fc.nat(7));

function doTo(root: string, [what, folder, number]: Change): void {
  const inside = join(root, ["", "a", "a/b", "c"][folder]!);
  mkdirSync(inside, { recursive: true });
  const path = join(inside, `n${number}`);
  const away = () => rmSync(path, { recursive: true, force: true });
  const file = () => {
    away();
    writeFileSync(path, randomBytes(20 + number));
  };
  switch (what) {
    case 0:
    case 1:
      file();
      return;
    case 2:
      file();
      appendFileSync(path, "more");
      return;
    case 3:
      away();
      return;
    case 4:
      away();
      symlinkSync(`n${(number + 1) % 7}`, path);
      return;
    case 5:
      away();
      mkdirSync(path);
      writeFileSync(join(path, "below"), "x");
      return;
    case 6:
      file();
      rmSync(`${path}.x7`, { force: true });
      renameSync(path, `${path}.x7`);
      return;
    case 7:
      file();
      rmSync(`${path}-too`, { force: true });
      linkSync(path, `${path}-too`);
      return;
    default:
      file();
      utimesSync(path, number, 7);
  }
}

describe("a run that knows the point before", () => {
  it("makes the very tree that one makes which reads all", async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(changes, { minLength: 1, maxLength: 25 }),
        fc.array(fc.array(changes, { maxLength: 6 }), { minLength: 1, maxLength: 3 }),
        async (first, later) => {
          const root = freshFolder("known");
          for (const change of first) doTo(root, change);
          await settle();
          const depot = new TestDepot();
          let { previous } = await snap(depot, root);
          for (const turn of later) {
            for (const change of turn) doTo(root, change);
            await settle();
            const knowing = await snap(depot, root, { previous });
            const reading = await snap(new TestDepot(), root);
            expect(knowing.root).toEqual(reading.root);
            expect(knowing.counts).toEqual(reading.counts);
            const { filesRead, filesUnchanged } = knowing.figures;
            expect(filesRead + filesUnchanged).toBe(reading.figures.filesRead);
            const what = { folders: ["/"], include: [], exclude: [] };
            const reader = new AheadReader({ root, passOver: [], folders: ["/"], what }, listingHere());
            const ahead = await snap(depot, root, { previous, reader });
            expect([ahead.root, ahead.counts]).toEqual([knowing.root, knowing.counts]);
            expect(ahead.figures).toEqual(knowing.figures);
            const again = await snap(depot, root, { previous: knowing.previous });
            expect(again.root).toEqual(knowing.root);
            expect(again.figures).toMatchObject({ filesRead: 0, changed: 0, removed: 0, renamed: 0 });
            expect(again.stored.newChunks).toBe(0);
            ({ previous } = knowing);
          }
          rmSync(root, { recursive: true });
        },
      ),
      { numRuns: 25 },
    );
  });

  it("counts what changed, went, came back under another ending, and turned dense, folder by folder", async () => {
    const root = freshFolder("evidence");
    for (const folder of ["ledgers", "ledgers/old", "letters"]) mkdirSync(join(root, folder));
    const text = (name: string, words: string) => writeFileSync(join(root, name), words.repeat(200));
    for (let i = 0; i < 20; i += 1) text(`ledgers/${10 + i}.ods`, `sum of the day ${i}\n`);
    for (let i = 0; i < 5; i += 1) text(`letters/${i}.txt`, `Dear Quill ${i}\n`);
    text("ledgers/old/1.ods", "old\n");
    await settle();
    const depot = new TestDepot();
    const { previous } = await snap(depot, root);
    for (let i = 0; i < 6; i += 1) {
      unlinkSync(join(root, `ledgers/${10 + i}.ods`));
      writeFileSync(join(root, `ledgers/${10 + i}.ods.x7`), randomBytes(4000));
    }
    for (let i = 6; i < 9; i += 1) writeFileSync(join(root, `ledgers/${10 + i}.ods`), randomBytes(4000));
    appendFileSync(join(root, "letters/1.txt"), "and more");
    unlinkSync(join(root, "letters/2.txt"));
    text("letters/new.txt", "new\n");
    // the same again, of another time: read, and not changed
    text("letters/3.txt", "Dear Quill 3\n");
    await settle();
    const { figures } = await snap(depot, root, { previous });
    expect(figures).toMatchObject({
      changed: 4,
      removed: 7,
      renamed: 6,
      denser: 9,
      busiestFolder: "/ledgers",
      filesRead: 12,
      filesUnchanged: 14,
    });
  });

  it("does not take for removed what the policy leaves out since, nor what became something else", async () => {
    const root = freshFolder("left-out");
    for (const name of ["a.log", "b.log", "c.txt", "d.txt"]) writeFileSync(join(root, name), name);
    await settle();
    const depot = new TestDepot();
    const { previous } = await snap(depot, root);
    unlinkSync(join(root, "d.txt"));
    symlinkSync("c.txt", join(root, "d.txt"));
    await settle();
    const without: Snapped = await snap(depot, root, { previous, exclude: ["*.log"] });
    expect(without.figures).toMatchObject({ removed: 0, filesUnchanged: 1, filesRead: 0 });
    expect(without.counts).toMatchObject({ files: 1, links: 1 });
    expect(without.root).toEqual((await snap(new TestDepot(), root, { exclude: ["*.log"] })).root);
  });
});
