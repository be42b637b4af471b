"use client";

import { scaleLinear } from "d3-scale";
import { formatBytes } from "@/core/units/bytes";
import { formatDuration } from "@/core/units/duration";
import type { Rates } from "@/core/units/rates";
import { Drawing } from "./drawing";

const WIDTH = 370;
const HEIGHT = 64;
const FOOT = 14;

/** How fast a run went, from its beginning on. */
export function RateDrawing({ rates }: { rates: Rates | undefined }) {
  if (!rates || rates.values.length < 2) return null;
  const { every, values } = rates;
  const top = Math.max(...values, 1);
  const mean = values.reduce((sum, rate) => sum + rate, 0) / values.length;
  const x = scaleLinear([0, values.length], [0, WIDTH]);
  const y = scaleLinear([0, top], [HEIGHT - FOOT, 3]);
  const steps = values.map((rate, i) => `V${y(rate)}H${x(i + 1)}`).join("");
  const words = `on average ${formatBytes(mean)}/s, at most ${formatBytes(top)}/s`;
  const whole = formatDuration(every * values.length * 1000);
  return (
    <Drawing
      title="Rate"
      aside={words}
      drawing={
        <svg
          viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
          className="w-full"
          role="img"
          aria-label={`How fast it read over ${whole}: ${words}`}
        >
          <path d={`M0,${y(0)}${steps}V${y(0)}Z`} fill="var(--color-primary)" opacity={0.28} />
          <line x1={0} x2={WIDTH} y1={y(0)} y2={y(0)} stroke="var(--color-base-300)" />
          <line
            x1={0}
            x2={WIDTH}
            y1={y(mean)}
            y2={y(mean)}
            stroke="var(--color-primary)"
            strokeDasharray="3 3"
          />
          <text x={0} y={HEIGHT - 3} className="fill-current text-[10px]">
            beginning
          </text>
          <text x={WIDTH} y={HEIGHT - 3} textAnchor="end" className="fill-current text-[10px]">
            {whole}
          </text>
        </svg>
      }
      table={
        <table className="grid-table">
          <thead>
            <tr>
              <th scope="col">From</th>
              <th scope="col" className="num">
                Rate
              </th>
            </tr>
          </thead>
          <tbody>
            {values.map((rate, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: a value is known by its place in time
              <tr key={i}>
                <td>{i === 0 ? "the beginning" : formatDuration(i * every * 1000)}</td>
                <td className="num">{formatBytes(rate)}/s</td>
              </tr>
            ))}
          </tbody>
        </table>
      }
    />
  );
}
