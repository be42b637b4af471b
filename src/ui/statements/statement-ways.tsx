"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { ActionButton } from "../parts/actions";
import { callApi } from "../parts/api";
import { Refusal, SelectField, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";

export interface ShownSending {
  readonly every: "week" | "month";
  readonly onDay: number;
  readonly at: string;
  readonly recipients: readonly string[];
  readonly paper: "a4" | "letter";
  /** When it goes out next, on the client's clock. */
  readonly next: string;
}
interface ShownLink {
  readonly id: string;
  readonly firstDay: string;
  readonly lastDay: string;
  readonly madeBy: string;
  readonly until: string;
  readonly opened: number;
}
interface Days {
  readonly clientId: string;
  readonly firstDay: string;
  readonly lastDay: string;
}

const WEEKDAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
const addresses = (text: string): string[] =>
  text
    .split(/[\s,;]+/)
    .map((one) => one.trim())
    .filter(Boolean);
const openedText = (times: number): string =>
  times === 0 ? "not opened yet" : times === 1 ? "opened once" : `opened ${times} times`;
const whenText = (sending: ShownSending): string =>
  sending.every === "week"
    ? `every ${WEEKDAYS[sending.onDay - 1]} at ${sending.at}, the seven days before`
    : `on day ${sending.onDay} of each month at ${sending.at}, the month before`;

/** The ways in which a client's statement gets to them: mail by itself, mail now, a link. */
export function StatementWays({
  sending,
  links,
  mail,
  zone,
  ...days
}: Days & {
  zone: string;
  sending: ShownSending | null;
  links: readonly ShownLink[];
  /** Whether a mail server is set up. */
  mail: boolean;
}) {
  return (
    <div className="grid gap-6">
      <h2 className="text-[15px] font-bold">Delivery</h2>
      {!mail && <p className="warned">No mail server is set up. Add one in Runs, under Messages.</p>}
      <BySchedule clientId={days.clientId} sending={sending} zone={zone} />
      <SendNow {...days} known={sending?.recipients ?? []} paper={sending?.paper ?? "a4"} />
      <Links {...days} links={links} />
    </div>
  );
}

function PaperField({
  value,
  onChange,
}: {
  value: "a4" | "letter";
  onChange: (paper: "a4" | "letter") => void;
}) {
  return (
    <SelectField
      label="Paper"
      value={value}
      onChange={(event) => onChange(event.target.value as "a4" | "letter")}
    >
      <option value="a4">A4</option>
      <option value="letter">Letter</option>
    </SelectField>
  );
}

function BySchedule({
  clientId,
  sending,
  zone,
}: {
  clientId: string;
  sending: ShownSending | null;
  zone: string;
}) {
  const router = useRouter();
  const saving = useSending();
  const [open, setOpen] = useState(false);
  const [draft, setDraft] = useState({
    every: sending?.every ?? ("month" as const),
    onDay: String(sending?.onDay ?? 1),
    at: sending?.at ?? "07:30",
    recipients: sending?.recipients.join(", ") ?? "",
    paper: sending?.paper ?? ("a4" as const),
  });
  const path = `/clients/${clientId}/statement/sending`;
  const save = () =>
    saving.send(async () => {
      await callApi("PUT", path, {
        ...draft,
        onDay: Number(draft.onDay),
        recipients: addresses(draft.recipients),
      });
      say.success("Delivery scheduled.");
      setOpen(false);
      router.refresh();
    });
  return (
    <section className="grid gap-2">
      <h3 className="part-title">Scheduled</h3>
      {sending ? (
        <>
          <p>
            To {sending.recipients.join(", ")}, {whenText(sending)}.
          </p>
          <p className="text-soft text-[13px]">
            Next: {sending.next} ({zone})
          </p>
        </>
      ) : (
        <p className="text-soft">Not scheduled.</p>
      )}
      {!open && (
        <div className="flex gap-2">
          <button type="button" className="btn btn-plain" onClick={() => setOpen(true)}>
            {sending ? "Change…" : "Schedule delivery…"}
          </button>
          {sending && <ActionButton action={() => callApi("DELETE", path)}>Remove schedule</ActionButton>}
        </div>
      )}
      {open && (
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            void save();
          }}
        >
          <TextField
            label="Recipients"
            rows={2}
            value={draft.recipients}
            error={saving.errorOf("recipients")}
            onChange={(event) => setDraft({ ...draft, recipients: event.target.value })}
          />
          <div className="grid grid-cols-2 gap-3">
            <SelectField
              label="Frequency"
              value={draft.every}
              onChange={(event) =>
                setDraft({ ...draft, every: event.target.value as "week" | "month", onDay: "1" })
              }
            >
              <option value="month">every month</option>
              <option value="week">every week</option>
            </SelectField>
            {draft.every === "week" ? (
              <SelectField
                label="On"
                value={draft.onDay}
                error={saving.errorOf("onDay")}
                onChange={(event) => setDraft({ ...draft, onDay: event.target.value })}
              >
                {WEEKDAYS.map((name, i) => (
                  <option key={name} value={i + 1}>
                    {name}
                  </option>
                ))}
              </SelectField>
            ) : (
              <TextField
                label="On day"
                inputMode="numeric"
                value={draft.onDay}
                error={saving.errorOf("onDay")}
                onChange={(event) => setDraft({ ...draft, onDay: event.target.value })}
              />
            )}
            <TextField
              label={`At (${zone})`}
              value={draft.at}
              error={saving.errorOf("at")}
              onChange={(event) => setDraft({ ...draft, at: event.target.value })}
            />
            <PaperField value={draft.paper} onChange={(paper) => setDraft({ ...draft, paper })} />
          </div>
          <Refusal problem={saving.problem?.errors.length ? null : saving.problem} />
          <div className="flex gap-2">
            <button type="submit" className="btn btn-primary" disabled={saving.busy}>
              Save
            </button>
            <button type="button" className="btn btn-plain" onClick={() => setOpen(false)}>
              Cancel
            </button>
          </div>
        </form>
      )}
    </section>
  );
}

function SendNow({
  clientId,
  firstDay,
  lastDay,
  known,
  paper: usual,
}: Days & { known: readonly string[]; paper: "a4" | "letter" }) {
  const sending = useSending();
  const [to, setTo] = useState(known.join(", "));
  const [paper, setPaper] = useState(usual);
  const send = () =>
    sending.send(async () => {
      const recipients = addresses(to);
      await callApi("POST", `/clients/${clientId}/statement/send`, {
        from: firstDay,
        to: lastDay,
        recipients,
        paper,
      });
      say.success("Statement queued for sending.", { description: `To ${recipients.join(", ")}` });
    });
  return (
    <form
      className="grid gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        void send();
      }}
    >
      <h3 className="part-title">
        Now, {firstDay} to {lastDay}
      </h3>
      <TextField
        label="Send as PDF to"
        value={to}
        error={sending.errorOf("recipients")}
        onChange={(event) => setTo(event.target.value)}
      />
      <div className="flex items-end gap-3">
        <div className="w-[110px]">
          <PaperField value={paper} onChange={setPaper} />
        </div>
        <button type="submit" className="btn btn-plain" disabled={sending.busy}>
          Send
        </button>
      </div>
      <Refusal problem={sending.problem?.errors.length ? null : sending.problem} />
    </form>
  );
}

function Links({ clientId, firstDay, lastDay, links }: Days & { links: readonly ShownLink[] }) {
  const router = useRouter();
  const sending = useSending();
  const [days, setDays] = useState("30");
  const [made, setMade] = useState<string | null>(null);
  const path = `/clients/${clientId}/statement/links`;
  const make = () =>
    sending.send(async () => {
      const { url } = await callApi<{ url: string }>("POST", path, {
        from: firstDay,
        to: lastDay,
        days: Number(days),
      });
      setMade(url);
      router.refresh();
    });
  return (
    <section className="grid gap-2">
      <h3 className="part-title">Link</h3>
      <p className="text-soft text-[13px]">
        Anyone with the link can open the statement of these days without an account. You can revoke it.
      </p>
      {links.map((link) => (
        <div key={link.id} className="flex items-baseline gap-3">
          <span className="min-w-0 flex-1">
            {link.firstDay} to {link.lastDay}
            <span className="text-soft block text-[12.5px]">
              by {link.madeBy}, until {link.until}, {openedText(link.opened)}
            </span>
          </span>
          <ActionButton action={() => callApi("DELETE", `${path}/${link.id}`)}>Revoke</ActionButton>
        </div>
      ))}
      {made && (
        <div>
          <p className="text-[13px] font-semibold">Shown once:</p>
          <p className="bg-base-200 p-2 font-mono text-[12.5px] break-all select-all">{made}</p>
        </div>
      )}
      <form
        className="flex items-end gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          void make();
        }}
      >
        <div className="w-[110px]">
          <TextField
            label="Valid for (days)"
            inputMode="numeric"
            value={days}
            error={sending.errorOf("days")}
            onChange={(event) => setDays(event.target.value)}
          />
        </div>
        <button type="submit" className="btn btn-plain" disabled={sending.busy}>
          Create link
        </button>
      </form>
      <Refusal problem={sending.problem?.errors.length ? null : sending.problem} />
    </section>
  );
}
