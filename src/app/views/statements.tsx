import Link from "next/link";
import { STATES } from "@/core/protection/state";
import { mayDo } from "@/core/rights/rights";
import { listClients } from "@/db/clients";
import { mailSettings } from "@/db/notices";
import { stateCounts } from "@/db/sources";
import { linksOf, type SendingRow, sendingOf } from "@/db/statements";
import { Problem } from "@/server/problem";
import { clientStatement, periodOf } from "@/server/statement";
import { Mark } from "@/ui/mark";
import { clockText, dayText } from "@/ui/moment";
import { PeriodForm } from "@/ui/period-form";
import { type ShownSending, StatementWays } from "@/ui/statement-ways";
import { StatementArticle } from "./statement-article";
import type { ViewInput, ViewOutput } from "./view";

export async function statementsView(input: ViewInput): Promise<ViewOutput> {
  return input.place.client ? oneStatement(input) : chooseClient(input);
}

async function chooseClient({ tx, now }: ViewInput): Promise<ViewOutput> {
  const clients = await listClients(tx);
  const counts = await stateCounts(tx, {}, now);
  const main = (
    <>
      <div className="head-line">
        <h1 className="text-[15px] font-bold">Statements</h1>
        <span className="text-soft">how each client stands</span>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto" tabIndex={0}>
        <ul>
          {clients.map((client) => {
            const own = counts.find((count) => count.clientId === client.id)?.counts;
            const all = STATES.reduce((sum, state) => sum + (own?.[state] ?? 0), 0);
            return (
              <li key={client.id}>
                <Link
                  href={`/c/${client.slug}/statements`}
                  className="row grid grid-cols-[minmax(220px,1fr)_140px_minmax(220px,1fr)] items-center gap-4"
                  data-row
                >
                  <span className="font-semibold">{client.name}</span>
                  <span>
                    {own?.kept ?? 0} of {all} kept
                  </span>
                  <span>
                    {STATES.filter((state) => state !== "kept" && own?.[state]).map((state) => (
                      <span key={state} className="mr-3 whitespace-nowrap">
                        <Mark state={state} /> {own![state]} {state}
                      </span>
                    ))}
                  </span>
                </Link>
              </li>
            );
          })}
        </ul>
        {clients.length === 0 && (
          <p className="text-soft p-4">
            Every client gets a statement here. Take one on in the view Sources.
          </p>
        )}
      </div>
    </>
  );
  return { main, docket: null };
}

const shownSending = (row: SendingRow | null, zone: string): ShownSending | null =>
  row && {
    every: row.every,
    onDay: row.onDay,
    at: row.at,
    recipients: row.recipients,
    paper: row.paper,
    next: clockText(row.nextAt, zone),
  };

async function oneStatement({
  tx,
  place,
  now,
  provider,
  portal,
  person,
  ask,
}: ViewInput): Promise<ViewOutput> {
  const client = place.client!;
  let refused: string | null = null;
  let period = periodOf(client, undefined, undefined, now);
  try {
    period = periodOf(client, ask("from"), ask("to"), now);
  } catch (error) {
    if (!(error instanceof Problem)) throw error;
    refused = error.detail ?? error.message;
  }
  const statement = await clientStatement(tx, client, period, now);
  const { firstDay, lastDay } = statement;
  const file = (format: string) =>
    `/api/v1/clients/${client.id}/statement?format=${format}&from=${firstDay}&to=${lastDay}`;
  const words = mayDo(person.role, "words")
    ? { clientId: client.id, side: portal ? ("client" as const) : ("provider" as const) }
    : null;
  const main = (
    <>
      <div className="head-line no-print flex-wrap">
        <h1 className="text-[15px] font-bold">Statement</h1>
        <PeriodForm
          from={ask("from") ?? statement.firstDay}
          to={ask("to") ?? statement.lastDay}
          refused={refused}
        />
        <span className="ml-auto flex gap-2">
          <a className="btn btn-plain" href={file("pdf")} download>
            PDF
          </a>
          <a className="btn btn-plain" href={file("csv")} download>
            CSV
          </a>
        </span>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto" tabIndex={0}>
        <StatementArticle statement={statement} provider={provider.name} now={now} words={words} />
      </div>
    </>
  );
  const docket = mayDo(person.role, "work") ? (
    <StatementWays
      key={`${firstDay} ${lastDay}`}
      clientId={client.id}
      zone={client.zone}
      firstDay={firstDay}
      lastDay={lastDay}
      sending={shownSending(await sendingOf(tx, client.id), client.zone)}
      links={(await linksOf(tx, client.id, now)).map((link) => ({
        id: link.id,
        firstDay: link.firstDay,
        lastDay: link.lastDay,
        madeBy: link.madeBy,
        until: dayText(link.expiresAt, client.zone),
        opened: link.opened,
      }))}
      mail={(await mailSettings(tx)) !== null}
    />
  ) : null;
  return { main, docket };
}
