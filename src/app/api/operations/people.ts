import { randomUUID } from "node:crypto";
import { z } from "zod";
import { zoneSchema } from "@/core/policy/zone";
import { PROVIDER_ROLES } from "@/core/rights/rights";
import {
  countPeople,
  insertPerson,
  personById,
  setFactorRoles,
  setPassword,
  signInRow,
} from "@/db/access/people";
import { endSessions, endTokens, invitationById, takeInvitation } from "@/db/access/sessions";
import { lockInTx } from "@/db/base/advisory-locks";
import { setProvider } from "@/db/clients/clients";
import { refuseKnownPassword } from "@/server/access/known-passwords";
import {
  codeFits,
  type From,
  hashPassword,
  isSecure,
  openSession,
  SESSION_HOURS,
  sessionCookieName,
  signIn,
  signOut,
} from "@/server/access/sign-in";
import type { Who } from "@/server/access/who";
import { operation } from "@/server/api/operation";
import { invalid, Problem } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import { hashSecret } from "@/store/seal/secrets";
import * as shape from "../shapes";
import { email, name, password } from "./ids";

function sessionCookie(request: Request, token: string, seconds: number): string {
  const secure = isSecure(request.headers.get("x-forwarded-proto"));
  return `${sessionCookieName(secure)}=${token}; Path=/; HttpOnly; SameSite=Lax; Max-Age=${seconds}${secure ? "; Secure" : ""}`;
}

const fromOf = (who: Who, request: Request): From => ({
  address: who.address,
  agent: request.headers.get("user-agent") ?? "",
});

const secretParam = z.object({ secret: z.string().min(20).max(100) });
const GONE = "This invitation was accepted already, or has expired. Ask for a new one.";

async function invitationOf(services: Services, secret: string, now: Date) {
  const found = await services.db.withScope({ role: "system" }, (tx) =>
    invitationById(tx, hashSecret(secret), now),
  );
  if (!found) throw new Problem("not-found", GONE);
  return found;
}

export const people = [
  operation({
    id: "signIn",
    method: "POST",
    path: "/sessions",
    summary: "Sign in; the answer sets the session's cookie.",
    caller: "anyone",
    body: z.object({
      email: z.string().min(1, "Enter your e-mail address."),
      password: z.string().min(1, "Enter your password.").max(1000),
      code: z.string().trim().max(40).optional(),
    }),
    answer: z.object({ person: shape.person }),
    run: async ({ services, who, request, headers }, { body }) => {
      const { person, token } = await signIn(services, body, fromOf(who, request));
      headers.set("set-cookie", sessionCookie(request, token, SESSION_HOURS * 3600));
      return { person };
    },
  }),
  operation({
    id: "signOut",
    method: "DELETE",
    path: "/sessions/current",
    summary: "Sign out.",
    caller: "person",
    answer: z.object({}),
    run: async ({ services, person, who, sessionToken, request, headers }) => {
      if (sessionToken) await signOut(services, sessionToken, person!, who.address);
      headers.set("set-cookie", sessionCookie(request, "", 0));
      return {};
    },
  }),
  operation({
    id: "me",
    method: "GET",
    path: "/me",
    summary: "Who is signed in.",
    caller: "person",
    answer: z.object({ person: shape.person.nullable() }),
    run: async ({ person }) => ({ person }),
  }),
  operation({
    id: "createOwner",
    method: "POST",
    path: "/setup",
    summary: "Create the provider and its owner. Possible once, while there are no people.",
    caller: "anyone",
    status: 201,
    body: z.object({
      provider: name("the provider's name"),
      zone: zoneSchema,
      name: name("your name"),
      email,
      password,
      /** A second factor of all of the provider's people, from the first day on. */
      requireFactor: z.boolean().default(true),
    }),
    answer: z.object({ person: shape.person }),
    run: async ({ services, who, request, headers }, { body }) => {
      await refuseKnownPassword(body.password, [body.name, body.email, body.provider]);
      const hash = await hashPassword(body.password);
      await services.db.withScope({ role: "system" }, async (tx) => {
        await lockInTx(tx, "firstOwner");
        if ((await countPeople(tx)) > 0)
          throw new Problem("request.conflict", "This console has an owner already. Sign in.");
        await setProvider(tx, { name: body.provider, zone: body.zone });
        await insertPerson(
          tx,
          { id: randomUUID(), clientId: null, email: body.email, name: body.name, role: "owner" },
          hash,
          who.at,
        );
        if (body.requireFactor) await setFactorRoles(tx, [...PROVIDER_ROLES]);
      });
      const { person, token } = await signIn(services, body, fromOf(who, request));
      headers.set("set-cookie", sessionCookie(request, token, SESSION_HOURS * 3600));
      return { person };
    },
  }),
  operation({
    id: "readInvitation",
    method: "GET",
    path: "/invitations/{secret}",
    summary: "The person of an invitation.",
    caller: "anyone",
    params: secretParam,
    answer: z.object({ invitation: shape.invitation }),
    run: async ({ services, who }, { params }) => ({
      invitation: await invitationOf(services, params.secret, who.at),
    }),
  }),
  operation({
    id: "acceptInvitation",
    method: "POST",
    path: "/invitations/{secret}",
    summary: "Accept an invitation: set a password and sign in.",
    caller: "anyone",
    params: secretParam,
    body: z.object({
      password,
      /** Of the second factor, where the person has one: a new password does not replace it. */
      code: z.string().trim().max(40).optional(),
    }),
    answer: z.object({ person: shape.person }),
    run: async ({ services, who, request, headers }, { params, body }) => {
      const { personId, name, email, factor } = await invitationOf(services, params.secret, who.at);
      await refuseKnownPassword(body.password, [name, email]);
      if (factor) {
        if (!body.code) throw new Problem("auth.factor-needed");
        const row = (await services.db.withScope({ role: "system" }, (tx) => signInRow(tx, personId)))!;
        if (!(await codeFits(services, row, body.code)))
          throw invalid("code", "The code is wrong or was already used. Wait for the next code.");
      }
      const hash = await hashPassword(body.password);
      const signedIn = await services.db.withScope({ role: "system" }, async (tx) => {
        if ((await takeInvitation(tx, hashSecret(params.secret))) === 0) throw new Problem("not-found", GONE);
        await setPassword(tx, personId, hash);
        await endSessions(tx, personId, null);
        await endTokens(tx, personId);
        return openSession(
          services,
          tx,
          (await personById(tx, personId))!,
          fromOf(who, request),
          "invitation",
        );
      });
      headers.set("set-cookie", sessionCookie(request, signedIn.token, SESSION_HOURS * 3600));
      return { person: signedIn.person };
    },
  }),
];
