import { DateTime } from "luxon";
import Link from "next/link";
import { CODES } from "@/core/codes";
import { type DrillFigures, drillSentence } from "@/core/drill/drill";
import { OUTCOMES } from "@/core/protection/state";
import { formatBytes } from "@/core/units/bytes";
import { counted, formatDuration } from "@/core/units/duration";
import type { Tx } from "@/db/base/scope";
import { depotsOfRun } from "@/db/runs/run-depots";
import {
  openRuns,
  pastRuns,
  type RunRow,
  readLog,
  runRow,
  type WaitingFacts,
  waitingFacts,
} from "@/db/runs/runs";
import { comingRuns } from "@/db/sources/sources";
import { KINDS, kindOf, restoredWords } from "@/kinds";
import type { Kind } from "@/kinds/kind";
import { whyWaiting } from "@/runs/request";
import { RateDrawing } from "@/ui/drawings/rate-drawing";
import { LiveProgress } from "@/ui/frame/live-progress";
import { BackUpButton, StopButton } from "@/ui/parts/actions";
import { Mark } from "@/ui/parts/mark";
import { Clock, clockText } from "@/ui/parts/moment";
import { RunDepots } from "@/ui/runs/run-depots";
import { runTitle } from "@/ui/runs/run-title";
import { loadPart, messagesPart, PartLinks } from "./runs-parts";
import type { ViewInput, ViewOutput } from "./view";

/** So many of the runs that wait are listed. */
const WAITING_SHOWN = 100;
/** An agent asks for work every few seconds; one that was silent for longer is not there. */
const QUIET_MS = 5 * 60_000;
const PAGE = 100;
const COMING = 8;

/** A night lasts from noon to noon in the zone of the view. */
function nightRange(night: string | undefined, zone: string): { from: Date | null; to: Date | null } {
  const evening = night && /^\d{4}-\d{2}-\d{2}$/.test(night) ? DateTime.fromISO(night, { zone }) : null;
  if (!evening?.isValid) return { from: null, to: null };
  return { from: evening.plus({ hours: 12 }).toJSDate(), to: evening.plus({ hours: 36 }).toJSDate() };
}

export async function runsView(input: ViewInput): Promise<ViewOutput> {
  const { tx, place, provider, ask, href } = input;
  if (ask("part") === "load") return loadPart(input);
  if (ask("part") === "messages") return messagesPart(input);
  const zone = place.client?.zone ?? provider.zone;
  const outcome = OUTCOMES.find((one) => one === ask("outcome"));
  const night = ask("night");
  const open = await openRuns(tx, place.filter);
  const past = await pastRuns(tx, { ...place.filter, outcome, ...nightRange(night, zone), limit: PAGE });
  const coming = await comingRuns(tx, place.filter, COMING);
  const chosenId = ask("sel") ?? open[0]?.id ?? past[0]?.id;
  const chosen = chosenId && /^[0-9a-f-]{36}$/.test(chosenId) ? await runRow(tx, chosenId) : null;
  const running = open.filter((run) => run.state !== "due");
  const waiting = open.filter((run) => run.state === "due");
  const facts = await waitingFacts(
    tx,
    waiting.slice(0, WAITING_SHOWN).map((run) => run.sourceId),
    input.now,
  );
  const row = (run: RunRow) => (
    <li key={run.id}>
      <Link
        href={href({ sel: run.id })}
        className="row grid grid-cols-[14px_minmax(160px,1.2fr)_minmax(120px,1fr)_minmax(150px,1.4fr)_118px] items-center gap-x-3 !py-[6px]"
        data-row
        aria-current={run.id === chosen?.id}
        scroll={false}
      >
        <Mark state={run.outcome ?? (run.state === "due" ? "due" : "running")} />
        <span className="truncate font-semibold">{runTitle(run)}</span>
        <span className="text-soft truncate">{run.clientName}</span>
        <span className="truncate">
          {run.state === "due" ? waitsFor(run, facts.get(run.sourceId), zone, input.now) : shortly(run)}
        </span>
        <span className="text-soft text-right text-[13px] whitespace-nowrap">
          {clockText(run.startedAt ?? run.dueAt, zone)}
        </span>
      </Link>
    </li>
  );
  const main = (
    <>
      <div className="head-line">
        <PartLinks part="runs" href={href} />
        <nav className="flex gap-1" aria-label="Outcome">
          {[undefined, ...OUTCOMES].map((one) => (
            <Link
              key={one ?? "all"}
              href={href({ outcome: one, sel: undefined })}
              className={`flex items-center gap-2 rounded-[3px] px-[9px] py-[4px] ${one === outcome ? "bg-selected font-semibold" : ""}`}
              aria-current={one === outcome}
            >
              {one && <Mark state={one} />}
              {one ?? "all"}
            </Link>
          ))}
        </nav>
        {night && (
          <Link
            className="btn btn-plain ml-auto h-[28px] min-h-[28px]"
            href={href({ night: undefined, sel: undefined })}
          >
            Night of {night} ✕
          </Link>
        )}
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto" tabIndex={0}>
        {!night && !outcome && (
          <>
            <h2 className="part-title px-[14px] pt-[10px] pb-1">Running</h2>
            <ul>{running.map(row)}</ul>
            {running.length === 0 && <p className="text-soft px-[17px] pb-1">No runs in progress.</p>}
            {waiting.length > 0 && (
              <>
                <h2 className="part-title px-[14px] pt-[14px] pb-1">Waiting</h2>
                <ul>{waiting.slice(0, WAITING_SHOWN).map(row)}</ul>
                {waiting.length > WAITING_SHOWN && (
                  <p className="text-soft px-[17px] py-1">
                    and {(waiting.length - WAITING_SHOWN).toLocaleString("en-GB")} more
                  </p>
                )}
              </>
            )}
            <h2 className="part-title px-[14px] pt-[14px] pb-1">Upcoming</h2>
            <ul className="grid grid-cols-2 px-[17px]">
              {coming.map((one) => (
                <li key={one.id} className="flex gap-3 py-[3px] pr-4">
                  <span className="text-soft whitespace-nowrap">{clockText(one.at, zone)}</span>
                  <span className="truncate">{one.name}</span>
                </li>
              ))}
            </ul>
            {coming.length === 0 && <p className="text-soft px-[17px]">No schedule is due.</p>}
          </>
        )}
        <h2 className="part-title px-[14px] pt-[14px] pb-1">Past</h2>
        <ul>{past.map(row)}</ul>
        {past.length === 0 && <p className="text-soft px-[17px]">No run matches.</p>}
        {past.length === PAGE && (
          <p className="text-soft px-[17px] py-2">
            The newest {PAGE} are shown; a night or an outcome narrows them.
          </p>
        )}
      </div>
    </>
  );
  return {
    main,
    docket: chosen ? (
      await runDocket(tx, chosen, zone, input.now)
    ) : (
      <p className="text-soft">Select a run to see its progress and log.</p>
    ),
  };
}

const askedBy = (run: RunRow): string =>
  run.cause === "retry"
    ? "the clause Conduct, after one that failed"
    : run.cause === "after"
      ? "its policy, which follows another one"
      : (run.requestedBy ?? "the schedule");

const took = (ms: number): string => (ms < 1000 ? "under a second" : formatDuration(ms));

/** Why a run waits, in a few words; the docket has the sentence. */
function waitsFor(run: RunRow, facts: WaitingFacts | undefined, zone: string, now: Date): string {
  if (run.dueAt > now) return `tried again at ${clockText(run.dueAt, zone)}`;
  if (run.kind === "backup" && facts?.awayUntil)
    return `${facts.awayDepot} is absent until ${clockText(facts.awayUntil, zone)}`;
  if (run.machineId && facts && now.getTime() - (facts.machineSeen?.getTime() ?? 0) > QUIET_MS)
    return facts.machineSeen
      ? `machine last seen ${clockText(facts.machineSeen, zone)}`
      : "waiting for the machine";
  return "queued";
}

const wordsOf = (run: RunRow): Kind => kindOf(run.sourceKind) ?? KINDS.files;

function shortly(run: RunRow): string {
  const { figures } = run;
  const { item, items } = wordsOf(run);
  const restored = restoredWords(wordsOf(run));
  if (run.state !== "ended") return "running";
  if (run.code && run.outcome !== "clean") return CODES[run.code].title;
  if (run.outcome === "clean" || run.outcome === "caution") {
    if (run.kind === "drill") return drillSentence(run.figures);
    return run.kind === "restore"
      ? `${counted(Number(figures.files ?? 0), restored.one, restored.many)}, ${formatBytes(Number(figures.bytes ?? 0))}`
      : `${counted(Number(figures.filesRead ?? 0), item, items)} read, ${formatBytes(Number(figures.storedBytes ?? 0))} added`;
  }
  return run.message ?? run.outcome ?? "";
}

function figuresOf(run: RunRow, zone: string): [string, string][] {
  const number = (name: string) => Number(run.figures[name] ?? 0);
  const { item, items } = wordsOf(run);
  const restored = restoredWords(wordsOf(run));
  if (run.kind === "restore" && typeof run.request.toSourceId === "string")
    return [
      [
        "Restored",
        `${counted(number("files"), restored.one, restored.many)}, ${formatBytes(number("bytes"))}`,
      ],
      ...(number("skipped")
        ? [["Already there", counted(number("skipped"), item, items)] as [string, string]]
        : []),
      ...(number("folders") ? [["Created", counted(number("folders"), "folder")] as [string, string]] : []),
      ...(number("cautions")
        ? [
            // of a database the statements that the server rejected
            (wordsOf(run).restored
              ? ["Rejected statements", String(number("cautions"))]
              : ["Not restored", counted(number("cautions"), item, items)]) as [string, string],
          ]
        : []),
    ];
  if (run.kind === "restore") {
    const rows: [string, string][] = [
      [
        "Restored",
        `${counted(number("files"), "file")}, ${counted(number("folders"), "folder")}, ${counted(number("links"), "link")}; ${formatBytes(number("bytes"))}`,
      ],
    ];
    if (number("keptBoth")) rows.push(["Kept both", counted(number("keptBoth"), "item")]);
    if (number("replaced")) rows.push(["Replaced", counted(number("replaced"), "item")]);
    if (number("skipped")) rows.push(["Skipped", counted(number("skipped"), "item")]);
    return rows;
  }
  if (run.kind === "drill") {
    const { figures } = run as { figures: Partial<DrillFigures> };
    if (!figures.moment) return [];
    return [
      ["Point", `${clockText(new Date(figures.moment), zone)}, from ${figures.depotName}`],
      ["Restored", drillSentence(figures)],
      ["Evidence", `BLAKE3 of the list of files ${figures.evidence}`],
    ];
  }
  if (!("filesRead" in run.figures)) return [];
  return [
    ["Holds", `${counted(number("files"), item, items)}, ${formatBytes(number("bytes"))}`],
    [
      "Read",
      `${counted(number("filesRead"), item, items)}, ${formatBytes(number("bytesRead"))}; ${number("filesUnchanged").toLocaleString("en-GB")} unchanged`,
    ],
    [
      "Added",
      `${counted(number("newChunks"), "new chunk")}, ${formatBytes(number("newBytes"))}; ${formatBytes(number("storedBytes"))} in the depot`,
    ],
  ];
}

async function runDocket(tx: Tx, run: RunRow, zone: string, now: Date) {
  const log = await readLog(tx, run.id, 0, 400);
  const depots = await depotsOfRun(tx, run.id);
  const waits = await whyWaiting(tx, run, now);
  const text = run.code ? CODES[run.code] : null;
  return (
    <div className="grid gap-4">
      <div>
        <h2 className="flex items-center gap-2 pr-7 text-[17px]">
          <Mark state={run.outcome ?? (run.state === "due" ? "due" : "running")} />
          {runTitle(run)}
        </h2>
        <p className="text-soft">
          {run.clientName} · {run.outcome ?? (run.state === "due" ? "waiting" : "running")}
        </p>
      </div>
      {run.state !== "ended" && <LiveProgress runId={run.id} initial={run.progress} waits={waits} />}
      {text && run.outcome !== "clean" && (
        <div className={run.outcome === "failed" || run.outcome === "missed" ? "refused" : "warned"}>
          <p className="font-semibold">{text.title}</p>
          <p>{text.cause}</p>
          <p>{text.remedy}</p>
          {run.message && run.message !== text.title && (
            <p className="text-soft mt-1 text-[13px] break-words">{run.message}</p>
          )}
          <p className="text-soft mt-1 font-mono text-[12px]">{run.code}</p>
        </div>
      )}
      {!text && run.message && <p>{run.message}</p>}
      <dl className="facts">
        <dt>Requested by</dt>
        <dd>{askedBy(run)}</dd>
        <dt>Due</dt>
        <dd>
          <Clock moment={run.dueAt} zone={zone} /> <span className="text-soft">{zone}</span>
        </dd>
        {run.startedAt && (
          <>
            <dt>Started</dt>
            <dd>
              <Clock moment={run.startedAt} zone={zone} />
              {run.endedAt && `, took ${took(run.endedAt.getTime() - run.startedAt.getTime())}`}
              {run.attempt > 1 && `, attempt ${run.attempt}`}
            </dd>
          </>
        )}
        {run.state !== "ended" && run.stopAt && (
          <>
            <dt>Stops at</dt>
            <dd>
              <Clock moment={run.stopAt} zone={zone} />, finished or not
            </dd>
          </>
        )}
        {run.request.pass === "full" && (
          <>
            <dt>Pass</dt>
            <dd>full: all data is read again</dd>
          </>
        )}
        {figuresOf(run, zone).map(([label, value]) => (
          <div key={label} className="contents">
            <dt>{label}</dt>
            <dd className="min-w-0 break-words">{value}</dd>
          </div>
        ))}
      </dl>
      {run.state === "ended" && <RateDrawing rates={run.progress.rates} />}
      <RunDepots runId={run.id} initial={depots} />
      <div className="flex gap-2">
        {run.state !== "ended" && <StopButton runId={run.id} />}
        {run.state === "ended" && run.kind === "backup" && (
          <BackUpButton sourceId={run.sourceId} label="Run again" primary={run.outcome === "failed"} />
        )}
      </div>
      <section>
        <h3 className="part-title mb-1">Log</h3>
        {log.length === 0 && <p className="text-soft">The log is empty.</p>}
        <ol className="grid gap-[5px] font-mono text-[12px] leading-snug">
          {log.map((line) => (
            <li key={line.id} className="grid grid-cols-[40px_minmax(0,1fr)] gap-2">
              <span className="text-soft">{clockText(line.at, zone).slice(-5)}</span>
              <span className="break-words">
                {line.level !== "info" && (
                  <Mark state={line.level === "error" ? "failed" : "caution"} label={line.level} />
                )}{" "}
                {line.path && <b className="font-semibold">{line.path} </b>}
                {line.code ? CODES[line.code].title : ""} {line.message}
              </span>
            </li>
          ))}
        </ol>
        {log.length === 400 && <p className="text-soft pt-1">The first 400 lines; the API has them all.</p>}
      </section>
    </div>
  );
}
