import { randomBytes } from "node:crypto";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { fingerprintOf, unwrapKey, wrapKey } from "./wrapping";

describe("a key wrapped by a passphrase", () => {
  it("opens with it, however the keyboard composed it, and with no other", async () => {
    const key = randomBytes(32);
    const { wrapping, sealed } = await wrapKey(key, "Gründelwasser an elf Pfählen");
    expect(
      (await unwrapKey(sealed, wrapping, " Gru\u0308ndelwasser an elf Pfa\u0308hlen ")).equals(key),
    ).toBe(true);
    await expect(unwrapKey(sealed, wrapping, "gründelwasser an elf Pfählen")).rejects.toMatchObject({
      code: "key.wrong-passphrase",
    });
    await expect(unwrapKey(sealed, wrapping, "")).rejects.toMatchObject({ code: "key.wrong-passphrase" });
  });

  it("wraps differently each time, and does not open where a bit was flipped", async () => {
    const key = randomBytes(32);
    const one = await wrapKey(key, "the same words again");
    const two = await wrapKey(key, "the same words again");
    expect(one.wrapping.salt).not.toBe(two.wrapping.salt);
    expect(one.sealed.equals(two.sealed)).toBe(false);
    one.sealed[20]! ^= 1;
    await expect(unwrapKey(one.sealed, one.wrapping, "the same words again")).rejects.toMatchObject({
      code: "key.wrong-passphrase",
    });
  });

  it("has a fingerprint that tells keys apart and has nothing of the key in it", () => {
    fc.assert(
      fc.property(fc.uint8Array({ minLength: 32, maxLength: 32 }), fc.nat(255), (key, bit) => {
        const other = Uint8Array.from(key);
        other[bit >> 3]! ^= 1 << (bit & 7);
        expect(fingerprintOf(key)).toMatch(/^([0-9a-f]{4}-){7}[0-9a-f]{4}$/);
        expect(fingerprintOf(other)).not.toBe(fingerprintOf(key));
      }),
    );
  });
});
