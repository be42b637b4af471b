import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { FolderNames } from "./folder-names";

/** Bytes of a name, each as one character; a folder holds no name twice, and none has a slash or a NUL. */
const aName = fc
  .uint8Array({ minLength: 1, maxLength: 12 })
  .map((bytes) => Buffer.from(bytes).toString("latin1").replace(/[/\0]/g, "-"));
const someNames = fc.uniqueArray(aName, { maxLength: 200 });

describe("the names in a folder", () => {
  it("come in byte order, packed or not, whatever order they were found in", () => {
    fc.assert(
      fc.property(someNames, fc.integer({ min: 1, max: 40 }), (names, runLength) => {
        const folder = new FolderNames(runLength);
        for (const name of names) folder.add(name);
        const inBytes = [...names].sort((a, b) =>
          Buffer.compare(Buffer.from(a, "latin1"), Buffer.from(b, "latin1")),
        );
        expect([...folder.inOrder()]).toEqual(inBytes);
        expect(folder.count).toBe(names.length);
      }),
      { numRuns: 500 },
    );
  });

  it("of a very large folder come so too, each once", () => {
    const count = 200_000;
    const folder = new FolderNames();
    for (let i = 0; i < count; i += 1)
      folder.add(`invoice-${String((i * 7919) % count).padStart(8, "0")}.pdf`);
    let next = 0;
    for (const name of folder.inOrder()) {
      if (name !== `invoice-${String(next).padStart(8, "0")}.pdf`)
        throw new Error(`${name} is number ${next}`);
      next += 1;
    }
    expect(next).toBe(count);
  });
});
