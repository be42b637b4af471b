import { formatBytes } from "@/core/units/bytes";
import { formatDuration } from "@/core/units/duration";
import type { Rates } from "@/core/units/rates";

export interface RunProgressShown {
  readonly items?: number;
  readonly bytes?: number;
  readonly totalItems?: number;
  readonly totalBytes?: number;
  readonly rate?: number;
  readonly stored?: number;
  readonly rates?: Rates;
}

/** What the last run had is a guess at the whole; with more than so much of it, it was a wrong one. */
const WRONG_GUESS = 1.02;
export const moreThanGuessed = ({ bytes = 0, totalBytes = 0 }: RunProgressShown): boolean =>
  totalBytes > 0 && bytes > totalBytes * WRONG_GUESS;

/** Share done, 0 to 1, or null where nobody knows the whole. */
export function shareDone(progress: RunProgressShown): number | null {
  if (moreThanGuessed(progress)) return null;
  if (progress.totalBytes) return Math.min(1, (progress.bytes ?? 0) / progress.totalBytes);
  if (progress.totalItems) return Math.min(1, (progress.items ?? 0) / progress.totalItems);
  return null;
}

/** `62 % · 18.4 MiB/s · 4 min` as far as it is known. */
export function progressText(progress: RunProgressShown): string {
  const share = shareDone(progress);
  const rate = progress.rate ?? 0;
  const left =
    share !== null && progress.totalBytes && rate > 0
      ? Math.max(0, progress.totalBytes - (progress.bytes ?? 0)) / rate
      : null;
  return [
    share === null
      ? `${(progress.items ?? 0).toLocaleString("en-GB")} items, ${formatBytes(progress.bytes ?? 0)}`
      : `${Math.round(share * 100)} %`,
    rate > 0 ? `${formatBytes(rate)}/s` : null,
    left === null ? null : `${formatDuration(left * 1000)} left`,
  ]
    .filter(Boolean)
    .join(" · ");
}

/** A thin bar; without a known whole it says so by its dashes. */
export function ThinBar({
  share,
  label,
  width = 64,
}: {
  share: number | null;
  label: string;
  width?: number;
}) {
  return (
    <div
      className="thin-bar inline-block align-middle"
      style={{ width }}
      role="progressbar"
      aria-label={label}
      aria-valuemin={0}
      aria-valuemax={100}
      {...(share === null ? {} : { "aria-valuenow": Math.round(share * 100) })}
    >
      <i style={{ width: `${(share ?? 0.12) * 100}%`, opacity: share === null ? 0.5 : 1 }} />
    </div>
  );
}
