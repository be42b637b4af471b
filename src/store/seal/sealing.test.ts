import { randomBytes } from "node:crypto";
import { expect, it } from "vitest";
import { CodedError } from "@/core/codes";
import { seal, unseal } from "./sealing";

const key = randomBytes(32);
const header = randomBytes(32);

it("opens what it sealed, also nothing", () => {
  for (const length of [0, 1, 4096]) {
    const plain = randomBytes(length);
    expect(unseal(key, 3, header, seal(key, 3, header, plain))).toEqual(plain);
  }
});
it("calls a sealed part of any length damaged when it is cut, also one that is shorter than its tag", () => {
  const sealed = seal(key, 3, header, randomBytes(20));
  for (let length = 0; length < sealed.length; length += 1) {
    let error: unknown;
    try {
      unseal(key, 3, header, sealed.subarray(0, length));
    } catch (caught) {
      error = caught;
    }
    expect(error, `${length} bytes`).toBeInstanceOf(CodedError);
    expect((error as CodedError).code).toBe("store.damaged");
  }
});
