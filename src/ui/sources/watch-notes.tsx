"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { callApi } from "../parts/api";
import { Refusal, SelectField, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";

const SPANS = [
  ["4", "four hours"],
  ["16", "tomorrow morning"],
  ["72", "three days"],
  ["168", "a week"],
] as const;

/** Sets a cause aside for a while, with a reason. */
export function SetAside({ causeKey }: { causeKey: string }) {
  const router = useRouter();
  const sending = useSending();
  const [open, setOpen] = useState(false);
  const [hours, setHours] = useState("16");
  const [note, setNote] = useState("");
  if (!open)
    return (
      <button type="button" className="btn btn-plain" data-key="s" onClick={() => setOpen(true)}>
        Postpone…
      </button>
    );
  return (
    <form
      className="grid w-full grid-cols-[180px_minmax(0,1fr)] items-end gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          const until = new Date(Date.now() + Number(hours) * 3_600_000).toISOString();
          await callApi("PUT", "/watch/set-asides", { key: causeKey, until, note });
          say.success("Postponed until then.");
          router.refresh();
        });
      }}
    >
      <SelectField
        label="For"
        error={sending.errorOf("until")}
        value={hours}
        onChange={(event) => setHours(event.target.value)}
      >
        {SPANS.map(([value, label]) => (
          <option key={value} value={value}>
            {label}
          </option>
        ))}
      </SelectField>
      <TextField
        label="Because"
        error={sending.errorOf("note")}
        value={note}
        onChange={(event) => setNote(event.target.value)}
      />
      <div>
        <button type="submit" className="btn btn-plain" disabled={sending.busy || !note.trim()}>
          Postpone
        </button>
      </div>
      {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
    </form>
  );
}

export interface ShownAside {
  readonly key: string;
  readonly title: string;
  readonly note: string;
  readonly setBy: string;
  /** Until when, as text. */
  readonly until: string;
}

/** What is set aside: in one line until it is opened. */
export function SetAsides({ asides }: { asides: readonly ShownAside[] }) {
  const router = useRouter();
  const sending = useSending();
  if (asides.length === 0) return null;
  return (
    <details className="border-line border-b px-[17px] py-2">
      <summary className="text-soft cursor-pointer">
        {asides.length} {asides.length === 1 ? "cause is" : "causes are"} postponed
      </summary>
      <ul className="mt-2 grid gap-2">
        {asides.map((aside) => (
          <li key={aside.key} className="grid grid-cols-[minmax(0,1fr)_auto] gap-3">
            <span>
              {aside.title}
              <span className="text-soft block text-[13px]">
                until {aside.until} · {aside.setBy}: {aside.note}
              </span>
            </span>
            <button
              type="button"
              className="text-primary underline"
              disabled={sending.busy}
              onClick={() =>
                sending.send(async () => {
                  await callApi("POST", "/watch/set-asides/taken-up", { key: aside.key });
                  router.refresh();
                })
              }
            >
              Resume
            </button>
          </li>
        ))}
      </ul>
    </details>
  );
}

/** What the last shift left, and the place to write for the next. */
export function Handover({
  note,
}: {
  note: { readonly text: string; readonly by: string; readonly at: string } | null;
}) {
  const router = useRouter();
  const sending = useSending();
  const [writing, setWriting] = useState(false);
  const [text, setText] = useState("");
  return (
    <div className="border-line border-b px-[17px] py-2">
      {note && !writing && (
        <p className="whitespace-pre-wrap">
          <span className="text-soft">
            {note.by}, {note.at}:{" "}
          </span>
          {note.text}
        </p>
      )}
      {!writing && (
        <button type="button" className="text-primary text-[13px] underline" onClick={() => setWriting(true)}>
          {note ? "Write a new hand-over note" : "Write a hand-over note for the next shift"}
        </button>
      )}
      {writing && (
        <form
          className="grid gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            void sending.send(async () => {
              await callApi("POST", "/watch/handover", { text });
              setWriting(false);
              setText("");
              router.refresh();
            });
          }}
        >
          <TextField
            label="For the next shift"
            rows={3}
            error={sending.errorOf("text")}
            value={text}
            onChange={(event) => setText(event.target.value)}
          />
          <div className="flex gap-2">
            <button type="submit" className="btn btn-primary" disabled={sending.busy || !text.trim()}>
              Cancel
            </button>
            <button type="button" className="btn btn-plain" onClick={() => setWriting(false)}>
              Not now
            </button>
          </div>
        </form>
      )}
    </div>
  );
}
