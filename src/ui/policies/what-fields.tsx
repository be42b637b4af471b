"use client";

import { KINDS, SOURCE_KINDS, type SourceKind } from "@/kinds";
import { KindIcon } from "@/kinds/icons";
import { kindsOf, type What } from "@/kinds/what";
import type { AnyDraft } from "@/kinds/what-form";
import { WHAT_FORMS } from "@/kinds/what-forms";

/** The clause What as it is typed: of each kind its own part, and whether the policy applies to it. */
export type WhatDraft = Readonly<Record<SourceKind, { readonly on: boolean; readonly part: AnyDraft }>>;

const ofEachKind = <T,>(made: (kind: SourceKind) => T): Record<SourceKind, T> =>
  Object.fromEntries(SOURCE_KINDS.map((kind) => [kind, made(kind)])) as Record<SourceKind, T>;

/** Without a clause, a policy starts with files. */
export const whatDraft = (what: What | undefined): WhatDraft =>
  ofEachKind((kind) => ({
    on: what ? what[kind] !== undefined : kind === "files",
    part: (WHAT_FORMS[kind].draftOf as (part: object | undefined) => AnyDraft)(what?.[kind]),
  }));

export const whatOf = (draft: WhatDraft): unknown =>
  Object.fromEntries(
    SOURCE_KINDS.filter((kind) => draft[kind].on).map((kind) => [
      kind,
      WHAT_FORMS[kind].clauseOf(draft[kind].part),
    ]),
  );

export function WhatFields({
  draft,
  set,
  errorOf,
  sources,
  volumes,
}: {
  draft: WhatDraft;
  set: (change: WhatDraft) => void;
  errorOf: (field: string) => string | undefined;
  /** Sources of files that it can be tried out on. */
  sources: readonly { readonly id: string; readonly name: string }[];
  /** Volumes of machines besides their root, to choose from. */
  volumes: readonly string[];
}) {
  const none = kindsOf(whatOf(draft) as What).length === 0;
  return (
    <>
      {SOURCE_KINDS.map((kind) => {
        const { on, part } = draft[kind];
        const { Fields } = WHAT_FORMS[kind];
        const { sources: words } = KINDS[kind];
        return (
          <section key={kind} className="border-line grid gap-3 border-b pb-3 last:border-b-0 last:pb-0">
            <label className="flex min-h-[26px] items-center gap-2">
              <input
                type="checkbox"
                className="checkbox checkbox-xs"
                checked={on}
                onChange={(event) => set({ ...draft, [kind]: { on: event.target.checked, part } })}
              />
              <KindIcon kind={kind} />
              <b>{`${words[0]!.toUpperCase()}${words.slice(1)}`}</b>
            </label>
            {on && (
              <Fields
                draft={part}
                set={(change) => set({ ...draft, [kind]: { on, part: { ...part, ...change } } })}
                errorOf={(field) => errorOf(`what.${kind}.${field}`)}
                sources={sources}
                volumes={volumes}
              />
            )}
          </section>
        );
      })}
      {none && (
        <p className="text-error" role="alert">
          {errorOf("what")}
        </p>
      )}
    </>
  );
}
