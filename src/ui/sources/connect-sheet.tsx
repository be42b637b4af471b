"use client";

import { useState } from "react";
import { KINDS, SOURCE_KINDS, type SourceKind } from "@/kinds";
import { KindIcon } from "@/kinds/icons";
import { CONNECT_FORMS } from "@/kinds/ui";
import type { ConnectClient } from "../clients/client-and-site";
import { Radio } from "../parts/radio";

/** Connects sources: a list of the kinds with what each requires, and the form of the selected one. */
export function ConnectSheet({ clients }: { clients: readonly ConnectClient[] }) {
  const [kind, setKind] = useState<SourceKind>("files");
  if (clients.length === 0) return <p>Add a client first. Then connect its sources.</p>;
  const ConnectForm = CONNECT_FORMS[kind];
  return (
    <div className="grid gap-4">
      <h2 className="text-[17px]">Connect sources</h2>
      <fieldset className="grid gap-2">
        <legend className="sr-only">Kind of connection</legend>
        {SOURCE_KINDS.map((id) => (
          <label key={id} className="grid grid-cols-[auto_1fr] gap-x-2">
            <Radio name="connect-kind" size="sm" checked={kind === id} choose={() => setKind(id)} />
            <span className="flex items-center gap-1.5">
              <KindIcon kind={id} />
              <b>{KINDS[id].connection.name}</b>
            </span>
            <span className="text-soft col-start-2 text-[13px]">{KINDS[id].connection.requires}</span>
          </label>
        ))}
      </fieldset>
      <ConnectForm clients={clients} />
    </div>
  );
}
