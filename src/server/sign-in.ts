import { hash, verify } from "@node-rs/argon2";
import { RateLimiterMemory } from "rate-limiter-flexible";
import { takeLoansBack } from "@/db/keys";
import {
  deleteOldSessions,
  deleteSession,
  insertSession,
  type Person,
  personByEmail,
  personBySession,
  personByToken,
} from "@/db/people";
import type { Scope } from "@/db/scope";
import { appendTrail } from "@/db/trail";
import { hashSecret, randomSecret } from "@/store/secrets";
import { Problem } from "./problem";
import type { Services } from "./services";

export const SESSION_COOKIE = "deepkeep_session";
export const SESSION_HOURS = 12;

/** Argon2id as OWASP's password storage advice has it: 19 MiB, two passes, one lane. */
const ARGON2ID = 2;
const ARGON = { algorithm: ARGON2ID, memoryCost: 19 * 1024, timeCost: 2, parallelism: 1 };
export const hashPassword = (password: string): Promise<string> => hash(password, ARGON);

/** Ten wrong passwords for one address of a person, fifty from one network address, in a quarter of an hour. */
const byEmail = new RateLimiterMemory({ points: 10, duration: 900 });
const byAddress = new RateLimiterMemory({ points: 50, duration: 900 });

/** A hash that no password has: an unknown address takes as long as a known one. */
const nobody = hashPassword(randomSecret());

export interface SignedIn {
  readonly person: Person;
  readonly token: string;
  readonly expires: Date;
}

/** Signs a person in. Throws `auth.refused` or `request.too-many`. */
export async function signIn(
  services: Services,
  email: string,
  password: string,
  address: string,
): Promise<SignedIn> {
  const emailKey = email.toLowerCase();
  const [forEmail, forAddress] = await Promise.all([byEmail.get(emailKey), byAddress.get(address)]);
  if ((forEmail && forEmail.remainingPoints <= 0) || (forAddress && forAddress.remainingPoints <= 0)) {
    throw new Problem(
      "request.too-many",
      "Too many wrong passwords. Wait a quarter of an hour, then try again.",
    );
  }
  const now = services.now();
  const found = await services.db.withScope({ role: "system" }, (tx) => personByEmail(tx, email));
  const right = await verify(found?.passwordHash ?? (await nobody), password);
  if (!found || !right) {
    await Promise.allSettled([byEmail.consume(emailKey), byAddress.consume(address)]);
    await services.db.withScope({ role: "system" }, (tx) =>
      appendTrail(tx, {
        at: now,
        clientId: found?.clientId ?? null,
        actor: emailKey.slice(0, 200),
        address,
        action: "sign-in refused",
        subject: "console",
      }),
    );
    throw new Problem("auth.refused", "The address or the password is wrong.");
  }
  await byEmail.delete(emailKey);
  const { passwordHash: _, ...person } = found;
  const token = randomSecret();
  const expires = new Date(now.getTime() + SESSION_HOURS * 3_600_000);
  await services.db.withScope({ role: "system" }, async (tx) => {
    await deleteOldSessions(tx, now);
    await insertSession(tx, hashSecret(token), person.id, now, expires, address);
    await appendTrail(tx, {
      at: now,
      clientId: person.clientId,
      actor: person.name,
      address,
      action: "signed in",
      subject: "console",
    });
  });
  return { person, token, expires };
}

export async function signOut(
  services: Services,
  token: string,
  person: Person,
  address: string,
): Promise<void> {
  services.sessionKeys?.close(hashSecret(token).toString("hex"));
  await services.db.withScope({ role: "system" }, async (tx) => {
    await deleteSession(tx, hashSecret(token));
    await takeLoansBack(tx, hashSecret(token));
    await appendTrail(tx, {
      at: services.now(),
      clientId: person.clientId,
      actor: person.name,
      address,
      action: "signed out",
      subject: "console",
    });
  });
}

/** Who a session or a bearer token belongs to, or null. */
export const personOfSession = (services: Services, token: string): Promise<Person | null> =>
  services.db.withScope({ role: "system" }, (tx) => personBySession(tx, hashSecret(token), services.now()));
export const personOfToken = (services: Services, token: string): Promise<Person | null> =>
  services.db.withScope({ role: "system" }, (tx) => personByToken(tx, hashSecret(token), services.now()));

export const scopeOf = (person: Person): Scope =>
  person.clientId ? { role: "client", clientId: person.clientId } : { role: "provider" };
