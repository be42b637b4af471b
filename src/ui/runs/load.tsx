"use client";

import { useRouter } from "next/navigation";
import { type KeyboardEvent, type PointerEvent, useMemo, useRef, useState } from "react";
import {
  type HourLoad,
  type LoadDepot,
  type LoadGroup,
  peakOf,
  proposeSpread,
  type Shifts,
  USUAL_AT_ONCE,
  weekLoad,
} from "@/core/consequences/load";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { Drawing } from "../drawings/drawing";
import { callApi } from "../parts/api";
import { Refusal, SelectField, useSending } from "../parts/form";
import { say } from "../parts/say";
import { type LimitedLink, LinkLimits } from "./link-limits";

const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const DAY_MINUTES = 1440;
const STEP = 15;

const clock = (minute: number): string => {
  const of = ((minute % DAY_MINUTES) + DAY_MINUTES) % DAY_MINUTES;
  return `${String(Math.floor(of / 60)).padStart(2, "0")}:${String(of % 60).padStart(2, "0")}`;
};
const signed = (minutes: number): string =>
  `${minutes < 0 ? "−" : "+"}${Math.abs(minutes) >= 60 ? `${Math.floor(Math.abs(minutes) / 60)} h ` : ""}${Math.abs(minutes) % 60 ? `${Math.abs(minutes) % 60} min` : ""}`.trim();

/**
 * The week by the hour and one of its days in detail. A policy's bar is dragged, or moved with the arrow keys, and what
 * that changes stands beside it before it is saved.
 */
export function Load({
  groups,
  depots,
  zone,
  today,
  links,
}: {
  groups: readonly LoadGroup[];
  depots: readonly LoadDepot[];
  zone: string;
  /** Day of the week, 0 is Monday. */
  today: number;
  /** Links of the client in scope, whose limits are set here too. */
  links: readonly LimitedLink[];
}) {
  const router = useRouter();
  const sending = useSending();
  const [depotId, setDepotId] = useState(depots[0]?.id ?? "");
  const [day, setDay] = useState(today);
  const [shifts, setShifts] = useState<Shifts>({});
  const depot = depots.find((one) => one.id === depotId) ?? depots[0];
  const before = useMemo(() => (depot ? weekLoad(groups, depot) : []), [groups, depot]);
  const after = useMemo(() => (depot ? weekLoad(groups, depot, shifts) : []), [groups, depot, shifts]);
  if (!depot) return <p className="text-soft p-5">No policy with a schedule, so there is no load.</p>;
  const moved = groups.filter((group) => shifts[group.id]);
  const move = (id: string, minutes: number) =>
    setShifts((old) => {
      const wished = Math.max(-DAY_MINUTES + STEP, Math.min(DAY_MINUTES - STEP, minutes));
      return { ...old, [id]: wished };
    });
  const save = () =>
    sending.send(async () => {
      await callApi("POST", "/load/moves", {
        moves: moved.map((group) => ({ policyId: group.id, minutes: shifts[group.id] })),
      });
      say.success(`${counted(moved.length, "policy", "policies")} moved.`);
      setShifts({});
      router.refresh();
    });
  const spread = () => {
    const proposed = proposeSpread(groups, depots);
    setShifts(proposed);
    if (Object.keys(proposed).length > 0) return;
    const collide = depots.some((one) => weekLoad(groups, one).some((hour) => hour.collides));
    say.info(
      collide
        ? "No move of up to three hours helps. Spread the sources within a policy (its clause When), or raise a limit."
        : "Nothing collides at any depot: these times can stay as they are.",
    );
  };
  const here = groups.filter((group) => group.depotIds.includes(depot.id));
  const held = here.filter((group) => !group.movable);
  const onDay = here.filter((group) =>
    group.starts.some(
      (start) =>
        Math.floor(((((start + (shifts[group.id] ?? 0)) % 10080) + 10080) % 10080) / DAY_MINUTES) === day,
    ),
  );
  return (
    <div className="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_300px]">
      <div className="min-h-0 overflow-y-auto px-[17px] py-3" tabIndex={0}>
        <div className="mb-3 flex items-end gap-4">
          <div className="w-[220px]">
            <SelectField label="Depot" value={depot.id} onChange={(event) => setDepotId(event.target.value)}>
              {depots.map((one) => (
                <option key={one.id} value={one.id}>
                  {one.name}
                </option>
              ))}
            </SelectField>
          </div>
          <p className="text-soft pb-[6px] text-[13px]">
            {depot.atOnce === null
              ? `No limit is set for its concurrent runs; more than ${USUAL_AT_ONCE} count as a collision.`
              : `Limit: ${counted(depot.atOnce, "simultaneous run")}; further runs wait.`}{" "}
            Times by the clock of {zone}.
          </p>
        </div>
        <WeekStrip hours={after} day={day} choose={setDay} />
        <h3 className="part-title mt-4 mb-1">{DAYS[day]}</h3>
        <HoursHead hours={after.slice(day * 24, day * 24 + 24)} />
        <ul>
          {onDay.map((group) => (
            <GroupBar
              key={group.id}
              group={group}
              day={day}
              shift={shifts[group.id] ?? 0}
              move={(minutes) => move(group.id, minutes)}
            />
          ))}
        </ul>
        {onDay.length === 0 && <p className="text-soft py-2">Nothing begins on this day.</p>}
      </div>
      <aside
        className="bg-base-100 border-base-300 min-h-0 overflow-y-auto border-l px-[16px] py-3"
        aria-label="Effects of the move"
      >
        <h2 className="part-title mb-2">Effects of the move</h2>
        <dl className="facts mb-3">
          <dt>Peak</dt>
          <dd>
            {peakOf(before)} concurrent{moved.length > 0 && <b> → {peakOf(after)}</b>}
          </dd>
          <dt>Collisions</dt>
          <dd>
            {counted(before.filter((hour) => hour.collides).length, "hour")}
            {moved.length > 0 && <b> → {counted(after.filter((hour) => hour.collides).length, "hour")}</b>}
          </dd>
        </dl>
        <ul className="grid gap-2">
          {moved.map((group) => (
            <li key={group.id}>
              <b>{group.name}</b> <span className="text-soft">{group.client}</span>
              <span className="block">
                {clock(group.starts[0] ?? 0)} → {clock((group.starts[0] ?? 0) + shifts[group.id]!)} (
                {signed(shifts[group.id]!)}), {counted(group.sources, "source")}{" "}
                <button type="button" className="text-primary underline" onClick={() => move(group.id, 0)}>
                  back
                </button>
              </span>
            </li>
          ))}
        </ul>
        {moved.length === 0 && (
          <p className="text-soft">
            Drag a policy's bar, or select it and press ← or →, to see the effects here. Nothing is saved
            until you choose Save.
          </p>
        )}
        <Refusal problem={sending.problem} />
        <div className="mt-3 flex flex-wrap gap-2">
          {moved.length > 0 && (
            <button type="button" className="btn btn-primary" disabled={sending.busy} onClick={save}>
              Save {counted(moved.length, "change")}
            </button>
          )}
          <button type="button" className="btn btn-plain" onClick={spread}>
            Spread these
          </button>
        </div>
        <h3 className="part-title mt-5">Limits</h3>
        {[
          {
            name: depot.name,
            path: `/depots/${depot.id}`,
            atOnce: depot.atOnce,
            bandwidth: null,
          },
          ...links,
        ].map((link) => (
          <LinkLimits key={link.path} link={link} />
        ))}
        {held.length > 0 && (
          <>
            <h3 className="part-title mt-5 mb-1">Not to be moved here</h3>
            <ul className="text-soft text-[13px]">
              {held.map((group) => (
                <li key={group.id}>
                  {group.name}, {group.client}
                </li>
              ))}
            </ul>
            <p className="text-soft mt-1 text-[13px]">
              They depend on the previous run, are inside a window, or inherit their schedule.
            </p>
          </>
        )}
      </aside>
    </div>
  );
}

const shade = (share: number): string =>
  `color-mix(in oklch, var(--color-primary) ${Math.round(12 + share * 78)}%, transparent)`;

/** Seven days by the hour; a collision is outlined, and told in words. */
function WeekStrip({
  hours,
  day,
  choose,
}: {
  hours: readonly HourLoad[];
  day: number;
  choose: (day: number) => void;
}) {
  const most = Math.max(1, peakOf(hours));
  const ofDay = (at: number) => hours.slice(at * 24, at * 24 + 24);
  const busy = hours
    .map((hour, at) => ({ ...hour, when: `${DAYS[Math.floor(at / 24)]} ${at % 24}:00` }))
    .filter((hour) => hour.peak > 0);
  return (
    <Drawing
      title="The week"
      aside="darker: more concurrent runs; outlined: more than the limit"
      drawing={
        <div className="grid grid-cols-[44px_repeat(24,minmax(0,1fr))] gap-[2px]">
          <span />
          {Array.from({ length: 24 }, (_, hour) => hour).map((hour) => (
            <span key={`head ${hour}`} className="text-soft text-center text-[11px]">
              {hour % 3 === 0 ? hour : ""}
            </span>
          ))}
          {DAYS.map((name, at) => (
            <div key={name} className="contents">
              <button
                type="button"
                className={`h-[24px] min-w-[40px] rounded-[3px] text-left text-[13px] ${at === day ? "font-bold underline" : "text-soft"}`}
                aria-pressed={at === day}
                onClick={() => choose(at)}
              >
                {name}
              </button>
              {ofDay(at).map((hour, i) => (
                <span
                  // biome-ignore lint/suspicious/noArrayIndexKey: an hour of a day is its place
                  key={`${name} ${i}`}
                  title={`${name} ${i}:00: ${hour.peak} concurrent, ${formatBytes(hour.bytes)}${hour.collides ? ", too many" : ""}`}
                  className={`h-[24px] rounded-[2px] ${hour.collides ? "outline-2 outline-[var(--vermilion)]" : ""} ${hour.peak === 0 ? "border-line border" : ""}`}
                  style={hour.peak > 0 ? { background: shade(hour.peak / most) } : {}}
                />
              ))}
            </div>
          ))}
        </div>
      }
      table={
        <table className="grid-table">
          <thead>
            <tr>
              <th scope="col">when</th>
              <th scope="col">concurrent</th>
              <th scope="col">added</th>
              <th scope="col" />
            </tr>
          </thead>
          <tbody>
            {busy.map((hour) => (
              <tr key={hour.when}>
                <td>{hour.when}</td>
                <td className="num">{hour.peak}</td>
                <td className="num">{formatBytes(hour.bytes)}</td>
                <td>{hour.collides ? "too many" : ""}</td>
              </tr>
            ))}
          </tbody>
        </table>
      }
    />
  );
}

function HoursHead({ hours }: { hours: readonly HourLoad[] }) {
  return (
    <div className="grid grid-cols-[220px_minmax(0,1fr)] gap-3">
      <span className="text-soft text-[12px]">policy</span>
      <div className="text-soft grid grid-cols-24 text-[11px]">
        {hours.map((hour, at) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: an hour of a day is its place
          <span key={at} className={hour.collides ? "text-[var(--color-error)]" : ""}>
            {at % 3 === 0 || hour.collides ? at : ""}
          </span>
        ))}
      </div>
    </div>
  );
}

/** One policy on a day: its runs as a bar that can be dragged, or moved by the arrow keys. */
function GroupBar({
  group,
  day,
  shift,
  move,
}: {
  group: LoadGroup;
  day: number;
  shift: number;
  move: (minutes: number) => void;
}) {
  const lane = useRef<HTMLDivElement>(null);
  const held = useRef<{ readonly x: number; readonly shift: number } | null>(null);
  const starts = group.starts
    .map((start) => (((start + shift) % 10080) + 10080) % 10080)
    .filter((start) => Math.floor(start / DAY_MINUTES) === day)
    .map((start) => start % DAY_MINUTES);
  const length = Math.max(10, group.minutes + group.spread);
  const text = `${group.name}, ${group.client}, ${counted(group.sources, "source")}, ${starts.map(clock).join(", ")}`;
  const onKeyDown = (event: KeyboardEvent) => {
    const step = { ArrowLeft: -STEP, ArrowRight: STEP }[event.key];
    if (!step || !group.movable) return;
    event.preventDefault();
    move(shift + step);
  };
  const onPointerDown = (event: PointerEvent<HTMLDivElement>) => {
    if (!group.movable) return;
    event.currentTarget.setPointerCapture(event.pointerId);
    held.current = { x: event.clientX, shift };
  };
  const onPointerMove = (event: PointerEvent<HTMLDivElement>) => {
    if (!held.current || !lane.current) return;
    const minutes = ((event.clientX - held.current.x) / lane.current.clientWidth) * DAY_MINUTES;
    move(held.current.shift + Math.round(minutes / STEP) * STEP);
  };
  return (
    <li className="border-line grid grid-cols-[220px_minmax(0,1fr)] items-center gap-3 border-b py-[3px]">
      <span className="truncate text-[13px]">
        {group.name} <span className="text-soft">{group.client}</span>
      </span>
      <div
        ref={lane}
        role="slider"
        tabIndex={0}
        aria-label={text}
        aria-valuemin={-DAY_MINUTES}
        aria-valuemax={DAY_MINUTES}
        aria-valuenow={shift}
        aria-valuetext={
          shift ? `${starts.map(clock).join(", ")}, moved by ${signed(shift)}` : starts.map(clock).join(", ")
        }
        aria-disabled={!group.movable}
        className={`relative h-[22px] ${group.movable ? "cursor-ew-resize touch-none" : ""}`}
        onKeyDown={onKeyDown}
        onPointerDown={onPointerDown}
        onPointerMove={onPointerMove}
        onPointerUp={() => {
          held.current = null;
        }}
      >
        {starts.map((start) => (
          <span
            key={start}
            title={text}
            className={`absolute top-[4px] h-[14px] min-w-[5px] rounded-[2px] ${shift ? "bg-[var(--brass)]" : group.movable ? "bg-[var(--color-primary)]" : "bg-[var(--slate)]"}`}
            style={{ left: `${(start / DAY_MINUTES) * 100}%`, width: `${(length / DAY_MINUTES) * 100}%` }}
          />
        ))}
      </div>
    </li>
  );
}
