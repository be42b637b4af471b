"use client";

import { scaleLinear } from "d3-scale";
import type { DayUsed, Filling as Forecast } from "@/core/consequences/filling";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { Drawing } from "./drawing";

const WIDTH = 370;
const HEIGHT = 120;
const FOOT = 16;
const AHEAD = 90;

/** A depot's used space over the past days, and its forecast with the band in which it probably stays. */
export function Filling({
  days,
  forecast,
  used,
  limit,
  fullText,
}: {
  days: readonly DayUsed[];
  forecast: Forecast | null;
  used: number;
  limit: number | null;
  fullText: string;
}) {
  const at = (rate: number, ahead: number) => Math.max(0, used + rate * ahead);
  const high = forecast ? at(forecast.perDay + forecast.spread, AHEAD) : used;
  // a limit far above everything would press the drawing flat; the sentence below tells it
  const near = limit !== null && limit <= high * 1.6 ? limit : 0;
  const top = Math.max(used, high, near, ...days.map((one) => one.used)) || 1;
  const since = days.length - 1;
  const x = scaleLinear([-Math.max(1, since), AHEAD], [0, WIDTH]);
  const y = scaleLinear([0, top * 1.05], [HEIGHT - FOOT, 2]);
  const past = days.map((one, i) => `${x(i - since)},${y(one.used)}`).join(" ");
  const line = (rate: number) => `${x(0)},${y(used)} ${x(AHEAD)},${y(at(rate, AHEAD))}`;
  const drawing = (
    <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} className="w-full" role="img" aria-label={fullText}>
      {limit !== null && limit <= top * 1.05 && (
        <>
          <line
            x1={0}
            x2={WIDTH}
            y1={y(limit)}
            y2={y(limit)}
            stroke="var(--vermilion)"
            strokeDasharray="2 3"
          />
          <text x={WIDTH} y={y(limit) + 12} textAnchor="end" className="fill-current text-[10px]">
            {formatBytes(limit)}, full
          </text>
        </>
      )}
      {forecast && (
        <polygon
          points={`${x(0)},${y(used)} ${x(AHEAD)},${y(high)} ${x(AHEAD)},${y(at(forecast.perDay - forecast.spread, AHEAD))}`}
          fill="var(--brass)"
          opacity={0.25}
        />
      )}
      {forecast && (
        <polyline
          points={line(forecast.perDay)}
          fill="none"
          stroke="var(--brass)"
          strokeWidth={1.5}
          strokeDasharray="5 3"
        />
      )}
      <polyline points={past} fill="none" stroke="var(--color-primary)" strokeWidth={2} />
      <line x1={x(0)} x2={x(0)} y1={2} y2={HEIGHT - FOOT} stroke="var(--ink-soft)" strokeWidth={0.75} />
      <text x={x(0) + 3} y={HEIGHT - 4} className="fill-current text-[10px]">
        today
      </text>
      <text x={0} y={HEIGHT - 4} className="fill-current text-[10px]">
        {since > 0 ? `${counted(since, "day")} ago` : ""}
      </text>
      <text x={WIDTH} y={HEIGHT - 4} textAnchor="end" className="fill-current text-[10px]">
        in {AHEAD} days
      </text>
    </svg>
  );
  const table = (
    <table className="grid-table">
      <thead>
        <tr>
          <th scope="col">Day</th>
          <th scope="col" className="num">
            Used
          </th>
        </tr>
      </thead>
      <tbody>
        {days.map((one) => (
          <tr key={one.day}>
            <td>{one.day}</td>
            <td className="num">{formatBytes(one.used)}</td>
          </tr>
        ))}
        {forecast &&
          [30, 60, 90].map((ahead) => (
            <tr key={ahead}>
              <td>in {ahead} days, probably</td>
              <td className="num">
                {formatBytes(at(forecast.perDay - forecast.spread, ahead))} to{" "}
                {formatBytes(at(forecast.perDay + forecast.spread, ahead))}
              </td>
            </tr>
          ))}
      </tbody>
    </table>
  );
  return (
    <div>
      <Drawing title="Filling" drawing={drawing} table={table} />
      <p className="text-soft mt-1">{fullText}</p>
    </div>
  );
}
