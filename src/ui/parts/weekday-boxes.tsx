"use client";

import { WEEKDAY_NAMES, type Weekday } from "@/core/schedule/weekday";
import { FieldGroup } from "./form";

/** Days of the week to tick. */
export function WeekdayBoxes({
  legend,
  days,
  set,
  error,
}: {
  legend: string;
  days: readonly Weekday[];
  set: (days: Weekday[]) => void;
  error?: string | undefined;
}) {
  return (
    <FieldGroup legend={legend} error={error}>
      <div className="flex flex-wrap gap-x-3 gap-y-1">
        {WEEKDAY_NAMES.map((name, i) => {
          const day = (i + 1) as Weekday;
          return (
            <label key={name} className="flex items-center gap-1">
              <input
                type="checkbox"
                className="checkbox checkbox-xs"
                checked={days.includes(day)}
                onChange={() =>
                  set(
                    (days.includes(day) ? days.filter((one) => one !== day) : [...days, day]).sort(
                      (a, b) => a - b,
                    ),
                  )
                }
              />
              {name.slice(0, 3)}
            </label>
          );
        })}
      </div>
    </FieldGroup>
  );
}
