import { randomBytes } from "node:crypto";
import { generateSecret, generateURI, verify } from "otplib";
import type { PersonId } from "@/core/ids";
import type { SignInRow } from "@/db/access/people";
import { setRecoveryCodes, spendRecoveryCode, spendStep } from "@/db/access/second-factor";
import type { Tx } from "@/db/base/scope";
import { hashSecret, type Secrets } from "@/store/seal/secrets";

/** The second factor: codes of RFC 6238 (SHA-1, six digits, thirty seconds), and recovery codes for a lost telephone. */

export const seedContext = (personId: PersonId): string => `second factor ${personId}`;
/** A code counts half a minute early or late, for clocks that differ. */
const TOLERANCE_SECONDS = 30;
const RECOVERY_CODES = 10;

export const newSeed = (): string => generateSecret();
export const sealSeed = (secrets: Secrets, personId: PersonId, seed: string): Buffer =>
  secrets.seal(Buffer.from(seed, "ascii"), seedContext(personId));
/** The address that an authenticator reads from the QR picture. */
export const seedAddress = (seed: string, email: string): string =>
  generateURI({ issuer: "Deep Keep", label: email, secret: seed });

/** The step of time that a code is of, or null when it is of none, or of one that was used. */
export async function stepOfCode(
  secrets: Secrets,
  person: Pick<SignInRow, "id" | "factorSeed" | "factorStep">,
  code: string,
  now: Date,
): Promise<number | null> {
  if (!person.factorSeed || !/^\d{6}$/.test(code)) return null;
  const answer = await verify({
    secret: secrets.unseal(person.factorSeed, seedContext(person.id)).toString("ascii"),
    token: code,
    epoch: Math.floor(now.getTime() / 1000),
    epochTolerance: TOLERANCE_SECONDS,
  });
  if (!answer.valid || !("timeStep" in answer)) return null;
  return person.factorStep !== null && answer.timeStep <= person.factorStep ? null : answer.timeStep;
}

/** Letters and digits that nobody mixes up, in two groups: 49 bits. */
const ALPHABET = "23456789abcdefghjkmnpqrstuvwxyz";
function recoveryCode(): string {
  let text = "";
  while (text.length < 10)
    for (const byte of randomBytes(16)) if (byte < 248) text += ALPHABET[byte % ALPHABET.length];
  return `${text.slice(0, 5)}-${text.slice(5, 10)}`;
}
const spelled = (code: string): string => code.toLowerCase().replace(/[^a-z0-9]/g, "");

/** Makes recovery codes anew; they are shown once. */
export async function makeRecoveryCodes(tx: Tx, personId: PersonId): Promise<string[]> {
  const codes = Array.from({ length: RECOVERY_CODES }, recoveryCode);
  await setRecoveryCodes(
    tx,
    personId,
    codes.map((code) => hashSecret(spelled(code))),
  );
  return codes;
}

/** Takes a code of the second factor or a recovery code, and uses it up. Says which it was, or null. */
export async function takeCode(
  tx: Tx,
  secrets: Secrets,
  person: SignInRow,
  code: string,
  now: Date,
): Promise<"code" | "recovery code" | null> {
  const typed = code.trim();
  const step = await stepOfCode(secrets, person, typed.replace(/\s/g, ""), now);
  if (step !== null) return (await spendStep(tx, person.id, step)) === 1 ? "code" : null;
  if (spelled(typed).length !== 10) return null;
  return (await spendRecoveryCode(tx, person.id, hashSecret(spelled(typed)), now)) === 1
    ? "recovery code"
    : null;
}
