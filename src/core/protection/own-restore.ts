import { CODES, type Code } from "../codes";
import { formatBytes } from "../units/bytes";
import { counted } from "../units/duration";
import type { Outcome } from "./state";

/** A restore, as far as the words for it need it. */
export interface RestoreSeen {
  readonly state: string;
  readonly outcome: Outcome | null;
  readonly code: Code | null;
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
export function restoreWords(restore: RestoreSeen, machineName: string): string {
  const { outcome, figures, progress } = restore;
  const files = counted(number(figures.files), "file");
  const where =
    typeof restore.folder === "string"
      ? `in ${restore.folder}`
      : number(figures.files) === 1
        ? "where it was"
        : "where they were";
  if (restore.state === "due")
    return `Waiting for ${machineName}. The restore starts when that machine is on and connected.`;
  if (restore.state !== "ended") {
    const done = number(progress.items);
    const total = number(progress.totalItems);
    return total > 0
      ? `Coming back: ${done.toLocaleString("en-GB")} of ${counted(Math.max(total, done), "file")}.`
      : "Coming back.";
  }
  if (restore.download)
    return outcome === "clean"
      ? `Downloaded: ${files}, ${formatBytes(number(figures.bytes))}.`
      : "The download was broken off. Request it again.";
  if (outcome === "clean") {
    const beside = number(figures.keptBoth);
    return `Back ${where}: ${files}${beside > 0 ? `, ${beside === number(figures.files) ? "all" : beside.toLocaleString("en-GB")} beside what was there` : ""}.`;
  }
  if (outcome === "caution")
    return `Back ${where}: ${files}, but ${counted(number(figures.cautions), "thing")} could not be put back. Your provider sees which.`;
  if (outcome === "stopped") return `Stopped. Restored until then: ${files}, ${where}.`;
  return `It did not work: ${restore.code ? CODES[restore.code].title.toLowerCase() : "the reason is not known"}. Your provider sees it too.`;
}
