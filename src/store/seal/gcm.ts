import { createCipheriv, createDecipheriv } from "node:crypto";
import koffi from "koffi";
import { putBytes } from "../write/copy";

/**
 * AES-256-GCM (NIST SP 800-38D) with nonces of 12 and tags of 16 bytes, into memory that is there. OpenSSL as it is in this
 * program is called where its functions can be seen: through Node, each answer is memory of its own that is copied out of and
 * collected, which takes as long as the cipher itself.
 */
export interface Gcm {
  readonly name: string;
  /** Puts cipher text and tag into `out`, which is as long as both. The parts are one text. */
  seal(lock: Lock, parts: readonly Uint8Array[], out: Uint8Array): void;
  /**
   * Puts what was sealed into `out`, which is as long as it; false where one bit of it, of the header, key or nonce is not
   * as it was: what is in `out` then is nothing.
   */
  open(lock: Lock, sealed: Uint8Array, out: Uint8Array): boolean;
}

/** What seals and opens; `header` is bound to what is sealed and stands beside it. */
export interface Lock {
  /** 32 bytes. */
  readonly key: Uint8Array;
  /** 12 bytes. */
  readonly nonce: Uint8Array;
  readonly header: Uint8Array;
}

export const TAG_BYTES = 16;
const KEY_BYTES = 32;
const NONCE_BYTES = 12;

/** What is called with memory of too few bytes would write beyond it. */
function refuseLengths({ key, nonce }: Lock, plain: number, sealed: number): void {
  if (key.length !== KEY_BYTES || nonce.length !== NONCE_BYTES || sealed !== plain + TAG_BYTES)
    throw new RangeError("a key, a nonce or the room for a text has not its length");
}

const lengthOf = (parts: readonly Uint8Array[]): number => parts.reduce((sum, part) => sum + part.length, 0);

/** So much is given to the cipher at a time: each answer is memory of its own, and what is this long is used again at once. */
const STEP_BYTES = 128 * 1024;

function* steps(bytes: Uint8Array, step: number): Generator<Uint8Array> {
  for (let at = 0; at < bytes.length; at += step) yield bytes.subarray(at, at + step);
}

/** Through Node. */
export const nodeGcm: Gcm = {
  name: "node",
  seal(lock, parts, out) {
    refuseLengths(lock, lengthOf(parts), out.length);
    const cipher = createCipheriv("aes-256-gcm", lock.key, lock.nonce).setAAD(lock.header);
    let at = 0;
    for (const part of parts)
      for (const step of steps(part, STEP_BYTES)) {
        putBytes(out, at, cipher.update(step));
        at += step.length;
      }
    cipher.final();
    out.set(cipher.getAuthTag(), at);
  },
  open(lock, sealed, out) {
    refuseLengths(lock, out.length, sealed.length);
    const decipher = createDecipheriv("aes-256-gcm", lock.key, lock.nonce).setAAD(lock.header);
    decipher.setAuthTag(sealed.subarray(out.length));
    let at = 0;
    for (const step of steps(sealed.subarray(0, out.length), STEP_BYTES)) {
      putBytes(out, at, decipher.update(step));
      at += step.length;
    }
    try {
      decipher.final();
    } catch {
      return false;
    }
    return true;
  },
};

/** `EVP_CTRL_AEAD_GET_TAG` and `EVP_CTRL_AEAD_SET_TAG`. */
const GET_TAG = 0x10;
const SET_TAG = 0x11;
/** Lengths are numbers of 32 bits with a sign. */
const MOST_BYTES = 2 ** 30;

/** Through OpenSSL's `EVP` functions in this program; null where they cannot be called. */
export function libraryGcm(): Gcm | null {
  try {
    const library = koffi.load(null as never);
    const aes = library.func("const void *EVP_aes_256_gcm()")() as unknown;
    const context = library.func("void *EVP_CIPHER_CTX_new()")() as unknown;
    const begin = library.func(
      "int EVP_CipherInit_ex(void *ctx, const void *type, void *engine, const uint8_t *key, const uint8_t *iv, int seal)",
    );
    const update = library.func(
      "int EVP_CipherUpdate(void *ctx, uint8_t *out, uint8_t *written, const uint8_t *in, int length)",
    );
    const end = library.func("int EVP_CipherFinal_ex(void *ctx, uint8_t *out, uint8_t *written)");
    const control = library.func("int EVP_CIPHER_CTX_ctrl(void *ctx, int type, int length, uint8_t *tag)");
    const reset = library.func("int EVP_CIPHER_CTX_reset(void *ctx)");
    if (!aes || !context) return null;
    const written = new Uint8Array(4);
    const tag = new Uint8Array(TAG_BYTES);
    const good = (answer: number) => {
      if (answer !== 1) throw new Error("the cipher of this program's OpenSSL cannot be used");
    };

    /** From the lock to before the tag; what a context knows of a key is gone when it has ended. */
    const pass = <T>(
      { key, nonce, header }: Lock,
      sealing: boolean,
      parts: readonly Uint8Array[],
      out: Uint8Array,
      work: () => T,
    ): T => {
      try {
        good(begin(context, aes, null, key, nonce, Number(sealing)));
        if (header.length) good(update(context, null, written, header, header.length));
        let at = 0;
        for (const part of parts)
          for (const step of steps(part, MOST_BYTES)) {
            good(update(context, out.subarray(at), written, step, step.length));
            at += step.length;
          }
        return work();
      } finally {
        reset(context);
      }
    };

    return {
      name: "library",
      seal(lock, parts, out) {
        const length = lengthOf(parts);
        refuseLengths(lock, length, out.length);
        pass(lock, true, parts, out, () => {
          good(end(context, tag, written));
          good(control(context, GET_TAG, TAG_BYTES, tag));
        });
        out.set(tag, length);
      },
      open(lock, sealed, out) {
        refuseLengths(lock, out.length, sealed.length);
        tag.set(sealed.subarray(out.length));
        return pass(lock, false, [sealed.subarray(0, out.length)], out, () => {
          good(control(context, SET_TAG, TAG_BYTES, tag));
          return end(context, written, written) === 1;
        });
      },
    };
  } catch {
    return null;
  }
}

/**
 * The cipher that is used, as `DEEPKEEP_CIPHER` says: `node` for Node's own, `library` for OpenSSL's functions and nothing
 * else; without it, OpenSSL's where they can be called. Throws for anything else, and for `library` where they cannot.
 */
export function chosenGcm(wish: string | undefined): Gcm {
  if (wish === "node") return nodeGcm;
  const library = libraryGcm();
  if (wish === undefined || wish === "") return library ?? nodeGcm;
  if (wish !== "library")
    throw new Error(`DEEPKEEP_CIPHER is ${wish}; it must be node or library, or unset.`);
  if (!library)
    throw new Error("DEEPKEEP_CIPHER is library, and OpenSSL's functions cannot be called in this program.");
  return library;
}

export const gcm: Gcm = chosenGcm(process.env.DEEPKEEP_CIPHER);
