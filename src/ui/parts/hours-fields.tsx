"use client";

import type { Window } from "@/core/schedule/window";
import { TextField } from "./form";
import { WeekdayBoxes } from "./weekday-boxes";

export const EVENING: Window = { days: [], from: "20:00", to: "06:00" };

/** Hours of the day on some days. */
export function HoursFields({
  hours,
  set,
  errorOf,
}: {
  hours: Window;
  set: (hours: Window) => void;
  errorOf: (field: "from" | "to") => string | undefined;
}) {
  return (
    <div className="grid grid-cols-[88px_88px_minmax(0,1fr)] gap-3">
      <TextField
        label="From"
        error={errorOf("from")}
        value={hours.from}
        onChange={(event) => set({ ...hours, from: event.target.value })}
      />
      <TextField
        label="To"
        error={errorOf("to")}
        value={hours.to}
        onChange={(event) => set({ ...hours, to: event.target.value })}
      />
      <WeekdayBoxes legend="On (none: every day)" days={hours.days} set={(days) => set({ ...hours, days })} />
    </div>
  );
}

/** Takes one of a list away. */
export function TakeAway({ what, onClick }: { what: string; onClick: () => void }) {
  return (
    <button type="button" className="text-primary underline" onClick={onClick}>
      Take {what} away
    </button>
  );
}
