"use client";

import { useState } from "react";
import type { ConnectClient } from "@/ui/clients/client-and-site";
import { NetworkConnectForm, useNetworkConnect } from "@/ui/clients/network-connect";
import { SelectField, TextField } from "@/ui/parts/form";
import { LIBRARY } from "./kind";
import type { LIBRARY_AUTHS } from "./settings";

/** Connects a library server. */
export function ConnectLibrary({ clients }: { clients: readonly ConnectClient[] }) {
  const form = useNetworkConnect({
    name: "",
    address: "",
    user: "",
    secret: "",
    issuer: "",
    scope: "",
    teams: "",
    people: "",
    region: "",
    otherHosts: "",
  });
  const { sending, values, field } = form;
  const [auth, setAuth] = useState<(typeof LIBRARY_AUTHS)[number]>("password");
  const granted = auth === "grant";
  const body = {
    kind: "library",
    ...values,
    auth,
    issuer: granted ? values.issuer : "",
    scope: granted ? values.scope : "",
    otherHosts: values.otherHosts.split(/[\s,]+/).filter(Boolean),
  };
  return (
    <NetworkConnectForm clients={clients} form={form} body={body} unit={LIBRARY.unit} authorise={granted}>
      <TextField
        label="Address of the server"
        mono
        placeholder="https://files.example/dav/"
        help="The address for WebDAV clients, as the server's documentation gives it."
        {...field("address")}
      />
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="Folder of team libraries (optional)"
          mono
          placeholder="teams"
          help="Each folder in it becomes a source."
          {...field("teams")}
        />
        <TextField
          label="Folder of personal libraries (optional)"
          mono
          placeholder="people"
          help="Without both, the address is one source."
          {...field("people")}
        />
      </div>
      <SelectField
        label="Sign in with"
        error={sending.errorOf("auth")}
        value={auth}
        onChange={(event) => setAuth(event.target.value as typeof auth)}
      >
        <option value="password">User name and password</option>
        <option value="grant">Grant of a person (OAuth 2.0)</option>
      </SelectField>
      {granted && (
        <>
          <TextField
            label="Address of the authorization server"
            mono
            placeholder="https://files.example"
            help="Its pages for authorising and for tokens are read from its metadata."
            {...field("issuer")}
          />
          <p className="text-soft text-[13px]">
            Register this console as a client at the server, with the redirect address{" "}
            <span className="font-mono">
              {typeof window === "undefined" ? "" : window.location.origin}/authorised
            </span>
            . The person who authorises it needs access to all libraries that are protected.
          </p>
        </>
      )}
      <div className="grid grid-cols-2 gap-3">
        <TextField label={granted ? "Client id" : "User name"} mono {...field("user")} />
        <TextField
          label={granted ? "Client secret (optional)" : "Password"}
          type="password"
          autoComplete="off"
          help="Stored encrypted; never shown again."
          {...field("secret")}
        />
      </div>
      {granted && (
        <TextField
          label="Scope (optional)"
          mono
          placeholder="offline_access files.readwrite"
          help="What the server calls the access that is needed, including a refresh token."
          {...field("scope")}
        />
      )}
      <TextField label="Region of the data" {...field("region")} />
      {(granted || values.otherHosts !== "") && (
        <TextField
          label="Further hosts that may receive the sign-in (optional)"
          mono
          help="Only if the server's metadata names a host other than its address, and you know that host belongs to it."
          {...field("otherHosts")}
        />
      )}
    </NetworkConnectForm>
  );
}
