"use client";

import { useState } from "react";
import { callApi } from "./api";
import { Refusal, SelectField, TextField, useSending } from "./form";

export interface ConnectClient {
  readonly id: string;
  readonly name: string;
  readonly sites: readonly { readonly id: string; readonly name: string }[];
}

/** Makes an enrolment code and says what to type on the machine. */
export function ConnectSheet({ clients }: { clients: readonly ConnectClient[] }) {
  const sending = useSending();
  const [clientId, setClientId] = useState(clients[0]?.id ?? "");
  const client = clients.find((one) => one.id === clientId);
  const [siteId, setSiteId] = useState("");
  const [uses, setUses] = useState("1");
  const [hours, setHours] = useState("24");
  const [made, setMade] = useState<{ code: string; expiresAt: string; uses: number } | null>(null);
  if (clients.length === 0) return <p>Take on a client first; its machines are connected then.</p>;
  const site = client?.sites.find((one) => one.id === siteId) ?? client?.sites[0];
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          setMade(
            await callApi("POST", `/clients/${clientId}/enrolment-codes`, {
              siteId: site?.id,
              uses: Number(uses),
              hours: Number(hours),
            }),
          );
        });
      }}
    >
      <h2 className="text-[17px]">Connect a machine</h2>
      {clients.length > 1 && (
        <SelectField label="Client" value={clientId} onChange={(event) => setClientId(event.target.value)}>
          {clients.map((one) => (
            <option key={one.id} value={one.id}>
              {one.name}
            </option>
          ))}
        </SelectField>
      )}
      <SelectField
        label="Site"
        error={sending.errorOf("siteId")}
        value={site?.id}
        onChange={(event) => setSiteId(event.target.value)}
      >
        {client?.sites.map((one) => (
          <option key={one.id} value={one.id}>
            {one.name}
          </option>
        ))}
      </SelectField>
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="For how many machines"
          error={sending.errorOf("uses")}
          inputMode="numeric"
          value={uses}
          onChange={(event) => setUses(event.target.value)}
        />
        <TextField
          label="Good for, in hours"
          error={sending.errorOf("hours")}
          inputMode="numeric"
          value={hours}
          onChange={(event) => setHours(event.target.value)}
        />
      </div>
      <Refusal problem={sending.problem} />
      <button type="submit" className="btn btn-primary" disabled={sending.busy}>
        Make an enrolment code
      </button>
      {made && (
        <div className="said grid gap-2" role="status">
          <p>
            The code, shown this once: <b className="font-mono text-[15px]">{made.code}</b>
          </p>
          <p>On the machine, in the folder of Deep Keep:</p>
          <pre className="bg-base-100 overflow-x-auto p-2 font-mono text-[12.5px] whitespace-pre-wrap">
            bin/agent enrol --console {window.location.origin} --code {made.code}
            {"\n"}bin/agent run
          </pre>
          <p className="text-soft">It appears in this list at once, with its system and its volumes.</p>
        </div>
      )}
    </form>
  );
}
