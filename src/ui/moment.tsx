import { formatRelative } from "@/core/units/duration";

const exact = (moment: Date, zone: string): string =>
  new Intl.DateTimeFormat("en-GB", {
    timeZone: zone,
    weekday: "short",
    day: "numeric",
    month: "short",
    year: "numeric",
    hour: "2-digit",
    minute: "2-digit",
  }).format(moment);

/** A moment: relative to now, with the exact one and its zone on hover. */
export function Ago({ moment, now, zone }: { moment: Date | null; now: Date; zone: string }) {
  if (!moment) return <span className="text-soft">never</span>;
  return (
    <time dateTime={moment.toISOString()} title={`${exact(moment, zone)} (${zone})`}>
      {formatRelative(moment, now)}
    </time>
  );
}

/** A moment on the clock of a zone: `Tue 17 Nov 18:05`. */
export function clockText(moment: Date, zone: string): string {
  return new Intl.DateTimeFormat("en-GB", {
    timeZone: zone,
    weekday: "short",
    day: "numeric",
    month: "short",
    hour: "2-digit",
    minute: "2-digit",
  })
    .format(moment)
    .replace(",", "");
}

/** A day on the calendar of a zone, with its year: `25 Nov 2027`. */
export const dayText = (moment: Date, zone: string): string =>
  new Intl.DateTimeFormat("en-GB", {
    timeZone: zone,
    day: "numeric",
    month: "short",
    year: "numeric",
  }).format(moment);

export function Clock({ moment, zone }: { moment: Date | null; zone: string }) {
  if (!moment) return <span className="text-soft">none</span>;
  return (
    <time dateTime={moment.toISOString()} title={`${exact(moment, zone)} (${zone})`}>
      {clockText(moment, zone)}
    </time>
  );
}
