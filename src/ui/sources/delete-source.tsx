"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";

/** Asks to delete a source with its points; nothing is done before a second person agrees. */
export function DeleteSource({ sourceId, name }: { sourceId: string; name: string }) {
  const router = useRouter();
  const sending = useSending();
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState("");
  if (!open)
    return (
      <div>
        <button type="button" className="btn btn-plain" onClick={() => setOpen(true)}>
          Delete source and points…
        </button>
      </div>
    );
  return (
    <form
      className="grid gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          await callApi("POST", `/sources/${sourceId}/deletion`, { reason });
          say.success("Requested. A second person must approve within seven days.");
          setOpen(false);
          router.refresh();
        });
      }}
    >
      <p className="warned">
        When a second person agrees, {name} is no longer backed up, and its points are purged after seven
        days, locked ones when their lock ends.
      </p>
      <TextField
        label="Reason"
        error={sending.errorOf("reason")}
        value={reason}
        onChange={(event) => setReason(event.target.value)}
      />
      {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary" disabled={sending.busy || !reason.trim()}>
          Send request
        </button>
        <button type="button" className="btn btn-plain" onClick={() => setOpen(false)}>
          Not now
        </button>
      </div>
    </form>
  );
}
