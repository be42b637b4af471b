import { personByEmail } from "@/db/access/people";
import { removeFactor } from "@/db/access/second-factor";
import { endSessions } from "@/db/access/sessions";
import { invite, type MadeInvitation } from "@/server/access/invitations";
import { record } from "@/server/access/who";
import { notFound } from "@/server/base/problem";
import type { Services } from "@/server/base/services";

/**
 * For whoever is locked out and has nobody to ask, the only owner most of all: takes the second factor away, ends the
 * sessions, and makes an invitation to a new password. Whoever can run this holds the machine anyway; the trail has it.
 */
export const resetSignIn = (services: Services, email: string, origin: string): Promise<MadeInvitation> =>
  services.db.withScope({ role: "system" }, async (tx) => {
    const person = await personByEmail(tx, email);
    if (!person) throw notFound();
    const who = { actor: "bin/keep", address: "this machine", at: services.now() };
    await removeFactor(tx, person.id);
    const ended = await endSessions(tx, person.id, null);
    await record(tx, who, person.clientId, "reset a sign-in", person.name, {
      sessionsEnded: ended,
    });
    return invite(tx, services.secrets, who, person, origin);
  });
