import { createHash, hkdfSync, randomBytes } from "node:crypto";
import { hashRaw } from "@node-rs/argon2";
import { CodedError } from "@/core/codes";
import type { Wrapping } from "@/core/keysheet/wrapping";
import { secretsWith } from "./secrets";

/** RFC 9106's second recommendation: 64 MiB, three passes, four lanes. */
const COSTS = { memory: 64 * 1024, passes: 3, lanes: 4 };
const ARGON2ID = 2;
const CONTEXT = "deep-keep/1 passphrase";

/** Passphrases are told apart by what they say, not by how a keyboard composes it: NFKC, spaces at the ends left out. */
async function keyOf(passphrase: string, { salt, memory, passes, lanes }: Wrapping): Promise<Buffer> {
  return hashRaw(passphrase.normalize("NFKC").trim(), {
    algorithm: ARGON2ID,
    salt: Buffer.from(salt, "base64"),
    memoryCost: memory,
    timeCost: passes,
    parallelism: lanes,
    outputLen: 32,
  });
}

/** Wraps a data key by a passphrase; changing the passphrase wraps it anew and moves no data. */
export async function wrapKey(
  dataKey: Uint8Array,
  passphrase: string,
): Promise<{ wrapping: Wrapping; sealed: Buffer }> {
  const wrapping = { salt: randomBytes(16).toString("base64"), ...COSTS };
  return { wrapping, sealed: secretsWith(await keyOf(passphrase, wrapping)).seal(dataKey, CONTEXT) };
}

/** Opens a wrapped key. Throws `key.wrong-passphrase`. */
export async function unwrapKey(sealed: Buffer, wrapping: Wrapping, passphrase: string): Promise<Buffer> {
  const key = await keyOf(passphrase, wrapping);
  try {
    return secretsWith(key).unseal(sealed, CONTEXT);
  } catch (error) {
    throw new CodedError("key.wrong-passphrase", undefined, { cause: error });
  }
}

/** Eight groups of four hex digits that tell keys apart and say nothing of them. */
export const fingerprintOf = (dataKey: Uint8Array): string =>
  createHash("sha256")
    .update(Buffer.from(hkdfSync("sha256", dataKey, new Uint8Array(0), "deep-keep/1 fingerprint", 32)))
    .digest("hex")
    .slice(0, 32)
    .replace(/(.{4})(?=.)/g, "$1-");
