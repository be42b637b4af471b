"use client";

import { useRouter } from "next/navigation";
import { callApi } from "../parts/api";
import { Refusal, useSending } from "../parts/form";
import { dayText } from "../parts/moment";
import { say } from "../parts/say";
import type { ShownConsent } from "./shown-consent";

const WORDS: Readonly<Record<string, string>> = {
  "destroy-key": "wants to destroy",
  "delete-source": "wants to delete",
  "shorten-retention": "wants to keep for a shorter time:",
  "shorten-lock": "wants to lock for a shorter time:",
};

/** One wish with the actions that decide on it; the server refuses the one that is not for this person. */
export function ConsentLine({ consent, zone }: { consent: ShownConsent; zone: string }) {
  const router = useRouter();
  const sending = useSending();
  const decide = (decision: "agreed" | "declined" | "withdrawn", told: string) => () =>
    sending.send(async () => {
      await callApi("POST", `/consents/${consent.id}/decision`, { decision });
      say.success(told);
      router.refresh();
    });
  return (
    <div className="warned grid gap-2">
      <p>
        <b>{consent.askedByName}</b> {WORDS[consent.kind] ?? "asks for"} {consent.subject}: “{consent.reason}
        ”. A second person decides until {dayText(consent.expiresAt, zone)}.
      </p>
      <Refusal problem={sending.problem} />
      <div className="flex flex-wrap gap-2">
        {consent.own !== true && (
          <>
            <button
              type="button"
              className="btn btn-plain"
              disabled={sending.busy}
              onClick={decide("agreed", "Done.")}
            >
              Agree
            </button>
            <button
              type="button"
              className="btn btn-plain"
              disabled={sending.busy}
              onClick={decide("declined", "Declined.")}
            >
              Decline
            </button>
          </>
        )}
        {consent.own !== false && (
          <button
            type="button"
            className="btn btn-plain"
            disabled={sending.busy}
            onClick={decide("withdrawn", "Withdrawn.")}
          >
            Withdraw request
          </button>
        )}
      </div>
    </div>
  );
}
