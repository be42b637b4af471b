import Link from "next/link";
import { keyStateOf } from "@/core/keysheet/wrapping";
import { baseOf } from "@/core/places";
import { type Client, clientById, listClients } from "@/db/clients";
import { certificateOf, openConsents } from "@/db/consents";
import { listDepots, listGrants } from "@/db/depots";
import { clientKey, machinesWithoutKey } from "@/db/keys";
import type { Person } from "@/db/people";
import { listPolicies } from "@/db/policies";
import type { Tx } from "@/db/scope";
import { PolicySheet } from "@/ui/lazy";
import { clockText } from "@/ui/moment";
import type { SheetClient } from "@/ui/policy-sheet";
import { shownConsent } from "@/ui/shown-consent";
import type { ViewInput, ViewOutput } from "./view";

async function sheetClient(tx: Tx, client: Client, person: Person, now: Date): Promise<SheetClient> {
  const key = await clientKey(tx, client.id);
  const granted = new Set(
    (await listGrants(tx)).filter((grant) => grant.clientId === client.id).map((grant) => grant.depotId),
  );
  const consent = (await openConsents(tx, client.id, now)).find((one) => one.kind === "destroy-key");
  return {
    id: client.id,
    name: client.name,
    key: keyStateOf(key),
    machinesWithout:
      key?.holding === "passphrase"
        ? (await machinesWithoutKey(tx, client.id)).map((machine) => machine.name)
        : [],
    consent: consent ? { ...shownConsent(consent), own: consent.askedBy === person.id } : null,
    certificate: key?.destroyedAt ? ((await certificateOf(tx, client.id))?.body ?? null) : null,
    askedGroup: key && !key.confirmedAt ? key.askedGroup : null,
    depots: (await listDepots(tx))
      .filter((depot) => granted.has(depot.id))
      .map(({ id, name }) => ({ id, name })),
  };
}

export async function policiesView({
  tx,
  now,
  person,
  place,
  provider,
  ask,
  href,
}: ViewInput): Promise<ViewOutput> {
  const policies = await listPolicies(tx, place.client?.id ?? null);
  const clients = await listClients(tx);
  const nameOf = new Map(clients.map((client) => [client.id, client]));
  const sel = ask("sel");
  const chosen = sel === "new" ? undefined : (policies.find((policy) => policy.id === sel) ?? policies[0]);
  const client =
    place.client ??
    (chosen ? await clientById(tx, chosen.clientId) : (nameOf.get(ask("client") ?? "") ?? null));
  const unassigned = (
    await tx.query(
      "select count(*)::int as count from sources where policy_id is null and ($1::uuid is null or client_id = $1)",
      [place.client?.id ?? null],
    )
  ).rows[0] as { count: number };
  const list = (
    <nav className="border-base-300 min-h-0 overflow-y-auto border-r" aria-label="Policies" tabIndex={0}>
      <ul>
        {policies.map((policy) => (
          <li key={policy.id}>
            <Link
              href={href({ sel: policy.id, client: undefined })}
              className="row"
              data-row
              aria-current={policy.id === chosen?.id}
            >
              <span className="block font-semibold">{policy.name}</span>
              <span className="text-soft block text-[13px]">
                {nameOf.get(policy.clientId)?.name} · {policy.sources}{" "}
                {policy.sources === 1 ? "source" : "sources"}
              </span>
            </Link>
          </li>
        ))}
      </ul>
      <div className="grid gap-3 p-[14px]">
        {place.client && (
          <Link className="btn btn-plain" href={href({ sel: "new" })}>
            New policy…
          </Link>
        )}
        {unassigned.count > 0 && (
          <Link
            className="text-soft text-[13px] underline"
            href={`${place.client ? baseOf(place.client.slug) : "/all"}/sources`}
          >
            {unassigned.count} {unassigned.count === 1 ? "source is" : "sources are"} looked after by no
            policy
          </Link>
        )}
      </div>
    </nav>
  );
  if (!client) {
    const main = (
      <>
        <div className="head-line">
          <h1 className="text-[15px] font-bold">Policies</h1>
        </div>
        <div className="p-5">
          <p className="mb-3">No policy yet. A policy belongs to a client: choose one to write its first.</p>
          <ul className="grid gap-1">
            {clients.map((one) => (
              <li key={one.id}>
                <Link className="text-primary underline" href={`${baseOf(one.slug)}/policies?sel=new`}>
                  {one.name}
                </Link>
              </li>
            ))}
          </ul>
          {clients.length === 0 && (
            <Link className="btn btn-primary" href="/all/sources?sheet=client">
              Take on a client…
            </Link>
          )}
        </div>
      </>
    );
    return { main, docket: null };
  }
  const main = (
    <PolicySheet
      key={`${chosen?.id ?? "new"} ${chosen?.revision ?? 0}`}
      client={await sheetClient(tx, client, person, now)}
      policy={{
        id: chosen?.id ?? null,
        name: chosen?.name ?? "",
        revision: chosen?.revision ?? 0,
        clauses: chosen?.clauses ?? null,
        changed: chosen
          ? `changed ${clockText(chosen.changedAt, provider.zone)} by ${chosen.changedBy}`
          : null,
      }}
      sourceCount={chosen?.sources ?? 0}
      list={list}
    />
  );
  return { main, docket: null };
}
