"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { callApi } from "../parts/api";
import { Refusal, SelectField, useSending } from "../parts/form";
import { say } from "../parts/say";

const DEPTHS = [
  ["objects", "all is there"],
  ["trees", "and trees open"],
  ["bytes", "and every byte"],
] as const;

/** Asks for a check of a client's share of a depot. */
export function CheckForm({
  depotId,
  clients,
}: {
  depotId: string;
  clients: readonly { readonly id: string; readonly name: string }[];
}) {
  const router = useRouter();
  const sending = useSending();
  const [clientId, setClientId] = useState(clients[0]?.id ?? "");
  const [depth, setDepth] = useState<string>("trees");
  if (clients.length === 0) return null;
  return (
    <form
      className="grid gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          await callApi("POST", `/depots/${depotId}/grants/${clientId}/checks`, { depth });
          say.success("Check requested.", { description: "It runs in the background." });
          router.refresh();
        });
      }}
    >
      <div className="grid grid-cols-2 gap-3">
        <SelectField label="Client" value={clientId} onChange={(event) => setClientId(event.target.value)}>
          {clients.map((client) => (
            <option key={client.id} value={client.id}>
              {client.name}
            </option>
          ))}
        </SelectField>
        <SelectField label="Depth" value={depth} onChange={(event) => setDepth(event.target.value)}>
          {DEPTHS.map(([value, text]) => (
            <option key={value} value={value}>
              {text}
            </option>
          ))}
        </SelectField>
      </div>
      <Refusal problem={sending.problem} />
      <div>
        <button type="submit" className="btn btn-plain" disabled={sending.busy}>
          Run check
        </button>
      </div>
    </form>
  );
}
