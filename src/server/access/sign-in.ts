import { randomUUID } from "node:crypto";
import { hash, verify } from "@node-rs/argon2";
import { clearResets, type Person, personByEmail, type SignInRow } from "@/db/access/people";
import {
  type ApiToken,
  deleteOldSessions,
  deleteSession,
  insertSession,
  newAgent,
  personBySession,
  personByToken,
  seeSession,
  seeToken,
} from "@/db/access/sessions";
import { appendTrail } from "@/db/access/trail";
import type { Scope, Tx } from "@/db/base/scope";
import { zoneFor } from "@/db/clients/clients";
import { insertMessage, mailSettings } from "@/db/notices/notices";
import { hashSecret, randomSecret } from "@/store/seal/secrets";
import { Problem } from "../base/problem";
import type { Services } from "../base/services";
import { momentText } from "../inside/moment-label";
import { takeCode } from "./second-factor";

const SESSION_COOKIE = "deepkeep_session";
/** Whether a request came over TLS, which a proxy before the console ends. */
export const isSecure = (protocol: string | null): boolean => protocol?.startsWith("https") ?? false;
/**
 * The session's cookie. Over TLS its name binds it to this very host and to TLS (`__Host-`, RFC 6265bis), so that no other
 * host of the domain can plant one.
 */
export const sessionCookieName = (secure: boolean): string =>
  secure ? `__Host-${SESSION_COOKIE}` : SESSION_COOKIE;
export const SESSION_HOURS = 12;

/** Argon2id as OWASP's password storage advice has it: 19 MiB, two passes, one lane. */
const ARGON2ID = 2;
const ARGON = { algorithm: ARGON2ID, memoryCost: 19 * 1024, timeCost: 2, parallelism: 1 };
export const hashPassword = (password: string): Promise<string> => hash(password, ARGON);

/** Whether a person's password is right, for a change that asks for it again. Throws `request.too-many`. */
export async function passwordFits(
  services: Services,
  person: Pick<SignInRow, "id" | "passwordHash">,
  typed: string,
): Promise<boolean> {
  await services.attempts.take("own password", person.id);
  const fits = person.passwordHash !== null && (await verify(person.passwordHash, typed));
  if (fits) await services.attempts.giveBack("own password", person.id);
  return fits;
}

/** Whether a code of the person's second factor, or a recovery code, is right; it is used up. Throws `request.too-many`. */
export async function codeFits(services: Services, person: SignInRow, typed: string): Promise<boolean> {
  await services.attempts.take("own password", person.id);
  const taken = await services.db.withScope({ role: "system" }, (tx) =>
    takeCode(tx, services.secrets, person, typed, services.now()),
  );
  if (taken) await services.attempts.giveBack("own password", person.id);
  return taken !== null;
}

/** A hash that no password has: an unknown address takes as long as a known one. */
const nobody = hashPassword(randomSecret());

export interface SignedIn {
  readonly person: Person;
  readonly token: string;
  readonly expires: Date;
}

/** Where somebody signs in from. */
export interface From {
  readonly address: string;
  /** What the browser calls itself. */
  readonly agent: string;
}

/**
 * Signs a person in. Throws `auth.refused`, `auth.factor-needed` (the password is right, and a code is wanted beside it) or
 * `request.too-many`.
 */
export async function signIn(
  services: Services,
  given: { readonly email: string; readonly password: string; readonly code?: string | undefined },
  from: From,
): Promise<SignedIn> {
  const emailKey = given.email.toLowerCase();
  await services.attempts.take("sign-in address", from.address);
  await services.attempts.take("sign-in", emailKey);
  const now = services.now();
  const system = <T>(work: (tx: Tx) => Promise<T>) => services.db.withScope({ role: "system" }, work);
  const found = await system((tx) => personByEmail(tx, given.email));
  const right = await verify(found?.passwordHash ?? (await nobody), given.password);
  const refuse = async (words: string): Promise<never> => {
    await system((tx) =>
      appendTrail(tx, {
        at: now,
        clientId: found?.clientId ?? null,
        actor: emailKey.slice(0, 200),
        address: from.address,
        action: "sign-in refused",
        subject: "console",
      }),
    );
    throw new Problem("auth.refused", words);
  };
  if (!found?.passwordHash || !right) return refuse("The address or the password is wrong.");
  let by = "password";
  if (found.factor) {
    if (!given.code) {
      // the password is right; it is the code that is guessed from here on
      await services.attempts.giveBack("sign-in", emailKey);
      await services.attempts.giveBack("sign-in address", from.address);
      throw new Problem("auth.factor-needed");
    }
    const taken = await system((tx) => takeCode(tx, services.secrets, found, given.code!, now));
    if (!taken) return refuse("The code is wrong or was already used. Wait for the next code.");
    by = `password and ${taken}`;
  }
  await services.attempts.forget("sign-in", emailKey);
  await services.attempts.giveBack("sign-in address", from.address);
  return system(async (tx) => {
    // whoever has both halves of a sign-in owes neither to a reset
    if (found.factor) await clearResets(tx, found.id);
    return openSession(services, tx, found, from, by);
  });
}

/** Opens a session for a person who has shown who they are; a browser that is new to them is told by mail. */
export async function openSession(
  services: Services,
  tx: Tx,
  found: Person | SignInRow,
  from: From,
  by: string,
): Promise<SignedIn> {
  const now = services.now();
  const { id, clientId, email, name, role, clientIds, factor, factorMissing } = found;
  const person: Person = { id, clientId, email, name, role, clientIds, factor, factorMissing };
  const token = randomSecret();
  const expires = new Date(now.getTime() + SESSION_HOURS * 3_600_000);
  await deleteOldSessions(tx, now);
  await insertSession(
    tx,
    {
      id: hashSecret(token),
      personId: id,
      expires,
      address: from.address,
      agent: from.agent.slice(0, 300),
    },
    now,
  );
  // versions change by themselves; the rest of what a browser says of itself does not
  const agent = hashSecret(`${from.address} ${from.agent.replace(/[\d._]+/g, "")}`);
  const fresh = await newAgent(tx, id, agent, now);
  await appendTrail(tx, {
    at: now,
    clientId,
    actor: name,
    address: from.address,
    action: "signed in",
    subject: "console",
    details: { by, ...(fresh ? { newBrowser: true } : {}) },
  });
  if (fresh && (await mailSettings(tx))) {
    const zone = await zoneFor(tx, clientId);
    await insertMessage(
      tx,
      {
        id: randomUUID(),
        clientId,
        recipient: `mail:${email}`,
        subject: "Deep Keep: a sign-in from a new browser",
        body: `${name},\n\nthere was a sign-in to your account on ${momentText(now, zone)} (${zone}), from ${from.address}, with a new browser:\n\n  ${from.agent || "unknown browser"}\n\nIf that was you, there is nothing to do. If not: sign in, end that session under "Your account", change your password, and tell your provider.\n`,
      },
      now,
    );
  }
  return { person, token, expires };
}

export async function signOut(
  services: Services,
  token: string,
  person: Person,
  address: string,
): Promise<void> {
  await services.db.withScope({ role: "system" }, async (tx) => {
    await deleteSession(tx, hashSecret(token));
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

/** Who a session belongs to, or null; asking is a sign of life. */
export const personOfSession = (services: Services, token: string): Promise<Person | null> =>
  services.db.withScope({ role: "system" }, async (tx) => {
    const found = await personBySession(tx, hashSecret(token), services.now());
    if (!found) return null;
    const { longUnseen, ...person } = found;
    if (longUnseen) await seeSession(tx, hashSecret(token), services.now());
    return person;
  });
/** Who a token of the API belongs to and what it may do, or null. */
export const personOfToken = (services: Services, token: string): Promise<(Person & ApiToken) | null> =>
  services.db.withScope({ role: "system" }, async (tx) => {
    const person = await personByToken(tx, hashSecret(token), services.now());
    if (person) await seeToken(tx, hashSecret(token), services.now());
    return person;
  });

/** What the database shows a person. */
export function scopeOf(person: Person): Scope {
  const { id: personId, clientId, role, clientIds } = person;
  if (clientId) return { role: role === "manager" ? "client" : "person", clientId, personId };
  return {
    role: "provider",
    ...(clientIds ? { clientIds } : {}),
    ...(role === "reader" ? { readOnly: true } : {}),
  };
}
