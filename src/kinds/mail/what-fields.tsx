"use client";

import { TextField } from "@/ui/parts/form";
import { linesOf, type WhatFieldsProps, whatForm } from "../what-form";
import { LEFT_OUT_ROLES, type LeftOutRole, type MailWhat } from "./what";

/** What of a mailbox as it is typed. */
interface MailWhatDraft {
  readonly folders: string;
  readonly exclude: string;
  readonly excludeRoles: readonly LeftOutRole[];
  readonly calendars: boolean;
  readonly contacts: boolean;
  readonly receivedSince: string;
}

const draftOf = (what: MailWhat | undefined): MailWhatDraft => ({
  folders: what?.folders.join("\n") ?? "",
  exclude: what?.exclude.join("\n") ?? "",
  excludeRoles: what?.excludeRoles ?? [],
  calendars: what?.calendars ?? true,
  contacts: what?.contacts ?? true,
  receivedSince: what?.receivedSince ?? "",
});

const clauseOf = (draft: MailWhatDraft): unknown => ({
  folders: linesOf(draft.folders),
  exclude: linesOf(draft.exclude),
  excludeRoles: draft.excludeRoles,
  calendars: draft.calendars,
  contacts: draft.contacts,
  receivedSince: draft.receivedSince.trim() || null,
});

const ROLE_WORDS: Readonly<Record<LeftOutRole, string>> = {
  drafts: "Drafts",
  junk: "Junk",
  trash: "Deleted items",
};

function MailWhatFields({ draft, set, errorOf }: WhatFieldsProps<MailWhatDraft>) {
  return (
    <>
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="Mail folders (optional)"
          error={errorOf("folders")}
          help="One path per line, such as /Inbox/Suppliers; subfolders are included. Empty: all folders."
          mono
          rows={3}
          value={draft.folders}
          onChange={(event) => set({ folders: event.target.value })}
        />
        <TextField
          label="Exclude folders"
          error={errorOf("exclude")}
          help="One pattern per line, such as Newsletters or /Archive/*. Subfolders are excluded as well."
          mono
          rows={3}
          value={draft.exclude}
          onChange={(event) => set({ exclude: event.target.value })}
        />
      </div>
      <fieldset className="flex flex-wrap gap-x-4 gap-y-1">
        <legend className="label">Exclude by role, whatever the folder is called</legend>
        {(Object.keys(LEFT_OUT_ROLES) as LeftOutRole[]).map((role) => (
          <label key={role} className="flex min-h-[26px] items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-xs"
              checked={draft.excludeRoles.includes(role)}
              onChange={(event) =>
                set({
                  excludeRoles: event.target.checked
                    ? [...draft.excludeRoles, role]
                    : draft.excludeRoles.filter((one) => one !== role),
                })
              }
            />
            {ROLE_WORDS[role]}
          </label>
        ))}
      </fieldset>
      <fieldset className="flex flex-wrap gap-x-4 gap-y-1">
        <legend className="label">Include, where the connection has them</legend>
        {(["calendars", "contacts"] as const).map((part) => (
          <label key={part} className="flex min-h-[26px] items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-xs"
              checked={draft[part]}
              onChange={(event) => set({ [part]: event.target.checked })}
            />
            {part === "calendars" ? "Calendars" : "Contacts"}
          </label>
        ))}
      </fieldset>
      <div className="max-w-[220px]">
        <TextField
          label="Received since (optional)"
          error={errorOf("receivedSince")}
          placeholder="2026-01-31"
          value={draft.receivedSince}
          onChange={(event) => set({ receivedSince: event.target.value })}
        />
      </div>
    </>
  );
}

export const MAIL_WHAT_FORM = whatForm({ draftOf, clauseOf, Fields: MailWhatFields });
