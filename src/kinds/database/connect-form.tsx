"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { counted } from "@/core/units/duration";
import { ClientAndSite, type ConnectClient, useClientAndSite } from "@/ui/clients/client-and-site";
import { callApi } from "@/ui/parts/api";
import { Refusal, SelectField, TextField, useSending } from "@/ui/parts/form";
import { say } from "@/ui/parts/say";
import { DATABASE_TLS, TLS_WORDS } from "./settings";

/** Connects a database server: tested before it is one, and refused at the field that the failing step is about. */
export function ConnectDatabase({ clients }: { clients: readonly ConnectClient[] }) {
  const router = useRouter();
  const sending = useSending();
  const choice = useClientAndSite(clients);
  const [values, setValues] = useState({
    name: "",
    address: "",
    user: "",
    password: "",
    maintenance: "postgres",
    tls: "verify" as (typeof DATABASE_TLS)[number],
    authority: "",
    region: "",
  });
  const field = (key: keyof typeof values) => ({
    error: sending.errorOf(key),
    value: values[key],
    onChange: (event: { target: { value: string } }) => setValues({ ...values, [key]: event.target.value }),
  });
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          const { sources } = await callApi<{ sources: number }>(
            "POST",
            `/clients/${choice.clientId}/connections`,
            {
              kind: "database",
              ...values,
              authority: values.tls === "verify" ? values.authority : "",
              siteId: choice.site?.id,
            },
          );
          say.success(`${values.name} is connected: ${counted(sources, "database")}.`, {
            description: "Assign a policy to them to protect them.",
          });
          router.push(`/c/${choice.client?.slug}/sources`);
          router.refresh();
        });
      }}
    >
      <ClientAndSite clients={clients} choice={choice} error={sending.errorOf("siteId")} />
      <TextField label="Name, as people call it" {...field("name")} />
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
      <Refusal problem={sending.problem} />
      <button type="submit" className="btn btn-primary" disabled={sending.busy}>
        {sending.busy ? "Testing…" : "Test and connect"}
      </button>
    </form>
  );
}
