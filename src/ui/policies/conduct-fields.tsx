"use client";

import { type BandwidthHours, type Command, type Conduct, PLAIN_CONDUCT } from "@/core/policy/conduct";
import { SelectField, TextField } from "../parts/form";
import { EVENING, HoursFields, TakeAway } from "../parts/hours-fields";

interface BandDraft {
  readonly hours: BandwidthHours["hours"];
  readonly kib: string;
}
interface CommandDraft {
  readonly line: string;
  readonly seconds: string;
  readonly failing: Command["failing"];
}
/** The clause Conduct as it is typed. */
export interface ConductDraft {
  readonly compression: Conduct["compression"];
  readonly bandwidth: readonly BandDraft[];
  readonly before: CommandDraft;
  readonly after: CommandDraft;
  readonly retries: string;
  readonly retryMinutes: string;
  readonly drillDays: string;
  readonly snapshot: Conduct["snapshot"];
}

const commandDraft = (command: Command | null | undefined): CommandDraft => ({
  line: command?.line ?? "",
  seconds: String(command?.seconds ?? 300),
  failing: command?.failing ?? "fail",
});

export const bandDrafts = (limits: readonly BandwidthHours[]): BandDraft[] =>
  limits.map(({ hours, kibPerSecond }) => ({ hours, kib: String(kibPerSecond) }));
export const bandsOf = (drafts: readonly BandDraft[], number: (text: string) => number): unknown[] =>
  drafts.map(({ hours, kib }) => ({ hours, kibPerSecond: number(kib) }));

export const conductDraft = (clause: Conduct | undefined): ConductDraft => ({
  compression: clause?.compression ?? "fast",
  bandwidth: bandDrafts(clause?.bandwidth ?? []),
  before: commandDraft(clause?.before),
  after: commandDraft(clause?.after ?? null),
  retries: String(clause?.retries ?? 2),
  retryMinutes: String(clause?.retryMinutes ?? 10),
  snapshot: clause?.snapshot ?? PLAIN_CONDUCT.snapshot,
  drillDays: clause ? String(clause.drillDays ?? "") : String(PLAIN_CONDUCT.drillDays),
});

export function conductOf(draft: ConductDraft, number: (text: string) => number): unknown {
  const command = (one: CommandDraft) =>
    one.line.trim() === "" ? null : { line: one.line, seconds: number(one.seconds), failing: one.failing };
  return {
    compression: draft.compression,
    bandwidth: bandsOf(draft.bandwidth, number),
    before: command(draft.before),
    after: command(draft.after),
    retries: number(draft.retries),
    retryMinutes: number(draft.retryMinutes),
    snapshot: draft.snapshot,
    drillDays: draft.drillDays.trim() === "" ? null : number(draft.drillDays),
  };
}

/** Limits of bandwidth by the hour. */
export function BandwidthFields({
  drafts,
  set,
  errorOf,
}: {
  drafts: readonly BandDraft[];
  set: (drafts: BandDraft[]) => void;
  errorOf: (field: string) => string | undefined;
}) {
  const change = (at: number, one: BandDraft) => set(drafts.map((draft, i) => (i === at ? one : draft)));
  return (
    <>
      {drafts.map((draft, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: limits have no name, and are only added at the end
        <div key={i} className="border-line grid gap-2 border-b pb-2">
          <div className="grid grid-cols-2 items-end gap-3">
            <TextField
              label="Bandwidth limit (KiB/s)"
              error={errorOf(`bandwidth.${i}.kibPerSecond`)}
              inputMode="numeric"
              value={draft.kib}
              onChange={(event) => change(i, { ...draft, kib: event.target.value })}
            />
            <label className="flex items-center gap-2 pb-[7px]">
              <input
                type="checkbox"
                className="checkbox checkbox-xs"
                checked={draft.hours !== null}
                onChange={(event) =>
                  change(i, {
                    ...draft,
                    hours: event.target.checked
                      ? { days: [...EVENING.days], from: "08:00", to: "18:00" }
                      : null,
                  })
                }
              />
              only during some hours
            </label>
          </div>
          {draft.hours && (
            <HoursFields
              hours={draft.hours}
              set={(hours) => change(i, { ...draft, hours: { ...hours, days: [...hours.days] } })}
              errorOf={(field) => errorOf(`bandwidth.${i}.hours.${field}`)}
            />
          )}
          <div>
            <TakeAway what="this limit" onClick={() => set(drafts.filter((_, at) => at !== i))} />
          </div>
        </div>
      ))}
      <div>
        <button
          type="button"
          className="btn btn-plain"
          onClick={() => set([...drafts, { hours: null, kib: "1024" }])}
        >
          Limit the bandwidth…
        </button>
      </div>
    </>
  );
}

export function ConductFields({
  draft,
  set,
  errorOf,
}: {
  draft: ConductDraft;
  set: (change: Partial<ConductDraft>) => void;
  errorOf: (field: string) => string | undefined;
}) {
  return (
    <>
      <SelectField
        label="Compression"
        value={draft.compression}
        onChange={(event) => set({ compression: event.target.value as ConductDraft["compression"] })}
      >
        <option value="none">none</option>
        <option value="fast">fast</option>
        <option value="strong">strong: smaller but slower</option>
      </SelectField>
      <BandwidthFields
        drafts={draft.bandwidth}
        set={(bandwidth) => set({ bandwidth })}
        errorOf={(field) => errorOf(`conduct.${field}`)}
      />
      <SelectField
        label="Volume snapshot before reading"
        value={draft.snapshot}
        onChange={(event) => set({ snapshot: event.target.value as ConductDraft["snapshot"] })}
      >
        <option value="possible">if possible; other volumes are read directly</option>
        <option value="required">required; without one the run fails</option>
        <option value="none">none: files are read directly</option>
      </SelectField>
      <CommandFields
        label="Command before, on the machine"
        help="Runs in a shell as the agent's account before files are read, for example to flush a program or mount a disk. Its output is added to the run's log."
        draft={draft.before}
        set={(before) => set({ before })}
        errorOf={(field) => errorOf(`conduct.before.${field}`)}
      />
      <CommandFields
        label="Command after, on the machine"
        help="Runs when all data is stored, before the recovery point is created. Also runs when the run fails or is stopped, to undo the first command."
        draft={draft.after}
        set={(after) => set({ after })}
        errorOf={(field) => errorOf(`conduct.after.${field}`)}
      />
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="Retries after a failed run"
          error={errorOf("conduct.retries")}
          inputMode="numeric"
          value={draft.retries}
          onChange={(event) => set({ retries: event.target.value })}
        />
        <TextField
          label="Minutes between retries"
          error={errorOf("conduct.retryMinutes")}
          inputMode="numeric"
          value={draft.retryMinutes}
          onChange={(event) => set({ retryMinutes: event.target.value })}
        />
      </div>
      <TextField
        label="Days between drills of each source"
        help="A recovery point is restored on the runner and compared with the stored data. The statement shows the result. Empty: no drills."
        error={errorOf("conduct.drillDays")}
        inputMode="numeric"
        placeholder="none"
        value={draft.drillDays}
        onChange={(event) => set({ drillDays: event.target.value })}
      />
    </>
  );
}

function CommandFields({
  label,
  help,
  draft,
  set,
  errorOf,
}: {
  label: string;
  help: string;
  draft: CommandDraft;
  set: (draft: CommandDraft) => void;
  errorOf: (field: string) => string | undefined;
}) {
  return (
    <div className="grid gap-2">
      <TextField
        label={label}
        help={help}
        error={errorOf("line")}
        mono
        placeholder="none"
        value={draft.line}
        onChange={(event) => set({ ...draft, line: event.target.value })}
      />
      {draft.line.trim() !== "" && (
        <div className="grid grid-cols-2 gap-3">
          <TextField
            label="Timeout (seconds)"
            error={errorOf("seconds")}
            inputMode="numeric"
            value={draft.seconds}
            onChange={(event) => set({ ...draft, seconds: event.target.value })}
          />
          <SelectField
            label="When it fails"
            value={draft.failing}
            onChange={(event) => set({ ...draft, failing: event.target.value as Command["failing"] })}
          >
            <option value="fail">the run fails</option>
            <option value="caution">the run ends with a caution</option>
            <option value="nothing">it is noted in the log</option>
          </SelectField>
        </div>
      )}
    </div>
  );
}
