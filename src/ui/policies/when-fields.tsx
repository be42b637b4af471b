"use client";

import { parseRule, ruleSentence } from "@/core/schedule/rule";
import { WEEKDAY_NAMES } from "@/core/schedule/weekday";
import { FieldGroup, SelectField, TextField } from "../parts/form";
import { EVENING, HoursFields, TakeAway } from "../parts/hours-fields";
import { WeekdayBoxes } from "../parts/weekday-boxes";
import {
  MONTH_DAYS,
  NTH,
  newSchedule,
  ruleOf,
  type ScheduleDraft,
  type ScheduleKind,
  type WhenDraft,
} from "./schedule-draft";

/** Days that every month has. */
function sentenceOf(draft: ScheduleDraft): string | null {
  try {
    return ruleSentence(parseRule(ruleOf(draft)));
  } catch {
    return null;
  }
}

export function WhenFields({
  draft,
  set,
  errorOf,
  zone,
  policies,
}: {
  draft: WhenDraft;
  set: (change: Partial<WhenDraft>) => void;
  errorOf: (field: string) => string | undefined;
  zone: string;
  /** Other policies of the client, which this one may follow. */
  policies: readonly { readonly id: string; readonly name: string }[];
}) {
  const setSchedule = (at: number, change: Partial<ScheduleDraft>) =>
    set({ schedules: draft.schedules.map((one, i) => (i === at ? { ...one, ...change } : one)) });
  return (
    <>
      {draft.schedules.map((schedule, i) => (
        <ScheduleFields
          key={schedule.key}
          draft={schedule}
          set={(change) => setSchedule(i, change)}
          takeAway={() => set({ schedules: draft.schedules.filter((_, at) => at !== i) })}
          error={errorOf(`when.schedules.${i}`)}
          zone={zone}
        />
      ))}
      {draft.schedules.length === 0 && (
        <p className="text-soft">
          Without a schedule, runs start on request only
          {draft.after ? ", and after the other policy" : ""}.
        </p>
      )}
      {draft.windows.map((window, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: windows have no name, and are only added at the end
        <div key={i} className="border-line grid gap-2 border-t pt-2">
          <p className="field-label">Runs only inside these hours</p>
          <HoursFields
            hours={window}
            set={(hours) => set({ windows: draft.windows.map((one, at) => (at === i ? hours : one)) })}
            errorOf={(field) => errorOf(`when.windows.${i}.${field}`)}
          />
          <div>
            <TakeAway
              what="these hours"
              onClick={() => set({ windows: draft.windows.filter((_, at) => at !== i) })}
            />
          </div>
        </div>
      ))}
      <div className="flex flex-wrap gap-2">
        <button
          type="button"
          className="btn btn-plain"
          onClick={() => set({ schedules: [...draft.schedules, newSchedule()] })}
        >
          Add a schedule
        </button>
        <button
          type="button"
          className="btn btn-plain"
          onClick={() => set({ windows: [...draft.windows, EVENING] })}
        >
          Only inside hours…
        </button>
      </div>
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="Target: no point older than, in hours"
          error={errorOf("when.targetHours")}
          help="The greatest age that the client was promised for its newest recovery point. Past it, a source is slipping; past it by half, exposed."
          inputMode="numeric"
          value={draft.target}
          onChange={(event) => set({ target: event.target.value })}
        />
        <TextField
          label="Stop after hours (empty: never)"
          error={errorOf("when.stopAfterHours")}
          help="The run stops at this time, finished or not. The next run uses what it stored."
          inputMode="decimal"
          value={draft.stopAfter}
          onChange={(event) => set({ stopAfter: event.target.value })}
        />
        <SelectField
          label="A time at which the machine was off"
          value={draft.missed}
          onChange={(event) => set({ missed: event.target.value as WhenDraft["missed"] })}
        >
          <option value="at-once">starts when the machine is back</option>
          <option value="next">is missed; the next one follows</option>
          <option value="note">is recorded only, without a notice</option>
        </SelectField>
        <TextField
          label="Spread over minutes (empty: together)"
          error={errorOf("when.spreadMinutes")}
          help="Each source always begins at its own part of these minutes, so that a client's machines do not all start in the same second."
          inputMode="numeric"
          value={draft.spread}
          onChange={(event) => set({ spread: event.target.value })}
        />
        {policies.length > 0 && (
          <SelectField
            label="After the runs of another policy"
            error={errorOf("when.after")}
            value={draft.after}
            onChange={(event) => set({ after: event.target.value })}
          >
            <option value="">no</option>
            {policies.map((policy) => (
              <option key={policy.id} value={policy.id}>
                {policy.name}
              </option>
            ))}
          </SelectField>
        )}
      </div>
    </>
  );
}

function ScheduleFields({
  draft,
  set,
  takeAway,
  error,
  zone,
}: {
  draft: ScheduleDraft;
  set: (change: Partial<ScheduleDraft>) => void;
  takeAway: () => void;
  error: string | undefined;
  zone: string;
}) {
  const timed = draft.kind === "daily" || draft.kind === "weekly" || draft.kind === "monthly";
  return (
    <div className="border-line grid gap-2 border-b pb-3">
      <FieldGroup className="grid gap-2" error={error}>
        <div className="grid grid-cols-2 gap-3">
          <SelectField
            label="Frequency"
            value={draft.kind}
            onChange={(event) =>
              set({
                kind: event.target.value as ScheduleKind,
                ...(event.target.value === "rule" ? { rule: ruleOf(draft) } : {}),
              })
            }
          >
            <option value="daily">Every day at a time</option>
            <option value="weekly">On some days of the week</option>
            <option value="monthly">On a day of the month</option>
            <option value="interval">At an interval</option>
            <option value="rule">By a rule (RFC 5545)</option>
          </SelectField>
          {timed && (
            <TextField
              label={`At, by the clock of ${zone}`}
              error={
                /^([01]\d|2[0-3]):[0-5]\d$/.test(draft.at)
                  ? undefined
                  : "Enter a time as HH:MM, from 00:00 to 23:59."
              }
              placeholder="21:30"
              value={draft.at}
              onChange={(event) => set({ at: event.target.value })}
            />
          )}
          {draft.kind === "interval" && (
            <div className="grid grid-cols-[72px_minmax(0,1fr)] gap-2">
              <TextField
                label="Every"
                inputMode="numeric"
                value={draft.every}
                onChange={(event) => set({ every: event.target.value })}
              />
              <SelectField
                label="of"
                value={draft.unit}
                onChange={(event) => set({ unit: event.target.value as ScheduleDraft["unit"] })}
              >
                <option value="MINUTELY">minutes</option>
                <option value="HOURLY">hours</option>
              </SelectField>
            </div>
          )}
        </div>
        {draft.kind === "weekly" && (
          <WeekdayBoxes
            legend="Days"
            days={draft.days}
            set={(days) => set({ days })}
            error={draft.days.length ? undefined : "Choose at least one day, or the schedule never fires."}
          />
        )}
        {draft.kind === "monthly" && (
          <SelectField
            label="Day of the month"
            value={draft.monthDay}
            onChange={(event) => set({ monthDay: event.target.value })}
          >
            {MONTH_DAYS.map((day) => (
              <option key={day} value={String(day)}>
                day {day}
              </option>
            ))}
            <option value="last">the last day</option>
            {NTH.flatMap(([nth, word]) =>
              WEEKDAY_NAMES.map((name, i) => (
                <option key={`${nth} ${name}`} value={`${nth} ${i + 1}`}>
                  the {word} {name}
                </option>
              )),
            )}
          </SelectField>
        )}
        {draft.kind === "interval" && (
          <div className="grid grid-cols-2 gap-3">
            <TextField
              label="From hour (empty: all day)"
              inputMode="numeric"
              placeholder="8"
              value={draft.fromHour}
              onChange={(event) => set({ fromHour: event.target.value })}
            />
            <TextField
              label="To hour"
              inputMode="numeric"
              placeholder="18"
              value={draft.toHour}
              onChange={(event) => set({ toHour: event.target.value })}
            />
          </div>
        )}
        {draft.kind === "rule" && (
          <TextField
            label="Rule"
            help="A recurrence rule as RFC 5545 writes it, such as FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=20;BYMINUTE=0: the last Friday of a month at 20:00."
            mono
            value={draft.rule}
            onChange={(event) => set({ rule: event.target.value })}
          />
        )}
      </FieldGroup>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={draft.full}
            onChange={(event) => set({ full: event.target.checked })}
          />
          Read all data again
        </label>
        <TakeAway what="this schedule" onClick={takeAway} />
        {!error && <span className="text-soft text-[13px]">{sentenceOf(draft)}</span>}
      </div>
    </div>
  );
}
