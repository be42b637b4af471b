"use client";

import type { ConnectClient } from "@/ui/clients/client-and-site";
import { NetworkConnectForm, useNetworkConnect } from "@/ui/clients/network-connect";
import { SelectField, TextField } from "@/ui/parts/form";
import { DATABASE } from "./kind";
import { DATABASE_TLS, TLS_WORDS } from "./settings";

/** Connects a database server. */
export function ConnectDatabase({ clients }: { clients: readonly ConnectClient[] }) {
  const form = useNetworkConnect({
    name: "",
    address: "",
    user: "",
    password: "",
    maintenance: "postgres",
    tls: "verify" as (typeof DATABASE_TLS)[number],
    authority: "",
    region: "",
  });
  const { values, field } = form;
  const body = {
    kind: "database",
    ...values,
    authority: values.tls === "verify" ? values.authority : "",
  };
  return (
    <NetworkConnectForm clients={clients} form={form} body={body} unit={DATABASE.unit}>
      <TextField
        label="Address of the server"
        mono
        placeholder="postgresql://db.example:5432"
        help="PostgreSQL 12 or newer. pg_dump of the same or a newer version must be installed on the console's machine."
        {...field("address")}
      />
      <SelectField label="Encryption" {...field("tls")}>
        {DATABASE_TLS.map((id) => (
          <option key={id} value={id}>
            {TLS_WORDS[id][0]!.toUpperCase() + TLS_WORDS[id].slice(1)}
          </option>
        ))}
      </SelectField>
      {values.tls !== "verify" && (
        <p className="warned">
          {values.tls === "off"
            ? "The password and the data travel unencrypted. Select this only for a server on the console's own machine."
            : "The server is not verified: another machine on the way could take its place and read the data."}
        </p>
      )}
      {values.tls === "verify" && (
        <TextField
          label="Certificate of the authority (optional)"
          mono
          rows={3}
          placeholder="-----BEGIN CERTIFICATE-----"
          help="PEM. Leave it empty if a public authority issued the server's certificate."
          {...field("authority")}
        />
      )}
      <div className="grid grid-cols-2 gap-3">
        <TextField label="User" mono {...field("user")} />
        <TextField
          label="Database to sign in to"
          mono
          help="Databases are listed from here."
          {...field("maintenance")}
        />
      </div>
      <TextField
        label="Password"
        type="password"
        autoComplete="off"
        help="Stored encrypted; never shown again."
        {...field("password")}
      />
      <TextField label="Region of the data" {...field("region")} />
    </NetworkConnectForm>
  );
}
