"use client";

import { useState } from "react";
import { ClientAndSite, type ConnectClient, useClientAndSite } from "@/ui/clients/client-and-site";
import { callApi } from "@/ui/parts/api";
import { Refusal, TextField, useSending } from "@/ui/parts/form";

/** Creates an enrolment code and shows the commands for the machine. */
export function ConnectMachine({ clients }: { clients: readonly ConnectClient[] }) {
  const sending = useSending();
  const choice = useClientAndSite(clients);
  const [uses, setUses] = useState("1");
  const [hours, setHours] = useState("24");
  const [made, setMade] = useState<{ code: string; expiresAt: string; uses: number } | null>(null);
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          setMade(
            await callApi("POST", `/clients/${choice.clientId}/enrolment-codes`, {
              siteId: choice.site?.id,
              uses: Number(uses),
              hours: Number(hours),
            }),
          );
        });
      }}
    >
      <ClientAndSite clients={clients} choice={choice} error={sending.errorOf("siteId")} />
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="Number of machines"
          error={sending.errorOf("uses")}
          inputMode="numeric"
          value={uses}
          onChange={(event) => setUses(event.target.value)}
        />
        <TextField
          label="Valid for (hours)"
          error={sending.errorOf("hours")}
          inputMode="numeric"
          value={hours}
          onChange={(event) => setHours(event.target.value)}
        />
      </div>
      <Refusal problem={sending.problem} />
      <button type="submit" className="btn btn-primary" disabled={sending.busy}>
        Create enrolment code
      </button>
      {made && (
        <div className="said grid gap-2" role="status">
          <p>
            Enrolment code (shown once): <b className="font-mono text-[15px]">{made.code}</b>
          </p>
          <p>On the machine, in the folder of Deep Keep:</p>
          <pre className="bg-base-100 overflow-x-auto p-2 font-mono text-[12.5px] whitespace-pre-wrap">
            bin/agent enrol --console {window.location.origin} --code {made.code}
            {"\n"}bin/agent run
          </pre>
          <p className="text-soft">The machine then appears in this list with its system and volumes.</p>
        </div>
      )}
    </form>
  );
}
