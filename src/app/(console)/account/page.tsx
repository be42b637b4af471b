import { recoveryCodesLeft } from "@/db/access/second-factor";
import { sessionsOf, tokensOf } from "@/db/access/sessions";
import { readProvider } from "@/db/clients/clients";
import { AccountSheet } from "@/ui/frame/account-sheet";
import { theServices } from "../../console";
import { sessionId, signedInAnyhow } from "../../visitor";

export const metadata = { title: "Your account" };

export default async function Page() {
  const person = await signedInAnyhow();
  const current = await sessionId();
  const services = theServices();
  const now = services.now();
  const shown = await services.db.withScope({ role: "system" }, async (tx) => ({
    zone: (await readProvider(tx))?.zone ?? "UTC",
    codesLeft: await recoveryCodesLeft(tx, person.id),
    sessions: await sessionsOf(tx, person.id, current ? Buffer.from(current, "hex") : null, now),
    tokens: await tokensOf(tx, person.id, now),
  }));
  return <AccountSheet person={person} now={now} {...shown} />;
}
