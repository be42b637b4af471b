"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { ActionButton } from "../parts/actions";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";

interface Written {
  readonly id: string;
  readonly side: "provider" | "client";
  readonly text: string;
  /** Who wrote it, and when. */
  readonly from: string;
}

/** What was written to an exception of a statement, and a line to write more. Without a writer it is only read. */
export function ExceptionWords({
  about,
  day,
  written,
  writer,
}: {
  about: string;
  day: string;
  written: readonly Written[];
  writer: { readonly clientId: string; readonly side: "provider" | "client" } | null;
}) {
  const router = useRouter();
  const sending = useSending();
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const base = writer && `/clients/${writer.clientId}/statement/words`;
  const write = () =>
    sending.send(async () => {
      await callApi("POST", base!, { about, day, text });
      setOpen(false);
      setText("");
      router.refresh();
    });
  return (
    <div className="mt-0.5 grid gap-1 pl-4">
      {written.map((word) => (
        <div key={word.id} className="border-base-300 flex items-baseline gap-3 border-l-2 pl-3">
          <p className="min-w-0 flex-1">
            {word.text} <span className="text-soft text-[12.5px]">{word.from}</span>
          </p>
          {base && word.side === writer.side && (
            <span className="no-print">
              <ActionButton action={() => callApi("DELETE", `${base}/${word.id}`)}>Delete</ActionButton>
            </span>
          )}
        </div>
      ))}
      {base && !open && (
        <button
          type="button"
          className="no-print text-primary justify-self-start text-[13px] underline"
          onClick={() => setOpen(true)}
        >
          {writer.side === "provider" ? "Add note" : "Add a comment"}
        </button>
      )}
      {base && open && (
        <form
          className="no-print grid max-w-[560px] gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            void write();
          }}
        >
          <TextField
            label={writer.side === "provider" ? "Action taken" : "Comment"}
            rows={2}
            value={text}
            error={sending.errorOf("text") ?? sending.errorOf("about")}
            onChange={(event) => setText(event.target.value)}
          />
          <Refusal problem={sending.problem?.errors.length ? null : sending.problem} />
          <div className="flex gap-2">
            <button type="submit" className="btn btn-primary" disabled={sending.busy}>
              Add to statement
            </button>
            <button type="button" className="btn btn-plain" onClick={() => setOpen(false)}>
              Cancel
            </button>
          </div>
        </form>
      )}
    </div>
  );
}
