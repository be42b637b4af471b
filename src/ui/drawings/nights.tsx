import Link from "next/link";
import type { NightCell } from "@/core/protection/nights";
import { OUTCOMES, type Outcome } from "@/core/protection/state";
import { zoned } from "@/core/units/zoned";
import { Drawing } from "./drawing";

export interface NightsRow {
  readonly name: string;
  readonly base: string;
  readonly cells: readonly (NightCell | null)[];
  readonly share: number | null;
}

const WIDTH = 22;
const HEIGHT = 16;
/** Worst on top, as in the story of a night. */
const ORDER: readonly Outcome[] = ["failed", "missed", "stopped", "caution", "clean"];
const FILL: Record<Outcome, string> = {
  clean: "var(--verdigris-dim)",
  caution: "var(--brass)",
  failed: "var(--vermilion)",
  missed: "var(--vermilion)",
  stopped: "var(--slate)",
};
const MOST_COURSES = 7;

const written = zoned("en-GB", { weekday: "short", day: "numeric", month: "short" });
const dayText = (night: string): string => written(new Date(`${night}T00:00:00Z`), "UTC");
const said = (cell: NightCell | null): string =>
  cell
    ? OUTCOMES.filter((outcome) => cell[outcome])
        .map((outcome) => `${cell[outcome]} ${outcome}`)
        .join(", ")
    : "no runs";

/** One night of one client: its runs as courses, the worst on top; a broken course for what left nothing. */
function NightStack({ cell }: { cell: NightCell | null }) {
  if (!cell)
    return (
      <svg width={WIDTH} height={HEIGHT} aria-hidden="true">
        <rect x="1" y={HEIGHT - 2} width={WIDTH - 2} height="1" fill="var(--color-base-300)" />
      </svg>
    );
  const total = OUTCOMES.reduce((sum, outcome) => sum + cell[outcome], 0);
  const courses = Math.min(MOST_COURSES, total);
  const thick = Math.min(4, (HEIGHT - 1) / courses - 1);
  const list = ORDER.flatMap((outcome) =>
    Array.from(
      { length: Math.max(cell[outcome] ? 1 : 0, Math.round((cell[outcome] / total) * courses)) },
      () => outcome,
    ),
  ).slice(0, MOST_COURSES);
  return (
    <svg width={WIDTH} height={HEIGHT} aria-hidden="true">
      {list.map((outcome, i) => {
        const y = HEIGHT - (list.length - i) * (thick + 1);
        return outcome === "failed" || outcome === "missed" ? (
          <path
            key={`${outcome} ${y}`}
            d={`M1 ${y}h7l-2 ${thick}H1z M11 ${y}h10v${thick}H9z`}
            fill={FILL[outcome]}
            opacity={outcome === "missed" ? 0.6 : 1}
          />
        ) : (
          <rect
            key={`${outcome} ${y}`}
            x="1"
            y={y}
            width={outcome === "caution" ? WIDTH - 6 : WIDTH - 2}
            height={thick}
            fill={FILL[outcome]}
          />
        );
      })}
    </svg>
  );
}

/** Nights: clients down, nights across. A cell leads to that night's runs of that client. */
export function Nights({ nights, rows }: { nights: readonly string[]; rows: readonly NightsRow[] }) {
  const first = nights[0];
  const last = nights.at(-1);
  const head = (
    <thead>
      <tr>
        <th scope="col">Client</th>
        {nights.map((night) => (
          <th scope="col" key={night} className="text-center">
            {night.slice(8)}
          </th>
        ))}
        <th scope="col" className="num">
          left a point
        </th>
      </tr>
    </thead>
  );
  const share = (value: number | null) => (value === null ? "no runs" : `${(value * 100).toFixed(1)} %`);
  const body = (draw: boolean) => (
    <table className="grid-table">
      {head}
      <tbody>
        {rows.map((row) => (
          <tr key={row.base}>
            <th scope="row" className="!text-base-content !py-[3px] !text-sm !font-normal">
              <Link className="quiet" href={`${row.base}/watch`}>
                {row.name}
              </Link>
            </th>
            {row.cells.map((cell, i) => (
              <td key={nights[i]} className="!py-[3px] text-center">
                <Link
                  href={`${row.base}/runs?night=${nights[i]}`}
                  title={`${dayText(nights[i]!)}: ${said(cell)}`}
                  aria-label={`${row.name}, night of ${dayText(nights[i]!)}: ${said(cell)}`}
                  className="inline-block"
                >
                  {draw ? <NightStack cell={cell} /> : <span className="text-[12px]">{said(cell)}</span>}
                </Link>
              </td>
            ))}
            <td className="num !py-[3px]">{share(row.share)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
  return (
    <Drawing
      title="Nights"
      aside={first && last ? `${dayText(first)} to ${dayText(last)}` : null}
      drawing={body(true)}
      table={<div className="overflow-x-auto">{body(false)}</div>}
    />
  );
}
