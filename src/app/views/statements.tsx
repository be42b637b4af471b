import { DateTime } from "luxon";
import Link from "next/link";
import { nightsTable } from "@/core/protection/nights";
import { STATES } from "@/core/protection/state";
import { mayDo } from "@/core/rights/rights";
import { lastPeriods, type Period, trendOf } from "@/core/statement/trend";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import type { Contract } from "@/core/usage/contract";
import type { Usage } from "@/core/usage/usage";
import { listClients } from "@/db/clients/clients";
import { listContracts } from "@/db/clients/contracts";
import { lookOf } from "@/db/clients/looks";
import { mailSettings } from "@/db/notices/notices";
import { linksOf, type SendingRow, sendingOf, statementDeliveries } from "@/db/notices/statements";
import { nightCounts } from "@/db/runs/runs";
import { stateCounts } from "@/db/sources/sources";
import { KINDS, kindOf } from "@/kinds";
import { Problem } from "@/server/base/problem";
import { clientStatement, periodOf } from "@/server/statements/statement";
import { usageOf } from "@/server/statements/usage";
import { ContractRow } from "@/ui/clients/contract-form";
import { LookForm } from "@/ui/clients/look-form";
import { Mark } from "@/ui/parts/mark";
import { clockText, dayText } from "@/ui/parts/moment";
import { PeriodForm } from "@/ui/parts/period-form";
import { type ShownSending, StatementWays } from "@/ui/statements/statement-ways";
import { StatementArticle } from "./statement-article";
import type { ViewInput, ViewOutput } from "./view";

export async function statementsView(input: ViewInput): Promise<ViewOutput> {
  if (input.place.client) return oneStatement(input);
  return input.ask("part") === "usage" ? usagePart(input) : chooseClient(input);
}

/** What the view shows of all clients: how each stands, or what each used. */
function Parts({ part, href }: { part: "statements" | "usage"; href: ViewInput["href"] }) {
  const names = { statements: "Statements", usage: "Usage" };
  return (
    <nav className="flex items-baseline gap-4" aria-label="Parts of Statements">
      {(["statements", "usage"] as const).map((one) =>
        one === part ? (
          <h1 key={one} className="text-[15px] font-bold">
            {names[one]}
          </h1>
        ) : (
          <Link
            key={one}
            className="text-soft underline"
            href={href({ part: one === "usage" ? "usage" : undefined, from: undefined, to: undefined })}
          >
            {names[one]}
          </Link>
        ),
      )}
    </nav>
  );
}

async function usagePart({ tx, now, ask, href, person }: ViewInput): Promise<ViewOutput> {
  let refused: string | null = null;
  let usage: Usage;
  try {
    usage = await usageOf(tx, null, ask("from"), ask("to"), now);
  } catch (error) {
    if (!(error instanceof Problem)) throw error;
    refused = error.detail ?? error.message;
    usage = await usageOf(tx, null, undefined, undefined, now);
  }
  const { firstDay, lastDay, lines } = usage;
  const contracts = new Map((await listContracts(tx, null)).map((one) => [one.clientId, one.contract]));
  const main = (
    <>
      <div className="head-line flex-wrap">
        <Parts part="usage" href={href} />
        <PeriodForm from={ask("from") ?? firstDay} to={ask("to") ?? lastDay} refused={refused} part="usage" />
        <a
          className="btn btn-plain ml-auto"
          href={`/api/v1/usage?format=csv&from=${firstDay}&to=${lastDay}`}
          download
        >
          CSV
        </a>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto px-[14px] py-3" tabIndex={0}>
        <Contracts usage={usage} contracts={contracts} change={mayDo(person.role, "work")} />
        <h2 className="part-title mt-5 mb-1">Storage</h2>
        {lines.length > 0 && (
          <table className="grid-table">
            <thead>
              <tr>
                <th scope="col">Client</th>
                <th scope="col">Kind</th>
                <th scope="col">Depot</th>
                <th scope="col" className="num">
                  Sources
                </th>
                <th scope="col" className="num">
                  Protected
                </th>
                <th scope="col" className="num">
                  Stored
                </th>
                <th scope="col" className="num">
                  Most stored
                </th>
                <th scope="col" className="num">
                  Days
                </th>
              </tr>
            </thead>
            <tbody>
              {lines.map((line, i) => (
                <tr key={`${line.clientId} ${line.kind} ${line.depotId}`}>
                  <td className="font-semibold">
                    {lines[i - 1]?.clientId === line.clientId ? "" : line.clientName}
                  </td>
                  <td>{kindOf(line.kind)?.unit.many ?? line.kind}</td>
                  <td>{line.depotName}</td>
                  <td className="num">{line.mostSources}</td>
                  <td className="num">{formatBytes(line.meanProtected)}</td>
                  <td className="num">{formatBytes(line.meanStored)}</td>
                  <td className="num">{formatBytes(line.mostStored)}</td>
                  <td className="num">{line.days}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        <p className="text-soft pt-3 text-[13px]">
          {lines.length > 0
            ? `Usage is recorded for ${counted(usage.daysCounted, "day")} of this period. Sources: the most on one day. Protected, stored: the mean of these days. The space of a depot is divided among kinds by the bytes that their recovery points added.`
            : "No usage is recorded for this period. It is recorded several times a day from now on."}
        </p>
      </div>
    </>
  );
  return { main, docket: null };
}

/** Protected sources beside what each client has bought. */
function Contracts({
  usage,
  contracts,
  change,
}: {
  usage: Usage;
  contracts: ReadonlyMap<string, Contract>;
  change: boolean;
}) {
  const lines = usage.contracts;
  if (lines.length === 0) return null;
  return (
    <>
      <h2 className="part-title mb-1">Contracts</h2>
      <table className="grid-table">
        <thead>
          <tr>
            <th scope="col">Client</th>
            <th scope="col">Kind</th>
            <th scope="col" className="num">
              Contracted
            </th>
            <th scope="col" className="num">
              Most protected
            </th>
            <th scope="col" className="num">
              Days over
            </th>
            <th scope="col">
              <span className="sr-only">Change</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {lines.map((line, i) => {
            const first = lines[i - 1]?.clientId !== line.clientId;
            const key = `${line.clientId} ${line.kind}`;
            const cells = (
              <>
                <td className="font-semibold">{first ? line.clientName : ""}</td>
                <td>{KINDS[line.kind].unit.many}</td>
                <td className="num">{line.contracted ?? "none"}</td>
                <td className="num">
                  {line.daysOver > 0 ? <b className="text-error">{line.most}</b> : line.most}
                </td>
                <td className="num">{line.daysOver || ""}</td>
              </>
            );
            return first && change ? (
              <ContractRow
                key={key}
                client={{ id: line.clientId, name: line.clientName }}
                contract={contracts.get(line.clientId) ?? {}}
                columns={6}
              >
                {cells}
              </ContractRow>
            ) : (
              <tr key={key}>
                {cells}
                <td />
              </tr>
            );
          })}
        </tbody>
      </table>
    </>
  );
}

/** So many periods make a trend. */
const TREND = 4;
const BAR = { width: 12, gap: 4, height: 20 };

/** The share of runs that left a recovery point, period by period; the newest is also told as a number. */
function Trend({ shares, periods }: { shares: readonly (number | null)[]; periods: readonly Period[] }) {
  const told = (share: number | null) => (share === null ? "no runs" : shareText(share));
  const words = periods.map(({ firstDay, lastDay }, i) => `${firstDay} to ${lastDay}: ${told(shares[i]!)}`);
  const last = shares.at(-1) ?? null;
  return (
    <span className="flex items-center gap-2 whitespace-nowrap">
      <svg
        width={TREND * (BAR.width + BAR.gap)}
        height={BAR.height + 2}
        role="img"
        aria-label={`Runs with a recovery point, ${words.join("; ")}`}
      >
        {shares.map((share, i) => {
          const x = i * (BAR.width + BAR.gap);
          const tall = share === null ? 0 : Math.max(2, share * BAR.height);
          return (
            <rect
              key={words[i]}
              x={x}
              y={BAR.height - tall}
              width={BAR.width}
              height={tall}
              fill={share !== null && share < 0.95 ? "var(--vermilion)" : "var(--color-primary)"}
            >
              <title>{words[i]}</title>
            </rect>
          );
        })}
        <rect
          x="0"
          y={BAR.height + 1}
          width={TREND * (BAR.width + BAR.gap) - BAR.gap}
          height="1"
          fill="var(--color-base-300)"
        />
      </svg>
      {told(last)}
    </span>
  );
}

const shareText = (share: number): string =>
  share > 0.995 && share < 1 ? "over 99 %" : `${Math.round(share * 100)} %`;

async function chooseClient({ tx, now, href, provider }: ViewInput): Promise<ViewOutput> {
  const clients = await listClients(tx);
  const counts = await stateCounts(tx, {}, now);
  const deliveries = new Map((await statementDeliveries(tx)).map((one) => [one.clientId, one]));
  const today = DateTime.fromJSDate(now, { zone: provider.zone }).toISODate()!;
  const [oldest] = lastPeriods("month", today, TREND);
  const nights = nightsTable(await nightCounts(tx, {}, new Date(`${oldest!.firstDay}T00:00:00Z`)));
  const main = (
    <>
      <div className="head-line">
        <Parts part="statements" href={href} />
        <span className="text-soft">{counted(clients.length, "client")}</span>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto px-[14px] py-2" tabIndex={0}>
        {clients.length > 0 && (
          <table className="grid-table">
            <thead>
              <tr>
                <th scope="col">Client</th>
                <th scope="col">State now</th>
                <th scope="col">Runs with a point, last {TREND} periods</th>
                <th scope="col">Last sent</th>
                <th scope="col">Next</th>
                <th scope="col">Link opened</th>
              </tr>
            </thead>
            <tbody>
              {clients.map((client) => {
                const own = counts.find((count) => count.clientId === client.id)?.counts;
                const all = STATES.reduce((sum, state) => sum + (own?.[state] ?? 0), 0);
                const delivery = deliveries.get(client.id);
                const periods = lastPeriods(delivery?.every ?? "month", today, TREND);
                return (
                  <tr key={client.id}>
                    <td>
                      <Link href={`/c/${client.slug}/statements`} className="font-semibold" data-row>
                        {client.name}
                      </Link>
                    </td>
                    <td>
                      {own?.kept ?? 0} of {all} kept
                      {STATES.filter((state) => state !== "kept" && own?.[state]).map((state) => (
                        <span key={state} className="ml-3 whitespace-nowrap">
                          <Mark state={state} /> {own![state]} {state}
                        </span>
                      ))}
                    </td>
                    <td>
                      <Trend shares={trendOf(nights.get(client.id), periods)} periods={periods} />
                    </td>
                    <td className="whitespace-nowrap" title={delivery?.recipients?.join(", ")}>
                      {delivery?.sentAt ? clockText(delivery.sentAt, client.zone) : "never"}
                    </td>
                    <td className="whitespace-nowrap">
                      {delivery?.nextAt ? clockText(delivery.nextAt, client.zone) : "not scheduled"}
                    </td>
                    <td className="whitespace-nowrap">
                      {delivery?.openedAt
                        ? `${delivery.opened === 1 ? "once" : `${delivery.opened} times`}, ${clockText(delivery.openedAt, client.zone)}`
                        : "no"}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        )}
        {clients.length === 0 && (
          <p className="text-soft p-4">Each client has a statement here. Add a client in the view Sources.</p>
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
  const look = await lookOf(tx, client.id);
  const logo = look.hasLogo ? `/api/v1/clients/${client.id}/logo` : null;
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
        <StatementArticle
          statement={statement}
          provider={provider.name}
          now={now}
          words={words}
          look={{ colour: look.colour, logo }}
        />
      </div>
    </>
  );
  const docket = mayDo(person.role, "work") ? (
    <div className="grid gap-6">
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
      <LookForm clientId={client.id} colour={look.colour} logo={logo} />
    </div>
  ) : null;
  return { main, docket };
}
