import { randomBytes } from "node:crypto";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { hashSecret, makeKeyPair, openSealed, randomSecret, sealTo, secretsWith } from "./secrets";

describe("secrets at rest", () => {
  const secrets = secretsWith(randomBytes(32));
  it("come back, and only in the context they were sealed for", () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 200 }), fc.string(), (plain, context) => {
        const sealed = secrets.seal(plain, context);
        expect(secrets.unseal(sealed, context).equals(Buffer.from(plain))).toBe(true);
        expect(() => secrets.unseal(sealed, `${context}!`)).toThrow(/does not open/);
      }),
    );
  });
  it("do not open with another master key, or when a bit is another", () => {
    const sealed = secrets.seal(Buffer.from("the key"), "client key 1");
    expect(() => secretsWith(randomBytes(32)).unseal(sealed, "client key 1")).toThrow(/does not open/);
    for (let at = 0; at < sealed.length; at += 1) {
      const damaged = Buffer.from(sealed);
      damaged[at]! ^= 1;
      expect(() => secrets.unseal(damaged, "client key 1")).toThrow(/does not open/);
    }
  });
  it("are never sealed to the same bytes twice", () => {
    const once = () => secrets.seal(Buffer.from("same"), "c").toString("hex");
    expect(once()).not.toBe(once());
  });
  it("want a master key of 32 bytes", () => expect(() => secretsWith(randomBytes(31))).toThrow(RangeError));
});

describe("a key on its way to a machine", () => {
  it("opens on that machine alone", () => {
    const mine = makeKeyPair();
    const other = makeKeyPair();
    const key = randomBytes(32);
    const sealed = sealTo(mine.publicKey, key);
    expect(openSealed(mine.privateKey, sealed).equals(key)).toBe(true);
    expect(() => openSealed(other.privateKey, sealed)).toThrow(/does not open/);
    expect(sealed.includes(key)).toBe(false);
  });
});

it("secrets that people carry are held as hashes", () => {
  const secret = randomSecret();
  expect(hashSecret(secret)).toHaveLength(32);
  expect(hashSecret(secret).toString("hex")).not.toContain(Buffer.from(secret).toString("hex"));
  expect(randomSecret()).not.toBe(secret);
});
