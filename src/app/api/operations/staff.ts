import { randomUUID } from "node:crypto";
import { z } from "zod";
import type { PersonId } from "@/core/ids";
import { CLIENT_ROLES, isClientRole, PROVIDER_ROLES, ROLES } from "@/core/rights/rights";
import {
  emailTaken,
  factorRoles,
  insertPerson,
  limitToClients,
  listPeople,
  noteFactorReset,
  notePasswordReset,
  otherOwners,
  type Person,
  personById,
  removePerson,
  resetsOf,
  setFactorRoles,
  setRole,
} from "@/db/access/people";
import { removeFactor } from "@/db/access/second-factor";
import { endSessions, endTokens } from "@/db/access/sessions";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import { endGiftsOfPerson } from "@/db/portal/gifts";
import { invite, originOf } from "@/server/access/invitations";
import { type Context, operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import * as shape from "../shapes";
import { clientParam, email, name, personParam, uuid } from "./ids";

const system = <T>(context: Context, work: (tx: Tx) => Promise<T>): Promise<T> =>
  context.services.db.withScope({ role: "system" }, work);

const newPerson = { name: name("a name"), email };

async function limitTo(tx: Tx, personId: PersonId, clientIds: readonly string[]): Promise<void> {
  if (!(await limitToClients(tx, personId, clientIds)))
    throw invalid("clientIds", "One of these clients is not there.");
}

async function addPerson(
  context: Context,
  person: Pick<Person, "clientId" | "role"> & { name: string; email: string },
  clientIds: readonly string[] = [],
) {
  // sessions and invitations are the program's own: no scope of a person's reaches them
  return system(context, async (tx) => {
    if (await emailTaken(tx, person.email))
      throw invalid("email", "This address is already in use. Each person needs their own.");
    const id = randomUUID();
    await insertPerson(tx, { id, ...person }, null, context.who.at);
    await limitTo(tx, id, clientIds);
    await context.record(tx, person.clientId, "invited a person", person.name, {
      email: person.email.toLowerCase(),
      role: person.role,
      ...(clientIds.length > 0 ? { clients: clientIds.length } : {}),
    });
    const made = (await personById(tx, id))!;
    return {
      person: made,
      invitation: await invite(tx, context.services.secrets, context.who, made, originOf(context.request)),
    };
  });
}

/** A person whom the caller may change: of a client in their reach, or, for owners, the provider's own. */
async function theirPerson(context: Context, personId: PersonId): Promise<Person> {
  const found = await system(context, (tx) => personById(tx, personId));
  if (!found) throw notFound();
  if (!found.clientId) {
    if (context.person!.role !== "owner") throw new Problem("auth.not-allowed");
    return found;
  }
  const { clientId } = found;
  if (!(await context.tx((tx) => clientById(tx, clientId)))) throw notFound();
  return found;
}

/** Whoever reset one half of a sign-in could take the account over with the other half. */
const onePersonAlone = (name: string): Problem =>
  new Problem(
    "auth.not-allowed",
    `You reset the other half of ${name}'s sign-in. Password and second factor are reset by two different people; ask a colleague.`,
  );

export const staff = [
  operation({
    id: "listProviderPeople",
    method: "GET",
    path: "/people",
    summary: "The provider's people, and the roles that require a second factor.",
    caller: "provider-people",
    pages: { of: "people" },
    answer: z.object({
      people: shape.list(shape.listedPerson),
      factorRoles: shape.list(z.enum(["person", "owner", "technician", "reader", "manager"])),
    }),
    run: (context) =>
      context.tx(async (tx) => ({
        people: await listPeople(tx, null),
        factorRoles: await factorRoles(tx),
      })),
  }),
  operation({
    id: "inviteProviderPerson",
    shownOnce: ["invitation.url"],
    method: "POST",
    path: "/people",
    summary:
      "Invite one of the provider's people: an owner, a technician or a reader, for all or some clients.",
    caller: "provider-people",
    status: 201,
    body: z.object({
      ...newPerson,
      role: z.enum(PROVIDER_ROLES),
      /** None for all. */
      clientIds: z.array(uuid).max(1000).default([]),
    }),
    answer: z.object({ person: shape.person, invitation: shape.madeInvitation }),
    run: (context, { body }) => {
      if (body.role === "owner" && body.clientIds.length > 0)
        throw invalid("clientIds", "An owner is of all clients.");
      return addPerson(
        context,
        { clientId: null, role: body.role, name: body.name, email: body.email },
        body.clientIds,
      );
    },
  }),
  operation({
    id: "requireFactor",
    method: "PUT",
    path: "/people/factor-roles",
    summary: "Set the roles that require a second factor. Their people without one can only set one up.",
    caller: "provider-people",
    body: z.object({ roles: z.array(z.enum(ROLES)) }),
    answer: z.object({
      factorRoles: shape.list(z.enum(["person", "owner", "technician", "reader", "manager"])),
    }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        const me = context.person!;
        if (body.roles.includes(me.role) && !me.factor)
          throw invalid("roles", "Set up your own second factor first, or you would lock yourself out.");
        await setFactorRoles(tx, [...new Set(body.roles)]);
        await context.record(tx, null, "required a second factor", body.roles.join(", ") || "of nobody");
        return { factorRoles: await factorRoles(tx) };
      }),
  }),
  operation({
    id: "listClientPeople",
    method: "GET",
    path: "/clients/{clientId}/people",
    summary: "The client's people.",
    caller: "client-people",
    pages: { of: "people" },
    params: clientParam,
    answer: z.object({ people: shape.list(shape.listedPerson) }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        if (!(await clientById(tx, params.clientId))) throw notFound();
        return { people: await listPeople(tx, params.clientId) };
      }),
  }),
  operation({
    id: "inviteClientPerson",
    shownOnce: ["invitation.url"],
    method: "POST",
    path: "/clients/{clientId}/people",
    summary: "Invite one of the client's people: a manager, or a person who restores shared files.",
    caller: "client-people",
    status: 201,
    params: clientParam,
    body: z.object({ ...newPerson, role: z.enum(CLIENT_ROLES) }),
    answer: z.object({ person: shape.person, invitation: shape.madeInvitation }),
    run: async (context, { params, body }) => {
      if (!(await context.tx((tx) => clientById(tx, params.clientId)))) throw notFound();
      return addPerson(context, { clientId: params.clientId, ...body });
    },
  }),
  operation({
    id: "changePerson",
    method: "PATCH",
    path: "/people/{personId}",
    summary: "Change a person's role, or the clients they are limited to (none for all).",
    caller: "client-people",
    params: personParam,
    body: z.object({ role: z.enum(ROLES).optional(), clientIds: z.array(uuid).max(1000).optional() }),
    answer: z.object({ person: shape.person.nullable() }),
    run: async (context, { params, body }) => {
      const person = await theirPerson(context, params.personId);
      const role = body.role ?? person.role;
      if (isClientRole(role) !== (person.clientId !== null))
        throw invalid("role", "This role is not for people of theirs: a client's people stay a client's.");
      if (body.clientIds?.length && (person.clientId || role === "owner"))
        throw invalid("clientIds", "Only technicians and readers are limited to clients.");
      return system(context, async (tx) => {
        if (person.role === "owner" && role !== "owner" && (await otherOwners(tx, person.id)) === 0)
          throw invalid("role", "This is the last owner. Make another person an owner first.");
        await setRole(tx, person.id, role);
        if (body.clientIds || role === "owner")
          await limitTo(tx, person.id, role === "owner" ? [] : (body.clientIds ?? []));
        await context.record(tx, person.clientId, "changed a person's role", person.name, {
          from: person.role,
          to: role,
          ...(body.clientIds ? { clients: body.clientIds.length || "all" } : {}),
        });
        return { person: await personById(tx, person.id) };
      });
    },
  }),
  operation({
    id: "inviteAgain",
    method: "POST",
    path: "/people/{personId}/invitation",
    summary:
      "Create a new invitation, for an expired one or a forgotten password. A second factor stays on and is required.",
    shownOnce: ["invitation.url"],
    caller: "client-people",
    status: 201,
    params: personParam,
    answer: z.object({ invitation: shape.madeInvitation }),
    run: async (context, { params }) => {
      const person = await theirPerson(context, params.personId);
      return system(context, async (tx) => {
        if ((await resetsOf(tx, person.id)).factorBy === context.person!.id)
          throw onePersonAlone(person.name);
        if (person.factor) await notePasswordReset(tx, person.id, context.person!.id);
        await context.record(tx, person.clientId, "invited a person again", person.name);
        return {
          invitation: await invite(
            tx,
            context.services.secrets,
            context.who,
            person,
            originOf(context.request),
          ),
        };
      });
    },
  }),
  operation({
    id: "resetFactor",
    method: "DELETE",
    path: "/people/{personId}/factor",
    summary:
      "Turn off a person's lost second factor. Their sessions end. Not allowed for whoever reset their password.",
    caller: "client-people",
    params: personParam,
    answer: z.object({ sessionsEnded: z.number() }),
    run: async (context, { params }) => {
      const person = await theirPerson(context, params.personId);
      return system(context, async (tx) => {
        if ((await resetsOf(tx, person.id)).passwordBy === context.person!.id)
          throw onePersonAlone(person.name);
        if (person.factor) await noteFactorReset(tx, person.id, context.person!.id);
        await removeFactor(tx, person.id);
        const sessionsEnded = await endSessions(tx, person.id, null);
        await context.record(tx, person.clientId, "turned off a person's second factor", person.name, {
          sessionsEnded,
        });
        return { sessionsEnded };
      });
    },
  }),
  operation({
    id: "endPersonSessions",
    method: "DELETE",
    path: "/people/{personId}/sessions",
    summary: "Sign out a person: end all sessions.",
    caller: "client-people",
    params: personParam,
    answer: z.object({ sessionsEnded: z.number() }),
    run: async (context, { params }) => {
      const person = await theirPerson(context, params.personId);
      return system(context, async (tx) => {
        const sessionsEnded = await endSessions(tx, person.id, null);
        await context.record(tx, person.clientId, "signed out a person", person.name, {
          sessionsEnded,
        });
        return { sessionsEnded };
      });
    },
  }),
  operation({
    id: "removePerson",
    method: "DELETE",
    path: "/people/{personId}",
    summary: "Remove a person. Sessions, tokens and shares end immediately; the trail is kept.",
    caller: "client-people",
    params: personParam,
    answer: z.object({ closed: z.boolean() }),
    run: async (context, { params }) => {
      const person = await theirPerson(context, params.personId);
      if (person.id === context.person!.id)
        throw new Problem("request.conflict", "You cannot close your own account.");
      return system(context, async (tx) => {
        if (person.role === "owner" && (await otherOwners(tx, person.id)) === 0)
          throw new Problem(
            "request.conflict",
            "This is the last owner. Make another person an owner first.",
          );
        await endSessions(tx, person.id, null);
        await endTokens(tx, person.id);
        await endGiftsOfPerson(tx, person.id, context.who.at);
        await removePerson(tx, person.id, context.who.at);
        await context.record(tx, person.clientId, "removed a person", person.name);
        return { closed: true };
      });
    },
  }),
];
