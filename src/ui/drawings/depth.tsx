"use client";

import { scaleSqrt } from "d3-scale";
import { type KeyboardEvent, useId, useMemo, useRef } from "react";
import { intoBands } from "@/core/depth";
import { formatBytes } from "@/core/units/bytes";
import { zoned } from "@/core/units/zoned";
import { clockText } from "../parts/moment";
import { Drawing } from "./drawing";

export interface DepthPoint {
  readonly id: string;
  readonly moment: Date;
  readonly addedBytes: number;
  readonly files: number;
  /** Dropped and in its grace: when it will be purged. */
  readonly purgeAfter: Date | null;
  /** Made after many files became unreadable, by an alarm that nobody has dismissed. */
  readonly suspect?: boolean;
  /** Why it stays or is to go, as a sentence; null when it was dropped, and where nobody asks. */
  readonly why?: string | null;
}

/** The weekday and the year stand beside it: there is no room for more at the end of a course. */
const markText = zoned("en-GB", {
  day: "numeric",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
});

/**
 * A source's recovery points as strata. Each course is as long as what it added; a hatched one is in its grace. Arrow
 * keys move through it.
 */
export function Depth({
  points,
  chosen,
  choose,
  now,
  zone,
}: {
  points: readonly DepthPoint[];
  chosen?: string | undefined;
  choose?: (id: string) => void;
  now: Date;
  zone: string;
}) {
  const list = useId();
  const box = useRef<HTMLDivElement>(null);
  const bands = useMemo(() => intoBands(points, now), [points, now]);
  const length = useMemo(
    () => scaleSqrt([0, Math.max(1, ...points.map((point) => point.addedBytes))], [3, 100]),
    [points],
  );
  const ordered = bands.flatMap((band) => band.points);
  const move = (event: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (!step || !choose) return;
    event.preventDefault();
    const at = ordered.findIndex((point) => point.id === chosen);
    const next = ordered[Math.min(ordered.length - 1, Math.max(0, at + step))];
    if (next) {
      choose(next.id);
      box.current?.querySelector(`[data-point="${next.id}"]`)?.scrollIntoView({ block: "nearest" });
    }
  };
  const drawing = (
    <div
      ref={box}
      role="listbox"
      tabIndex={0}
      aria-label="Recovery points, newest first"
      aria-activedescendant={chosen ? `${list}-${chosen}` : undefined}
      onKeyDown={move}
      className="max-h-[380px] overflow-x-hidden overflow-y-auto"
    >
      {bands.map(({ band, points: here }) => (
        // biome-ignore lint/a11y/useSemanticElements: a band is a group of options
        <div
          key={band}
          role="group"
          aria-label={band}
          className="border-base-300 grid grid-cols-[54px_minmax(0,1fr)] border-t py-[4px]"
        >
          <span className="text-soft pt-[1px] text-right text-[12px]">{band}</span>
          <div className="pl-2">
            {here.map((point) => {
              const current = point.id === chosen;
              const label = `${clockText(point.moment, zone)}, added ${formatBytes(point.addedBytes)}${point.suspect ? ", after the alarm: files may be unreadable" : ""}${point.purgeAfter ? ", in grace" : point.why ? `: ${point.why}` : ""}`;
              return (
                // biome-ignore lint/a11y/useKeyWithClickEvents: the listbox has the keys
                // biome-ignore lint/a11y/useFocusableInteractive: the listbox has the focus
                <div
                  key={point.id}
                  id={`${list}-${point.id}`}
                  role="option"
                  aria-selected={current}
                  aria-label={label}
                  title={label}
                  data-point={point.id}
                  className={`flex h-[11px] items-center ${choose ? "cursor-pointer" : ""}`}
                  onClick={() => choose?.(point.id)}
                >
                  <span
                    className="block h-[6px] shrink-0"
                    style={{
                      width: `${length(point.addedBytes) * 0.5}%`,
                      background: point.purgeAfter
                        ? "repeating-linear-gradient(135deg, var(--slate) 0 2px, transparent 2px 5px)"
                        : point.suspect
                          ? "repeating-linear-gradient(90deg, var(--vermilion) 0 4px, transparent 4px 6px)"
                          : current
                            ? "var(--brass)"
                            : band === "today" || band === "week"
                              ? "var(--color-primary)"
                              : "var(--verdigris-dim)",
                    }}
                  />
                  {current && (
                    <>
                      <span className="mx-1 h-px min-w-1 flex-1" style={{ background: "var(--brass)" }} />
                      <b className="text-[12px] leading-none whitespace-nowrap">
                        {markText(point.moment, zone).replace(",", "")}
                      </b>
                    </>
                  )}
                </div>
              );
            })}
          </div>
        </div>
      ))}
    </div>
  );
  const table = (
    <div className="max-h-[380px] overflow-y-auto" tabIndex={0}>
      <table className="grid-table">
        <thead>
          <tr>
            <th scope="col">Moment</th>
            <th scope="col" className="num">
              Added
            </th>
            <th scope="col" className="num">
              Files
            </th>
          </tr>
        </thead>
        <tbody>
          {ordered.map((point) => (
            <tr key={point.id} aria-selected={point.id === chosen}>
              <td>
                {choose ? (
                  <button type="button" className="underline" onClick={() => choose(point.id)}>
                    {clockText(point.moment, zone)}
                  </button>
                ) : (
                  clockText(point.moment, zone)
                )}
                {point.purgeAfter && <span className="text-soft"> in grace</span>}
                {point.suspect && <span className="text-soft"> after the alarm</span>}
              </td>
              <td className="num">{formatBytes(point.addedBytes)}</td>
              <td className="num">{point.files.toLocaleString("en-GB")}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
  if (points.length === 0) return <p className="text-soft">No recovery point yet.</p>;
  return <Drawing title="Depth" drawing={drawing} table={table} />;
}
