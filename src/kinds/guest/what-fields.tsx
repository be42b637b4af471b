"use client";

import { TextField } from "@/ui/parts/form";
import { linesOf, type WhatFieldsProps, whatForm } from "../what-form";
import type { GuestWhat } from "./what";

interface GuestWhatDraft {
  readonly excludeDisks: string;
}

function GuestWhatFields({ draft, set, errorOf }: WhatFieldsProps<GuestWhatDraft>) {
  return (
    <TextField
      label="Excluded disks (optional)"
      error={errorOf("excludeDisks")}
      help="One name per line as the host has it, such as vdb or sd*. Empty: every disk is stored."
      mono
      rows={3}
      value={draft.excludeDisks}
      onChange={(event) => set({ excludeDisks: event.target.value })}
    />
  );
}

export const GUEST_WHAT_FORM = whatForm({
  draftOf: (what: GuestWhat | undefined): GuestWhatDraft => ({
    excludeDisks: what?.excludeDisks.join("\n") ?? "",
  }),
  clauseOf: (draft: GuestWhatDraft) => ({ excludeDisks: linesOf(draft.excludeDisks) }),
  Fields: GuestWhatFields,
});
