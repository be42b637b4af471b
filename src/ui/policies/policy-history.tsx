"use client";

import { useRouter } from "next/navigation";
import { useEffect, useState } from "react";
import { showRefusal } from "../parts/actions";
import { callApi } from "../parts/api";
import { clockText } from "../parts/moment";
import { say } from "../parts/say";

interface Revision {
  readonly revision: number;
  readonly name: string;
  readonly reason: string | null;
  readonly changedAt: string;
  readonly changedBy: string;
  readonly pins: readonly string[];
  readonly sentences: readonly { readonly clause: string; readonly text: string }[];
}

/** Every state that rules had, with who and why; and the way back to one. */
export function PolicyHistory({
  policyId,
  revision,
  zone,
}: {
  policyId: string;
  revision: number;
  zone: string;
}) {
  const router = useRouter();
  const [revisions, setRevisions] = useState<readonly Revision[] | null>(null);
  const [open, setOpen] = useState(false);
  useEffect(() => {
    if (!open) return;
    let current = true;
    callApi<{ revisions: readonly Revision[] }>("GET", `/policies/${policyId}/history`).then(
      (answer) => current && setRevisions(answer.revisions),
      showRefusal,
    );
    return () => {
      current = false;
    };
  }, [open, policyId]);
  const restorePolicyVersion = async (to: number) => {
    try {
      const answer = await callApi<{ saved: boolean }>("POST", `/policies/${policyId}/history/${to}`, {});
      say.success(
        answer.saved
          ? `Revision ${to} restored.`
          : "A second person must agree: points would be kept shorter.",
      );
      router.refresh();
    } catch (error) {
      showRefusal(error);
    }
  };
  return (
    <section>
      <button
        type="button"
        className="text-primary underline"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        {open ? "Close the history" : `History, ${revision} ${revision === 1 ? "state" : "states"}`}
      </button>
      {open && (
        <ol className="mt-2 grid gap-2">
          {revisions?.map((one) => (
            <li key={one.revision} className="border-line border-b pb-2 text-[13px]">
              <p>
                <b>{one.revision}</b> · {clockText(new Date(one.changedAt), zone)} · {one.changedBy}
                {one.reason ? `: ${one.reason}` : ""}
              </p>
              {one.sentences.map((sentence) => (
                <p key={sentence.clause} className="text-soft">
                  {sentence.text}
                </p>
              ))}
              {one.revision !== revision && (
                <button
                  type="button"
                  className="text-primary underline"
                  onClick={() => restorePolicyVersion(one.revision)}
                >
                  Restore this revision
                </button>
              )}
            </li>
          ))}
        </ol>
      )}
    </section>
  );
}
