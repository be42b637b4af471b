"use client";

import type { GroupRule } from "@/core/policy/cascade";
import { KINDS, SOURCE_KINDS, type SourceKind } from "@/kinds";
import { FieldGroup, SelectField, TextField } from "../parts/form";

/** Which sources a policy takes by themselves, as it is typed. */
export interface GroupRuleDraft {
  readonly kind: "" | SourceKind;
  readonly name: string;
  readonly system: string;
  readonly tag: string;
}

export const groupRuleDraft = (rule: GroupRule | null): GroupRuleDraft => ({
  kind: rule?.kind ?? "",
  name: rule?.name ?? "",
  system: rule?.system ?? "",
  tag: rule?.tag ?? "",
});

/** Null when nothing is asked for: then sources are assigned by people. */
export function groupRuleOf(draft: GroupRuleDraft): GroupRule | null {
  const given = Object.entries(draft).flatMap(([name, text]) => (text.trim() ? [[name, text.trim()]] : []));
  return given.length ? (Object.fromEntries(given) as GroupRule) : null;
}

export function GroupRuleFields({
  draft,
  set,
  error,
}: {
  draft: GroupRuleDraft;
  set: (change: Partial<GroupRuleDraft>) => void;
  error: string | undefined;
}) {
  return (
    <>
      <FieldGroup error={error}>
        <div className="grid grid-cols-2 gap-3">
          <SelectField
            label="Kind"
            value={draft.kind}
            onChange={(event) => set({ kind: event.target.value as GroupRuleDraft["kind"] })}
          >
            <option value="">any</option>
            {SOURCE_KINDS.map((id) => (
              <option key={id} value={id}>
                {KINDS[id].sources}
              </option>
            ))}
          </SelectField>
          <TextField
            label="Name"
            mono
            placeholder="*-lt-*"
            help="A pattern for the name of the source; * matches any text."
            value={draft.name}
            onChange={(event) => set({ name: event.target.value })}
          />
          <TextField
            label="System"
            placeholder="Debian"
            value={draft.system}
            onChange={(event) => set({ system: event.target.value })}
          />
          <TextField label="Tag" value={draft.tag} onChange={(event) => set({ tag: event.target.value })} />
        </div>
      </FieldGroup>
      <p className="text-soft">
        A source without a policy is assigned to the first policy whose rule matches, when the source appears
        or the rule is saved. If the rule is empty, sources are assigned by hand.
      </p>
    </>
  );
}
