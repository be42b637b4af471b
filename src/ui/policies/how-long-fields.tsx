"use client";

import type { Retention } from "@/core/retention/decide";
import { PERIODS, type Period } from "@/core/retention/periods";
import { FieldGroup, SelectField, TextField } from "../parts/form";

/** The clause How long as it is typed. */
export interface HowLongDraft {
  readonly howLong: Retention["kind"];
  readonly count: string;
  readonly keepDays: string;
  readonly deleted: "with-points" | "last-copy";
  readonly tiers: Readonly<Record<Period, string>>;
}

const LABELS: Record<Period, string> = {
  daily: "Days",
  weekly: "Weeks",
  monthly: "Months",
  quarterly: "Quarters",
  yearly: "Years",
};

export function howLongDraft(clause: Retention | undefined): HowLongDraft {
  const tiers =
    clause?.kind === "tiers" ? clause.tiers : { daily: 14, weekly: 8, monthly: 12, quarterly: 0, yearly: 0 };
  return {
    howLong: clause?.kind ?? "days",
    count: clause && "count" in clause ? String(clause.count) : "30",
    keepDays: clause && "days" in clause ? String(clause.days) : "90",
    deleted: clause?.deleted ?? "with-points",
    tiers: Object.fromEntries(PERIODS.map((period) => [period, String(tiers[period])])) as Record<
      Period,
      string
    >,
  };
}

/** What was typed as a clause; numbers that are none stay wrong, for the check to say so. */
export function howLongClause(draft: HowLongDraft, number: (text: string) => number): unknown {
  const count = number(draft.count);
  const days = number(draft.keepDays);
  const deleted = draft.deleted === "last-copy" ? draft.deleted : undefined;
  switch (draft.howLong) {
    case "last":
      return { kind: "last", count, deleted };
    case "days":
      return { kind: "days", days, deleted };
    case "first-of":
      return { kind: "first-of", count, days, deleted };
    case "tiers":
      return {
        kind: "tiers",
        deleted,
        tiers: Object.fromEntries(PERIODS.map((period) => [period, number(draft.tiers[period] || "0")])),
      };
    case "for-ever":
      return { kind: "for-ever" };
  }
}

export function HowLongFields({
  draft,
  set,
  errorOf,
}: {
  draft: HowLongDraft;
  set: (change: Partial<HowLongDraft>) => void;
  errorOf: (field: string) => string | undefined;
}) {
  const { howLong } = draft;
  const numeric = (
    label: string,
    field: string,
    value: string,
    change: (text: string) => Partial<HowLongDraft>,
  ) => (
    <TextField
      label={label}
      error={errorOf(field)}
      inputMode="numeric"
      value={value}
      onChange={(event) => set(change(event.target.value))}
    />
  );
  return (
    <div className="grid gap-3">
      <div className="grid grid-cols-[minmax(0,2fr)_minmax(0,1fr)_minmax(0,1fr)] gap-3">
        <SelectField
          label="Keep"
          value={howLong}
          onChange={(event) => set({ howLong: event.target.value as Retention["kind"] })}
        >
          <option value="last">the last N points</option>
          <option value="days">for N days</option>
          <option value="first-of">N points or N days, whichever comes first</option>
          <option value="tiers">the last of each day, week, month…</option>
          <option value="for-ever">for ever</option>
        </SelectField>
        {(howLong === "last" || howLong === "first-of") &&
          numeric("Recovery points", "howLong.count", draft.count, (count) => ({ count }))}
        {(howLong === "days" || howLong === "first-of") &&
          numeric("Days", "howLong.days", draft.keepDays, (keepDays) => ({ keepDays }))}
      </div>
      {howLong === "tiers" && (
        <>
          <FieldGroup error={errorOf("howLong.tiers")}>
            <div className="grid grid-cols-5 gap-3">
              {PERIODS.map((period) => (
                <div key={period}>
                  {numeric(LABELS[period], `howLong.tiers.${period}`, draft.tiers[period], (text) => ({
                    tiers: { ...draft.tiers, [period]: text },
                  }))}
                </div>
              ))}
            </div>
          </FieldGroup>
          <p className="text-soft">
            By the client’s calendar; in each the last point counts. A week or month without a point does not
            count, so a holiday costs none.
          </p>
        </>
      )}
      {howLong !== "for-ever" && (
        <SelectField
          label="Files deleted at the source"
          value={draft.deleted}
          help="A point with the last copy of a deleted file is kept for ever. Moved files do not count as deleted. The forecast does not include this space."
          onChange={(event) => set({ deleted: event.target.value as HowLongDraft["deleted"] })}
        >
          <option value="with-points">expire with their points</option>
          <option value="last-copy">keep the last copy of each for ever</option>
        </SelectField>
      )}
    </div>
  );
}
