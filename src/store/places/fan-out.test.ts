import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { fanOut } from "./fan-out";

async function* giving(parts: readonly Uint8Array[], thenFail = false) {
  for (const part of parts) {
    const lent = Buffer.from(part);
    yield lent;
    lent.fill(0); // its memory is used again
  }
  if (thenFail) throw new Error("the sender is gone");
}

const gather = async (content: AsyncIterable<Uint8Array>): Promise<Buffer> => {
  const parts: Uint8Array[] = [];
  for await (const part of content) parts.push(Buffer.from(part));
  return Buffer.concat(parts);
};

/** A taker that fails after so many parts. */
const failingAfter = (parts: number) => async (content: AsyncIterable<Uint8Array>) => {
  let seen = 0;
  for await (const part of content) {
    void part;
    if (seen === parts) throw new Error("full");
    seen += 1;
  }
  throw new Error("full");
};

const slowly = async (content: AsyncIterable<Uint8Array>): Promise<Buffer> => {
  const parts: Uint8Array[] = [];
  for await (const part of content) {
    await new Promise((resolve) => setTimeout(resolve, 1));
    parts.push(Buffer.from(part));
  }
  return Buffer.concat(parts);
};

const someParts = fc.array(fc.uint8Array({ minLength: 1, maxLength: 20 }), { maxLength: 12 });

describe("one stream for several takers", () => {
  it("gives everyone all of it, whoever fails and whenever", async () => {
    await fc.assert(
      fc.asyncProperty(someParts, fc.array(fc.nat(14), { maxLength: 3 }), async (parts, failures) => {
        const takers = [gather, ...failures.map(failingAfter), slowly];
        const taken = await fanOut<Buffer>(giving(parts), takers as (typeof gather)[]);
        const all = Buffer.concat(parts);
        expect(taken.map((one) => (one.ok ? one.value.equals(all) : null))).toEqual([
          true,
          ...failures.map(() => null),
          true,
        ]);
      }),
      { numRuns: 40 },
    );
  });

  it("throws what the stream throws, and nobody took a cut stream for a whole one", async () => {
    const seen: string[] = [];
    const watching = (content: AsyncIterable<Uint8Array>) =>
      gather(content).then(
        () => seen.push("whole"),
        () => seen.push("cut"),
      );
    await expect(fanOut(giving([Buffer.from("a")], true), [watching, watching])).rejects.toThrow(
      "the sender is gone",
    );
    expect(seen).toEqual(["cut", "cut"]);
  });

  it("does not read on when everyone has failed", async () => {
    let read = 0;
    async function* counting() {
      for (let i = 0; i < 100; i += 1) {
        read += 1;
        yield Buffer.from([i]);
      }
    }
    const taken = await fanOut(counting(), [failingAfter(1), failingAfter(2)]);
    expect(taken.every((one) => !one.ok)).toBe(true);
    expect(read).toBeLessThan(6);
  });
});
