import { randomBytes } from "node:crypto";
import { mkdirSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { bring, freshFolder, snap, TestDepot } from "../../tests/depot";
import { FAILURES, FailingPlace } from "../../tests/failing-place";
import { describeTree } from "../../tests/same-tree";
import { LocalFolder } from "./places/local-folder";
import { idKey } from "./tree/tree";

function cargo(): string {
  const root = freshFolder("cargo");
  mkdirSync(join(root, "hold"));
  // three packs of data: the chunks do not compress
  for (let i = 0; i < 11; i += 1) writeFileSync(join(root, `hold/crate ${i}`), randomBytes(4 * 1024 * 1024));
  writeFileSync(join(root, "manifest"), "eleven crates\n");
  return root;
}

describe("a depot that fails at its n-th write", () => {
  const root = cargo();
  it.each([1, 2, 3].flatMap((n) => FAILURES.map((how) => [n, how] as const)))(
    "write %d, %s: the run says so, and the next one completes from what is there",
    async (n, how) => {
      const folder = freshFolder("depot");
      const place = new LocalFolder(folder);
      const failing = new TestDepot(new FailingPlace(place, n, how));
      await expect(snap(failing, root)).rejects.toMatchObject({
        code: how === "answer lost" ? "depot.not-reached" : "depot.full",
      });
      const again = new TestDepot(place);
      for (const [id, pack] of failing.index) again.index.set(id, pack);
      const whole = await snap(again, root);
      // what was stored before the failure is not stored twice
      expect(whole.stored.newChunks).toBeLessThanOrEqual(
        whole.figures.filesRead * 8 - failing.index.size + 3,
      );
      const target = freshFolder("target");
      expect((await bring(again, whole.root, target)).notes).toEqual([]);
      expect(describeTree(target)).toEqual(describeTree(root));
      for await (const name of place.list("")) expect(name).not.toMatch(/\.part$/);
      for (const path of [target, folder]) rmSync(path, { recursive: true });
    },
  );
});

describe("a damaged depot", () => {
  it("restores everything that the damage does not touch, and says what it cannot", async () => {
    const root = freshFolder("damage");
    for (let i = 0; i < 8; i += 1) writeFileSync(join(root, `crate ${i}`), randomBytes(4 * 1024 * 1024));
    const folder = freshFolder("depot");
    const depot = new TestDepot(new LocalFolder(folder));
    const { root: tree } = await snap(depot, root);
    expect(depot.packs.length).toBeGreaterThan(1);
    // a pack of content; without the tree nothing at all could be found
    const lost = depot.packs.find((id) => id !== depot.index.get(idKey(tree)))!;
    rmSync(join(folder, `spaces/s/packs/${lost.slice(0, 2)}/${lost}`));
    const target = freshFolder("target");
    const { notes, figures } = await bring(depot, tree, target);
    expect(notes.length).toBeGreaterThan(0);
    expect(notes.every((note) => note.code === "store.damaged")).toBe(true);
    expect(figures.files + notes.length).toBe(8);
    expect(describeTree(target).some((line) => line.includes(".part"))).toBe(false);
  });
});
