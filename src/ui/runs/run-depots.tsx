"use client";

import type { RunDepotShown, RunDepotState } from "@/core/protection/run-depots";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { useTape } from "../frame/live";
import { Mark, type MarkState } from "../parts/mark";

const SHOWN: Record<RunDepotState, readonly [mark: MarkState, words: string]> = {
  writing: ["running", "being written"],
  kept: ["clean", "kept"],
  failed: ["failed", "to be caught up"],
  behind: ["caution", "to be caught up"],
  away: ["missed", "to be caught up"],
  "caught up": ["clean", "caught up"],
  "broken off": ["failed", "no recovery point: the run ended before"],
};

/** What a run puts into which depot; while it goes on, as the events tell it. */
export function RunDepots({ runId, initial }: { runId: string; initial: readonly RunDepotShown[] }) {
  const depots = useTape().find((run) => run.id === runId)?.depots ?? initial;
  if (depots.length === 0) return null;
  return (
    <section>
      <h3 className="part-title mb-1">Depots of this run</h3>
      <ul className="grid gap-[6px]">
        {depots.map((depot) => {
          const [mark, words] = SHOWN[depot.state];
          return (
            <li
              key={depot.depotId}
              className="grid grid-cols-[14px_minmax(0,1fr)_auto] items-baseline gap-x-2"
            >
              <Mark state={mark} label={depot.state} />
              <span>
                {depot.depotName} <span className="text-soft">{words}</span>
              </span>
              <span className="text-soft">
                {depot.packs > 0 && `${counted(depot.packs, "pack")}, ${formatBytes(depot.bytes)}`}
              </span>
              {depot.message && (
                <span className="text-soft col-span-2 col-start-2 text-[13px] break-words">
                  {depot.message}
                </span>
              )}
            </li>
          );
        })}
      </ul>
    </section>
  );
}
