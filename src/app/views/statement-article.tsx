import type { ClientId } from "@/core/ids";
import { OUTCOMES, type Outcome, type ProtectionState } from "@/core/protection/state";
import type { Statement, StatementDay } from "@/core/statement/statement";
import { STATE_HEIGHT, statesSentence } from "@/core/statement/states";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { ClientLogo } from "@/ui/clients/client-logo";
import { Drawing } from "@/ui/drawings/drawing";
import { Mark } from "@/ui/parts/mark";
import { Ago, Clock, clockText } from "@/ui/parts/moment";
import { ExceptionWords } from "@/ui/statements/statement-words";

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

const STATE_FILL: Record<ProtectionState, string> = {
  kept: "var(--color-primary)",
  slipping: "var(--brass)",
  exposed: "var(--vermilion)",
  "never kept": "var(--vermilion)",
  paused: "var(--slate)",
};
const STRIP = { width: 116, height: 16 };

/** The states of a source day by day: the higher, the worse. */
function StateStrip({
  states,
  days,
}: {
  states: readonly (ProtectionState | null)[];
  days: readonly StatementDay[];
}) {
  const step = STRIP.width / Math.max(1, states.length);
  const words = statesSentence(states);
  return (
    <svg
      width={STRIP.width}
      height={STRIP.height + 2}
      role="img"
      aria-label={words}
      className="inline-block align-middle"
    >
      <title>{words}</title>
      {states.map((state, i) => {
        if (!state) return null;
        const tall = STATE_HEIGHT[state] * STRIP.height;
        return (
          <rect
            key={days[i]!.day}
            x={i * step}
            y={STRIP.height - tall}
            width={Math.max(0.5, step - Math.min(1, step / 4))}
            height={tall}
            fill={STATE_FILL[state]}
            opacity={state === "never kept" ? 0.55 : 1}
          >
            <title>{`${days[i]!.day}: ${state}`}</title>
          </rect>
        );
      })}
      <rect x="0" y={STRIP.height + 1} width={STRIP.width} height="1" fill="var(--color-base-300)" />
    </svg>
  );
}

/** A statement as it is read, and as it is sent. With `words`, whoever reads may write to its exceptions. */
export function StatementArticle({
  statement,
  provider,
  now,
  words,
  look = { colour: null, logo: null },
}: {
  statement: Statement;
  provider: string;
  now: Date;
  words: { readonly clientId: ClientId; readonly side: "provider" | "client" } | null;
  /** The client's own colour and logo. */
  look?: { readonly colour: string | null; readonly logo: string | null };
}) {
  const { zone } = statement;
  return (
    <article className="mx-auto grid max-w-[960px] gap-6 px-6 py-5 text-[15px]">
      <header
        className={look.colour ? "border-t-4 pt-4" : ""}
        style={look.colour ? { borderColor: look.colour } : undefined}
      >
        {look.logo && (
          <div className="float-right ml-4">
            <ClientLogo src={look.logo} name={statement.clientName} />
          </div>
        )}
        <p className="text-soft">
          {provider} for {statement.clientName}, {statement.firstDay} to {statement.lastDay}, days of {zone}
        </p>
        <h2 className="text-[22px]">{statement.headline}</h2>
        {statement.alarms.map((alarm) => (
          <section
            key={alarm.at.toISOString()}
            className={alarm.standing ? "warned mt-3" : "said mt-3"}
            aria-label="Alarm"
          >
            {alarm.sentences.map((sentence) => (
              <p key={sentence}>{sentence}</p>
            ))}
          </section>
        ))}
      </header>
      <section>
        <h3 className="part-title mb-1">Protected sources</h3>
        <div className="overflow-x-auto" tabIndex={0}>
          <table className="grid-table text-[13.5px]">
            <thead>
              <tr>
                <th scope="col">Source, site</th>
                <th scope="col">State</th>
                <th scope="col">Day by day</th>
                <th scope="col">Newest point</th>
                <th scope="col" className="num">
                  Target
                </th>
                <th scope="col" className="num">
                  Points
                </th>
                <th scope="col" className="num">
                  Size
                </th>
                <th scope="col" className="num">
                  Added
                </th>
              </tr>
            </thead>
            <tbody>
              {statement.sources.map((source) => (
                <tr key={source.id}>
                  <td>
                    <b>{source.name}</b>
                    <span className="text-soft block text-[12.5px]">{source.site}</span>
                  </td>
                  <td className="whitespace-nowrap">
                    <Mark state={source.state} /> {source.state}
                  </td>
                  <td>
                    <StateStrip states={source.states} days={statement.days} />
                  </td>
                  <td className="whitespace-nowrap">
                    <Ago moment={source.newestPoint} now={now} zone={zone} />
                  </td>
                  <td className="num">{source.targetHours ? `${source.targetHours} h` : "none"}</td>
                  <td className="num">{source.points}</td>
                  <td className="num">{formatBytes(source.bytes)}</td>
                  <td className="num">{formatBytes(source.added)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <p className="text-soft mt-1 text-[12.5px]">
          State by day: low bars are kept, half-height bars are slipping, full bars are exposed or never kept.
        </p>
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
        <h3 className="part-title mb-1">Checks</h3>
        <p>{statement.checks}</p>
      </section>
      <section>
        <h3 className="part-title mb-1">Drills</h3>
        <p>{statement.drilled}</p>
        {statement.drills.length > 0 && (
          <details className="mt-1">
            <summary className="cursor-pointer underline">Restore drills and checksums</summary>
            <ul className="mt-1 grid gap-1 text-[13.5px]">
              {statement.drills.map((drill) => (
                <li key={`${drill.at.toISOString()} ${drill.source}`}>
                  <Mark state={drill.outcome} /> <Clock moment={drill.at} zone={zone} />: {drill.source},{" "}
                  {drill.sentence}
                  {drill.evidence && (
                    <span className="text-soft block font-mono text-[11.5px] break-all">
                      BLAKE3 of the list of files {drill.evidence}
                    </span>
                  )}
                </li>
              ))}
            </ul>
          </details>
        )}
      </section>
      <section>
        <h3 className="part-title mb-1">Restores done</h3>
        {statement.restores.length === 0 && <p>None in this period.</p>}
        <ul>
          {statement.restores.map((restore) => (
            <li key={`${restore.at.toISOString()} ${restore.source}`}>
              <Clock moment={restore.at} zone={zone} />: {restore.source}, {restore.sentence}
            </li>
          ))}
        </ul>
      </section>
      <section>
        <h3 className="part-title mb-1">Exceptions</h3>
        {statement.exceptions.length === 0 && <p>None: every run of this period was clean.</p>}
        <ul className="grid gap-2">
          {statement.exceptions.map((exception) => (
            <li key={exception.key}>
              <b>{exception.when}</b> {exception.sentence}
              <ExceptionWords
                about={exception.key}
                day={exception.firstDay}
                written={exception.words.map((word) => ({
                  id: word.id,
                  side: word.side,
                  text: word.text,
                  from: `${word.by}, ${clockText(word.at, zone)}`,
                }))}
                writer={words}
              />
            </li>
          ))}
        </ul>
      </section>
      <section>
        <h3 className="part-title mb-1">Next runs</h3>
        {statement.nextSteps.length === 0 && <p>No runs are planned.</p>}
        {statement.nextSteps.map((sentence) => (
          <p key={sentence}>{sentence}</p>
        ))}
      </section>
      <footer className="text-soft text-[13px]">
        {counted(statement.days.length, "day")}, computed {clockText(now, zone)} ({zone}).
      </footer>
    </article>
  );
}
