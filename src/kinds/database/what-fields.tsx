"use client";

import { TextField } from "@/ui/parts/form";
import { linesOf, type WhatFieldsProps, whatForm } from "../what-form";
import type { DatabaseWhat } from "./what";

interface DatabaseWhatDraft {
  readonly excludeData: string;
}

function DatabaseWhatFields({ draft, set, errorOf }: WhatFieldsProps<DatabaseWhatDraft>) {
  return (
    <TextField
      label="Tables without their rows (optional)"
      error={errorOf("excludeData")}
      help="One name per line, such as sessions or audit.*; the definitions of these tables are kept. Empty: every row is stored."
      mono
      rows={3}
      value={draft.excludeData}
      onChange={(event) => set({ excludeData: event.target.value })}
    />
  );
}

export const DATABASE_WHAT_FORM = whatForm({
  draftOf: (what: DatabaseWhat | undefined): DatabaseWhatDraft => ({
    excludeData: what?.excludeData.join("\n") ?? "",
  }),
  clauseOf: (draft: DatabaseWhatDraft) => ({ excludeData: linesOf(draft.excludeData) }),
  Fields: DatabaseWhatFields,
});
