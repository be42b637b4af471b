"use client";

import { useState } from "react";
import { ClientAndSite, type ConnectClient, useClientAndSite } from "../clients/client-and-site";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { TenantSheet } from "./tenant-sheet";

/** Makes an enrolment code and says what to type on the machine. */
function MachineSheet({ clients }: { clients: readonly ConnectClient[] }) {
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

/** Connects what is to be protected; each kind has a sheet of its own. */
export function ConnectSheet({ clients }: { clients: readonly ConnectClient[] }) {
  const [kind, setKind] = useState<"machine" | "mail">("machine");
  if (clients.length === 0) return <p>Add a client first. Then connect its sources.</p>;
  return (
    <div className="grid gap-4">
      <h2 className="text-[17px]">Connect sources</h2>
      <fieldset className="grid gap-2">
        <legend className="sr-only">Kind of connection</legend>
        {(
          [
            [
              "machine",
              "Machine",
              "Requires: Linux and a connection to this console. The agent needs root to read every file.",
            ],
            [
              "mail",
              "Mail tenant",
              "Requires: the address of a JMAP server, and an application, user or token that may read the mailboxes.",
            ],
          ] as const
        ).map(([value, label, requires]) => (
          <label key={value} className="grid grid-cols-[auto_1fr] gap-x-2">
            <input
              type="radio"
              name="connect-kind"
              className="radio radio-sm"
              checked={kind === value}
              onChange={() => setKind(value)}
            />
            <b>{label}</b>
            <span className="text-soft col-start-2 text-[13px]">{requires}</span>
          </label>
        ))}
      </fieldset>
      {kind === "machine" ? <MachineSheet clients={clients} /> : <TenantSheet clients={clients} />}
    </div>
  );
}
