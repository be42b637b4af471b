"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { ActionButton } from "../parts/actions";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";

/** Holds of a source: what stops dropping and purging until it is lifted. */
export function Holds({
  sourceId,
  holds,
}: {
  sourceId: string;
  holds: readonly {
    readonly id: string;
    readonly reason: string;
    /** The moment of the one point that it holds; null where it holds all of the source. */
    readonly point: string | null;
    readonly by: string;
    readonly since: string;
  }[];
}) {
  const router = useRouter();
  const sending = useSending();
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState("");
  return (
    <div className="grid gap-2">
      {holds.map((hold) => (
        <div key={hold.id} className="border-line flex items-start gap-3 border-b pb-2">
          <span className="flex-1">
            {hold.point && `The point of ${hold.point}: `}
            {hold.reason}
            <span className="text-soft block text-[13px]">
              {hold.by}, {hold.since}
            </span>
          </span>
          <ActionButton
            action={() => callApi("DELETE", `/sources/${sourceId}/holds/${hold.id}`)}
            done="Hold lifted. The policy applies again."
          >
            Lift
          </ActionButton>
        </div>
      ))}
      {open ? (
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            void sending.send(async () => {
              await callApi("POST", `/sources/${sourceId}/holds`, { reason });
              say.success("Hold placed. No points are dropped or purged.");
              setReason("");
              setOpen(false);
              router.refresh();
            });
          }}
        >
          <TextField
            label="Reason for the hold"
            error={sending.errorOf("reason")}
            placeholder="a letter of the court of 20 November"
            value={reason}
            onChange={(event) => setReason(event.target.value)}
          />
          <Refusal problem={sending.problem} />
          <div className="flex gap-2">
            <button type="submit" className="btn btn-primary" disabled={sending.busy}>
              Hold all points
            </button>
            <button type="button" className="btn btn-plain" onClick={() => setOpen(false)}>
              Cancel
            </button>
          </div>
        </form>
      ) : (
        <div>
          <button type="button" className="btn btn-plain" onClick={() => setOpen(true)}>
            Hold points…
          </button>
        </div>
      )}
    </div>
  );
}

/** Brings a dropped point back while its grace lasts. */
export const RestoreDropped = ({ pointId }: { pointId: string }) => (
  <ActionButton
    action={() => callApi("POST", `/recovery-points/${pointId}/keep`)}
    done="The recovery point is kept until the hold is lifted."
  >
    Undo drop
  </ActionButton>
);
