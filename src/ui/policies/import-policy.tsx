"use client";

import { useRouter } from "next/navigation";
import { useId } from "react";
import { callApi } from "../parts/api";
import { Refusal, useSending } from "../parts/form";
import { say } from "../parts/say";

/** Makes a policy from a file that was saved elsewhere. */
export function ImportPolicy({ clientId }: { clientId: string }) {
  const router = useRouter();
  const sending = useSending();
  const id = useId();
  return (
    <div className="grid gap-2">
      <label className="text-primary cursor-pointer text-[13px] underline" htmlFor={id}>
        Import from file…
      </label>
      <input
        id={id}
        type="file"
        accept="application/json,.json"
        className="sr-only"
        onChange={(event) => {
          const file = event.target.files?.[0];
          event.target.value = "";
          if (!file) return;
          void sending.send(async () => {
            const body: unknown = JSON.parse(await file.text().then((text) => (isJson(text) ? text : "{}")));
            const answer = await callApi<{ policy: { id: string; name: string } }>(
              "POST",
              `/clients/${clientId}/policies/import`,
              body,
            );
            say.success(`${answer.policy.name} was imported.`);
            router.push(`${window.location.pathname}?sel=${answer.policy.id}`);
            router.refresh();
          });
        }}
      />
      <Refusal problem={sending.problem} />
    </div>
  );
}

function isJson(text: string): boolean {
  try {
    JSON.parse(text);
    return true;
  } catch {
    return false;
  }
}
