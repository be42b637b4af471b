"use client";

import { useVirtualizer } from "@tanstack/react-virtual";
import Link from "next/link";
import { usePathname, useRouter, useSearchParams } from "next/navigation";
import { useEffect, useMemo, useRef, useState } from "react";
import type { ProtectionState } from "@/core/protection/state";
import { formatBytes } from "@/core/units/bytes";
import { KINDS, type SourceKind } from "@/kinds";
import { KindIcon } from "@/kinds/icons";
import { showRefusal } from "../parts/actions";
import { callApi } from "../parts/api";
import { Mark } from "../parts/mark";
import { Ago, Clock } from "../parts/moment";
import { say } from "../parts/say";

export interface SourceRow {
  readonly id: string;
  readonly name: string;
  readonly client: string;
  readonly site: string;
  readonly state: ProtectionState;
  readonly policy: string | null;
  readonly newest: Date | null;
  readonly targetHours: number | null;
  readonly bytes: number;
  readonly perDay: number;
  readonly next: Date | null;
  readonly gone: boolean;
  readonly kind: SourceKind;
  /** The machine or the connection that it is reached by. */
  readonly connection: string | null;
}

type Line =
  | { readonly kind: "head"; readonly key: string; readonly text: string }
  | { readonly kind: "source"; readonly key: string; readonly source: SourceRow };

/** What the headings of the list are made of. */
const GROUPINGS = {
  site: { label: "site", of: (source: SourceRow) => source.site },
  kind: { label: "kind", of: (source: SourceRow) => KINDS[source.kind].sources },
  connection: { label: "connection", of: (source: SourceRow) => source.connection ?? "removed connections" },
} as const;
type Grouping = keyof typeof GROUPINGS;

const COLUMNS =
  "grid grid-cols-[minmax(180px,1.7fr)_minmax(100px,0.9fr)_140px_70px_74px_118px] items-center gap-x-3";

/** How old the newest point may be, as a bar: full is the target. */
function AgeBar({ source, now }: { source: SourceRow; now: Date }) {
  if (!source.newest || !source.targetHours) return null;
  const share = (now.getTime() - source.newest.getTime()) / 3_600_000 / source.targetHours;
  return (
    <span className="thin-bar mt-[2px] block" aria-hidden="true">
      <i
        style={{
          width: `${Math.min(100, share * 100)}%`,
          background: share > 1.5 ? "var(--vermilion)" : share > 1 ? "var(--brass)" : "var(--color-primary)",
        }}
      />
    </span>
  );
}

/** Client › site › source: only what is in sight is drawn. */
export function SourceTable({
  sources,
  now,
  zone,
  withClient,
  found,
  shown,
}: {
  sources: readonly SourceRow[];
  now: Date;
  zone: string;
  withClient: boolean;
  /** What these were found by, and how many there are of them, on the page or not. */
  found: { readonly text: string; readonly fitting: number };
  /** The one that is shown beside the list while none was chosen. */
  shown: string | null;
}) {
  const router = useRouter();
  const pathname = usePathname();
  const search = useSearchParams();
  const [text, setText] = useState(found.text);
  // where the page does not hold all of them, the server looks for what is typed
  const elsewhere = found.text !== "" || found.fitting > sources.length;
  const [selected, setSelected] = useState<ReadonlySet<string>>(new Set());
  const box = useRef<HTMLDivElement>(null);
  const [grouping, setGrouping] = useState<Grouping>("site");
  const lines = useMemo(() => {
    const words = elsewhere ? "" : text.toLowerCase();
    const made: Line[] = [];
    let head = "";
    const headingOf = (source: SourceRow) => {
      const own = GROUPINGS[grouping].of(source);
      return withClient ? `${source.client} › ${own}` : own;
    };
    // the server's order is by site; a stable sort keeps it within each heading
    const ordered =
      grouping === "site"
        ? sources
        : [...sources].sort((a, b) => headingOf(a).localeCompare(headingOf(b), "en"));
    for (const source of ordered) {
      if (
        !`${source.client} ${source.site} ${source.name} ${source.policy ?? ""} ${source.state}`
          .toLowerCase()
          .includes(words)
      )
        continue;
      const here = headingOf(source);
      if (here !== head) made.push({ kind: "head", key: `head ${here}`, text: here });
      head = here;
      made.push({ kind: "source", key: source.id, source });
    }
    return made;
  }, [sources, text, withClient, elsewhere, grouping]);
  const rows = useVirtualizer({
    count: lines.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => (lines[i]?.kind === "head" ? 32 : 40),
    overscan: 12,
    getItemKey: (i) => lines[i]!.key,
  });
  const chosen = search.get("sel") ?? shown;
  useEffect(() => {
    if (!elsewhere || text.trim() === found.text) return;
    const timer = setTimeout(() => {
      const values = new URLSearchParams(window.location.search);
      values.delete("q");
      if (text.trim()) values.set("q", text.trim());
      router.replace(`${pathname}?${values}`, { scroll: false });
    }, 300);
    return () => clearTimeout(timer);
  }, [text, found.text, elsewhere, router, pathname]);
  const address = (id: string) => {
    const values = new URLSearchParams(search);
    values.delete("sheet");
    values.set("sel", id);
    return `${pathname}?${values}`;
  };
  const toggle = (id: string) => {
    const next = new Set(selected);
    if (!next.delete(id)) next.add(id);
    setSelected(next);
  };
  const backUpSelected = async () => {
    let asked = 0;
    for (const id of selected) {
      try {
        await callApi("POST", `/sources/${id}/runs`);
        asked += 1;
      } catch (error) {
        showRefusal(error);
      }
    }
    if (asked) say.success(`${asked} ${asked === 1 ? "run" : "runs"} requested.`);
    setSelected(new Set());
    router.refresh();
  };
  return (
    <>
      <div className="flex items-center gap-3 px-[14px] py-2">
        <input
          className="input w-full max-w-[320px]"
          placeholder="Filter by name, policy or state…"
          aria-label="Filter sources"
          data-filter
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <label className="text-soft flex items-center gap-2 text-[13px] whitespace-nowrap">
          Group by
          <select
            className="select select-sm w-[120px]"
            value={grouping}
            onChange={(event) => setGrouping(event.target.value as Grouping)}
          >
            {(Object.keys(GROUPINGS) as Grouping[]).map((id) => (
              <option key={id} value={id}>
                {GROUPINGS[id].label}
              </option>
            ))}
          </select>
        </label>
        {selected.size > 0 ? (
          <button type="button" className="btn btn-primary" onClick={backUpSelected}>
            Back up {selected.size} now
          </button>
        ) : (
          <span className="text-soft text-[13px]">
            {lines.filter((line) => line.kind === "source").length.toLocaleString("en-GB")}
            {found.fitting > sources.length && ` of ${found.fitting.toLocaleString("en-GB")}`} shown
            {found.fitting > sources.length && ": type to find the others"}
          </span>
        )}
      </div>
      <div
        className={`${COLUMNS} border-base-300 text-soft overflow-hidden border-b pr-[14px] pb-[5px] pl-[48px] text-[12.5px] [scrollbar-gutter:stable]`}
        aria-hidden="true"
      >
        <span className="pl-[22px]">Source</span>
        <span>Policy</span>
        <span>Newest point, target</span>
        <span className="text-right">Size</span>
        <span className="text-right">A day</span>
        <span>Next run</span>
      </div>
      <div ref={box} className="min-h-0 flex-1 overflow-y-auto [scrollbar-gutter:stable]" tabIndex={0}>
        {lines.length === 0 && (
          <p className="text-soft p-4">
            {sources.length || text
              ? `No source matches “${text}”.`
              : "No source yet. Connect one to see it here."}
          </p>
        )}
        <div style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((row) => {
            const line = lines[row.index]!;
            const place = {
              position: "absolute",
              top: 0,
              left: 0,
              right: 0,
              height: row.size,
              transform: `translateY(${row.start}px)`,
            } as const;
            if (line.kind === "head") {
              return (
                <h3 key={line.key} style={place} className="part-title px-[14px] pt-[10px]">
                  {line.text}
                </h3>
              );
            }
            const { source } = line;
            return (
              <div key={line.key} style={place} className="flex">
                <label className="grid w-[36px] shrink-0 place-items-center">
                  <input
                    type="checkbox"
                    data-select
                    className="checkbox checkbox-xs"
                    aria-label={`Select ${source.name}`}
                    checked={selected.has(source.id)}
                    onChange={() => toggle(source.id)}
                  />
                </label>
                <Link
                  href={address(source.id)}
                  data-row
                  scroll={false}
                  className={`row ${COLUMNS} h-full min-w-0 flex-1 !py-0 !pl-[9px]`}
                  aria-current={source.id === chosen}
                >
                  <span className="flex min-w-0 items-center gap-2">
                    <Mark state={source.state} />
                    <KindIcon kind={source.kind} />
                    <span className="truncate font-semibold">{source.name}</span>
                  </span>
                  <span className="text-soft truncate">
                    {source.policy ?? (source.gone ? "removed" : "no policy")}
                  </span>
                  <span className="min-w-0 text-[13px]">
                    <Ago moment={source.newest} now={now} zone={zone} />
                    {source.targetHours && <span className="text-soft">, {source.targetHours} h</span>}
                    <AgeBar source={source} now={now} />
                  </span>
                  <span className="text-right whitespace-nowrap">{formatBytes(source.bytes)}</span>
                  <span className="text-soft text-right whitespace-nowrap">{formatBytes(source.perDay)}</span>
                  <span className="text-[13px] whitespace-nowrap">
                    {source.next && !source.gone ? (
                      <Clock moment={source.next} zone={zone} />
                    ) : (
                      <span className="text-soft">none</span>
                    )}
                  </span>
                </Link>
              </div>
            );
          })}
        </div>
      </div>
    </>
  );
}
