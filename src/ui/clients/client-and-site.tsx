"use client";

import { useState } from "react";
import { SelectField } from "../parts/form";

export interface ConnectClient {
  readonly id: string;
  readonly slug: string;
  readonly name: string;
  readonly sites: readonly { readonly id: string; readonly name: string }[];
}

/** Which client and which of its sites something is connected for. */
export function useClientAndSite(clients: readonly ConnectClient[]) {
  const [clientId, setClientId] = useState(clients[0]?.id ?? "");
  const [siteId, setSiteId] = useState("");
  const client = clients.find((one) => one.id === clientId);
  const site = client?.sites.find((one) => one.id === siteId) ?? client?.sites[0];
  return { clientId, setClientId, client, site, setSiteId };
}

export function ClientAndSite({
  clients,
  choice,
  error,
}: {
  clients: readonly ConnectClient[];
  choice: ReturnType<typeof useClientAndSite>;
  error: string | undefined;
}) {
  return (
    <>
      {clients.length > 1 && (
        <SelectField
          label="Client"
          value={choice.clientId}
          onChange={(event) => choice.setClientId(event.target.value)}
        >
          {clients.map((one) => (
            <option key={one.id} value={one.id}>
              {one.name}
            </option>
          ))}
        </SelectField>
      )}
      <SelectField
        label="Site"
        error={error}
        value={choice.site?.id}
        onChange={(event) => choice.setSiteId(event.target.value)}
      >
        {choice.client?.sites.map((one) => (
          <option key={one.id} value={one.id}>
            {one.name}
          </option>
        ))}
      </SelectField>
    </>
  );
}
