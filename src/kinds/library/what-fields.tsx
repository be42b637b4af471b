"use client";

import { TextField } from "@/ui/parts/form";
import { linesOf, type WhatFieldsProps, whatForm } from "../what-form";
import type { LibraryWhat } from "./what";

interface LibraryWhatDraft {
  readonly exclude: string;
}

function LibraryWhatFields({ draft, set, errorOf }: WhatFieldsProps<LibraryWhatDraft>) {
  return (
    <TextField
      label="Exclude from libraries (optional)"
      error={errorOf("exclude")}
      help="One pattern per line: a name such as *.tmp, or a path such as /Drafts/**. Empty: every file is stored."
      mono
      rows={3}
      value={draft.exclude}
      onChange={(event) => set({ exclude: event.target.value })}
    />
  );
}

export const LIBRARY_WHAT_FORM = whatForm({
  draftOf: (what: LibraryWhat | undefined): LibraryWhatDraft => ({ exclude: what?.exclude.join("\n") ?? "" }),
  clauseOf: (draft: LibraryWhatDraft) => ({ exclude: linesOf(draft.exclude) }),
  Fields: LibraryWhatFields,
});
