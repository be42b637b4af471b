import {
  createCipheriv,
  createDecipheriv,
  createHash,
  createPrivateKey,
  createPublicKey,
  diffieHellman,
  generateKeyPairSync,
  hkdfSync,
  randomBytes,
} from "node:crypto";
import { CodedError } from "@/core/codes";

/** AES-256-GCM with a random nonce: nonce, cipher text, tag. For few, small secrets under one key. */
function sealWith(key: Uint8Array, plain: Uint8Array, context: string): Buffer {
  const nonce = randomBytes(12);
  const cipher = createCipheriv("aes-256-gcm", key, nonce).setAAD(Buffer.from(context));
  return Buffer.concat([nonce, cipher.update(plain), cipher.final(), cipher.getAuthTag()]);
}

function unsealWith(key: Uint8Array, sealed: Buffer, context: string): Buffer {
  const decipher = createDecipheriv("aes-256-gcm", key, sealed.subarray(0, 12)).setAAD(Buffer.from(context));
  decipher.setAuthTag(sealed.subarray(-16));
  try {
    return Buffer.concat([decipher.update(sealed.subarray(12, -16)), decipher.final()]);
  } catch (error) {
    throw new CodedError("store.wrong-key", "a secret does not open with this key", { cause: error });
  }
}

/** Seals what lies in the database with the master key, which lies outside it. `context` says what the secret is. */
export interface Secrets {
  seal(plain: Uint8Array, context: string): Buffer;
  unseal(sealed: Buffer, context: string): Buffer;
}

export function secretsWith(masterKey: Uint8Array): Secrets {
  if (masterKey.length !== 32) throw new RangeError("the master key has 32 bytes: 64 hex digits");
  return {
    seal: (plain, context) => sealWith(masterKey, plain, context),
    unseal: (sealed, context) => unsealWith(masterKey, sealed, context),
  };
}

const SPKI_BYTES = 44;

/** A fresh X25519 pair as DER: the private one stays on the machine. */
export function makeKeyPair(): { publicKey: Buffer; privateKey: Buffer } {
  const pair = generateKeyPairSync("x25519");
  return {
    publicKey: pair.publicKey.export({ type: "spki", format: "der" }),
    privateKey: pair.privateKey.export({ type: "pkcs8", format: "der" }),
  };
}

/** Whether bytes are a public key of X25519 that something can be sealed to; points of low order are none (RFC 7748). */
export function isPublicKey(spki: Buffer): boolean {
  try {
    const key = createPublicKey({ key: spki, format: "der", type: "spki" });
    if (key.asymmetricKeyType !== "x25519" || spki.length !== SPKI_BYTES) return false;
    return diffieHellman({ privateKey: generateKeyPairSync("x25519").privateKey, publicKey: key }).some(
      Boolean,
    );
  } catch {
    return false;
  }
}

const sharedKey = (secret: Buffer, first: Uint8Array): Buffer =>
  Buffer.from(hkdfSync("sha256", secret, first, "deep-keep/1 to machine", 32));

/** Seals to a machine's public key, with a key pair made for this once: only that machine opens it. */
export function sealTo(publicKey: Buffer, plain: Uint8Array): Buffer {
  const once = generateKeyPairSync("x25519");
  const spki = once.publicKey.export({ type: "spki", format: "der" });
  const secret = diffieHellman({
    privateKey: once.privateKey,
    publicKey: createPublicKey({ key: publicKey, format: "der", type: "spki" }),
  });
  return Buffer.concat([spki, sealWith(sharedKey(secret, spki), plain, "to machine")]);
}

/** Opens what was sealed to the machine with this private key. */
export function openSealed(privateKey: Buffer, sealed: Buffer): Buffer {
  const spki = sealed.subarray(0, SPKI_BYTES);
  const secret = diffieHellman({
    privateKey: createPrivateKey({ key: privateKey, format: "der", type: "pkcs8" }),
    publicKey: createPublicKey({ key: spki, format: "der", type: "spki" }),
  });
  return unsealWith(sharedKey(secret, spki), sealed.subarray(SPKI_BYTES), "to machine");
}

/** How secrets that people and machines carry are held: never themselves. */
export const hashSecret = (secret: string): Buffer => createHash("sha256").update(secret).digest();
export const randomSecret = (bytes = 32): string => randomBytes(bytes).toString("base64url");
