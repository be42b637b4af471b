import { KINDS, kindOf } from "@/kinds";
import { CODES, type Code } from "../codes";
import { formatBytes } from "../units/bytes";
import { counted } from "../units/duration";
import type { Outcome } from "./state";

/** A restore, as far as the words for it need it. */
export interface RestoreSeen {
  readonly state: string;
  readonly outcome: Outcome | null;
  readonly code: Code | null;
  /** Of its source. */
  readonly kind: string;
  readonly download: unknown;
  readonly folder: unknown;
  readonly progress: {
    readonly items?: number;
    readonly totalItems?: number;
    readonly bytes?: number;
  };
  readonly figures: Readonly<Record<string, unknown>>;
}

const number = (value: unknown): number => (typeof value === "number" ? value : 0);

/** What became of a restore, for the person who asked for it and knows no words of the trade. */
export function restoreWords(restore: RestoreSeen, sourceName: string): string {
  const { outcome, figures, progress } = restore;
  const { item, items, reachedBy } = kindOf(restore.kind) ?? KINDS.files;
  const files = counted(number(figures.files), item, items);
  const where =
    typeof restore.folder === "string"
      ? `to ${restore.folder}`
      : number(figures.files) === 1
        ? "to the original location"
        : "to the original locations";
  if (restore.state === "due")
    return reachedBy === "agent"
      ? `Waiting for ${sourceName}. The restore starts when that machine is on and connected.`
      : "Queued. The restore starts in a moment.";
  if (restore.state !== "ended") {
    const done = number(progress.items);
    const total = number(progress.totalItems);
    return total > 0
      ? `Restoring: ${done.toLocaleString("en-GB")} of ${counted(Math.max(total, done), item, items)}.`
      : "Restoring.";
  }
  if (restore.download)
    return outcome === "clean"
      ? `Downloaded: ${files}, ${formatBytes(number(figures.bytes))}.`
      : "The download was interrupted. Request it again.";
  if (outcome === "clean") {
    const beside = number(figures.keptBoth);
    const there = reachedBy === "network" ? number(figures.skipped) : 0;
    return [
      `Restored ${where}: ${files}`,
      beside > 0 &&
        `${beside === number(figures.files) ? "all" : beside.toLocaleString("en-GB")} beside an existing ${item}`,
      there > 0 && `${there.toLocaleString("en-GB")} already there`,
    ]
      .filter(Boolean)
      .join(", ")
      .concat(".");
  }
  if (outcome === "caution")
    return `Restored ${where}: ${files}. ${counted(number(figures.cautions), item, items)} could not be restored. Your provider can see which.`;
  if (outcome === "stopped") return `Stopped. Restored until then: ${files}, ${where}.`;
  return `Failed: ${restore.code ? CODES[restore.code].title.toLowerCase() : "unknown reason"}. Your provider can see it too.`;
}
