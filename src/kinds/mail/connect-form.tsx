"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { counted } from "@/core/units/duration";
import { ClientAndSite, type ConnectClient, useClientAndSite } from "@/ui/clients/client-and-site";
import { callApi } from "@/ui/parts/api";
import { Refusal, SelectField, TextField, useSending } from "@/ui/parts/form";
import { say } from "@/ui/parts/say";
import { AUTHS_OF } from "./settings";

/** The ways to sign in, and what each asks for. */
const WAYS = {
  application: {
    name: "Application (OAuth 2.0 client credentials)",
    id: "Client id",
    secret: "Client secret",
  },
  password: { name: "User name and password", id: "User name", secret: "Password" },
  master: { name: "Master user", id: "Master user", secret: "Password" },
  proxy: { name: "User with proxy authorisation", id: "User name", secret: "Password" },
  bearer: { name: "Bearer token", id: "User name", secret: "Token" },
} as const;
const PROTOCOLS = {
  jmap: {
    name: "JMAP",
    placeholder: "https://mail.example",
    help: "The address where tokens are issued is read from the server's metadata.",
  },
  imap: {
    name: "IMAP",
    placeholder: "imaps://mail.example",
    help: "imaps:// uses TLS from the start, imap:// changes to TLS before it signs in.",
  },
} as const;
type Protocol = keyof typeof PROTOCOLS;

/** Connects a mail tenant: tested before it is one, and refused at the field that the failing step is about. */
export function ConnectMailTenant({ clients }: { clients: readonly ConnectClient[] }) {
  const router = useRouter();
  const sending = useSending();
  const choice = useClientAndSite(clients);
  const [values, setValues] = useState({
    name: "",
    address: "",
    tenantId: "",
    clientId: "",
    clientSecret: "",
    region: "",
    otherHosts: "",
    mailboxes: "",
    dav: "",
    separator: "*",
  });
  const [protocol, setProtocol] = useState<Protocol>("jmap");
  const [auth, setAuth] = useState<keyof typeof WAYS>("application");
  const way = WAYS[auth];
  const named = auth === "master" || auth === "proxy";
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
              kind: "mail",
              ...values,
              protocol,
              auth,
              mailboxes: named ? values.mailboxes.split(/[\s,]+/).filter(Boolean) : [],
              otherHosts: values.otherHosts.split(/[\s,]+/).filter(Boolean),
              siteId: choice.site?.id,
            },
          );
          say.success(`${values.name} is connected: ${counted(sources, "mailbox", "mailboxes")}.`, {
            description: "Assign a policy to them to protect them.",
          });
          router.push(`/c/${choice.client?.slug}/sources`);
          router.refresh();
        });
      }}
    >
      <ClientAndSite clients={clients} choice={choice} error={sending.errorOf("siteId")} />
      <TextField label="Name, as people call it" {...field("name")} />
      <SelectField
        label="Protocol"
        value={protocol}
        onChange={(event) => {
          const next = event.target.value as Protocol;
          setProtocol(next);
          if (!AUTHS_OF[next].includes(auth)) setAuth(AUTHS_OF[next][0]!);
        }}
      >
        {Object.entries(PROTOCOLS).map(([id, { name }]) => (
          <option key={id} value={id}>
            {name}
          </option>
        ))}
      </SelectField>
      <TextField
        label="Address of the mail server"
        mono
        placeholder={PROTOCOLS[protocol].placeholder}
        help={PROTOCOLS[protocol].help}
        {...field("address")}
      />
      <SelectField
        label="Sign in with"
        error={sending.errorOf("auth")}
        value={auth}
        onChange={(event) => setAuth(event.target.value as keyof typeof WAYS)}
      >
        {AUTHS_OF[protocol].map((id) => (
          <option key={id} value={id}>
            {WAYS[id].name}
          </option>
        ))}
      </SelectField>
      {(auth !== "bearer" || protocol === "imap") && (
        <div className="grid grid-cols-2 gap-3">
          {auth === "application" && <TextField label="Tenant id" mono {...field("tenantId")} />}
          <TextField label={way.id} mono {...field("clientId")} />
          {auth === "master" && (
            <TextField
              label="Separator"
              mono
              help="The character between mailbox and master user in the sign-in name, as the server is configured."
              {...field("separator")}
            />
          )}
        </div>
      )}
      {named && (
        <TextField
          label="Mailboxes"
          mono
          rows={4}
          help="The sign-in names of the mailboxes, separated by spaces, commas or lines."
          {...field("mailboxes")}
        />
      )}
      <TextField
        label={way.secret}
        type="password"
        autoComplete="off"
        help="Stored encrypted; never shown again."
        {...field("clientSecret")}
      />
      <TextField label="Region of the mail data" {...field("region")} />
      <TextField
        label="Address of the CalDAV and CardDAV server (optional)"
        mono
        placeholder={
          auth === "application"
            ? "https://calendar.example/principals/{mailbox}/"
            : "https://calendar.example"
        }
        help="For calendars and contacts. {mailbox} stands for the mailbox; the address is then that of its principal."
        {...field("dav")}
      />
      {(protocol === "jmap" || values.dav !== "") && (
        <TextField
          label="Further hosts that may receive the secret (optional)"
          mono
          help="Only if the server's metadata names a host other than its address, and you know that host belongs to the tenant."
          {...field("otherHosts")}
        />
      )}
      <Refusal problem={sending.problem} />
      <button type="submit" className="btn btn-primary" disabled={sending.busy}>
        {sending.busy ? "Testing…" : "Test and connect"}
      </button>
    </form>
  );
}
