import { CodedError } from "@/core/codes";
import { gcm, type Lock, TAG_BYTES } from "./gcm";

/**
 * Sealed objects. Every object begins with a header of 32 bytes that is bound to all that is sealed in it:
 * `DEEPKEEP`, format version (u16 LE), kind (u8), five zero bytes, the object's random id (16 bytes).
 */
export const FORMAT_VERSION = 1;
export const HEADER_BYTES = 32;
export const OBJECT_ID_BYTES = 16;
const MAGIC = Buffer.from("DEEPKEEP");

export type ObjectKind = "pack" | "point";
const KIND_BYTE: Record<ObjectKind, number> = { pack: 1, point: 2 };

export function headerOf(kind: ObjectKind, id: Uint8Array): Buffer {
  const header = Buffer.alloc(HEADER_BYTES);
  MAGIC.copy(header);
  header.writeUInt16LE(FORMAT_VERSION, 8);
  header[10] = KIND_BYTE[kind];
  header.set(id, 16);
  return header;
}

/** Checks a header and returns the object's id. Throws `depot.newer` or `store.damaged`. */
export function readHeader(bytes: Uint8Array, kind: ObjectKind): Buffer {
  const header = Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  if (header.length < HEADER_BYTES || !header.subarray(0, 8).equals(MAGIC)) {
    throw new CodedError("store.damaged", "an object does not begin with the sign of the store");
  }
  const version = header.readUInt16LE(8);
  if (version > FORMAT_VERSION)
    throw new CodedError("depot.newer", `format ${version}, this program reads up to ${FORMAT_VERSION}`);
  if (header[10] !== KIND_BYTE[kind])
    throw new CodedError("store.damaged", `an object is not the ${kind} it should be`);
  return header.subarray(16, 32);
}

/** The nonce is the place in the object: a key is used for one object only, so no nonce comes twice under it. */
function nonceOf(place: number): Buffer {
  const nonce = Buffer.alloc(12);
  nonce.writeUInt32BE(place, 8);
  return nonce;
}

const lockOf = (key: Uint8Array, place: number, header: Uint8Array): Lock => ({
  key,
  nonce: nonceOf(place),
  header,
});

/** Seals parts one after another with AES-256-GCM into memory that is as long as they are with the tag. */
export function sealInto(
  out: Uint8Array,
  key: Uint8Array,
  place: number,
  header: Uint8Array,
  ...plain: readonly Uint8Array[]
): void {
  gcm.seal(lockOf(key, place, header), plain, out);
}

/** The same into memory of its own. */
export function seal(
  key: Uint8Array,
  place: number,
  header: Uint8Array,
  ...plain: readonly Uint8Array[]
): Buffer {
  const length = plain.reduce((sum, part) => sum + part.length, 0);
  const sealed = Buffer.allocUnsafe(length + TAG_BYTES);
  sealInto(sealed, key, place, header, ...plain);
  return sealed;
}

/**
 * Opens what `seal` closed, into the memory given where it is long enough. Throws `store.damaged` when one bit of it, or of
 * the header, is not as it was; what is in that memory then is nothing.
 */
export function unseal(
  key: Uint8Array,
  place: number,
  header: Uint8Array,
  sealed: Uint8Array,
  into?: Buffer,
): Buffer {
  if (sealed.length < TAG_BYTES) throw new CodedError("store.damaged", "a sealed part is cut short");
  const length = sealed.length - TAG_BYTES;
  const plain = into && into.length >= length ? into.subarray(0, length) : Buffer.allocUnsafe(length);
  if (gcm.open(lockOf(key, place, header), sealed, plain)) return plain;
  throw new CodedError(
    "store.damaged",
    "a sealed part does not open: it was altered, or the key is another one",
  );
}

/**
 * The length that a sealed part is padded to, so that it does not tell the size of a single small file: PADMÉ (Nikitin et
 * al., PETS 2019), at least 4 KiB; adds 12 % at most, about 3 % at a mebibyte.
 */
export function paddedLength(length: number): number {
  if (length <= 4096) return 4096;
  const exponent = Math.floor(Math.log2(length));
  const kept = Math.floor(Math.log2(exponent)) + 1;
  const step = 2 ** (exponent - kept);
  return Math.ceil(length / step) * step;
}
