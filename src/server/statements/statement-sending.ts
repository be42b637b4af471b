import { randomUUID } from "node:crypto";
import type { Statement } from "@/core/statement/statement";
import type { Tx } from "@/db/base/scope";
import { type Client, readProvider } from "@/db/clients/clients";
import { wholeLook } from "@/db/clients/looks";
import { insertMessage } from "@/db/notices/notices";
import { noteStatementSent, type Paper } from "@/db/notices/statements";
import { clientStatement, periodOf, statementFile } from "./statement";
import { statementPdf } from "./statement-pdf";

/** Puts a client's statement on its way to each address, as PDF. Returns what was sent. */
export async function sendStatement(
  tx: Tx,
  client: Client,
  days: { readonly firstDay: string; readonly lastDay: string },
  recipients: readonly string[],
  paper: Paper,
  now: Date,
): Promise<Statement> {
  const statement = await clientStatement(
    tx,
    client,
    periodOf(client, days.firstDay, days.lastDay, now),
    now,
  );
  const provider = (await readProvider(tx))?.name ?? "";
  const pdf = await statementPdf(statement, provider, paper, now, await wholeLook(tx, client.id));
  for (const recipient of recipients)
    await insertMessage(
      tx,
      {
        id: randomUUID(),
        clientId: client.id,
        recipient: `mail:${recipient}`,
        subject: `${client.name}: statement ${statement.firstDay} to ${statement.lastDay}`,
        body: mailText(statement, provider),
        attachments: [
          {
            name: statementFile(client, statement, "pdf"),
            type: "application/pdf",
            content: pdf.toString("base64"),
          },
        ],
      },
      now,
    );
  await noteStatementSent(tx, client.id, statement, recipients, now);
  return statement;
}

/** What the mail says itself: enough for those who do not open what hangs on it. */
const mailText = (statement: Statement, provider: string): string =>
  [
    `The statement for ${statement.clientName}, ${statement.firstDay} to ${statement.lastDay}, is attached.`,
    statement.headline,
    ...statement.alarms.map((alarm) => alarm.sentences.join("\n")),
    statement.exceptions.length
      ? `Exceptions:\n${statement.exceptions.map((one) => `- ${one.when}: ${one.sentence}${one.words.map((word) => `\n  ${word.by}: ${word.text}`).join("")}`).join("\n")}`
      : "Every run of this period was clean.",
    provider,
  ].join("\n\n");
