"use client";

import { scaleLinear } from "d3-scale";
import { memo, type ReactNode, useMemo, useState } from "react";
import { intoBands } from "@/core/depth";
import { formatBytes } from "@/core/units/bytes";
import { Drawing } from "../drawings/drawing";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { clockText } from "../parts/moment";

/** Consequences as the API tells them: moments are texts. */
export interface Follows {
  readonly next: readonly { readonly at: string; readonly pass: "incremental" | "full" }[];
  readonly zonesDiffer: boolean;
  readonly sources: number;
  readonly spaceNow: number;
  readonly space:
    | readonly { readonly days: number; readonly low: number; readonly mid: number; readonly high: number }[]
    | null;
  readonly points: readonly {
    readonly moment: string;
    readonly keep: boolean;
    readonly reason: string | null;
  }[];
  readonly pointsAfterYear: number;
  readonly load: readonly { readonly runs: number; readonly minutes: number; readonly bytes: number }[];
  readonly restoreMinutes: number | null;
  readonly advice: readonly ShownAdvice[];
  readonly clientZone: string;
  readonly providerZone: string;
}
interface ShownAdvice {
  readonly key: string;
  readonly text: string;
  readonly setAside: { readonly reason: string; readonly setBy: string; readonly setAt: string } | null;
}

const part = "part-title mb-1";

/** A part that is drawn anew when what it shows is another, not when it was only computed anew. */
function drawnFor<Shown extends { follows: Follows }>(
  drawing: (shown: Shown) => ReactNode,
  shows: (follows: Follows) => unknown,
) {
  return memo(
    drawing,
    (before, after) => JSON.stringify(shows(before.follows)) === JSON.stringify(shows(after.follows)),
  );
}
const NextRunsDrawn = drawnFor(NextRuns, ({ next, zonesDiffer, clientZone, providerZone }) => [
  next,
  zonesDiffer,
  clientZone,
  providerZone,
]);
const SpaceDrawn = drawnFor(Space, ({ space, spaceNow, restoreMinutes }) => [
  space,
  spaceNow,
  restoreMinutes,
]);
const PointsDrawn = drawnFor(PointsAfterYear, ({ points, pointsAfterYear, clientZone }) => [
  points,
  pointsAfterYear,
  clientZone,
]);
const HoursDrawn = drawnFor(HoursOfDay, ({ load }) => load);

/** What would follow from the clauses as they stand in the fields. */
export const WhatFollows = memo(function WhatFollows({
  follows,
  policyId,
  now,
  again,
}: {
  follows: Follows;
  /** Null for what is not saved yet: advice cannot be set aside before. */
  policyId: string | null;
  now: Date;
  again: () => void;
}) {
  return (
    <>
      <AdviceList advice={follows.advice} policyId={policyId} again={again} zone={follows.providerZone} />
      <NextRunsDrawn follows={follows} />
      <SpaceDrawn follows={follows} />
      <PointsDrawn follows={follows} now={now} />
      <HoursDrawn follows={follows} />
    </>
  );
});

function AdviceList({
  advice,
  policyId,
  again,
  zone,
}: {
  advice: readonly ShownAdvice[];
  policyId: string | null;
  again: () => void;
  zone: string;
}) {
  const open = advice.filter((one) => !one.setAside);
  const aside = advice.filter((one) => one.setAside);
  if (advice.length === 0) return null;
  return (
    <section>
      <h3 className={part}>Advice</h3>
      {open.map((one) => (
        <OpenAdvice key={one.key} advice={one} policyId={policyId} again={again} />
      ))}
      {aside.map((one) => (
        <p key={one.key} className="text-soft mb-2 text-[13px]">
          {one.text}{" "}
          <span className="block">
            Dismissed by {one.setAside!.setBy}, {clockText(new Date(one.setAside!.setAt), zone)}: “
            {one.setAside!.reason}”.{" "}
            <button
              type="button"
              className="underline"
              onClick={() => void callApi("DELETE", `/policies/${policyId}/advice/${one.key}`).then(again)}
            >
              Show again
            </button>
          </span>
        </p>
      ))}
    </section>
  );
}

function OpenAdvice({
  advice,
  policyId,
  again,
}: {
  advice: ShownAdvice;
  policyId: string | null;
  again: () => void;
}) {
  const [asking, setAsking] = useState(false);
  const [reason, setReason] = useState("");
  const sending = useSending();
  const setAside = () =>
    sending.send(async () => {
      await callApi("PUT", `/policies/${policyId}/advice/${advice.key}`, { reason });
      again();
    });
  return (
    <div className="warned mb-2">
      {advice.text}
      {policyId && !asking && (
        <button type="button" className="ml-2 underline" onClick={() => setAsking(true)}>
          Dismiss…
        </button>
      )}
      {asking && (
        <div className="mt-2 grid gap-2">
          <TextField
            label="Reason (recorded in the trail)"
            value={reason}
            error={sending.errorOf("reason")}
            onChange={(event) => setReason(event.target.value)}
          />
          <Refusal problem={sending.problem?.errors.length ? null : sending.problem} />
          <div className="flex gap-3">
            <button type="button" className="btn btn-plain" disabled={sending.busy} onClick={setAside}>
              Dismiss
            </button>
            <button type="button" className="underline" onClick={() => setAsking(false)}>
              Cancel
            </button>
          </div>
        </div>
      )}
    </div>
  );
}

function NextRuns({ follows }: { follows: Follows }) {
  return (
    <section>
      <h3 className={part}>Next runs</h3>
      {follows.next.length === 0 && <p>None by schedule.</p>}
      {follows.next.length > 0 && (
        <table className="grid-table">
          <thead>
            <tr>
              <th scope="col">{follows.clientZone}</th>
              {follows.zonesDiffer && <th scope="col">{follows.providerZone}</th>}
            </tr>
          </thead>
          <tbody>
            {follows.next.map(({ at, pass }) => (
              <tr key={at}>
                <td>
                  {clockText(new Date(at), follows.clientZone)}
                  {pass === "full" && <span className="text-soft"> reads everything</span>}
                </td>
                {follows.zonesDiffer && (
                  <td className="text-soft">{clockText(new Date(at), follows.providerZone)}</td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {!follows.zonesDiffer && follows.clientZone !== follows.providerZone && follows.next.length > 0 && (
        <p className="text-soft mt-1 text-[13px]">
          {follows.clientZone} and {follows.providerZone} show the same clock.
        </p>
      )}
    </section>
  );
}

function Space({ follows }: { follows: Follows }) {
  if (!follows.space)
    return (
      <section>
        <h3 className={part}>Space</h3>
        <p className="text-soft">Shown after two runs of its sources, when their growth is known.</p>
      </section>
    );
  const most = Math.max(...follows.space.map((one) => one.high), follows.spaceNow, 1);
  const x = scaleLinear([0, most], [0, 150]);
  return (
    <section>
      <h3 className={part}>Space, in each depot</h3>
      <table className="grid-table">
        <thead>
          <tr>
            <th scope="col">in</th>
            <th scope="col">about</th>
            <th scope="col">between</th>
          </tr>
        </thead>
        <tbody>
          <tr>
            <td>now</td>
            <td className="num">{formatBytes(follows.spaceNow)}</td>
            <td />
          </tr>
          {follows.space.map((one) => (
            <tr key={one.days}>
              <td className="whitespace-nowrap">{one.days} days</td>
              <td className="num">{formatBytes(one.mid)}</td>
              <td>
                <svg
                  width={152}
                  height={12}
                  role="img"
                  aria-label={`${formatBytes(one.low)} to ${formatBytes(one.high)}`}
                >
                  <title>{`${formatBytes(one.low)} to ${formatBytes(one.high)}: eight of ten times`}</title>
                  <rect
                    x={x(one.low)}
                    y={2}
                    width={Math.max(2, x(one.high) - x(one.low))}
                    height={8}
                    className="fill-[var(--color-base-300)]"
                  />
                  <rect x={x(one.mid)} y={0} width={2} height={12} className="fill-current" />
                </svg>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {follows.restoreMinutes !== null && (
        <p className="text-soft mt-1 text-[13px]">
          Its largest source would be back in about {minutesText(follows.restoreMinutes)}, at the rate of its
          own runs.
        </p>
      )}
    </section>
  );
}

const minutesText = (minutes: number): string =>
  minutes < 1.5
    ? "a minute"
    : minutes < 90
      ? `${Math.round(minutes)} minutes`
      : `${(minutes / 60).toFixed(1)} hours`;

const BAND_WORDS = {
  today: "today",
  week: "week",
  month: "month",
  quarter: "quarter",
  year: "year",
  years: "years",
};
const COURSES_MOST = 40;

function PointsAfterYear({ follows, now }: { follows: Follows; now: Date }) {
  const bands = useMemo(
    () =>
      intoBands(
        follows.points.map((one) => ({ ...one, moment: new Date(one.moment) })),
        now,
      ),
    [follows.points, now],
  );
  if (follows.points.length === 0) return null;
  return (
    <section>
      <Drawing
        title="After a year"
        aside={`about ${follows.pointsAfterYear.toLocaleString("en-GB")} points stay`}
        drawing={
          <div className="grid gap-[3px]">
            {bands.map(({ band, points }) => {
              const kept = points.filter((one) => one.keep).length;
              // as many courses as fit; what stays is told by its number
              const every = Math.ceil(points.length / COURSES_MOST);
              return (
                <div key={band} className="grid grid-cols-[54px_minmax(0,1fr)_44px] items-center gap-2">
                  <span className="text-soft text-[13px]">{BAND_WORDS[band]}</span>
                  <span className="flex h-[12px] items-stretch gap-[2px] overflow-hidden" aria-hidden="true">
                    {points
                      .filter((_, i) => i % every === 0)
                      .map((one) => (
                        <span
                          key={one.moment.getTime()}
                          title={`${clockText(one.moment, follows.clientZone)}${one.reason ? `: ${one.reason}` : ""}`}
                          className={
                            one.keep
                              ? "w-[4px] bg-[var(--color-primary)]"
                              : "w-[4px] border border-[var(--color-base-300)]"
                          }
                        />
                      ))}
                  </span>
                  <span className="num text-[13px]">{kept}</span>
                </div>
              );
            })}
          </div>
        }
        table={() => (
          <table className="grid-table">
            <thead>
              <tr>
                <th scope="col">stays</th>
                <th scope="col">because</th>
              </tr>
            </thead>
            <tbody>
              {follows.points
                .filter((one) => one.keep)
                .slice(0, 200)
                .map((one) => (
                  <tr key={one.moment}>
                    <td>{clockText(new Date(one.moment), follows.clientZone)}</td>
                    <td className="text-soft">{one.reason}</td>
                  </tr>
                ))}
            </tbody>
          </table>
        )}
      />
    </section>
  );
}

function HoursOfDay({ follows }: { follows: Follows }) {
  const hours = follows.load.map((one, hour) => ({ ...one, hour, length: one.minutes || one.runs }));
  const most = Math.max(...hours.map((one) => one.length), 0);
  if (most === 0) return null;
  const busy = hours.filter((one) => one.runs > 0);
  return (
    <section>
      <Drawing
        title="Load by hour"
        drawing={
          <svg viewBox="0 0 290 50" className="w-full" role="img" aria-label="Runs by the hour of the day">
            <title>Runs by the hour of the day</title>
            {hours.map(({ hour, length }) => {
              const height = (length / most) * 34;
              return (
                <rect
                  key={`at ${hour}`}
                  x={hour * 12}
                  y={36 - height}
                  width={10}
                  height={Math.max(height, 0.5)}
                  className="fill-[var(--color-primary)]"
                />
              );
            })}
            {[0, 6, 12, 18].map((hour) => (
              <text key={hour} x={hour * 12} y={48} className="fill-current text-[9px]">
                {hour}:00
              </text>
            ))}
          </svg>
        }
        table={
          <table className="grid-table">
            <thead>
              <tr>
                <th scope="col">hour</th>
                <th scope="col">runs a day</th>
                <th scope="col">added</th>
              </tr>
            </thead>
            <tbody>
              {busy.map((one) => (
                <tr key={one.hour}>
                  <td>{one.hour}:00</td>
                  <td className="num">{+one.runs.toFixed(1)}</td>
                  <td className="num">{formatBytes(one.bytes)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        }
      />
    </section>
  );
}
