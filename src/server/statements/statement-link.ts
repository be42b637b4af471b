import type { Statement } from "@/core/statement/statement";
import { type Client, clientById } from "@/db/clients/clients";
import { wholeLook } from "@/db/clients/looks";
import { openLink } from "@/db/notices/statements";
import { hashSecret } from "@/store/seal/secrets";
import { record, type Who } from "../access/who";
import type { Services } from "../base/services";
import { clientStatement, periodOf } from "./statement";

/** The statement that a link opens, which is counted and stands in the trail; null where the link is not good any more. */
export async function statementOfLink(
  services: Services,
  who: Who,
  secret: string,
): Promise<{
  readonly client: Client;
  readonly statement: Statement;
  readonly until: Date;
  readonly look: { readonly colour: string | null; readonly logo: string | null };
} | null> {
  const link = await services.db.withScope({ role: "system" }, async (tx) => {
    const opened = await openLink(tx, hashSecret(secret), who.at);
    if (!opened) return null;
    const client = (await clientById(tx, opened.clientId))!;
    await record(
      tx,
      { ...who, actor: "a visitor with the link" },
      client.id,
      "opened a statement by its link",
      client.name,
      { from: opened.firstDay, to: opened.lastDay, madeBy: opened.madeBy },
    );
    return { ...opened, client };
  });
  if (!link) return null;
  // read as the client sees it: the database gives no more, whatever is asked here
  const { client, firstDay, lastDay, expiresAt } = link;
  const { statement, colour, logo } = await services.db.withScope(
    { role: "client", clientId: client.id },
    async (tx) => ({
      statement: await clientStatement(tx, client, periodOf(client, firstDay, lastDay, who.at), who.at),
      ...(await wholeLook(tx, client.id)),
    }),
  );
  // who has the link has no session with which the logo could be asked for
  const look = { colour, logo: logo && `data:image/png;base64,${logo.toString("base64")}` };
  return { client, statement, until: expiresAt, look };
}
