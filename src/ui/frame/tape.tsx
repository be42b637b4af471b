"use client";

import Link from "next/link";
import { Mark } from "../parts/mark";
import { runTitle } from "../runs/run-title";
import { useTape } from "./live";
import { progressText, shareDone, ThinBar } from "./progress";

const SHOWN = 3;

/** The tape at the foot: what is running now. A click opens its run in the docket. */
export function Tape({ next }: { next: string | null }) {
  const tape = useTape();
  const running = tape.filter((run) => run.state !== "due");
  const waiting = tape.length - running.length;
  return (
    <footer className="no-print bg-base-100 border-base-300 flex items-center gap-5 overflow-hidden border-t px-[14px] text-[12.5px] whitespace-nowrap">
      <Link className="quiet font-semibold" href="/all/runs">
        {running.length ? `${running.length} running` : "Nothing is running"}
        {waiting > 0 && <span className="text-soft font-normal"> · {waiting} waiting</span>}
      </Link>
      {running.slice(0, SHOWN).map((run) => (
        <Link
          key={run.id}
          href={`/all/runs?sel=${run.id}`}
          className="quiet flex items-center gap-2"
          data-tape={run.sourceName}
        >
          <Mark state="running" share={shareDone(run.progress) ?? 0.4} />
          {runTitle(run)}
          <ThinBar share={shareDone(run.progress)} label={`Progress of ${run.sourceName}`} />
          <span className="text-soft">{progressText(run.progress)}</span>
        </Link>
      ))}
      {running.length > SHOWN && <span className="text-soft">and {running.length - SHOWN} more</span>}
      <span className="text-soft ml-auto">{next}</span>
    </footer>
  );
}
