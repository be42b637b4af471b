import Link from "next/link";
import { OUTCOMES, type Outcome } from "@/core/protection/state";
import type { StatementDay } from "@/core/statement/statement";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { listClients } from "@/db/clients";
import { Problem } from "@/server/problem";
import { sourcesWithState } from "@/server/standing";
import { clientStatement, periodOf } from "@/server/statement";
import { Drawing } from "@/ui/drawing";
import { Mark } from "@/ui/mark";
import { Ago, Clock, clockText } from "@/ui/moment";
import { PeriodForm } from "@/ui/period-form";
import type { ViewInput, ViewOutput } from "./view";

export async function statementsView(input: ViewInput): Promise<ViewOutput> {
  return input.place.client ? oneStatement(input) : chooseClient(input);
}

async function chooseClient({ tx, now }: ViewInput): Promise<ViewOutput> {
  const clients = await listClients(tx);
  const sources = await sourcesWithState(tx, {}, now);
  const main = (
    <>
      <div className="head-line">
        <h1 className="text-[15px] font-bold">Statements</h1>
        <span className="text-soft">how each client stands</span>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto" tabIndex={0}>
        <ul>
          {clients.map((client) => {
            const own = sources.filter((source) => source.clientId === client.id);
            return (
              <li key={client.id}>
                <Link
                  href={`/c/${client.slug}/statements`}
                  className="row grid grid-cols-[minmax(220px,1fr)_140px_minmax(220px,1fr)] items-center gap-4"
                  data-row
                >
                  <span className="font-semibold">{client.name}</span>
                  <span>
                    {own.filter((source) => source.state === "kept").length} of {own.length} kept
                  </span>
                  <span className="flex gap-1">
                    {own.slice(0, 24).map((source) => (
                      <Mark key={source.id} state={source.state} label={`${source.name}: ${source.state}`} />
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

const STACK: readonly Outcome[] = ["clean", "caution", "stopped", "missed", "failed"];
const FILL: Record<Outcome, string> = {
  clean: "var(--color-primary)",
  caution: "var(--brass)",
  stopped: "var(--slate)",
  missed: "var(--vermilion)",
  failed: "var(--vermilion)",
};
const BAR_HEIGHT = 54;

/** The outcomes of each day, standing on one another. */
function DayBars({ days }: { days: readonly StatementDay[] }) {
  const most = Math.max(
    1,
    ...days.map((day) => STACK.reduce((sum, outcome) => sum + day.outcomes[outcome], 0)),
  );
  const said = (day: StatementDay) =>
    OUTCOMES.filter((outcome) => day.outcomes[outcome])
      .map((outcome) => `${day.outcomes[outcome]} ${outcome}`)
      .join(", ") || "no runs";
  const drawing = (
    <div
      className="flex items-end gap-[3px]"
      role="img"
      aria-label={`Outcomes of ${days.length} days; the table behind has each`}
    >
      {days.map((day) => {
        let y = BAR_HEIGHT;
        return (
          <svg
            key={day.day}
            width="100%"
            height={BAR_HEIGHT + 14}
            viewBox={`0 0 20 ${BAR_HEIGHT + 14}`}
            preserveAspectRatio="none"
            className="min-w-0 flex-1"
            aria-hidden="true"
          >
            <title>{`${day.day}: ${said(day)}`}</title>
            {STACK.map((outcome) => {
              const height = (day.outcomes[outcome] / most) * BAR_HEIGHT;
              y -= height;
              return height > 0 ? (
                <rect
                  key={outcome}
                  x="1"
                  y={y}
                  width="18"
                  height={Math.max(1, height - 1)}
                  fill={FILL[outcome]}
                  opacity={outcome === "missed" ? 0.55 : 1}
                />
              ) : null;
            })}
            <rect x="0" y={BAR_HEIGHT + 1} width="20" height="1" fill="var(--color-base-300)" />
          </svg>
        );
      })}
    </div>
  );
  const table = (
    <table className="grid-table">
      <thead>
        <tr>
          <th scope="col">Day</th>
          {OUTCOMES.map((outcome) => (
            <th scope="col" key={outcome} className="num">
              {outcome}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {days.map((day) => (
          <tr key={day.day}>
            <td>{day.day}</td>
            {OUTCOMES.map((outcome) => (
              <td key={outcome} className="num">
                {day.outcomes[outcome]}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
  return (
    <Drawing
      title="Runs, day by day"
      aside={`${days[0]?.day ?? ""} to ${days.at(-1)?.day ?? ""}`}
      drawing={drawing}
      table={table}
    />
  );
}

const shareText = (share: number): string =>
  share > 0 && share < 0.01 ? "under 1 %" : `${Math.round(share * 100)} %`;

async function oneStatement({ tx, place, now, provider, ask }: ViewInput): Promise<ViewOutput> {
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
  const csv = `/api/v1/clients/${client.id}/statement?format=csv&from=${statement.firstDay}&to=${statement.lastDay}`;
  const main = (
    <>
      <div className="head-line no-print flex-wrap">
        <h1 className="text-[15px] font-bold">Statement</h1>
        <PeriodForm
          from={ask("from") ?? statement.firstDay}
          to={ask("to") ?? statement.lastDay}
          refused={refused}
        />
        <a className="btn btn-plain ml-auto" href={csv} download>
          Download as CSV
        </a>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto" tabIndex={0}>
        <article className="mx-auto grid max-w-[960px] gap-6 px-6 py-5 text-[15px]">
          <header>
            <p className="text-soft">
              {provider.name} for {client.name}, {statement.firstDay} to {statement.lastDay}, days of{" "}
              {client.zone}
            </p>
            <h2 className="text-[22px]">{statement.headline}</h2>
          </header>
          <section>
            <h3 className="part-title mb-1">What is protected</h3>
            <table className="grid-table">
              <thead>
                <tr>
                  <th scope="col">Source</th>
                  <th scope="col">Site</th>
                  <th scope="col">State</th>
                  <th scope="col">Newest point</th>
                  <th scope="col" className="num">
                    Promised
                  </th>
                  <th scope="col" className="num">
                    Points
                  </th>
                  <th scope="col" className="num">
                    Holds
                  </th>
                  <th scope="col" className="num">
                    Added
                  </th>
                </tr>
              </thead>
              <tbody>
                {statement.sources.map((source) => (
                  <tr key={source.id}>
                    <td className="font-semibold">{source.name}</td>
                    <td>{source.site}</td>
                    <td className="whitespace-nowrap">
                      <Mark state={source.state} /> {source.state}
                    </td>
                    <td>
                      <Ago moment={source.newestPoint} now={now} zone={client.zone} />
                    </td>
                    <td className="num">{source.targetHours ? `${source.targetHours} h` : "none"}</td>
                    <td className="num">{source.points}</td>
                    <td className="num">{formatBytes(source.bytes)}</td>
                    <td className="num">{formatBytes(source.added)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
          <DayBars days={statement.days} />
          <section>
            <h3 className="part-title mb-1">Space</h3>
            <p>
              {formatBytes(statement.spaceUsed)} used
              {statement.quota
                ? ` of ${formatBytes(statement.quota)} granted (${shareText(statement.spaceUsed / statement.quota)})`
                : ""}
              ; {formatBytes(statement.spaceAdded)} added in this period.
            </p>
          </section>
          <section>
            <h3 className="part-title mb-1">Restores done</h3>
            {statement.restores.length === 0 && <p>None in this period.</p>}
            <ul>
              {statement.restores.map((restore) => (
                <li key={`${restore.at.toISOString()} ${restore.source}`}>
                  <Clock moment={restore.at} zone={client.zone} />: {restore.source}, {restore.sentence}
                </li>
              ))}
            </ul>
          </section>
          <section>
            <h3 className="part-title mb-1">Exceptions</h3>
            {statement.exceptions.length === 0 && <p>None: every run of this period was clean.</p>}
            <ul className="grid gap-1">
              {statement.exceptions.map((exception) => (
                <li key={`${exception.day} ${exception.sentence}`}>
                  <b>{exception.day}</b> {exception.sentence}
                </li>
              ))}
            </ul>
          </section>
          <footer className="text-soft text-[13px]">
            {counted(statement.days.length, "day")}, computed {clockText(now, client.zone)} ({client.zone}).
          </footer>
        </article>
      </div>
    </>
  );
  return { main, docket: null };
}
