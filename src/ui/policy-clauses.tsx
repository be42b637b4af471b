"use client";

import type { ReactNode } from "react";
import type { Origin } from "@/core/policy/cascade";
import type { Clauses } from "@/core/policy/clauses";
import type { Schedule, Weekday } from "@/core/schedule/schedule";
import { SelectField, TextField } from "./form";

/** The clauses What and When as they are typed. */
export interface WhatDraft {
  readonly folders: string;
  readonly include: string;
  readonly exclude: string;
}
export interface WhenDraft {
  readonly when: Schedule["kind"];
  readonly at: string;
  readonly days: readonly Weekday[];
  readonly hours: string;
  readonly target: string;
}

const DAYS: readonly (readonly [Weekday, string])[] = [
  [1, "Mon"],
  [2, "Tue"],
  [3, "Wed"],
  [4, "Thu"],
  [5, "Fri"],
  [6, "Sat"],
  [7, "Sun"],
];
const lines = (text: string): string[] =>
  text
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean);

export const whatDraft = (clause: Clauses["what"] | undefined): WhatDraft => ({
  folders: clause?.folders.join("\n") ?? "/home",
  include: clause?.include.join("\n") ?? "",
  exclude: clause?.exclude.join("\n") ?? "*.tmp\n.cache",
});
export const whatOf = (draft: WhatDraft): unknown => ({
  folders: lines(draft.folders),
  include: lines(draft.include),
  exclude: lines(draft.exclude),
});

export function whenDraft(clause: Clauses["when"] | undefined): WhenDraft {
  const schedule = clause?.schedule;
  return {
    when: schedule?.kind ?? "daily",
    at: schedule && "at" in schedule ? schedule.at : "21:30",
    days: schedule?.kind === "weekly" ? [...schedule.days] : [1, 2, 3, 4, 5],
    hours: schedule?.kind === "every" ? String(schedule.hours) : "4",
    target: String(clause?.targetHours ?? 26),
  };
}
export function whenOf(draft: WhenDraft, number: (text: string) => number): unknown {
  const schedule =
    draft.when === "daily"
      ? { kind: "daily", at: draft.at }
      : draft.when === "weekly"
        ? { kind: "weekly", at: draft.at, days: [...draft.days].sort() }
        : draft.when === "every"
          ? { kind: "every", hours: number(draft.hours) }
          : { kind: "on-demand" };
  return { schedule, targetHours: number(draft.target) };
}

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

export function WhatFields({
  draft,
  set,
  errorOf,
}: {
  draft: WhatDraft;
  set: (change: Partial<WhatDraft>) => void;
  errorOf: (field: string) => string | undefined;
}) {
  return (
    <>
      <TextField
        label="Folders, one a line"
        error={errorOf("what.folders")}
        mono
        rows={3}
        value={draft.folders}
        onChange={(event) => set({ folders: event.target.value })}
      />
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="Only what matches"
          error={errorOf("what.include")}
          help="One pattern a line, such as *.odt. Without a slash it is held against the name, with one against the path. Empty: everything."
          mono
          rows={3}
          value={draft.include}
          onChange={(event) => set({ include: event.target.value })}
        />
        <TextField
          label="Without what matches"
          error={errorOf("what.exclude")}
          help="One pattern a line, such as *.mp4 or cache. A folder that matches is left out with all below it."
          mono
          rows={3}
          value={draft.exclude}
          onChange={(event) => set({ exclude: event.target.value })}
        />
      </div>
    </>
  );
}

export function WhenFields({
  draft,
  set,
  errorOf,
  zone,
}: {
  draft: WhenDraft;
  set: (change: Partial<WhenDraft>) => void;
  errorOf: (field: string) => string | undefined;
  zone: string;
}) {
  return (
    <>
      <SelectField
        label="How often"
        value={draft.when}
        onChange={(event) => set({ when: event.target.value as WhenDraft["when"] })}
      >
        <option value="daily">Every day at a time</option>
        <option value="weekly">On some days of the week</option>
        <option value="every">Every so many hours</option>
        <option value="on-demand">Only when somebody asks</option>
      </SelectField>
      {draft.when === "weekly" && (
        <fieldset>
          <legend className="field-label">Days</legend>
          <div className="flex flex-wrap gap-3">
            {DAYS.map(([day, label]) => (
              <label key={day} className="flex items-center gap-1">
                <input
                  type="checkbox"
                  className="checkbox checkbox-xs"
                  checked={draft.days.includes(day)}
                  onChange={() =>
                    set({
                      days: draft.days.includes(day)
                        ? draft.days.filter((one) => one !== day)
                        : [...draft.days, day],
                    })
                  }
                />
                {label}
              </label>
            ))}
          </div>
          {errorOf("when.schedule.days") && (
            <p className="field-error" role="alert">
              {errorOf("when.schedule.days")}
            </p>
          )}
        </fieldset>
      )}
      <div className="grid grid-cols-2 gap-3">
        {(draft.when === "daily" || draft.when === "weekly") && (
          <TextField
            label={`At, by the clock of ${zone}`}
            error={errorOf("when.schedule.at")}
            placeholder="21:30"
            value={draft.at}
            onChange={(event) => set({ at: event.target.value })}
          />
        )}
        {draft.when === "every" && (
          <TextField
            label="Every so many hours"
            error={errorOf("when.schedule.hours")}
            inputMode="numeric"
            value={draft.hours}
            onChange={(event) => set({ hours: event.target.value })}
          />
        )}
        <TextField
          label="Target: no point older than, in hours"
          error={errorOf("when.targetHours")}
          help="The greatest age that the client was promised for its newest recovery point. Past it, a source is slipping; past it by half, exposed."
          inputMode="numeric"
          value={draft.target}
          onChange={(event) => set({ target: event.target.value })}
        />
      </div>
    </>
  );
}
