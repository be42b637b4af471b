"use client";

import { useRouter } from "next/navigation";
import { type ReactNode, useCallback, useEffect, useMemo, useState } from "react";
import type { KeyState } from "@/core/keysheet/wrapping";
import type { ClauseName, GroupRule, Level, Origin } from "@/core/policy/cascade";
import { type Clauses, clauseSentence, clausesSchema, encryptionSentence } from "@/core/policy/clauses";
import { type Where, whereSentence } from "@/core/policy/where";
import { KeyHolding } from "../clients/key-holding";
import { KeySheet } from "../clients/key-sheet";
import type { ShownConsent } from "../clients/shown-consent";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { clockText } from "../parts/moment";
import { useNewest } from "../parts/newest";
import { say } from "../parts/say";
import { ConductFields, conductDraft, conductOf } from "./conduct-fields";
import { GroupRuleFields, groupRuleDraft, groupRuleOf } from "./group-rule-fields";
import { HowLongFields, howLongClause, howLongDraft } from "./how-long-fields";
import { NoticesFields, noticesDraft, noticesOf } from "./notices-fields";
import { Clause } from "./policy-clauses";
import { RuleEffects } from "./policy-effects";
import { PolicyHistory } from "./policy-history";
import { whenDraft, whenOf } from "./schedule-draft";
import { WhatFields, whatDraft, whatOf } from "./what-fields";
import { type Follows, WhatFollows } from "./what-follows";
import { WhenFields } from "./when-fields";
import { WhereFields, whereDraft, whereOf } from "./where-fields";

export interface SheetPolicy {
  /** Null for rules that are not made yet. */
  readonly id: string | null;
  readonly level: Level;
  /** Whose rules they are, where they are no policy. */
  readonly owner: { readonly level: string; readonly ownerId: string } | null;
  readonly name: string;
  readonly revision: number;
  readonly clauses: Partial<Clauses>;
  readonly pins: readonly ClauseName[];
  readonly rule: GroupRule | null;
  readonly changed: string | null;
  /** What the levels above give. */
  readonly inherited: {
    readonly clauses: Partial<Clauses>;
    readonly origins: Partial<Record<ClauseName, Origin>>;
  };
  /** For whom, in the head line. */
  readonly about: string;
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

const number = (text: string): number => (/^\d+$/.test(text.trim()) ? Number(text) : Number.NaN);
const CLAUSES: readonly (readonly [ClauseName, string])[] = [
  ["what", "What"],
  ["when", "When"],
  ["howLong", "How long"],
  ["where", "Where"],
  ["conduct", "Conduct"],
  ["notices", "Notices"],
];
/** Clauses that hold plainly where no level gives them. */
const OPTIONAL: ReadonlySet<ClauseName> = new Set(["conduct", "notices"]);

/** What is in the fields, as typed: of each clause its own part, and whether it is set here at all. */
function draftOf(policy: SheetPolicy, firstDepot: string) {
  const shown = { ...policy.inherited.clauses, ...policy.clauses };
  const isNew = policy.id === null && policy.level === "group";
  const own = Object.fromEntries(
    CLAUSES.map(([clause]) => [
      clause,
      policy.clauses[clause] !== undefined ||
        (isNew && policy.inherited.clauses[clause] === undefined && !OPTIONAL.has(clause)),
    ]),
  ) as Record<ClauseName, boolean>;
  return {
    name: policy.name,
    reason: "",
    own,
    pins: [...policy.pins],
    what: whatDraft(shown.what),
    when: whenDraft(shown.when),
    howLong: howLongDraft(shown.howLong),
    where: whereDraft(shown.where, firstDepot),
    conduct: conductDraft(shown.conduct),
    notices: noticesDraft(shown.notices),
    rule: groupRuleDraft(policy.rule),
  };
}
type Draft = ReturnType<typeof draftOf>;

/** What is typed, but for the keys that tell schedules from each other. */
const told = (draft: Draft): string =>
  JSON.stringify(draft, (name, value: unknown) => (name === "key" ? undefined : value));

/** Those clauses that are set here, as they are typed. */
function clausesOf(draft: Draft): Partial<Record<ClauseName, unknown>> {
  const all: Record<ClauseName, () => unknown> = {
    what: () => whatOf(draft.what),
    when: () => whenOf(draft.when, number),
    howLong: () => howLongClause(draft.howLong, number),
    where: () => whereOf(draft.where, number),
    conduct: () => conductOf(draft.conduct, number),
    notices: () => noticesOf(draft.notices),
  };
  return Object.fromEntries(
    CLAUSES.filter(([clause]) => draft.own[clause]).map(([clause]) => [clause, all[clause]()]),
  );
}

/** Rules of one level as a sheet of clauses; what will follow stands beside it and changes as one types. */
export function PolicySheet({
  policy,
  client,
  depots,
  policies,
  webhooks,
  sources,
  volumes,
  zone,
  now,
  list,
}: {
  policy: SheetPolicy;
  /** Null for the provider's own rules. */
  client: SheetClient | null;
  depots: readonly { readonly id: string; readonly name: string }[];
  /** Other policies of the client, which this one may follow. */
  policies: readonly { readonly id: string; readonly name: string }[];
  webhooks: readonly { readonly id: string; readonly name: string }[];
  /** Volumes of the client's machines besides their root, to choose from. */
  volumes: readonly string[];
  /** Sources that these rules touch, to try What out on. */
  sources: readonly { readonly id: string; readonly name: string }[];
  zone: string;
  now: Date;
  list: ReactNode;
}) {
  const router = useRouter();
  const sending = useSending();
  const start = () => draftOf(policy, depots[0]?.id ?? "");
  const [draft, setDraft] = useState(start);
  const isNew = policy.id === null && policy.level === "group";
  const [open, setOpen] = useState<string | null>(isNew && draft.own.what ? "What" : null);
  const [turn, setTurn] = useState(0);
  const again = useCallback(() => setTurn((before) => before + 1), []);
  const [follows, setFollows] = useState<Follows | null>(null);
  const set = (change: Partial<Draft>) => setDraft({ ...draft, ...change });
  const wished = useMemo(() => clausesOf(draft), [draft]);
  const checked = useMemo(() => clausesSchema.partial().safeParse(wished), [wished]);
  const local = (field: string): string | undefined =>
    checked.success
      ? undefined
      : checked.error.issues.find(
          (issue) => issue.path.join(".") === field || issue.path.join(".").startsWith(`${field}.`),
        )?.message;
  const errorOf = (field: string) => sending.errorOf(`clauses.${field}`) ?? local(field);
  const inForce: Partial<Clauses> | null = checked.success
    ? { ...policy.inherited.clauses, ...(checked.data as Partial<Clauses>) }
    : null;
  const asked = inForce
    ? JSON.stringify({
        clientId: client?.id ?? null,
        policyId: policy.owner ? null : policy.id,
        owner: policy.owner,
        clauses: inForce,
      })
    : null;
  const askWhatFollows = useNewest(
    (wish: string) => callApi<Follows>("POST", "/policies/consequences", JSON.parse(wish)),
    setFollows,
  );
  useEffect(() => {
    // `turn` goes up when advice was set aside: asked again, though nothing was typed
    if (asked && turn >= 0) askWhatFollows(asked);
  }, [asked, turn, askWhatFollows]);
  const nameOf = (id: string) =>
    depots.find((depot) => depot.id === id)?.name ?? (id ? "another depot" : "no depot chosen");
  const sentence = (clause: ClauseName): string => {
    if (draft.own[clause] && local(clause)) return "Not complete yet";
    const values = { ...policy.inherited.clauses, ...wished } as Partial<Clauses>;
    if (clause !== "where") return clauseSentence(clause, values);
    return values.where ? whereSentence(values.where as Where, nameOf) : "Not set at any level";
  };
  const changed = told({ ...draft, reason: "" }) !== told(start());
  const rule = policy.level === "group" ? groupRuleOf(draft.rule) : null;
  const save = () =>
    sending.send(async () => {
      const body = {
        clauses: wished,
        pins: draft.pins.filter((pin) => draft.own[pin]),
        reason: draft.reason.trim() || null,
      };
      const answer = await (policy.owner
        ? callApi<{ policy: { id: string; name: string }; saved: boolean }>(
            "PUT",
            `/rules/${policy.owner.level}/${policy.owner.ownerId}`,
            { ...body, revision: policy.revision },
          )
        : policy.id
          ? callApi<{ policy: { id: string; name: string }; saved: boolean }>(
              "PUT",
              `/policies/${policy.id}`,
              {
                ...body,
                rule,
                name: draft.name,
                revision: policy.revision,
              },
            )
          : callApi<{ policy: { id: string; name: string }; saved: boolean }>("POST", "/policies", {
              ...body,
              rule,
              name: draft.name,
              clientId: client!.id,
            }));
      if (answer.saved)
        say.success(`${answer.policy.name} saved.`, {
          description: follows?.next[0]
            ? `Next run: ${clockText(new Date(follows.next[0].at), follows.clientZone)} (${follows.clientZone})`
            : "No scheduled runs.",
        });
      else
        say.success("Approval requested: points would be kept for a shorter time.", {
          description: "A second person must approve it in Watch. Until then nothing changes.",
        });
      if (!policy.owner && !policy.id) router.push(`${window.location.pathname}?sel=${answer.policy.id}`);
      router.refresh();
    });
  const toggle = (name: string) => () => setOpen(open === name ? null : name);
  const keyIsSet = client?.key === "escrow" || client?.key === "passphrase";
  const fields: Record<ClauseName, ReactNode> = {
    what: (
      <WhatFields
        draft={draft.what}
        set={(what) => set({ what })}
        errorOf={errorOf}
        sources={sources}
        volumes={volumes}
      />
    ),
    when: (
      <WhenFields
        draft={draft.when}
        set={(part) => set({ when: { ...draft.when, ...part } })}
        errorOf={errorOf}
        zone={zone}
        policies={policies}
      />
    ),
    howLong: (
      <>
        <HowLongFields
          draft={draft.howLong}
          set={(part) => set({ howLong: { ...draft.howLong, ...part } })}
          errorOf={errorOf}
        />
        <p className="text-soft">
          The newest point always stays. A dropped one can be restored for 7 days of grace; then it is purged.
        </p>
      </>
    ),
    where: (
      <WhereFields
        draft={draft.where}
        set={(part) => set({ where: { ...draft.where, ...part } })}
        errorOf={errorOf}
        depots={depots}
      />
    ),
    conduct: (
      <ConductFields
        draft={draft.conduct}
        set={(part) => set({ conduct: { ...draft.conduct, ...part } })}
        errorOf={errorOf}
      />
    ),
    notices: (
      <NoticesFields
        draft={draft.notices}
        set={(part) => set({ notices: { ...draft.notices, ...part } })}
        errorOf={errorOf}
        webhooks={webhooks}
      />
    ),
  };
  const below = policy.level !== "source";
  return (
    <>
      <div className="head-line">
        {policy.level === "group" ? (
          <>
            <label className="sr-only" htmlFor="policy-name">
              Name of the policy
            </label>
            <input
              id="policy-name"
              className="input w-full h-[30px] max-w-[280px] font-bold"
              placeholder="Name of the policy"
              value={draft.name}
              onChange={(event) => set({ name: event.target.value })}
            />
          </>
        ) : (
          <h1 className="text-[15px] font-bold">{policy.name}</h1>
        )}
        <span className="text-soft truncate">
          {policy.about}
          {policy.changed ? ` · ${policy.changed}` : ""}
        </span>
        <span className="ml-auto flex items-center gap-3">
          {policy.level === "group" && !draft.name.trim() && (
            <span className="text-soft text-[13px]">a name is missing</span>
          )}
          <button
            type="button"
            className="btn btn-primary"
            disabled={
              sending.busy || !changed || !checked.success || (policy.level === "group" && !draft.name.trim())
            }
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
          {CLAUSES.map(([clause, title]) => {
            const origin = policy.inherited.origins[clause];
            const own = draft.own[clause] && !origin?.pinned;
            return (
              <Clause
                key={clause}
                title={title}
                sentence={sentence(clause)}
                own={own}
                origin={origin}
                open={open === title}
                toggle={toggle(title)}
              >
                {own ? (
                  <>
                    {fields[clause]}
                    <div className="flex flex-wrap items-center gap-4">
                      {below && (
                        <label className="flex items-center gap-2">
                          <input
                            type="checkbox"
                            className="checkbox checkbox-xs"
                            checked={draft.pins.includes(clause)}
                            onChange={(event) =>
                              set({
                                pins: event.target.checked
                                  ? [...draft.pins, clause]
                                  : draft.pins.filter((pin) => pin !== clause),
                              })
                            }
                          />
                          Pinned: no level below changes it
                        </label>
                      )}
                      <button
                        type="button"
                        className="text-primary underline"
                        onClick={() => set({ own: { ...draft.own, [clause]: false } })}
                      >
                        {origin ? `Inherit from ${origin.name}` : "Do not set it here"}
                      </button>
                    </div>
                  </>
                ) : origin?.pinned ? (
                  <p className="text-soft">{origin.name} pins this clause; it can be changed there.</p>
                ) : (
                  <div>
                    <button
                      type="button"
                      className="btn btn-plain"
                      onClick={() => set({ own: { ...draft.own, [clause]: true } })}
                    >
                      {origin ? "Override here" : "Set it here"}
                    </button>
                  </div>
                )}
              </Clause>
            );
          })}
          {policy.level === "group" && (
            <Clause
              title="Assignment"
              sentence={
                rule
                  ? "New sources that match its rule are added automatically"
                  : "Sources that are assigned to it"
              }
              own
              origin={undefined}
              open={open === "Assignment"}
              toggle={toggle("Assignment")}
            >
              <GroupRuleFields
                draft={draft.rule}
                set={(part) => set({ rule: { ...draft.rule, ...part } })}
                error={sending.errorOf("rule")}
              />
            </Clause>
          )}
          {client && (policy.level === "group" || policy.level === "client") && (
            <Clause
              title="Encryption"
              sentence={encryptionSentence(client.key)}
              own
              origin={undefined}
              open={open === "Encryption" || !keyIsSet}
              toggle={toggle("Encryption")}
            >
              {keyIsSet || client.key === "destroyed" ? (
                <KeyHolding client={client} zone={zone} />
              ) : (
                <KeySheet
                  clientId={client.id}
                  clientName={client.name}
                  made={client.key === "not confirmed"}
                  askedGroup={client.askedGroup}
                />
              )}
            </Clause>
          )}
        </div>
        <aside
          className="bg-base-100 border-base-300 min-h-0 overflow-y-auto border-l px-[18px] py-[14px]"
          aria-label="Consequences"
        >
          <h2 className="part-title mb-2">Consequences</h2>
          <div className="grid gap-4">
            {!checked.success && <p className="text-soft">Complete the clauses to see the next runs.</p>}
            {changed && !isNew && (
              <>
                <TextField
                  label="Reason (shown in the history)"
                  value={draft.reason}
                  onChange={(event) => set({ reason: event.target.value })}
                />
                <RuleEffects
                  wish={
                    checked.success
                      ? {
                          policyId: policy.owner ? null : policy.id,
                          owner: policy.owner,
                          clauses: wished,
                          pins: draft.pins.filter((pin) => draft.own[pin]),
                        }
                      : null
                  }
                />
              </>
            )}
            {checked.success && asked && follows && (
              <div className="contents" data-follows>
                <WhatFollows follows={follows} policyId={policy.id} now={now} again={again} />
              </div>
            )}
            {policy.id && (
              <PolicyHistory
                key={policy.revision}
                policyId={policy.id}
                revision={policy.revision}
                zone={zone}
              />
            )}
            {policy.id && policy.level === "group" && (
              <a
                className="text-primary underline"
                href={`/api/v1/policies/${policy.id}/file`}
                download={`${policy.name}.json`}
              >
                Export as file
              </a>
            )}
          </div>
        </aside>
      </div>
    </>
  );
}
