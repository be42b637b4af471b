"use client";

import { KNOWN_PLACES } from "@/core/selection/known-places";
import { exactBytes, parseBytes } from "@/core/units/bytes";
import { TextField } from "@/ui/parts/form";
import { linesOf, type WhatFieldsProps, whatForm } from "../what-form";
import { TryOut } from "./try-out";
import type { FileWhat } from "./what";

/** What of a machine's files as it is typed. */
interface FileWhatDraft {
  readonly folders: string;
  readonly include: string;
  readonly exclude: string;
  readonly rubbish: boolean;
  /** A size as people type it: `2 GiB`. */
  readonly largest: string;
  readonly days: string;
}
const draftOf = (clause: FileWhat | undefined): FileWhatDraft => ({
  folders: clause?.folders.join("\n") ?? "/home",
  include: clause?.include.join("\n") ?? "",
  exclude: clause?.exclude.join("\n") ?? "*.tmp",
  rubbish: clause?.rubbish ?? true,
  largest: clause?.largestBytes ? exactBytes(clause.largestBytes) : "",
  days: clause?.changedWithinDays ? String(clause.changedWithinDays) : "",
});
const clauseOf = (draft: FileWhatDraft): unknown => ({
  folders: linesOf(draft.folders),
  include: linesOf(draft.include),
  exclude: linesOf(draft.exclude),
  rubbish: draft.rubbish,
  largestBytes: draft.largest.trim() === "" ? null : (parseBytes(draft.largest) ?? Number.NaN),
  changedWithinDays:
    draft.days.trim() === "" ? null : /^\d+$/.test(draft.days.trim()) ? Number(draft.days) : Number.NaN,
});

/** Places to put among the folders with one press: those that lie elsewhere on every machine, and volumes. */
function PlaceChips({
  draft,
  set,
  volumes,
}: {
  draft: FileWhatDraft;
  set: (change: Partial<FileWhatDraft>) => void;
  volumes: readonly string[];
}) {
  const chosen = linesOf(draft.folders);
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

function FileWhatFields({ draft, set, errorOf, sources, volumes }: WhatFieldsProps<FileWhatDraft>) {
  return (
    <>
      <TextField
        label="Folders (one per line)"
        error={errorOf("folders")}
        mono
        rows={3}
        value={draft.folders}
        onChange={(event) => set({ folders: event.target.value })}
      />
      <PlaceChips draft={draft} set={set} volumes={volumes} />
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="Include patterns"
          error={errorOf("include")}
          help="One pattern per line, such as *.odt. A pattern without a slash is matched against the name, one with a slash against the path. Empty: everything."
          mono
          rows={3}
          value={draft.include}
          onChange={(event) => set({ include: event.target.value })}
        />
        <TextField
          label="Exclude patterns"
          error={errorOf("exclude")}
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
          error={errorOf("largestBytes") && "Enter a size such as 2 GiB, or leave it empty."}
          placeholder="2 GiB"
          value={draft.largest}
          onChange={(event) => set({ largest: event.target.value })}
        />
        <TextField
          label="Changed within the last days (optional)"
          error={errorOf("changedWithinDays")}
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
      {sources.length > 0 && <TryOut what={clauseOf(draft)} sources={sources} />}
    </>
  );
}

export const FILE_WHAT_FORM = whatForm({ draftOf, clauseOf, Fields: FileWhatFields });
