import { formatRelative } from "@/core/units/duration";
import { zoned } from "@/core/units/zoned";

const exact = zoned("en-GB", {
  weekday: "short",
  day: "numeric",
  month: "short",
  year: "numeric",
  hour: "2-digit",
  minute: "2-digit",
});

/** A moment: relative to now, with the exact one and its zone on hover. */
export function Ago({ moment, now, zone }: { moment: Date | null; now: Date; zone: string }) {
  if (!moment) return <span className="text-soft">never</span>;
  return (
    <time dateTime={moment.toISOString()} title={`${exact(moment, zone)} (${zone})`}>
      {formatRelative(moment, now)}
    </time>
  );
}

const short = zoned("en-GB", {
  weekday: "short",
  day: "numeric",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
});
/** A moment on the clock of a zone: `Tue 17 Nov 18:05`. */
export const clockText = (moment: Date, zone: string): string => short(moment, zone).replace(",", "");

/** A day on the calendar of a zone, with its year: `25 Nov 2027`. */
export const dayText = zoned("en-GB", { day: "numeric", month: "short", year: "numeric" });

export function Clock({ moment, zone }: { moment: Date | null; zone: string }) {
  if (!moment) return <span className="text-soft">none</span>;
  return (
    <time dateTime={moment.toISOString()} title={`${exact(moment, zone)} (${zone})`}>
      {clockText(moment, zone)}
    </time>
  );
}
