"use client";

import { ChevronLeft, ChevronRight } from "lucide-react";
import { DateTime } from "luxon";

/** A recovery point, as far as a month shows it. */
interface MonthPoint {
  readonly id: string;
  readonly moment: Date;
  /** Made after many files became unreadable. */
  readonly suspect?: boolean;
}

const WEEKDAYS = ["Mo", "Tu", "We", "Th", "Fr", "Sa", "Su"];

/** A month with the days that have points, and the times of the chosen day. */
export function Month({
  points,
  chosen,
  choose,
  month,
  setMonth,
  zone,
}: {
  points: readonly MonthPoint[];
  chosen: MonthPoint;
  choose: (id: string) => void;
  month: string;
  setMonth: (month: string) => void;
  zone: string;
}) {
  const first = DateTime.fromISO(`${month}-01`, { zone });
  const dayOf = (point: MonthPoint) => DateTime.fromJSDate(point.moment, { zone }).toISODate()!;
  const byDay = new Map<string, MonthPoint[]>();
  for (const point of points) {
    const day = dayOf(point);
    byDay.set(day, [...(byDay.get(day) ?? []), point]);
  }
  const chosenDay = dayOf(chosen);
  const blanks = first.weekday - 1;
  const cells = Array.from({ length: Math.ceil((blanks + first.daysInMonth!) / 7) * 7 }, (_, i) => {
    const number = i - blanks + 1;
    return number >= 1 && number <= first.daysInMonth! ? first.set({ day: number }).toISODate()! : null;
  });
  const step = (months: number) => setMonth(first.plus({ months }).toFormat("yyyy-MM"));
  const times = [...(byDay.get(chosenDay) ?? [])].sort((a, b) => a.moment.getTime() - b.moment.getTime());
  return (
    <section aria-label="Month">
      <div className="mb-1 flex items-center">
        <button type="button" className="p-1" aria-label="Month before" onClick={() => step(-1)}>
          <ChevronLeft size={16} />
        </button>
        <span className="flex-1 text-center font-semibold" aria-live="polite">
          {first.toFormat("LLLL yyyy")}
        </span>
        <button type="button" className="p-1" aria-label="Month after" onClick={() => step(1)}>
          <ChevronRight size={16} />
        </button>
      </div>
      <table className="w-full table-fixed text-center text-[13px]">
        <thead>
          <tr>
            {WEEKDAYS.map((day) => (
              <th key={day} scope="col" className="text-soft py-1 font-normal">
                {day}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {Array.from({ length: cells.length / 7 }, (_, week) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: weeks of a month have no other name
            <tr key={week}>
              {cells.slice(week * 7, week * 7 + 7).map((day, i) => {
                const here = day ? byDay.get(day) : undefined;
                return (
                  // biome-ignore lint/suspicious/noArrayIndexKey: days of a week have no other name
                  <td key={i} className="p-[2px]">
                    {day &&
                      (here ? (
                        <button
                          type="button"
                          className={`w-full rounded-[3px] border-b-2 py-[3px] ${day === chosenDay ? "bg-primary text-primary-content border-transparent font-bold" : here.every((point) => point.suspect) ? "border-dashed border-[var(--vermilion)]" : "border-[var(--color-primary)]"}`}
                          aria-pressed={day === chosenDay}
                          aria-label={`${DateTime.fromISO(day).toFormat("d LLLL")}, ${here.length === 1 ? "1 point" : `${here.length} points`}${here.every((point) => point.suspect) ? ", after the alarm" : ""}`}
                          onClick={() =>
                            choose([...here].sort((a, b) => b.moment.getTime() - a.moment.getTime())[0]!.id)
                          }
                        >
                          {Number(day.slice(8))}
                        </button>
                      ) : (
                        <span className="text-soft block border-b-2 border-transparent py-[3px]">
                          {Number(day.slice(8))}
                        </span>
                      ))}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
      <fieldset className="mt-2 flex flex-wrap gap-2" aria-label="Times of the day">
        {times.map((point) => (
          <button
            key={point.id}
            type="button"
            className={`btn h-[30px] min-h-[30px] ${point.id === chosen.id ? "btn-primary" : "btn-plain"}`}
            aria-pressed={point.id === chosen.id}
            onClick={() => choose(point.id)}
          >
            {DateTime.fromJSDate(point.moment, { zone }).toFormat("HH:mm")}
            {point.suspect && <span className="font-normal"> after alarm</span>}
          </button>
        ))}
      </fieldset>
    </section>
  );
}
