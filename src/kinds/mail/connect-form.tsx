"use client";

import { useState } from "react";
import type { ConnectClient } from "@/ui/clients/client-and-site";
import { NetworkConnectForm, useNetworkConnect } from "@/ui/clients/network-connect";
import { SelectField, TextField } from "@/ui/parts/form";
import { MAIL } from "./kind";
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

/** Connects a mail tenant. */
export function ConnectMailTenant({ clients }: { clients: readonly ConnectClient[] }) {
  const form = useNetworkConnect({
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
  const { sending, values, field } = form;
  const [protocol, setProtocol] = useState<Protocol>("jmap");
  const [auth, setAuth] = useState<keyof typeof WAYS>("application");
  const way = WAYS[auth];
  const named = auth === "master" || auth === "proxy";
  const body = {
    kind: "mail",
    ...values,
    protocol,
    auth,
    mailboxes: named ? values.mailboxes.split(/[\s,]+/).filter(Boolean) : [],
    otherHosts: values.otherHosts.split(/[\s,]+/).filter(Boolean),
  };
  return (
    <NetworkConnectForm clients={clients} form={form} body={body} unit={MAIL.unit}>
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
          auth === "application" || auth === "proxy"
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
    </NetworkConnectForm>
  );
}
