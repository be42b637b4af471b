import { createCipheriv } from "node:crypto";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { chosenGcm, type Gcm, gcm, type Lock, libraryGcm, nodeGcm, TAG_BYTES } from "./gcm";

const library = libraryGcm();
const both: Gcm[] = library ? [library, nodeGcm] : [nodeGcm];

const bytes = (length: number) => fc.uint8Array({ minLength: length, maxLength: length });
const locks = fc.record({ key: bytes(32), nonce: bytes(12), header: fc.uint8Array({ maxLength: 80 }) });
/** Also longer than what is given to the cipher at a time. */
const texts = fc.oneof(
  fc.uint8Array({ maxLength: 600 }),
  fc.integer({ min: 120_000, max: 400_000 }).map((length) => new Uint8Array(length).map((_, i) => i * 31)),
);

/** By Node's cipher as anybody would use it. */
function sealedPlainly({ key, nonce, header }: Lock, text: Uint8Array): Buffer {
  const cipher = createCipheriv("aes-256-gcm", key, nonce).setAAD(header);
  return Buffer.concat([cipher.update(text), cipher.final(), cipher.getAuthTag()]);
}

function seal(by: Gcm, lock: Lock, ...parts: Uint8Array[]): Uint8Array {
  const out = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0) + TAG_BYTES);
  by.seal(lock, parts, out);
  return out;
}

function flipped(of: Uint8Array, bit: number): Uint8Array {
  const other = of.slice();
  other[bit >> 3]! ^= 1 << (bit & 7);
  return other;
}

describe("the cipher", () => {
  it("is OpenSSL's own where its functions can be called, as on the machines that it is tested on", () => {
    expect(library?.name).toBe("library");
    expect(gcm.name).toBe(process.env.DEEPKEEP_CIPHER || "library");
  });

  it("is the one that the operator chose, and no other word is taken for one", () => {
    expect(chosenGcm("node")).toBe(nodeGcm);
    expect(chosenGcm("library").name).toBe("library");
    expect(chosenGcm("").name).toBe("library");
    expect(() => chosenGcm("openssl")).toThrow("DEEPKEEP_CIPHER is openssl; it must be node or library");
  });

  it("gives the bytes of test case 16 of the mode's authors, whose header and text end within a block", () => {
    const hex = (digits: string) => Buffer.from(digits.replaceAll(" ", ""), "hex");
    const lock = {
      key: hex("feffe9928665731c6d6a8f9467308308 feffe9928665731c6d6a8f9467308308"),
      nonce: hex("cafebabefacedbaddecaf888"),
      header: hex("feedfacedeadbeeffeedfacedeadbeef abaddad2"),
    };
    const text = hex(
      "d9313225f88406e5a55909c5aff5269a 86a7a9531534f7da2e4c303d8a318a72 1c3c0c95956809532fcf0e2449a6b525 b16aedf5aa0de657ba637b39",
    );
    const sealed = hex(
      "522dc1f099567d07f47f37a32a84427d 643a8cdcbfe5c0c97598a2bd2555d1aa 8cb08e48590dbb3da7b08b1056828838 c5f61e6393ba7a0abcc9f662 76fc6ece0f4e1768cddf8853bb2d551b",
    );
    for (const by of both) expect(Buffer.from(seal(by, lock, text))).toEqual(sealed);
  });

  describe.each(both)("through $name", (by) => {
    it("seals as anybody would, in however many parts, and opens what anybody sealed", () => {
      fc.assert(
        fc.property(locks, texts, fc.double({ min: 0, max: 1, noNaN: true }), (lock, text, share) => {
          const sealed = sealedPlainly(lock, text);
          const cut = Math.floor(share * text.length);
          expect(sealed.equals(seal(by, lock, text.subarray(0, cut), text.subarray(cut)))).toBe(true);
          const out = new Uint8Array(text.length);
          expect(by.open(lock, sealed, out)).toBe(true);
          expect(Buffer.from(text).equals(out)).toBe(true);
        }),
        { numRuns: 60 },
      );
    });

    it("opens nothing of which one bit, of text, tag, key, nonce or header, is not as it was", () => {
      fc.assert(
        fc.property(
          locks.filter(({ header }) => header.length > 0),
          fc.uint8Array({ maxLength: 90 }),
          fc.constantFrom("sealed" as const, "key" as const, "nonce" as const, "header" as const),
          fc.nat(),
          (lock, text, what, at) => {
            const sealed = seal(by, lock, text);
            const whole = { ...lock, sealed };
            const touched = { ...whole, [what]: flipped(whole[what], at % (8 * whole[what].length)) };
            const out = new Uint8Array(text.length);
            expect(by.open(touched, touched.sealed, out)).toBe(false);
            // and what came before does not stay in the way of what comes after
            expect(by.open(lock, sealed, out)).toBe(true);
            expect(Buffer.from(out)).toEqual(Buffer.from(text));
          },
        ),
      );
    });

    it("works within memory that threads share, and touches nothing beside its room", () => {
      const lock = { key: new Uint8Array(32), nonce: new Uint8Array(12), header: new Uint8Array(8) };
      const memory = new Uint8Array(new SharedArrayBuffer(400_000)).fill(7);
      const text = new Uint8Array(150_001).map((_, i) => i);
      by.seal(lock, [text], memory.subarray(10, 10 + text.length + TAG_BYTES));
      const sealed = memory.slice(10, 10 + text.length + TAG_BYTES);
      expect(sealedPlainly(lock, text).equals(sealed)).toBe(true);
      const out = memory.subarray(200_000, 200_000 + text.length);
      expect(by.open(lock, memory.subarray(10, 10 + sealed.length), out)).toBe(true);
      expect(Buffer.from(text).equals(out)).toBe(true);
      const beside = [0, 9, 10 + sealed.length, 199_999, 200_000 + text.length];
      expect(beside.map((at) => memory[at])).toEqual([7, 7, 7, 7, 7]);
    });

    it("refuses a key, a nonce or a room of another length before it writes", () => {
      const lock = { key: new Uint8Array(32), nonce: new Uint8Array(12), header: new Uint8Array(0) };
      const room = new Uint8Array(20 + TAG_BYTES);
      const others = [
        { ...lock, key: new Uint8Array(31) },
        { ...lock, nonce: new Uint8Array(16) },
      ];
      for (const other of others) {
        expect(() => by.seal(other, [new Uint8Array(20)], room)).toThrow(RangeError);
        expect(() => by.open(other, room, new Uint8Array(20))).toThrow(RangeError);
      }
      expect(() => by.seal(lock, [new Uint8Array(20), new Uint8Array(1)], room)).toThrow(RangeError);
      for (const length of [19, 21])
        expect(() => by.open(lock, room, new Uint8Array(length))).toThrow(RangeError);
      expect(() => by.open(lock, room.subarray(0, 9), new Uint8Array(0))).toThrow(RangeError);
      expect(room.every((byte) => byte === 0)).toBe(true);
    });
  });
});
