"use client";

import { NOTICE_OUTCOMES, type NoticeOutcome, type Notices } from "@/core/policy/notices";
import { FieldGroup, TextField } from "../parts/form";

/** The clause Notices as it is typed. */
export interface NoticesDraft {
  readonly on: readonly NoticeOutcome[];
  readonly mail: string;
  readonly webhooks: readonly string[];
  readonly digestAt: string;
  readonly quietFrom: string;
  readonly quietTo: string;
}

export const noticesDraft = (clause: Notices | undefined): NoticesDraft => ({
  on: clause?.on ?? ["failed", "missed"],
  mail: clause?.mail.join("\n") ?? "",
  webhooks: clause?.webhooks ?? [],
  digestAt: clause?.digestAt ?? "",
  quietFrom: clause?.quiet?.from ?? "",
  quietTo: clause?.quiet?.to ?? "",
});

export function noticesOf(draft: NoticesDraft): unknown {
  const mail = draft.mail
    .split(/[\n,;]/)
    .map((address) => address.trim())
    .filter(Boolean);
  const quiet = draft.quietFrom.trim() || draft.quietTo.trim();
  return {
    on: NOTICE_OUTCOMES.filter((outcome) => draft.on.includes(outcome)),
    mail,
    webhooks: draft.webhooks,
    digestAt: draft.digestAt.trim() || null,
    quiet: quiet ? { from: draft.quietFrom.trim(), to: draft.quietTo.trim() } : null,
  };
}

const WORDS: Record<NoticeOutcome, string> = {
  clean: "clean runs",
  caution: "cautions",
  failed: "failures",
  missed: "missed times",
};

export function NoticesFields({
  draft,
  set,
  errorOf,
  webhooks,
}: {
  draft: NoticesDraft;
  set: (change: Partial<NoticesDraft>) => void;
  errorOf: (field: string) => string | undefined;
  webhooks: readonly { readonly id: string; readonly name: string }[];
}) {
  const toggled = <T,>(list: readonly T[], one: T): T[] =>
    list.includes(one) ? list.filter((other) => other !== one) : [...list, one];
  return (
    <>
      <FieldGroup legend="Outcomes to report" error={errorOf("notices.on")}>
        <div className="flex flex-wrap gap-x-4 gap-y-1">
          {NOTICE_OUTCOMES.map((outcome) => (
            <label key={outcome} className="flex items-center gap-1">
              <input
                type="checkbox"
                className="checkbox checkbox-xs"
                checked={draft.on.includes(outcome)}
                onChange={() => set({ on: toggled(draft.on, outcome) })}
              />
              {WORDS[outcome]}
            </label>
          ))}
        </div>
      </FieldGroup>
      <TextField
        label="Mail to (one address per line)"
        error={errorOf("notices.mail")}
        rows={2}
        value={draft.mail}
        onChange={(event) => set({ mail: event.target.value })}
      />
      {webhooks.length > 0 && (
        <fieldset>
          <legend className="field-label">Webhooks</legend>
          {webhooks.map((webhook) => (
            <label key={webhook.id} className="flex items-center gap-2">
              <input
                type="checkbox"
                className="checkbox checkbox-xs"
                checked={draft.webhooks.includes(webhook.id)}
                onChange={() => set({ webhooks: toggled(draft.webhooks, webhook.id) })}
              />
              {webhook.name}
            </label>
          ))}
        </fieldset>
      )}
      <div className="grid grid-cols-3 gap-3">
        <TextField
          label="Daily digest at"
          error={errorOf("notices.digestAt")}
          help="Empty: one message per cause, soon after it occurs. With a time: one message a day with everything since the day before."
          placeholder="07:15"
          value={draft.digestAt}
          onChange={(event) => set({ digestAt: event.target.value })}
        />
        <TextField
          label="Quiet hours from"
          error={errorOf("notices.quiet")}
          help="Nothing is sent in these hours; pending messages are sent afterwards."
          placeholder="22:00"
          value={draft.quietFrom}
          onChange={(event) => set({ quietFrom: event.target.value })}
        />
        <TextField
          label="to"
          placeholder="06:00"
          value={draft.quietTo}
          onChange={(event) => set({ quietTo: event.target.value })}
        />
      </div>
      <p className="text-soft">The mail server and webhooks are set up under Messages in the view Runs.</p>
    </>
  );
}
