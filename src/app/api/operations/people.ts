import { randomUUID } from "node:crypto";
import { z } from "zod";
import { zoneSchema } from "@/core/policy/zone";
import { clientById, insertProvider } from "@/db/clients";
import { countPeople, insertPerson } from "@/db/people";
import { operation } from "@/server/api/operation";
import { notFound, Problem } from "@/server/problem";
import { hashPassword, SESSION_COOKIE, SESSION_HOURS, signIn, signOut } from "@/server/sign-in";
import { clientParam, name } from "./ids";

const email = z.email("Give an e-mail address.").max(200);
const password = z.string().min(12, "At least 12 characters; a few words in a row are fine.").max(200);

function sessionCookie(request: Request, token: string, seconds: number): string {
  const secure = (request.headers.get("x-forwarded-proto") ?? new URL(request.url).protocol).startsWith(
    "https",
  );
  return `${SESSION_COOKIE}=${token}; Path=/; HttpOnly; SameSite=Lax; Max-Age=${seconds}${secure ? "; Secure" : ""}`;
}

const withCookie = (body: unknown, cookie: string, status = 200): Response =>
  Response.json(body, { status, headers: { "set-cookie": cookie, "cache-control": "no-store" } });

export const people = [
  operation({
    id: "signIn",
    method: "POST",
    path: "/sessions",
    summary: "Sign in; the answer sets the session's cookie.",
    caller: "anyone",
    body: z.object({
      email: z.string().min(1, "Give your e-mail address."),
      password: z.string().min(1, "Give your password."),
    }),
    run: async ({ services, who, request }, { body }) => {
      const { person, token } = await signIn(services, body.email, body.password, who.address);
      return withCookie({ person }, sessionCookie(request, token, SESSION_HOURS * 3600));
    },
  }),
  operation({
    id: "signOut",
    method: "DELETE",
    path: "/sessions/current",
    summary: "Sign out.",
    caller: "person",
    run: async ({ services, person, who, sessionToken, request }) => {
      if (sessionToken) await signOut(services, sessionToken, person!, who.address);
      return withCookie({}, sessionCookie(request, "", 0));
    },
  }),
  operation({
    id: "me",
    method: "GET",
    path: "/me",
    summary: "Who is signed in.",
    caller: "person",
    run: async ({ person }) => ({ person }),
  }),
  operation({
    id: "makeOwner",
    method: "POST",
    path: "/setup",
    summary: "Make the provider and its owner; possible once, while there is nobody.",
    caller: "anyone",
    status: 201,
    body: z.object({
      provider: name("the provider's name"),
      zone: zoneSchema,
      name: name("your name"),
      email,
      password,
    }),
    run: async ({ services, who, request }, { body }) => {
      const hash = await hashPassword(body.password);
      await services.db.withScope({ role: "system" }, async (tx) => {
        await tx.query("select pg_advisory_xact_lock(7205761)");
        if ((await countPeople(tx)) > 0)
          throw new Problem("request.conflict", "This console has an owner already. Sign in.");
        await insertProvider(tx, { name: body.provider, zone: body.zone });
        await insertPerson(
          tx,
          { id: randomUUID(), clientId: null, email: body.email, name: body.name, role: "owner" },
          hash,
          who.at,
        );
      });
      const { person, token } = await signIn(services, body.email, body.password, who.address);
      return withCookie({ person }, sessionCookie(request, token, SESSION_HOURS * 3600), 201);
    },
  }),
  operation({
    id: "addPortalUser",
    method: "POST",
    path: "/clients/{clientId}/people",
    summary: "Give one of the client's people access to the client's statements.",
    caller: "technician",
    status: 201,
    params: clientParam,
    body: z.object({ name: name("a name"), email, password }),
    run: async (context, { params, body }) => {
      const hash = await hashPassword(body.password);
      return context.tx(async (tx) => {
        const client = await clientById(tx, params.clientId);
        if (!client) throw notFound();
        const person = {
          id: randomUUID(),
          clientId: client.id,
          email: body.email.toLowerCase(),
          name: body.name,
          role: "portal" as const,
        };
        await insertPerson(tx, person, hash, context.who.at);
        await context.record(tx, client.id, "added a portal user", body.name, { email: body.email });
        return person;
      });
    },
  }),
];
