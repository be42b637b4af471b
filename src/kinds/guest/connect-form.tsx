"use client";

import type { ConnectClient } from "@/ui/clients/client-and-site";
import { NetworkConnectForm, useNetworkConnect } from "@/ui/clients/network-connect";
import { SelectField, TextField } from "@/ui/parts/form";
import { GUEST } from "./kind";
import { TRANSFER_WORDS, TRANSFERS } from "./settings";

/** Connects a hypervisor host. */
export function ConnectHost({ clients }: { clients: readonly ConnectClient[] }) {
  const form = useNetworkConnect({
    name: "",
    address: "",
    token: "",
    transfer: "tls" as (typeof TRANSFERS)[number],
    authority: "",
    region: "",
  });
  const { values, field } = form;
  const isService = /^https?:/i.test(values.address.trim());
  const body = {
    kind: "guest",
    ...values,
    token: isService ? values.token : "",
    authority: values.transfer === "tls" ? values.authority : "",
  };
  return (
    <NetworkConnectForm clients={clients} form={form} body={body} unit={GUEST.unit}>
      <TextField
        label="Address of the host"
        mono
        placeholder="qemu+ssh://keep@host.example/system"
        help="libvirt by SSH or TLS, or https:// of a host API. For libvirt, the console's account signs in with its own key or certificate; virsh must be installed on the console's machine."
        {...field("address")}
      />
      {isService && (
        <TextField
          label="Token"
          type="password"
          autoComplete="off"
          help="Stored encrypted; never shown again."
          {...field("token")}
        />
      )}
      <SelectField label="Transfer of disks" {...field("transfer")}>
        {TRANSFERS.map((id) => (
          <option key={id} value={id}>
            {TRANSFER_WORDS[id][0]!.toUpperCase() + TRANSFER_WORDS[id].slice(1)}
          </option>
        ))}
      </SelectField>
      {values.transfer === "plain" ? (
        <p className="warned">
          The content of the disks travels unencrypted. Select this only for a host on the console's own
          machine or a network that nobody else uses.
        </p>
      ) : (
        <TextField
          label="Certificate of the authority (optional)"
          mono
          rows={3}
          placeholder="-----BEGIN CERTIFICATE-----"
          help="PEM. Leave it empty if a public authority issued the host's certificate."
          {...field("authority")}
        />
      )}
      <TextField label="Region of the data" {...field("region")} />
    </NetworkConnectForm>
  );
}
