"use client";

import { DateTime } from "luxon";
import Link from "next/link";
import { useCallback, useEffect, useState } from "react";
import { kindOf, type SourceKind } from "@/kinds";
import { INSIDE } from "@/kinds/browsing";
import { Depth, type DepthPoint } from "../drawings/depth";
import { Month } from "../drawings/month";
import { ActionButton } from "../parts/actions";
import { callApi } from "../parts/api";
import { clockText } from "../parts/moment";
import { type BasketItem, withoutBelow } from "./basket";
import { ChangedSince } from "./changed-since";
import { FileTree, type TreeEntry } from "./file-tree";
import { LookInside, type Looking } from "./look-inside";
import { RestoreTarget } from "./restore-target";
import type { TargetProps } from "./target-parts";
import { lookingAt, Versions } from "./versions";
import { OpenAsFolder, type ShownViewing } from "./viewings";

export interface RestoreBenchProps {
  readonly source: TargetProps["source"];
  readonly clientName: string;
  readonly zone: string;
  readonly now: Date;
  readonly startPath: string;
  readonly startPoint: string | undefined;
  readonly machines: TargetProps["machines"];
  readonly sources: TargetProps["sources"];
  readonly points: readonly DepthPoint[];
  readonly lately: readonly { readonly id: string; readonly text: string }[];
  readonly runsBase: string;
  /** Whom the moment can be opened for. */
  readonly people: readonly { readonly id: string; readonly name: string; readonly ours: boolean }[];
  readonly viewings: readonly ShownViewing[];
}

/** Restore: when, what, where to, in one sight. The basket may hold things from several moments. */
export function RestoreForm({
  source,
  zone,
  now,
  points,
  startPoint,
  startPath,
  machines,
  sources,
  lately,
  runsBase,
  clientName,
  people,
  viewings,
}: RestoreBenchProps) {
  // while an alarm stands, the last moment before it is the one that is wanted
  const alarmed = points.some((point) => point.suspect);
  const lastGood = alarmed ? points.find((point) => !point.suspect && !point.purgeAfter) : undefined;
  const [pointId, setPointId] = useState(
    points.some((point) => point.id === startPoint)
      ? startPoint!
      : (lastGood ?? points.find((point) => !point.purgeAfter) ?? points[0]!).id,
  );
  const chosen = points.find((point) => point.id === pointId) ?? points[0]!;
  const monthOf = useCallback(
    (point: DepthPoint) => DateTime.fromJSDate(point.moment, { zone }).toFormat("yyyy-MM"),
    [zone],
  );
  const [month, setMonth] = useState(monthOf(chosen));
  const [basket, setBasket] = useState<readonly BasketItem[]>([]);
  const [looked, setLooked] = useState<TreeEntry | null>(null);
  const [compare, setCompare] = useState(false);
  const [looking, setLooking] = useState<Looking | null>(null);
  const choose = (id: string) => {
    const point = points.find((one) => one.id === id);
    if (!point) return;
    setPointId(id);
    setMonth(monthOf(point));
  };
  const put = (entry: TreeEntry, from: string, moment: Date) =>
    setBasket((before) =>
      before.some((item) => item.pointId === from && item.path === entry.path)
        ? before
        : [
            ...(entry.type === "folder" ? withoutBelow(before, from, entry.path) : before),
            { pointId: from, moment, path: entry.path, name: entry.name, type: entry.type, size: entry.size },
          ],
    );
  // what a search over all points found, and what is compared, is of another moment than the chosen one
  const atOf = (entry: TreeEntry) => entry.pointId ?? chosen.id;
  const isIn = (entry: TreeEntry) =>
    basket.some((item) => item.pointId === atOf(entry) && item.path === entry.path);
  const toggle = (entry: TreeEntry) => {
    const at = atOf(entry);
    if (isIn(entry)) setBasket(basket.filter((item) => item.pointId !== at || item.path !== entry.path));
    else put(entry, at, entry.moment ? new Date(entry.moment) : chosen.moment);
  };
  useEffect(() => setLooked(null), []);
  const Inside = kindOf(source.kind) ? INSIDE[source.kind as SourceKind] : null;
  const inside = {
    address: `/recovery-points/${chosen.id}`,
    zone,
    inBasket: isIn,
    toggle,
    aside: (
      <button type="button" className="btn btn-plain" onClick={() => setCompare(true)}>
        Changes…
      </button>
    ),
  };
  return (
    <div className="grid min-h-0 flex-1 grid-cols-[286px_minmax(0,1fr)_344px]">
      <section
        className="border-base-300 grid content-start gap-4 overflow-y-auto border-r px-4 py-3"
        aria-label="When"
        tabIndex={0}
      >
        <h2 className="part-title flex justify-between">
          When <span className="font-normal">{clockText(chosen.moment, zone)}</span>
        </h2>
        <Month
          points={points}
          chosen={chosen}
          choose={choose}
          month={month}
          setMonth={setMonth}
          zone={zone}
        />
        {alarmed && (
          <div className="warned grid gap-2">
            <p>
              {chosen.suspect
                ? "This point was made after the alarm: many of its files may be unreadable."
                : "This source has an open alarm: many files became unreadable. Points made since then are marked."}
            </p>
            {chosen.suspect && lastGood && (
              <button
                type="button"
                className="btn btn-plain justify-self-start"
                onClick={() => choose(lastGood.id)}
              >
                Last point before the alarm
              </button>
            )}
          </div>
        )}
        <Depth points={points} chosen={chosen.id} choose={choose} now={now} zone={zone} />
        {chosen.why && <p className="text-soft text-[13px]">Kept because: {chosen.why}.</p>}
        {chosen.purgeAfter && (
          <div className="warned grid gap-2">
            <p>
              Its policy no longer keeps this point. It will be purged after{" "}
              {clockText(chosen.purgeAfter, zone)}.
            </p>
            <ActionButton
              action={() => callApi("POST", `/recovery-points/${chosen.id}/keep`)}
              done="The recovery point is kept until the hold is lifted."
            >
              Undo drop
            </ActionButton>
          </div>
        )}
      </section>
      <section className="flex min-h-0 flex-col" aria-label="What">
        {looking ? (
          <LookInside looking={looking} close={() => setLooking(null)} />
        ) : compare ? (
          <ChangedSince
            key={chosen.id}
            chosen={chosen}
            points={points}
            zone={zone}
            inBasket={isIn}
            toggle={toggle}
            close={() => setCompare(false)}
          />
        ) : Inside ? (
          <Inside key={chosen.id} {...inside} look={setLooked} looked={looked?.path ?? null} />
        ) : (
          <FileTree
            key={chosen.id}
            {...inside}
            startPath={startPath}
            everywhere={`/sources/${source.id}`}
            look={setLooked}
            looked={looked?.path ?? null}
          />
        )}
        {looked && looked.type !== "folder" && (
          <Versions
            address={`/sources/${source.id}/versions`}
            entry={looked}
            zone={zone}
            points={points.length}
            close={() => {
              setLooked(null);
              setLooking(null);
            }}
            look={(version, before) =>
              setLooking(lookingAt("/recovery-points", looked, version, before, zone))
            }
            put={(version) =>
              put({ ...looked, size: version.size }, version.pointId, new Date(version.moment))
            }
            isIn={(version) =>
              basket.some((item) => item.pointId === version.pointId && item.path === looked.path)
            }
          />
        )}
      </section>
      <section
        className="bg-base-100 border-base-300 flex min-h-0 flex-col gap-4 overflow-y-auto border-l px-4 py-3"
        aria-label="Where to"
        tabIndex={0}
      >
        <RestoreTarget
          source={source}
          clientName={clientName}
          machines={machines}
          sources={sources}
          basket={basket}
          setBasket={setBasket}
          zone={zone}
          runsBase={runsBase}
        />
        <OpenAsFolder
          pointId={chosen.id}
          moment={clockText(chosen.moment, zone)}
          folder={
            basket.find((item) => item.type === "folder" && item.pointId === chosen.id)?.path ?? startPath
          }
          people={people}
          viewings={viewings}
        />
        <div className="border-line mt-auto border-t pt-3">
          <h3 className="mb-1 font-semibold">Recent restores</h3>
          {lately.length === 0 && <p className="text-soft">No restores yet.</p>}
          <ul className="text-soft grid gap-1 text-[13px]">
            {lately.map((run) => (
              <li key={run.id}>
                <Link className="quiet" href={`${runsBase}/runs?sel=${run.id}`}>
                  {run.text}
                </Link>
              </li>
            ))}
          </ul>
        </div>
      </section>
    </div>
  );
}
