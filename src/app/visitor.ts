import { cookies, headers } from "next/headers";
import { redirect } from "next/navigation";
import { cache } from "react";
import { countPeople, type Person } from "@/db/access/people";
import type { Scope, Tx } from "@/db/base/scope";
import { isSecure, personOfSession, scopeOf, sessionCookieName } from "@/server/access/sign-in";
import { hashSecret } from "@/store/seal/secrets";
import { theServices } from "./console";

async function sessionToken(): Promise<string | null> {
  const secure = isSecure((await headers()).get("x-forwarded-proto"));
  return (await cookies()).get(sessionCookieName(secure))?.value ?? null;
}

/** Who looks at a page, read once for it. */
export const visitor = cache(async (): Promise<Person | null> => {
  const token = await sessionToken();
  return token ? personOfSession(theServices(), token) : null;
});

/** What tells this session from others, in hex. */
export async function sessionId(): Promise<string | null> {
  const token = await sessionToken();
  return token ? hashSecret(token).toString("hex") : null;
}

/** The person, also one who has to set up a second factor first; or the way to sign in. */
export async function signedInAnyhow(): Promise<Person> {
  const person = await visitor();
  if (!person) redirect((await nobodyYet()) ? "/setup" : "/sign-in");
  return person;
}

/** The person, or the way to sign in, or to the second factor that their role must have. */
export async function signedIn(): Promise<Person> {
  const person = await signedInAnyhow();
  if (person.factorMissing) redirect("/account");
  return person;
}

export const nobodyYet = async (): Promise<boolean> =>
  (await theServices().db.withScope({ role: "system" }, (tx) => countPeople(tx))) === 0;

/** Runs a query as the person on this page. */
export async function asVisitor<T>(work: (tx: Tx, scope: Scope) => Promise<T>): Promise<T> {
  const scope = scopeOf(await signedIn());
  return theServices().db.withScope(scope, (tx) => work(tx, scope));
}

/** Where a person starts. */
export const homeOf = (person: Person): string =>
  person.factorMissing ? "/account" : person.clientId ? "/portal/restore" : "/all/watch";
