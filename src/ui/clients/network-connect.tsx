"use client";

import { useRouter } from "next/navigation";
import { type ReactNode, useState } from "react";
import { counted } from "@/core/units/duration";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";
import { ClientAndSite, type ConnectClient, useClientAndSite } from "./client-and-site";

/** What is typed into the form that connects something over the network. */
export function useNetworkConnect<Values extends { readonly name: string }>(start: Values) {
  const sending = useSending();
  const [values, setValues] = useState(start);
  /** A field of the request: its value, and what is wrong with it. */
  const field = (key: keyof Values & string) => ({
    error: sending.errorOf(key),
    value: values[key] as string,
    onChange: (event: { target: { value: string } }) => setValues({ ...values, [key]: event.target.value }),
  });
  return { sending, values, field };
}

/** Connects something over the network: tested before it is connected, and refused at the field that the failing step is about. */
export function NetworkConnectForm({
  clients,
  form: { sending, values, field },
  body,
  unit,
  authorise = false,
  children,
}: {
  clients: readonly ConnectClient[];
  form: ReturnType<typeof useNetworkConnect<{ readonly name: string }>>;
  /** The request, with its kind; without the site. */
  body: object;
  /** What its sources are called. */
  unit: { readonly one: string; readonly many: string };
  /** It is authorised at the server's own page, and connected on the way back. */
  authorise?: boolean;
  children: ReactNode;
}) {
  const router = useRouter();
  const choice = useClientAndSite(clients);
  const connect = () =>
    sending.send(async () => {
      if (authorise) {
        const { url } = await callApi<{ url: string }>("POST", `/clients/${choice.clientId}/authorisations`, {
          ...body,
          siteId: choice.site?.id,
        });
        window.location.assign(url);
        return;
      }
      const { sources } = await callApi<{ sources: number }>(
        "POST",
        `/clients/${choice.clientId}/connections`,
        { ...body, siteId: choice.site?.id },
      );
      say.success(`${values.name} is connected: ${counted(sources, unit.one, unit.many)}.`, {
        description: "Assign a policy to them to protect them.",
      });
      router.push(`/c/${choice.client?.slug}/sources`);
      router.refresh();
    });
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        void connect();
      }}
    >
      <ClientAndSite clients={clients} choice={choice} error={sending.errorOf("siteId")} />
      <TextField label="Name, as people call it" {...field("name")} />
      {children}
      <Refusal problem={sending.problem} />
      <button type="submit" className="btn btn-primary" disabled={sending.busy}>
        {authorise
          ? sending.busy
            ? "Opening the server’s page…"
            : "Authorise…"
          : sending.busy
            ? "Testing…"
            : "Test and connect"}
      </button>
    </form>
  );
}
