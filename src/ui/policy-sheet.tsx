"use client";

import { useRouter } from "next/navigation";
import { type ReactNode, useEffect, useMemo, useState } from "react";
import type { KeyState } from "@/core/keysheet/wrapping";
import { type Clauses, clauseSentences, clausesSchema } from "@/core/policy/clauses";
import { type Where, whereSentence } from "@/core/policy/where";
import type { Schedule, Weekday } from "@/core/schedule/schedule";
import { ApiError, callApi } from "./api";
import { Refusal, SelectField, TextField, useSending } from "./form";
import { type HowLongDraft, HowLongFields, howLongClause, howLongDraft } from "./how-long-fields";
import { KeyHolding } from "./key-holding";
import { KeySheet } from "./key-sheet";
import { clockText } from "./moment";
import { say } from "./say";
import type { ShownConsent } from "./shown-consent";
import { type WhereDraft, WhereFields, whereDraft, whereOf } from "./where-fields";

export interface SheetPolicy {
  readonly id: string | null;
  readonly name: string;
  readonly revision: number;
  readonly clauses: Clauses | null;
  readonly changed: string | null;
}
export interface SheetClient {
  readonly id: string;
  readonly name: string;
  readonly key: KeyState;
  /** Machines that were not given the key yet, where it is under a passphrase. */
  readonly machinesWithout: readonly string[];
  readonly consent: ShownConsent | null;
  readonly certificate: Readonly<Record<string, unknown>> | null;
  readonly askedGroup: number | null;
  readonly depots: readonly { readonly id: string; readonly name: string }[];
}

/** What is in the fields, as typed. */
interface Draft extends HowLongDraft, WhereDraft {
  name: string;
  folders: string;
  include: string;
  exclude: string;
  when: Schedule["kind"];
  at: string;
  days: Weekday[];
  hours: string;
  target: string;
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

function draftOf(policy: SheetPolicy, client: SheetClient): Draft {
  const { clauses } = policy;
  const schedule = clauses?.when.schedule;
  return {
    name: policy.name,
    folders: clauses?.what.folders.join("\n") ?? "/home",
    include: clauses?.what.include.join("\n") ?? "",
    exclude: clauses?.what.exclude.join("\n") ?? "*.tmp\n.cache",
    when: schedule?.kind ?? "daily",
    at: schedule && "at" in schedule ? schedule.at : "21:30",
    days: schedule?.kind === "weekly" ? [...schedule.days] : [1, 2, 3, 4, 5],
    hours: schedule?.kind === "every" ? String(schedule.hours) : "4",
    target: String(clauses?.when.targetHours ?? 26),
    ...howLongDraft(clauses?.howLong),
    ...whereDraft(clauses?.where, client.depots[0]?.id ?? ""),
  };
}

const number = (text: string): number => (/^\d+$/.test(text.trim()) ? Number(text) : Number.NaN);

function clausesOf(draft: Draft): unknown {
  const schedule =
    draft.when === "daily"
      ? { kind: "daily", at: draft.at }
      : draft.when === "weekly"
        ? { kind: "weekly", at: draft.at, days: [...draft.days].sort() }
        : draft.when === "every"
          ? { kind: "every", hours: number(draft.hours) }
          : { kind: "on-demand" };
  const howLong = howLongClause(draft, number);
  return {
    what: { folders: lines(draft.folders), include: lines(draft.include), exclude: lines(draft.exclude) },
    when: { schedule, targetHours: number(draft.target) },
    howLong,
    where: whereOf(draft, number),
  };
}

interface Follows {
  readonly next: readonly string[];
  readonly zonesDiffer: boolean;
  readonly advice: readonly string[];
  readonly clientZone: string;
  readonly providerZone: string;
}

/** One clause: what it says as a sentence, and its fields below when it is open. */
function Clause({
  title,
  sentence,
  open,
  toggle,
  children,
}: {
  title: string;
  sentence: string;
  open: boolean;
  toggle: () => void;
  children: ReactNode;
}) {
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
        <span>{sentence}</span>
      </button>
      {open && <div className="grid gap-3 pr-[16px] pb-4 pl-[123px]">{children}</div>}
    </section>
  );
}

/** A policy as a sheet of clauses; what will follow stands beside it and changes as one types. */
export function PolicySheet({
  policy,
  client,
  list,
  sourceCount,
}: {
  policy: SheetPolicy;
  client: SheetClient;
  list: ReactNode;
  sourceCount: number;
}) {
  const router = useRouter();
  const sending = useSending();
  const [draft, setDraft] = useState(() => draftOf(policy, client));
  const [open, setOpen] = useState<string | null>(policy.id ? null : "What");
  const [follows, setFollows] = useState<Follows | null>(null);
  const set = (change: Partial<Draft>) => setDraft({ ...draft, ...change });
  const wished = useMemo(() => clausesOf(draft), [draft]);
  const checked = useMemo(() => clausesSchema.safeParse(wished), [wished]);
  const local = (field: string): string | undefined =>
    checked.success
      ? undefined
      : checked.error.issues.find(
          (issue) => issue.path.join(".") === field || issue.path.join(".").startsWith(`${field}.`),
        )?.message;
  const errorOf = (field: string) => sending.errorOf(`clauses.${field}`) ?? local(field);
  const asked = checked.success
    ? JSON.stringify({ when: checked.data.when, howLong: checked.data.howLong })
    : null;
  useEffect(() => {
    if (!asked) return;
    let current = true;
    const timer = setTimeout(() => {
      callApi<Follows>("POST", "/policies/consequences", { clientId: client.id, ...JSON.parse(asked) }).then(
        (answer) => current && setFollows(answer),
        (error) => {
          if (!(error instanceof ApiError)) throw error;
        },
      );
    }, 120);
    return () => {
      current = false;
      clearTimeout(timer);
    };
  }, [asked, client.id]);
  const nameOf = (id: string) => client.depots.find((depot) => depot.id === id)?.name;
  const depotName = whereSentence(
    whereOf(draft, number) as Where,
    (id) => nameOf(id) ?? (id ? "another depot" : "No depot chosen"),
  );
  const sentences = checked.success ? clauseSentences(checked.data, depotName, client.key) : [];
  const sentence = (clause: string, otherwise: string) =>
    sentences.find((one) => one.clause === clause)?.text ?? otherwise;
  const changed = JSON.stringify(draft) !== JSON.stringify(draftOf(policy, client));
  const save = () =>
    sending.send(async () => {
      const body = { name: draft.name, clauses: wished };
      const answer = policy.id
        ? await callApi<{ policy: { id: string; name: string } }>("PUT", `/policies/${policy.id}`, {
            ...body,
            revision: policy.revision,
          })
        : await callApi<{ policy: { id: string; name: string } }>("POST", "/policies", {
            ...body,
            clientId: client.id,
          });
      say.success(`${answer.policy.name} is saved.`, {
        description: follows?.next[0]
          ? `Next run: ${clockText(new Date(follows.next[0]), follows.clientZone)} (${follows.clientZone})`
          : "Nothing runs by itself.",
      });
      router.push(`${window.location.pathname}?sel=${answer.policy.id}`);
      router.refresh();
    });
  const keyIsSet = client.key === "escrow" || client.key === "passphrase";
  const toggle = (name: string) => () => setOpen(open === name ? null : name);
  return (
    <>
      <div className="head-line">
        <label className="sr-only" htmlFor="policy-name">
          Name of the policy
        </label>
        <input
          id="policy-name"
          className="input w-full h-[30px] max-w-[320px] font-bold"
          placeholder="Name of the policy"
          value={draft.name}
          onChange={(event) => set({ name: event.target.value })}
        />
        <span className="text-soft truncate">
          for {client.name}
          {policy.id ? `, ${sourceCount} ${sourceCount === 1 ? "source" : "sources"}` : ", new"}
          {policy.changed ? ` · ${policy.changed}` : ""}
        </span>
        <span className="ml-auto flex items-center gap-3">
          {!draft.name.trim() && <span className="text-soft text-[13px]">a name is missing</span>}
          <button
            type="button"
            className="btn btn-primary"
            disabled={sending.busy || !changed || !checked.success || !draft.name.trim()}
            onClick={save}
          >
            Save
          </button>
        </span>
      </div>
      <div className="grid min-h-0 flex-1 grid-cols-[220px_minmax(0,1fr)_330px]">
        {list}
        <div className="min-h-0 overflow-y-auto" tabIndex={0}>
          {sending.problem && (
            <div className="p-3">
              <Refusal problem={sending.problem} />
            </div>
          )}
          <Clause
            title="What"
            sentence={sentence("What", "Not complete yet")}
            open={open === "What"}
            toggle={toggle("What")}
          >
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
          </Clause>
          <Clause
            title="When"
            sentence={sentence("When", "Not complete yet")}
            open={open === "When"}
            toggle={toggle("When")}
          >
            <SelectField
              label="How often"
              value={draft.when}
              onChange={(event) => set({ when: event.target.value as Draft["when"] })}
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
                  label={`At, by the clock of ${follows?.clientZone ?? "the client"}`}
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
          </Clause>
          <Clause
            title="How long"
            sentence={sentence("How long", "Not complete yet")}
            open={open === "How long"}
            toggle={toggle("How long")}
          >
            <HowLongFields draft={draft} set={set} errorOf={errorOf} />
            <p className="text-soft">
              The newest point always stays. A dropped one can be brought back for 7 days of grace; then it is
              purged.
            </p>
          </Clause>
          <Clause title="Where" sentence={depotName} open={open === "Where"} toggle={toggle("Where")}>
            <WhereFields draft={draft} set={set} errorOf={errorOf} depots={client.depots} />
          </Clause>
          <Clause
            title="Encryption"
            sentence={sentence(
              "Encryption",
              keyIsSet
                ? "AES-256-GCM with the client's key"
                : "The client's key is not confirmed, so nothing runs",
            )}
            open={open === "Encryption" || !keyIsSet}
            toggle={toggle("Encryption")}
          >
            {keyIsSet || client.key === "destroyed" ? (
              <KeyHolding client={client} />
            ) : (
              <KeySheet
                clientId={client.id}
                clientName={client.name}
                made={client.key === "not confirmed"}
                askedGroup={client.askedGroup}
              />
            )}
          </Clause>
        </div>
        <aside
          className="bg-base-100 border-base-300 min-h-0 overflow-y-auto border-l px-[18px] py-[14px]"
          aria-label="What follows"
        >
          <h2 className="part-title mb-2">What follows</h2>
          {!checked.success && (
            <p className="text-soft">Complete the clauses; then the next runs stand here.</p>
          )}
          {checked.success && follows && (
            <div className="grid gap-4">
              <section>
                <h3 className="mb-1 font-semibold">Next runs</h3>
                {follows.next.length === 0 && <p>None by itself.</p>}
                <table className="grid-table">
                  <thead>
                    <tr>
                      <th scope="col">{follows.clientZone}</th>
                      {follows.zonesDiffer && <th scope="col">{follows.providerZone}</th>}
                    </tr>
                  </thead>
                  <tbody>
                    {follows.next.map((moment) => (
                      <tr key={moment}>
                        <td>{clockText(new Date(moment), follows.clientZone)}</td>
                        {follows.zonesDiffer && (
                          <td className="text-soft">{clockText(new Date(moment), follows.providerZone)}</td>
                        )}
                      </tr>
                    ))}
                  </tbody>
                </table>
                {!follows.zonesDiffer &&
                  follows.clientZone !== follows.providerZone &&
                  follows.next.length > 0 && (
                    <p className="text-soft mt-1 text-[13px]">
                      {follows.clientZone} and {follows.providerZone} show the same clock.
                    </p>
                  )}
              </section>
              {follows.advice.length > 0 && (
                <section>
                  <h3 className="mb-1 font-semibold">Advice</h3>
                  {follows.advice.map((text) => (
                    <p key={text} className="warned mb-2">
                      {text}
                    </p>
                  ))}
                </section>
              )}
            </div>
          )}
        </aside>
      </div>
    </>
  );
}
