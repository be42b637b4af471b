"use client";

import type { ReactNode } from "react";
import type { Origin } from "@/core/policy/cascade";
import type { Clauses } from "@/core/policy/clauses";
import { KNOWN_PLACES } from "@/core/selection/known-places";
import { exactBytes, parseBytes } from "@/core/units/bytes";
import { TextField } from "../parts/form";
import { TryOut } from "./try-out";

/** The clause What as it is typed. */
export interface WhatDraft {
  readonly folders: string;
  readonly include: string;
  readonly exclude: string;
  readonly rubbish: boolean;
  /** A size as people type it: `2 GiB`. */
  readonly largest: string;
  readonly days: string;
}
const lines = (text: string): string[] =>
  text
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean);

export const whatDraft = (clause: Clauses["what"] | undefined): WhatDraft => ({
  folders: clause?.folders.join("\n") ?? "/home",
  include: clause?.include.join("\n") ?? "",
  exclude: clause?.exclude.join("\n") ?? "*.tmp",
  rubbish: clause?.rubbish ?? true,
  largest: clause?.largestBytes ? exactBytes(clause.largestBytes) : "",
  days: clause?.changedWithinDays ? String(clause.changedWithinDays) : "",
});
export const whatOf = (draft: WhatDraft): unknown => ({
  folders: lines(draft.folders),
  include: lines(draft.include),
  exclude: lines(draft.exclude),
  rubbish: draft.rubbish,
  largestBytes: draft.largest.trim() === "" ? null : (parseBytes(draft.largest) ?? Number.NaN),
  changedWithinDays:
    draft.days.trim() === "" ? null : /^\d+$/.test(draft.days.trim()) ? Number(draft.days) : Number.NaN,
});

/** One clause: what it says as a sentence and where that comes from; its fields below when it is open. */
export function Clause({
  title,
  sentence,
  own,
  origin,
  open,
  toggle,
  children,
}: {
  title: string;
  sentence: string;
  /** Set in these rules themselves. */
  own: boolean;
  origin: Origin | undefined;
  open: boolean;
  toggle: () => void;
  children: ReactNode;
}) {
  const from = own ? null : origin ? `${origin.name}${origin.pinned ? ", pinned" : ""}` : null;
  return (
    <section
      className={`border-line border-b ${open ? "bg-base-100 border-l-[3px] border-l-[var(--brass)]" : "border-l-[3px] border-l-transparent"}`}
    >
      <button
        type="button"
        className="grid w-full grid-cols-[96px_minmax(0,1fr)] gap-3 px-[14px] py-[11px] text-left"
        aria-expanded={open}
        onClick={toggle}
      >
        <b>{title}</b>
        <span className={own ? "" : "text-soft"}>
          {sentence}
          {from && <span className="text-soft block text-[13px]">from {from}</span>}
        </span>
      </button>
      {open && <div className="grid gap-3 pr-[16px] pb-4 pl-[123px]">{children}</div>}
    </section>
  );
}

/** Places to put among the folders with one press: those that lie elsewhere on every machine, and volumes. */
function PlaceChips({
  draft,
  set,
  volumes,
}: {
  draft: WhatDraft;
  set: (change: Partial<WhatDraft>) => void;
  volumes: readonly string[];
}) {
  const chosen = lines(draft.folders);
  const chip = (place: string, words: string) => {
    const there = chosen.includes(place);
    return (
      <button
        key={place}
        type="button"
        className={`rounded-[3px] border px-2 py-[2px] text-[13px] ${there ? "border-primary bg-selected" : "border-base-300"}`}
        aria-pressed={there}
        onClick={() =>
          set({
            folders: (there ? chosen.filter((one) => one !== place) : [...chosen, place]).join("\n"),
          })
        }
      >
        {words}
      </button>
    );
  };
  return (
    <fieldset className="flex flex-wrap items-center gap-2">
      <legend className="sr-only">Places to choose from</legend>
      {Object.entries(KNOWN_PLACES).map(([place, { words }]) => chip(place, words))}
      {volumes.map((path) => chip(path, `volume ${path}`))}
    </fieldset>
  );
}

export function WhatFields({
  draft,
  set,
  errorOf,
  sources,
  volumes,
}: {
  /** Volumes of machines besides their root, to choose from. */
  volumes: readonly string[];
  /** Sources that it can be tried out on. */
  sources: readonly { readonly id: string; readonly name: string }[];
  draft: WhatDraft;
  set: (change: Partial<WhatDraft>) => void;
  errorOf: (field: string) => string | undefined;
}) {
  return (
    <>
      <TextField
        label="Folders (one per line)"
        error={errorOf("what.folders")}
        mono
        rows={3}
        value={draft.folders}
        onChange={(event) => set({ folders: event.target.value })}
      />
      <PlaceChips draft={draft} set={set} volumes={volumes} />
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="Include patterns"
          error={errorOf("what.include")}
          help="One pattern per line, such as *.odt. A pattern without a slash is matched against the name, one with a slash against the path. Empty: everything."
          mono
          rows={3}
          value={draft.include}
          onChange={(event) => set({ include: event.target.value })}
        />
        <TextField
          label="Exclude patterns"
          error={errorOf("what.exclude")}
          help="One pattern per line, such as *.mp4 or cache. A matching folder is excluded with its contents."
          mono
          rows={3}
          value={draft.exclude}
          onChange={(event) => set({ exclude: event.target.value })}
        />
      </div>
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="Maximum file size (optional)"
          error={errorOf("what.largestBytes") && "Enter a size such as 2 GiB, or leave it empty."}
          placeholder="2 GiB"
          value={draft.largest}
          onChange={(event) => set({ largest: event.target.value })}
        />
        <TextField
          label="Changed within the last days (optional)"
          error={errorOf("what.changedWithinDays")}
          inputMode="numeric"
          value={draft.days}
          onChange={(event) => set({ days: event.target.value })}
        />
      </div>
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          className="checkbox checkbox-xs"
          checked={draft.rubbish}
          onChange={(event) => set({ rubbish: event.target.checked })}
        />
        Exclude system files: caches, recycle bins, swap, /proc, /tmp
      </label>
      {sources.length > 0 && <TryOut what={whatOf(draft)} sources={sources} />}
    </>
  );
}
