import { mkdirSync, rmSync, symlinkSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import type { FileSelection } from "@/core/selection/selection";
import { byteString } from "@/store/tree/tree";
import { freshFolder, type Snapped, snap, TestDepot } from "../../../tests/depot";
import { AheadReader, type AskLister } from "./listing-ahead";
import { type ListingBatch, type ListingJob, Walks, walksBefore } from "./listing-batch";
import { FilesReader } from "./reader";

/** Lists as the thread does, and counts what it was asked. */
function lister(before: (job: ListingJob, number: number) => void = () => {}) {
  const walks = new Walks();
  const asked: ListingJob[] = [];
  const batches: ListingBatch[] = [];
  const ask = async (job: ListingJob): Promise<ListingBatch> => {
    asked.push(job);
    before(job, asked.length);
    // what is sent is not the same memory
    const batch = structuredClone(walks.answer(structuredClone(job)));
    batches.push(batch);
    return batch;
  };
  return { ask: ask as AskLister["ask"], asked, batches };
}

const everything: FileSelection = { folders: ["/"], include: [], exclude: [] };
const ahead = (root: string, thread: AskLister, what = everything, folders = what.folders) =>
  new AheadReader({ root, passOver: [], folders, what }, thread);

function bigTree(): string {
  const root = freshFolder("ahead");
  for (const folder of ["a", "a b", "a/c", "a-b", "empty", "skip/below", "a/skip/deep", "z/\xffodd"]) {
    mkdirSync(join(root, folder), { recursive: true });
    for (let i = 0; i < 300; i += 1) writeFileSync(join(root, folder, `file ${i}`), `${folder} ${i}`);
  }
  rmSync(join(root, "empty"), { recursive: true });
  mkdirSync(join(root, "empty"));
  symlinkSync("a", join(root, "a link"));
  return root;
}
const settle = () => new Promise((resolve) => setTimeout(resolve, 40));

describe("the order of a walk", () => {
  it("is that of the names, folder by folder", () => {
    const name = fc.stringMatching(/^[ab \-.~]{1,2}$/);
    const paths = fc.array(name, { maxLength: 4 }).map((parts) => `/${parts.join("/")}`);
    const asParts = (path: string) => path.split("/").filter(Boolean);
    const compare = (one: string[], two: string[]): number => {
      for (let i = 0; i < Math.min(one.length, two.length); i += 1)
        if (one[i] !== two[i]) return one[i]! < two[i]! ? -1 : 1;
      return one.length - two.length;
    };
    fc.assert(
      fc.property(paths, paths, (one, two) => {
        expect(walksBefore(one, two)).toBe(compare(asParts(one), asParts(two)) < 0);
      }),
    );
    expect(["/a/b", "/a-b", "/a", "/", "/a b"].sort((x, y) => (walksBefore(x, y) ? -1 : 1))).toEqual([
      "/",
      "/a",
      "/a/b",
      "/a b",
      "/a-b",
    ]);
  });
});

describe("folders that are listed ahead", () => {
  it("are what the run would have listed itself, in batches, and it lists none", async () => {
    const root = bigTree();
    await settle();
    const depot = new TestDepot();
    const plain = await snap(depot, root);
    const thread = lister();
    const reader = ahead(root, thread);
    const listedHere: string[] = [];
    const own = FilesReader.prototype.list;
    FilesReader.prototype.list = function (this: FilesReader, path, problem) {
      if (this === reader) listedHere.push(path);
      return own.call(this, path, problem);
    };
    const result = await snap(depot, root, { reader, previous: plain.previous }).finally(() => {
      FilesReader.prototype.list = own;
    });
    expect(listedHere).toEqual([]);
    expect(result.root).toEqual(plain.root);
    expect(result.counts).toEqual(plain.counts);
    expect(result.figures).toMatchObject({ filesRead: 0, filesUnchanged: plain.counts.files });
    expect(thread.batches.filter(({ stats }) => stats.length).length).toBeGreaterThan(1);
    expect(thread.asked.at(-1)).toHaveProperty("end");
  });

  it("are those of the chosen folders that the selection takes, and not what is passed over", async () => {
    const root = bigTree();
    const what = { folders: ["/z", "/a", "/a/c", "/nowhere"], include: [], exclude: ["skip"] };
    const thread = lister();
    const options = { folders: what.folders, exclude: what.exclude };
    const through = await snap(new TestDepot(), root, {
      ...options,
      reader: new AheadReader({ root, passOver: [join(root, "a/c")], folders: what.folders, what }, thread),
    });
    const walked = thread.batches.flatMap(({ folders }) => folders.split("\0").filter(Boolean));
    expect(walked).toEqual(["/a", "/nowhere", "/z", byteString("/z/\xffodd")]);
    const plain = await snap(new TestDepot(), root, {
      ...options,
      reader: new FilesReader(root, [join(root, "a/c")]),
    });
    expect(through.counts).toEqual(plain.counts);
    expect(through.notes).toEqual(plain.notes);
  });

  it("may be gone, or have come, when the run comes to them", async () => {
    const root = bigTree();
    const thread = lister();
    const reader = ahead(root, thread);
    // the thread has listed all of it
    await settle();
    rmSync(join(root, "a/c"), { recursive: true });
    mkdirSync(join(root, "b new"));
    writeFileSync(join(root, "b new/file"), "new");
    writeFileSync(join(root, "a/file 7"), "other");
    const { notes, previous } = await snap(new TestDepot(), root, { reader });
    expect(new Set(notes.map(({ code }) => code))).toEqual(new Set(["file.vanished"]));
    expect(notes.every(({ path }) => path.startsWith("/a/c/"))).toBe(true);
    // what came later is in the next run, and what was written to is read by it, whatever was listed before
    await settle();
    const next = await snap(new TestDepot(), root, { previous, reader: ahead(root, lister()) });
    expect(next.root).toEqual((await snap(new TestDepot(), root)).root);
  });

  it("are not taken for known where they were written to between listing and reading", async () => {
    const root = freshFolder("between");
    writeFileSync(join(root, "ledger"), "sum 1");
    await settle();
    const depot = new TestDepot();
    const reader = ahead(root, lister());
    await settle();
    writeFileSync(join(root, "ledger"), "sum 2");
    await settle();
    const { previous } = await snap(depot, root, { reader });
    const next = await snap(depot, root, { previous });
    expect(next.figures).toMatchObject({ filesRead: 1, filesUnchanged: 0 });
  });

  it("are the run's own where they are large, or cannot be listed", async () => {
    const root = freshFolder("large");
    mkdirSync(join(root, "spool/sub"), { recursive: true });
    mkdirSync(join(root, "later"));
    for (let i = 0; i < 8300; i += 1) writeFileSync(join(root, `spool/m${i}`), "");
    writeFileSync(join(root, "spool/sub/note"), "below");
    writeFileSync(join(root, "later/note"), "after");
    await settle();
    const thread = lister();
    const plain = await snap(new TestDepot(), root);
    const result = await snap(new TestDepot(), root, { reader: ahead(root, thread) });
    expect(result.root).toEqual(plain.root);
    expect(result.counts.files).toBe(8302);
    // none of it is sent
    expect(Math.max(...thread.batches.map(({ stats }) => stats.length))).toBeLessThan(1000);
  });

  it("are the run's own from where the thread failed on", async () => {
    const root = bigTree();
    await settle();
    const plain = await snap(new TestDepot(), root);
    for (const failing of [1, 2, 3, 4]) {
      const thread = lister((job, number) => {
        if (number >= failing && !("end" in job)) throw new Error("the thread is out of memory");
      });
      const result: Snapped = await snap(new TestDepot(), root, { reader: ahead(root, thread) });
      expect(result.root).toEqual(plain.root);
    }
  });

  it("are let go of when the run is broken off", async () => {
    const root = bigTree();
    const thread = lister();
    const reader = ahead(root, thread);
    const failing = new TestDepot();
    failing.known = async () => {
      throw new Error("the console is gone");
    };
    await expect(snap(failing, root, { reader })).rejects.toThrow("the console is gone");
    expect(thread.asked.at(-1)).toHaveProperty("end");
  });
});
