import { statfs } from "node:fs/promises";
import Link from "next/link";
import { formatBytes } from "@/core/units/bytes";
import { listClients } from "@/db/clients";
import { type Depot, listDepots, listGrants } from "@/db/depots";
import { listPolicies } from "@/db/policies";
import { DepotSheet, DepotTestButton, GrantForm } from "@/ui/lazy";
import { Mark } from "@/ui/mark";
import type { ViewInput, ViewOutput } from "./view";

/** What the disk behind a depot has free; null when it is not there. */
async function diskFree(depot: Depot): Promise<number | null> {
  if (depot.kind === "s3") return null;
  try {
    const disk = await statfs(depot.path);
    return disk.bavail * disk.bsize;
  } catch {
    return null;
  }
}

export async function depotsView({ tx, place, ask, href }: ViewInput): Promise<ViewOutput> {
  const grants = (await listGrants(tx)).filter(
    (grant) => !place.client || grant.clientId === place.client.id,
  );
  const depots = (await listDepots(tx)).filter(
    (depot) => !place.client || grants.some((grant) => grant.depotId === depot.id),
  );
  const clients = await listClients(tx);
  const nameOf = new Map(clients.map((client) => [client.id, client]));
  const free = new Map(
    await Promise.all(depots.map(async (depot) => [depot.id, await diskFree(depot)] as const)),
  );
  const chosen = depots.find((depot) => depot.id === ask("sel")) ?? (ask("sheet") ? undefined : depots[0]);
  const policies = await listPolicies(tx);
  const stateOf = (depot: (typeof depots)[number]) => {
    if (free.get(depot.id) === null) return "exposed" as const;
    const share = depot.capacityBytes ? depot.usedBytes / depot.capacityBytes : 0;
    return share >= 0.95 ? ("exposed" as const) : share >= 0.9 ? ("slipping" as const) : ("kept" as const);
  };
  const words = { kept: "fits", slipping: "filling", exposed: "full or not reached" };
  const main = (
    <>
      <div className="head-line">
        <h1 className="text-[15px] font-bold">Depots</h1>
        <span className="text-soft">
          where recovery points lie{place.client ? ` for ${place.client.name}` : ""}
        </span>
        {!place.client && (
          <Link className="btn btn-primary ml-auto" href={href({ sheet: "depot", sel: undefined })}>
            Add a depot…
          </Link>
        )}
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto" tabIndex={0}>
        <ul>
          {depots.map((depot) => {
            const own = grants.filter((grant) => grant.depotId === depot.id);
            const limit = depot.capacityBytes ?? depot.usedBytes + (free.get(depot.id) ?? 0);
            const share = limit ? depot.usedBytes / limit : 0;
            const state = stateOf(depot);
            return (
              <li key={depot.id}>
                <Link
                  href={href({ sel: depot.id, sheet: undefined })}
                  data-row
                  scroll={false}
                  aria-current={depot.id === chosen?.id}
                  className="row grid grid-cols-[14px_minmax(180px,1fr)_minmax(180px,1fr)_220px] items-center gap-x-4"
                >
                  <Mark state={state} label={words[state]} />
                  <span className="min-w-0">
                    <span className="block font-semibold">{depot.name}</span>
                    <span className="text-soft block truncate font-mono text-[12.5px]">{depot.path}</span>
                  </span>
                  <span className="text-soft truncate">
                    {own.map((grant) => nameOf.get(grant.clientId)?.name).join(", ") || "granted to nobody"}
                  </span>
                  <span>
                    {formatBytes(depot.usedBytes)} of {formatBytes(limit)}
                    <span className="thin-bar mt-1 block">
                      <i
                        style={{
                          width: `${Math.min(100, share * 100)}%`,
                          background:
                            state === "exposed"
                              ? "var(--vermilion)"
                              : state === "slipping"
                                ? "var(--brass)"
                                : "var(--color-primary)",
                        }}
                      />
                    </span>
                  </span>
                </Link>
              </li>
            );
          })}
        </ul>
        {depots.length === 0 && (
          <div className="p-4">
            <p className="mb-3">
              {place.client
                ? `No depot is granted to ${place.client.name} yet.`
                : "No depot yet. A folder on a disk of its own is enough to begin."}
            </p>
            <Link className="btn btn-primary" href={place.client ? "/all/depots" : href({ sheet: "depot" })}>
              {place.client ? "Grant one…" : "Add a depot…"}
            </Link>
          </div>
        )}
      </div>
    </>
  );
  if (ask("sheet") === "depot") return { main, docket: <DepotSheet /> };
  if (!chosen)
    return {
      main,
      docket: (
        <p className="text-soft">Choose a depot: how full it is, whose share, and its test stand here.</p>
      ),
    };
  const own = grants.filter((grant) => grant.depotId === chosen.id);
  const users = policies.filter(
    (policy) =>
      policy.clauses.where.depotId === chosen.id && (!place.client || policy.clientId === place.client.id),
  );
  const docket = (
    <div className="grid gap-5">
      <h2 className="flex items-center gap-2 pr-7 text-[17px]">
        <Mark state={stateOf(chosen)} label={words[stateOf(chosen)]} /> {chosen.name}
      </h2>
      <dl className="facts">
        <dt>Kind</dt>
        <dd>local folder</dd>
        <dt>Path</dt>
        <dd className="font-mono text-[12.5px]">{chosen.path}</dd>
        <dt>Region</dt>
        <dd>{chosen.region}</dd>
        <dt>Used</dt>
        <dd>
          {formatBytes(chosen.usedBytes)}
          {chosen.capacityBytes
            ? ` of ${formatBytes(chosen.capacityBytes)} (${Math.round((chosen.usedBytes / chosen.capacityBytes) * 100)} %)`
            : ""}
        </dd>
        <dt>Disk</dt>
        <dd>{free.get(chosen.id) === null ? "not reached" : `${formatBytes(free.get(chosen.id)!)} free`}</dd>
      </dl>
      <section>
        <h3 className="part-title mb-1">Whose share</h3>
        <table className="grid-table">
          <thead>
            <tr>
              <th scope="col">Client</th>
              <th scope="col" className="num">
                Used
              </th>
              <th scope="col" className="num">
                Quota
              </th>
            </tr>
          </thead>
          <tbody>
            {own.map((grant) => (
              <tr key={grant.clientId}>
                <td>{nameOf.get(grant.clientId)?.name}</td>
                <td className="num">{formatBytes(grant.usedBytes)}</td>
                <td className="num">{formatBytes(grant.quotaBytes)}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {own.length === 0 && <p className="text-soft">Granted to nobody yet.</p>}
      </section>
      <section>
        <h3 className="part-title mb-2">Grant it, or change a quota</h3>
        <GrantForm
          depotId={chosen.id}
          clients={clients
            .filter((client) => !place.client || client.id === place.client.id)
            .map(({ id, name }) => ({
              id,
              name,
              quotaBytes: own.find((grant) => grant.clientId === id)?.quotaBytes ?? null,
            }))}
        />
      </section>
      {users.length > 0 && (
        <section>
          <h3 className="part-title mb-1">Policies that write here</h3>
          <ul>
            {users.map((policy) => (
              <li key={policy.id}>
                <Link
                  className="text-primary underline"
                  href={`/c/${nameOf.get(policy.clientId)?.slug}/policies?sel=${policy.id}`}
                >
                  {policy.name}
                </Link>
              </li>
            ))}
          </ul>
        </section>
      )}
      <section>
        <h3 className="part-title mb-2">Test</h3>
        <DepotTestButton key={chosen.id} depotId={chosen.id} />
      </section>
    </div>
  );
  return { main, docket };
}
